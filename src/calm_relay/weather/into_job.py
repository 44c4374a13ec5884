"""A weather file that was read becomes the job's weather: how far it lies from the site, its means, its place in the job."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.models import FieldMark, Job
from calm_relay.job.series import SeriesStore
from calm_relay.job.sky_models import MonthlyWeather, WeatherFile
from calm_relay.weather.files import HOURS, WeatherRead
from calm_relay.weather.plausible import refuse_sun_at_night

Array = NDArray[Any]
FAR_KM, FAR_M = 50.0, 300.0


def distance_words(read: WeatherRead | WeatherFile, latitude_deg: float, longitude_deg: float, altitude_m: float) -> str:
    """Return how far the file's place lies from the site, and a warning beyond 50 km or 300 m of altitude; empty if unknown."""
    if read.latitude_deg is None or read.longitude_deg is None:
        return "the file names no place"
    km = great_circle_km(latitude_deg, longitude_deg, read.latitude_deg, read.longitude_deg)
    rise = None if read.altitude_m is None else read.altitude_m - altitude_m
    text = f"{km:.0f} km from the site" + ("" if rise is None else f", {abs(rise):.0f} m {'higher' if rise > 0 else 'lower'}")
    far = km > FAR_KM or (rise is not None and abs(rise) > FAR_M)
    return text + (": far enough to matter" if far else "")


def great_circle_km(lat1: float, lon1: float, lat2: float, lon2: float) -> float:
    """Return the distance between two places on a sphere of 6371 km (haversine). [km]"""
    a, b = math.radians(lat1), math.radians(lat2)
    h = math.sin((b - a) / 2) ** 2 + math.cos(a) * math.cos(b) * math.sin(math.radians(lon2 - lon1) / 2) ** 2
    return 2 * 6371.0 * math.asin(math.sqrt(min(1.0, h)))


def monthly_means(ghi_w_per_m2: Array, air_c: Array) -> MonthlyWeather:
    """Return the monthly means of a year's rows, from which a synthetic year like it could be made."""
    starts = np.concatenate(([0], np.cumsum(MONTH_DAYS)[:-1])) * (len(ghi_w_per_m2) // DAYS)
    days = np.array(MONTH_DAYS)
    rows = days * (len(ghi_w_per_m2) // DAYS)
    ghi = np.add.reduceat(ghi_w_per_m2, starts) * (HOURS / len(ghi_w_per_m2)) / days
    air = np.add.reduceat(air_c, starts) / rows
    return MonthlyWeather(
        ghi_wh_per_m2_day=tuple(round(float(v), 1) for v in ghi), temperature_mean_c=tuple(round(float(v), 2) for v in air)
    )


def with_weather(job: Job, read: WeatherRead, store: SeriesStore, job_offset_h: float, margin_k: float = 5.0) -> Job:
    """Return the job with a file's weather in place of what it had; its series go into `store`.

    Record low and design high that nobody typed become the file's extremes with a margin, marked assumed: a typical year's
    minimum is not a record low.

    Raises
    ------
    BadInput
        When much of its sun falls at night: zone or labels are wrong.
    """
    year = read.year
    rows = len(year.ghi_w_per_m2)
    step = 86_400 * DAYS // rows

    def ref(values: Array | None, unit: Literal["W/m2", "°C"], column: str) -> SeriesRef | None:
        return (
            None if values is None else SeriesRef(sha256=store.put(values, unit), rows=rows, step_s=step, unit=unit, column=column)
        )

    offset = job_offset_h if math.isnan(year.utc_offset_h) else year.utc_offset_h
    place = job.site.place
    if read.latitude_deg is None or read.longitude_deg is None:
        where = (place.latitude_deg, place.longitude_deg, place.altitude_m)
    else:
        where = (read.latitude_deg, read.longitude_deg, read.altitude_m or 0.0)
    refuse_sun_at_night(read.name, year.ghi_w_per_m2, offset, *where)
    ghi, air = ref(year.ghi_w_per_m2, "W/m2", "ghi_w_per_m2"), ref(year.air_c, "°C", "air_c")
    assert ghi is not None
    assert air is not None
    weather = WeatherFile(
        name=read.name[:120], format=read.format, labels=read.labels, years=read.years[:40], utc_offset_h=offset,
        latitude_deg=read.latitude_deg, longitude_deg=read.longitude_deg, altitude_m=read.altitude_m, ghi=ghi, air=air,
        dni=ref(year.dni_w_per_m2, "W/m2", "dni_w_per_m2"), dhi=ref(year.dhi_w_per_m2, "W/m2", "dhi_w_per_m2"),
    )  # fmt: skip
    marks = [mark for mark in job.marks if not mark.path.startswith("site.weather")]
    guesses = {"record_low_c": math.floor(year.air_c.min() - margin_k), "design_high_c": math.ceil(year.air_c.max() + margin_k)}
    site: dict[str, Any] = {"weather": weather}
    for name, value in guesses.items():
        path = f"site.{name}"
        if getattr(job.site, name) is None or job.mark_of(path) == "assumed":
            site[name] = float(value)
            marks = [mark for mark in marks if mark.path != path] + [FieldMark(path=path, source="assumed")]
    return job.model_copy(update={"site": job.site.model_copy(update=site), "marks": tuple(marks)})
