"""Sun, clear sky, diffuse split and transposition, by pvlib; plain NumPy arrays in and out.

pvlib and pandas are imported inside the functions: they take over a second and belong off the window's thread.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, dates

Array = NDArray[np.float64]
_SKY_PARTS = ("poa_circumsolar", "poa_isotropic")  # pvlib's names


@dataclass(frozen=True, eq=False)
class Sun:
    """Sun and clear sky at mid-step; angles in degrees, azimuth clockwise from north, irradiance in W/m²."""

    apparent_zenith_deg: Array
    azimuth_deg: Array
    dni_extra_w_per_m2: Array
    clear_ghi_w_per_m2: Array
    clear_dni_w_per_m2: Array
    clear_dhi_w_per_m2: Array


def mid_step_times(calendar: YearCalendar) -> Any:
    """Return the UTC DatetimeIndex of the middle of each step (definitions D1)."""
    import pandas as pd

    days = np.array([np.datetime64(d, "s") for d in dates(calendar.year)])
    within = (np.arange(calendar.steps_per_day) * calendar.step_s + calendar.step_s // 2).astype("timedelta64[s]")
    shift = np.timedelta64(round(calendar.utc_offset_h * 3600), "s")
    stamps = (days[:, None] + within[None, :]).ravel() - shift
    return pd.DatetimeIndex(stamps).tz_localize("UTC")


def sun_position(times: Any, latitude_deg: float, longitude_deg: float, altitude_m: float, **spa: float) -> dict[str, Array]:
    """Return apparent zenith, zenith and azimuth by the SPA (Reda and Andreas, NREL/TP-560-34302) for a DatetimeIndex.

    Each (times,) [°]. Keyword arguments (`pressure` in Pa, `temperature` in °C, `delta_t` in s) go to pvlib.
    """
    from pvlib import atmosphere, solarposition

    spa.setdefault("pressure", float(atmosphere.alt2pres(altitude_m)))
    table = solarposition.spa_python(times, latitude_deg, longitude_deg, altitude_m, **spa)
    return {name: table[name].to_numpy(dtype=float) for name in ("apparent_zenith", "zenith", "azimuth")}


def sun_year(calendar: YearCalendar, latitude_deg: float, longitude_deg: float, altitude_m: float) -> Sun:
    """Return sun and Ineichen clear sky (Linke turbidity from pvlib's table) for every step of a year."""
    from pvlib import atmosphere, clearsky, irradiance

    times = mid_step_times(calendar)
    where = sun_position(times, latitude_deg, longitude_deg, altitude_m)
    extra = irradiance.get_extra_radiation(times).to_numpy(dtype=float)
    pressure = float(atmosphere.alt2pres(altitude_m))
    relative = np.nan_to_num(atmosphere.get_relative_airmass(where["apparent_zenith"]), nan=40.0)
    absolute = atmosphere.get_absolute_airmass(relative, pressure)
    turbidity = clearsky.lookup_linke_turbidity(times, latitude_deg, longitude_deg).to_numpy(dtype=float)
    with np.errstate(divide="ignore", invalid="ignore"):  # at night pvlib divides by zero and sorts it out itself
        clear = clearsky.ineichen(where["apparent_zenith"], absolute, turbidity, altitude_m, extra)
    up = where["apparent_zenith"] < 90.0
    ghi, dni, dhi = (np.where(up, np.nan_to_num(np.asarray(clear[name])), 0.0) for name in ("ghi", "dni", "dhi"))
    return Sun(
        apparent_zenith_deg=where["apparent_zenith"],
        azimuth_deg=where["azimuth"],
        dni_extra_w_per_m2=extra,
        clear_ghi_w_per_m2=ghi,
        clear_dni_w_per_m2=dni,
        clear_dhi_w_per_m2=dhi,
    )


def split_diffuse(ghi_w_per_m2: Array, zenith_deg: Array, day_of_year: NDArray[Any]) -> tuple[Array, Array]:
    """Return (DNI, DHI) for GHI by Erbs, Klein and Duffie (1982). (steps,) each [W/m²]"""
    from pvlib import irradiance

    out = irradiance.erbs(ghi_w_per_m2, zenith_deg, day_of_year)
    return np.nan_to_num(np.asarray(out["dni"])), np.nan_to_num(np.asarray(out["dhi"]))


@dataclass(frozen=True, eq=False)
class PlaneOfArray:
    """Irradiance on a face in W/m²: beam after the incidence-angle loss with the sky's bright ring around the sun, and the rest.

    What hides the sun hides both parts of `beam`; `diffuse` is the even sky and the ground.
    """

    beam_w_per_m2: Array
    diffuse_w_per_m2: Array


def plane_of_array(
    tilt_deg: float,
    azimuth_deg: float,
    sun: Sun,
    ghi: Array,
    dni: Array,
    dhi: Array,
    albedo_frac: float = 0.2,
    *,
    hidden: NDArray[np.bool_] | None = None,
    sky_view_frac: float = 1.0,
) -> PlaneOfArray:
    """Return plane-of-array irradiance by Hay and Davies (1980), beam with the physical incidence-angle loss.

    Parameters
    ----------
    tilt_deg, azimuth_deg : float
    sun : Sun
    ghi, dni, dhi : ndarray, shape (steps,), [W/m²]
    albedo_frac : float, default 0.2 (common practice for grass and soil)
    hidden : ndarray of bool, shape (steps,), or None
        Where the sun stands behind the face's horizon: beam and circumsolar light are gone.
    sky_view_frac : float, default 1
        What the horizon leaves of the even diffuse sky.
    """
    from pvlib import iam, irradiance

    zenith = sun.apparent_zenith_deg
    up = zenith < 90.0
    incidence = irradiance.aoi(tilt_deg, azimuth_deg, zenith, sun.azimuth_deg)
    beam = np.where(up, dni * np.maximum(0.0, np.cos(np.radians(incidence))), 0.0)
    beam = beam * np.nan_to_num(np.asarray(iam.physical(incidence)))
    sky = irradiance.haydavies(
        tilt_deg, azimuth_deg, dhi, dni, sun.dni_extra_w_per_m2, zenith, sun.azimuth_deg, return_components=True
    )
    ring, even = (np.maximum(0.0, np.nan_to_num(np.asarray(sky[name]))) for name in _SKY_PARTS)
    ground = irradiance.get_ground_diffuse(tilt_deg, ghi, albedo_frac)
    beam = beam + np.where(up, ring, 0.0)
    diffuse = np.where(up, even * sky_view_frac + np.asarray(ground), 0.0)
    if hidden is not None:
        beam = np.where(hidden, 0.0, beam)
    return PlaneOfArray(beam, np.maximum(0.0, diffuse))
