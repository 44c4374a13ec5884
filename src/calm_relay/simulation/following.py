# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""PV inverters that follow an island's frequency, second by second (definitions D17): the loop, compiled."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.kernel.jit import compiled

# What stands between two seconds.
HZ, POWER, CEILING, AT_START, CHARGE, CONNECTED, CALM, SINCE_START, CHARGING, STOPS = range(10)
STATE = 10
# What does not change: of the curve, of the former, of the bank.
(
    P_NOMINAL, P_START, P_DROOP, P_OF_RATED, P_DELAY, P_RESPONSE, P_LOW, P_HIGH, P_WAIT, P_RAMP, P_RATED, P_TOP, P_MOVES,
    P_CAPACITY, P_STOP, P_AGAIN,
) = range(16)  # fmt: skip
FIXED = 16
ROWS = 6  # of what is told: Hz, PV, battery, charge, above what is absorbed, connected


def fresh_state(
    hz: float, power_w: float, rated_w: float, charge_frac: float, *, charging: bool, connected: bool
) -> NDArray[np.float64]:
    """Return the state at a beginning, by frequency [Hz], power [W] and charge. (STATE,) [mixed]"""
    state = np.zeros(STATE)
    state[[HZ, POWER, CEILING, CHARGE, CONNECTED, CHARGING]] = hz, power_w, rated_w, charge_frac, connected, charging
    return state


@compiled
def follow(fixed, trips, held, state, pv_w, load_w, absorb_w, out):
    """Run the seconds of `pv_w`, `load_w`, `absorb_w` (seconds,) each [W]; `state` and `held` are changed in place.

    `trips` (n, 2) are Hz and seconds, `held` (n,) for how long each was held; `out` (ROWS, seconds). The former sets the frequency
    at which the curve leaves what loads and battery take, as fast as it can move; inverters follow with delay and response, trip
    where they are held too long, and return after their delay with their ramp.
    """
    nominal, start, droop = fixed[P_NOMINAL], fixed[P_START], fixed[P_DROOP]
    rated, top = fixed[P_RATED], fixed[P_TOP]
    for s in range(len(pv_w)):
        available = min(pv_w[s], rated)
        if state[CHARGING] > 0.0 and state[CHARGE] >= fixed[P_STOP]:
            state[CHARGING] = 0.0
            state[STOPS] += 1.0
        elif state[CHARGING] == 0.0 and state[CHARGE] < fixed[P_AGAIN]:
            state[CHARGING] = 1.0
        room = absorb_w[s] if state[CHARGING] > 0.0 else 0.0
        takes = load_w[s] + room
        hz = state[HZ]
        crossed = hz > start
        if crossed:
            state[SINCE_START] += 1.0
        else:
            state[AT_START], state[SINCE_START] = available, 0.0
        wanted_hz = nominal
        if state[CONNECTED] > 0.0:
            at_start = max(state[AT_START], 1e-9)
            base = max(rated if fixed[P_OF_RATED] > 0.0 else at_start, 1e-9)
            if takes < at_start:
                wanted_hz = top
                if droop > 0.0:
                    wanted_hz = min(top, start + droop * nominal * (at_start - takes) / base)
            goal = available
            if droop > 0.0 and crossed and state[SINCE_START] > fixed[P_DELAY]:
                goal = max(0.0, at_start - base * (hz - start) / (droop * nominal))
            state[POWER] += (min(available, state[CEILING], goal) - state[POWER]) / fixed[P_RESPONSE]
            state[POWER] = min(state[POWER], available)
            state[CEILING] = min(rated, state[CEILING] + fixed[P_RAMP] * rated)
        else:
            state[POWER] = 0.0
        power = state[POWER]  # what trips in this second gave it until then
        hz += min(fixed[P_MOVES], max(-fixed[P_MOVES], wanted_hz - hz))
        state[HZ] = hz
        if state[CONNECTED] > 0.0:
            for i in range(len(trips)):
                held[i] = held[i] + 1.0 if hz >= trips[i, 0] - 1e-9 else 0.0
                if held[i] > trips[i, 1]:
                    state[CONNECTED], state[POWER], state[CALM] = 0.0, 0.0, 0.0
                    held[:] = 0.0
                    break
        else:
            state[CALM] = state[CALM] + 1.0 if fixed[P_LOW] <= hz <= fixed[P_HIGH] else 0.0
            if state[CALM] >= fixed[P_WAIT]:
                state[CONNECTED], state[CEILING] = 1.0, fixed[P_RAMP] * rated
        battery = power - load_w[s]
        room = absorb_w[s] if state[CHARGING] > 0.0 else 0.0
        state[CHARGE] = min(1.0, max(0.0, state[CHARGE] + battery / 3600.0 / fixed[P_CAPACITY]))
        out[0, s], out[1, s], out[2, s], out[3, s] = hz, power, battery, state[CHARGE]
        out[4, s], out[5, s] = max(0.0, battery - room), state[CONNECTED]
