"""Weather where nothing is known: clear sky times a plain choice of cloudiness, and temperatures from latitude. A guess."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import MONTH_DAYS, YearCalendar
from calm_relay.job.sky_models import ClearSkyWeather, MonthlyWeather
from calm_relay.job.template import assumed_temperatures_c
from calm_relay.weather.solar import Sun

Array = NDArray[Any]
# What each choice leaves of the clear sky's energy in every month: ours, round figures.
CLOUDINESS_FRAC = {"very_clear": 0.9, "mixed": 0.7, "mostly_cloudy": 0.5}


def guessed_means(
    weather: ClearSkyWeather, calendar: YearCalendar, sun: Sun, latitude_deg: float, altitude_m: float
) -> MonthlyWeather:
    """Return monthly means for a choice of cloudiness: the clear sky's own sums (Ineichen, Linke turbidity) times its share."""
    clear: Array = np.array(calendar.by_month_wh(sun.clear_ghi_w_per_m2)) / np.array(MONTH_DAYS)
    ghi = tuple(float(wh) for wh in CLOUDINESS_FRAC[weather.cloudiness] * clear)
    return MonthlyWeather(
        ghi_wh_per_m2_day=ghi, temperature_mean_c=assumed_temperatures_c(latitude_deg, altitude_m), seed=weather.seed
    )
