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

Array = NDArray[np.float64]
MOVES_HZ_PER_S = 0.5  # of the former; common practice
RETURN_S = 300.0  # where a record is silent: IEEE 1547-2018 default, from memory
OVER_W = 1.0


def nominal_hz(record: FrequencyRecord) -> float:
    """Return the frequency a record is made for. [Hz]"""
    first = record.start_hz if record.start_hz is not None else record.trips[0].frequency_hz
    return 60.0 if first > 56.0 else 50.0


def left_w(record: FrequencyRecord, hz: float, rated_w: float, at_start_w: float) -> float:
    """Return what a curve leaves of an inverter's power at a frequency, trips apart. [W]

    `at_start_w` is its power when the start was crossed; the droop is of the rated power, or of that one.
    """
    if record.start_hz is None or record.droop_frac is None or hz <= record.start_hz:
        return at_start_w
    base = rated_w if record.base == "rated_power" else at_start_w
    return max(0.0, at_start_w - base * (hz - record.start_hz) / (record.droop_frac * nominal_hz(record)))


def hz_for(record: FrequencyRecord, wanted_w: float, rated_w: float, at_start_w: float, top_hz: float) -> float:
    """Return the frequency that leaves so much, at most `top_hz`; that of a trip where there is no droop. [Hz]"""
    nominal = nominal_hz(record)
    if wanted_w >= at_start_w:
        return nominal
    if record.start_hz is None or record.droop_frac is None:
        return top_hz
    base = rated_w if record.base == "rated_power" else at_start_w
    return min(top_hz, record.start_hz + record.droop_frac * nominal * (at_start_w - wanted_w) / max(base, 1e-9))


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
    seconds, nominal = len(pv_w), nominal_hz(record)
    top = max(trip.frequency_hz for trip in record.trips) + 0.5 if top_hz is None else top_hz
    limits = thresholds or Thresholds()
    low = record.return_low_hz if record.return_low_hz is not None else nominal - 1.0
    high = record.return_high_hz if record.return_high_hz is not None else (record.start_hz or nominal + 0.1)
    wait = RETURN_S if record.return_delay_s is None else record.return_delay_s
    ramp = 1.0 if record.return_ramp_frac_per_min is None else record.return_ramp_frac_per_min / 60.0
    response = max(1.0, record.response_s or 1.0)
    out = {name: np.zeros(seconds) for name in ("hz", "pv", "battery", "charge", "over")}
    held = [0.0] * len(record.trips)
    hz, power, ceiling, at_start, charge = nominal, min(float(pv_w[0]), rated_w), rated_w, 0.0, charge_frac
    connected, calm, since_start, charging, stops = True, 0.0, 0.0, charge_frac < limits.stop_frac, 0
    trips: list[int] = []
    returns: list[int] = []
    for s in range(seconds):
        available = min(float(pv_w[s]), rated_w)
        if charging and charge >= limits.stop_frac:
            charging, stops = False, stops + 1
        elif not charging and charge < limits.start_frac:
            charging = True
        takes = float(load_w[s]) + (absorb_w if charging else 0.0)
        crossed = record.start_hz is not None and hz > record.start_hz
        if not crossed:
            at_start, since_start = available, 0.0
        else:
            since_start += 1.0
        if connected:
            wanted = hz_for(record, takes, rated_w, max(at_start, 1e-9), top)
            goal = left_w(record, hz, rated_w, at_start) if crossed and since_start > record.delay_s else available
            power += (min(available, ceiling, goal) - power) / response
            power = min(power, available)
            ceiling = min(rated_w, ceiling + ramp * rated_w)
        else:
            wanted, power = nominal, 0.0
        hz += min(MOVES_HZ_PER_S, max(-MOVES_HZ_PER_S, wanted - hz))
        if connected:
            for i, trip in enumerate(record.trips):
                held[i] = held[i] + 1.0 if hz >= trip.frequency_hz - 1e-9 else 0.0
                if held[i] > trip.after_s:
                    connected, power, calm = False, 0.0, 0.0
                    trips.append(s)
                    held = [0.0] * len(record.trips)
                    break
        else:
            calm = calm + 1.0 if low <= hz <= high else 0.0
            if calm >= wait:
                connected, ceiling, returns = True, ramp * rated_w, [*returns, s]
        battery = power - float(load_w[s])
        room = absorb_w if charging else 0.0
        charge = min(1.0, max(0.0, charge + battery / 3600.0 / capacity_wh))
        for name, value in (
            ("hz", hz),
            ("pv", power),
            ("battery", battery),
            ("charge", charge),
            ("over", max(0.0, battery - room)),
        ):
            out[name][s] = value
    return FrequencyRun(
        hz=out["hz"], pv_w=out["pv"], battery_w=out["battery"], charge_frac=out["charge"], over_w=out["over"],
        available_w=np.minimum(pv_w, rated_w), trips=tuple(trips), returns=tuple(returns), stops=stops,
    )  # fmt: skip
