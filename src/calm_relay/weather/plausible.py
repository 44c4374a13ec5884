"""Whether a year of weather can be true: sun at night, against the clear sky, by month. Plain questions, plain figures."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.weather.solar import Sun, sun_position
from calm_relay.weather.synthetic import WeatherYear

Array = NDArray[Any]
NIGHT_ZENITH_DEG = 92.0
MOST_AT_NIGHT_FRAC = 0.02  # above it zone or labels are wrong (handbook figure of the trade, common practice)
LEAST_OF_CLEAR_FRAC, MOST_OF_CLEAR_FRAC = 0.25, 1.03  # a whole year outside is no weather of that place; ours


@dataclass(frozen=True)
class SkyFacts:
    """A year of weather in figures, beside the clear sky of the place. [kWh/m²], [°C]"""

    ghi_monthly_kwh_per_m2: tuple[float, ...]
    clear_monthly_kwh_per_m2: tuple[float, ...]
    air_mean_monthly_c: tuple[float, ...]
    air_min_c: float
    air_max_c: float
    diffuse_frac: float
    at_night_frac: float
    unplaced_kwh_per_m2: float = 0.0

    @property
    def of_clear_frac(self) -> float:
        """The year's sum over the clear sky's."""
        clear = sum(self.clear_monthly_kwh_per_m2)
        return sum(self.ghi_monthly_kwh_per_m2) / clear if clear > 0 else 0.0

    @property
    def words(self) -> str:
        """What the comparison says."""
        share = self.of_clear_frac
        if share < LEAST_OF_CLEAR_FRAC:
            return f"{share * 100:.0f} % of a clear sky: too little to be true, check units and place"
        if share > MOST_OF_CLEAR_FRAC:
            return f"{share * 100:.0f} % of a clear sky: more than the sky gives, check units and place"
        return f"{share * 100:.0f} % of a clear sky's year"


def sky_facts(weather: WeatherYear, sun: Sun, calendar: YearCalendar, file_kwh_per_m2: float | None = None) -> SkyFacts:
    """Return the figures of a year of weather at the job's step.

    `file_kwh_per_m2` is the sum of the file it comes from: what of it no step could take, above 1.2 of a clear sky or with the
    sun down, is `unplaced_kwh_per_m2`.
    """
    total = float(weather.ghi_w_per_m2.sum())
    starts = np.concatenate(([0], np.cumsum(MONTH_DAYS)[:-1])) * calendar.steps_per_day
    air = np.add.reduceat(weather.air_c, starts) / (np.array(MONTH_DAYS) * calendar.steps_per_day)
    night = weather.ghi_w_per_m2[sun.apparent_zenith_deg > NIGHT_ZENITH_DEG]
    return SkyFacts(
        ghi_monthly_kwh_per_m2=tuple(wh / 1000 for wh in calendar.by_month_wh(weather.ghi_w_per_m2)),
        clear_monthly_kwh_per_m2=tuple(wh / 1000 for wh in calendar.by_month_wh(sun.clear_ghi_w_per_m2)),
        air_mean_monthly_c=tuple(float(v) for v in air),
        air_min_c=float(weather.air_c.min()),
        air_max_c=float(weather.air_c.max()),
        diffuse_frac=float(weather.dhi_w_per_m2.sum()) / total if total > 0 else 0.0,
        at_night_frac=float(night.sum()) / total if total > 0 else 0.0,
        unplaced_kwh_per_m2=0.0 if file_kwh_per_m2 is None else max(0.0, file_kwh_per_m2 - total * calendar.step_h / 1000),
    )


def night_share_frac(ghi_w_per_m2: Array, zenith_deg: Array) -> float:
    """Return the share of GHI that falls while the sun is down: above about 2 % the zone or the labels are wrong."""
    total = float(ghi_w_per_m2.sum())
    return float(ghi_w_per_m2[zenith_deg > NIGHT_ZENITH_DEG].sum()) / total if total else 0.0


def row_zenith_deg(rows: int, utc_offset_h: float, latitude_deg: float, longitude_deg: float, altitude_m: float) -> Array:
    """Return the sun's apparent zenith at the middle of each row of a 365-day year in a fixed UTC offset. (rows,) [°]"""
    import pandas as pd

    step_s = DAYS * 86_400 / rows
    begin = np.datetime64("2025-01-01T00:00:00") - np.timedelta64(round(utc_offset_h * 3600), "s")
    times = pd.DatetimeIndex(begin + ((np.arange(rows) + 0.5) * step_s).astype("timedelta64[s]")).tz_localize("UTC")
    return sun_position(times, latitude_deg, longitude_deg, altitude_m)["apparent_zenith"]


def refuse_sun_at_night(
    path: Path | str, ghi_w_per_m2: Array, utc_offset_h: float, latitude_deg: float, longitude_deg: float, altitude_m: float
) -> float:
    """Return the share of sun at night of a file's rows; one clear line where it cannot be true.

    Raises
    ------
    BadInput
        Naming the shift in hours that would put the sun where it belongs.
    """
    hours = ghi_w_per_m2.reshape(DAYS * 24, -1).mean(axis=1)
    zenith = row_zenith_deg(len(hours), utc_offset_h, latitude_deg, longitude_deg, altitude_m)
    share = night_share_frac(hours, zenith)
    if share > MOST_AT_NIGHT_FRAC:
        shifts = sorted(range(-12, 13), key=lambda h: (night_share_frac(np.roll(hours, h), zenith), abs(h)))
        best = shifts[0]
        fits = night_share_frac(np.roll(hours, best), zenith) <= MOST_AT_NIGHT_FRAC
        remedy = f"rows {abs(best)} h {'later' if best > 0 else 'earlier'} would fit" if fits else "no shift fits: check the place"
        problem = f"{share * 100:.0f} % of its sun falls while the sun is down at {latitude_deg:g}°, {longitude_deg:g}°"
        raise BadInput([Fault(str(path), "time zone or labels", problem, remedy)])
    return share
