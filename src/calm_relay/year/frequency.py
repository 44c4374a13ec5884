"""AC-coupled PV with the grid gone: what a raised frequency does to it, second by second (definitions D17).

Quasi-static: the former sets the frequency at which the inverters' curves leave what loads and battery take, as fast as it can
move; inverters follow with their delay and response, trip where they are held too long, and return after their delay with their
ramp.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.library.base import FrequencyRecord
from calm_relay.simulation.following import (
    CEILING,
    CONNECTED,
    FIXED,
    HZ,
    P_AGAIN,
    P_CAPACITY,
    P_DELAY,
    P_DROOP,
    P_HIGH,
    P_LOW,
    P_MOVES,
    P_NOMINAL,
    P_OF_RATED,
    P_RAMP,
    P_RATED,
    P_RESPONSE,
    P_START,
    P_STOP,
    P_TOP,
    P_WAIT,
    ROWS,
    STATE,
    STOPS,
    follow,
    fresh_state,
)
from calm_relay.year.curves import nominal_hz

Array = NDArray[np.float64]
MOVES_HZ_PER_S = 0.5  # of the former; common practice
RETURN_S = 300.0  # where a record is silent: IEEE 1547-2018 default, from memory
OVER_W = 1.0
CALM_HZ = 1e-6


@dataclass(frozen=True)
class Thresholds:
    """Charge above which charging stops, and below which it starts again. [0 to 1]"""

    stop_frac: float = 1.0
    start_frac: float = 1.0


@dataclass(frozen=True, eq=False)
class FrequencyRun:
    """An island second by second: frequency [Hz], PV given and battery power (charging above 0) [W], charge [0 to 1].

    `trips` and `returns` are seconds; `over_w` is how far the battery was pushed above what it absorbs. [W]
    """

    hz: Array
    pv_w: Array
    battery_w: Array
    charge_frac: Array
    over_w: Array
    available_w: Array
    trips: tuple[int, ...]
    returns: tuple[int, ...]
    stops: int

    @property
    def used_wh(self) -> float:
        """PV energy that was used. [Wh]"""
        return float(self.pv_w.sum()) / 3600.0

    @property
    def available_wh(self) -> float:
        """PV energy that there was. [Wh]"""
        return float(self.available_w.sum()) / 3600.0

    @property
    def words(self) -> str:
        """What happens, in a sentence or two."""
        used = f"{100 * self.used_wh / max(self.available_wh, 1e-9):.0f} % of the sun is used"
        if len(self.trips) > 1:
            said = f"the PV trips {len(self.trips)} times and comes back: a saw-tooth, {used}"
        elif self.trips:
            said = f"the PV trips after {self.trips[0]} s, {used}"
        else:
            said = f"the PV is held without a trip, {used}"
        said += f"; the frequency reaches {self.hz.max():.2f} Hz"
        if self.over_w.max() > OVER_W:
            seconds = int(np.count_nonzero(self.over_w > OVER_W))
            said += f"; for {seconds} s the battery side takes up to {self.over_w.max() / 1000:.1f} kW more than it absorbs"
        return said


class Follower:
    """PV inverters that act as one, with what they remember from one second to the next."""

    def __init__(self, fixed: Array, trips: Array) -> None:
        self.fixed, self.trips = fixed, trips
        self.held = np.zeros(len(trips))
        self.state = np.zeros(STATE)
        self._turns: list[tuple[int, int]] = []

    def begin(self, power_w: float, charge_frac: float, *, charging: bool, connected: bool) -> None:
        """Stand at a beginning, with the frequency as it should be. [W], [0 to 1]"""
        hz, rated = float(self.fixed[P_NOMINAL]), float(self.fixed[P_RATED])
        self.state = fresh_state(hz, power_w, rated, charge_frac, charging=charging, connected=connected)
        self.held[:] = 0.0

    def drop(self) -> None:
        """Lose the supply: off, and the wait for its return begins anew."""
        self.begin(0.0, 0.5, charging=True, connected=False)

    @property
    def connected(self) -> bool:
        """Whether the inverters are on."""
        return bool(self.state[CONNECTED] > 0)

    @property
    def calm(self) -> bool:
        """Whether they give all they can at the frequency as it should be."""
        rated = self.fixed[P_RATED]
        return (
            self.connected and abs(self.state[HZ] - self.fixed[P_NOMINAL]) < CALM_HZ and self.state[CEILING] >= rated * (1 - 1e-9)
        )

    def run(self, pv_w: Array, load_w: Array, absorb_w: Array) -> Array:
        """Run seconds; returns Hz, PV, battery [W], charge and watts above what is absorbed, connected. (6, seconds)"""
        out = np.zeros((ROWS, len(pv_w)))
        follow(self.fixed, self.trips, self.held, self.state, pv_w, load_w, absorb_w, out)
        return out


def turns(connected: Array) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Return the seconds in which inverters drop out, and those in which they are back; they are on at the begin."""
    change = np.diff(connected, prepend=1.0)
    return tuple(np.flatnonzero(change < 0).tolist()), tuple(np.flatnonzero(change > 0).tolist())


def follower(
    record: FrequencyRecord,
    rated_w: float,
    *,
    top_hz: float | None = None,
    capacity_wh: float = 1e18,
    thresholds: Thresholds | None = None,
) -> Follower:
    """Return the inverters of a curve; `top_hz` None: the former goes half a hertz beyond the last trip. [W], [Hz], [Wh]"""
    nominal, limits = nominal_hz(record), thresholds or Thresholds(2.0, 2.0)
    ramp, fixed = record.return_ramp_frac_per_min, np.zeros(FIXED)
    fixed[P_NOMINAL] = nominal
    fixed[P_START] = 1e9 if record.start_hz is None else record.start_hz
    fixed[P_DROOP] = 0.0 if record.start_hz is None or record.droop_frac is None else record.droop_frac
    fixed[P_OF_RATED] = record.base == "rated_power"
    fixed[P_DELAY], fixed[P_RESPONSE] = record.delay_s, max(1.0, record.response_s or 1.0)
    fixed[P_LOW] = nominal - 1.0 if record.return_low_hz is None else record.return_low_hz
    fixed[P_HIGH] = (record.start_hz or nominal + 0.1) if record.return_high_hz is None else record.return_high_hz
    fixed[P_WAIT] = RETURN_S if record.return_delay_s is None else record.return_delay_s
    fixed[P_RAMP] = 1.0 if ramp is None else ramp / 60.0
    fixed[P_RATED] = rated_w
    fixed[P_TOP] = max(trip.frequency_hz for trip in record.trips) + 0.5 if top_hz is None else top_hz
    fixed[P_MOVES], fixed[P_CAPACITY] = MOVES_HZ_PER_S, capacity_wh
    fixed[P_STOP], fixed[P_AGAIN] = limits.stop_frac, limits.start_frac
    return Follower(fixed, np.array([[trip.frequency_hz, trip.after_s] for trip in record.trips]))


def simulate(
    record: FrequencyRecord,
    pv_w: Array,
    rated_w: float,
    load_w: Array,
    absorb_w: float,
    *,
    top_hz: float | None = None,
    capacity_wh: float = 1e9,
    charge_frac: float = 0.5,
    thresholds: Thresholds | None = None,
) -> FrequencyRun:
    """Run an island of one former and PV inverters that act as one, second by second.

    Parameters
    ----------
    record : FrequencyRecord
        The inverters' curve with its trips.
    pv_w, load_w : ndarray (seconds,)
        What the sun offers at AC, and what the loads draw. [W]
    rated_w, absorb_w : float
        Rating of the PV inverters; what the battery side takes in at most. [W]
    top_hz : float or None
        Highest frequency the former goes to; None: the last trip and half a hertz more. [Hz]
    """
    seconds, limits = len(pv_w), thresholds or Thresholds()
    made = follower(record, rated_w, top_hz=top_hz, capacity_wh=capacity_wh, thresholds=limits)
    first = min(float(pv_w[0]), rated_w)
    made.begin(first, charge_frac, charging=charge_frac < limits.stop_frac, connected=True)
    out = made.run(pv_w, load_w, np.full(seconds, float(absorb_w)))
    trips, returns = turns(out[5])
    return FrequencyRun(
        hz=out[0], pv_w=out[1], battery_w=out[2], charge_frac=out[3], over_w=out[4],
        available_w=np.minimum(pv_w, rated_w), trips=trips, returns=returns, stops=int(made.state[STOPS]),
    )  # fmt: skip
