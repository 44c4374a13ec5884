"""Shade: what a horizon hides of sun and sky, the part of a face in shadow by month and hour, and what a string loses by it.

Strings in part shadow (ours, checked in the tests against the curves of pvlib's single-diode model with bypass diodes): a tracker
finds the better of two points. Either the shaded modules are bypassed and the lit ones give all they have, or every module runs
at the current of the shaded ones. A module with its own electronics runs at its own best point.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.job.sky_models import HorizonPoint
from calm_relay.weather.solar import Sun

Array = NDArray[np.float64]
PATH_DAYS = ((171, "21 Jun"), (79, "21 Mar, 23 Sep"), (354, "21 Dec"))
_AZIMUTH_STEP_DEG, _ELEVATION_STEP_DEG = 2.0, 1.0


def horizon_elevation_deg(points: Sequence[HorizonPoint], azimuth_deg: Array) -> Array:
    """Return the horizon's elevation at azimuths: straight lines between points, all round; 0 without points. [°]"""
    azimuth = np.asarray(azimuth_deg, dtype=float)
    if not points:
        return np.zeros_like(azimuth)
    rows = sorted((p.azimuth_deg, p.elevation_deg) for p in points)
    x = np.array([row[0] for row in rows])
    y = np.array([row[1] for row in rows])
    x = np.concatenate(([x[-1] - 360.0], x, [x[0] + 360.0]))
    y = np.concatenate(([y[-1]], y, [y[0]]))
    found: Array = np.interp(azimuth % 360.0, x, y)
    return found


def sky_view_frac(points: Sequence[HorizonPoint], tilt_deg: float, azimuth_deg: float) -> float:
    """Return the share of the diffuse sky that a tilted plane still sees over its horizon, of what it sees without one.

    The sky is taken as evenly bright. For the flat and an even horizon of elevation h this is cos² h.
    """
    if not points:
        return 1.0
    az = np.arange(0.0, 360.0, _AZIMUTH_STEP_DEG) + _AZIMUTH_STEP_DEG / 2
    el = np.arange(0.0, 90.0, _ELEVATION_STEP_DEG) + _ELEVATION_STEP_DEG / 2
    grid_el, grid_az = np.meshgrid(np.radians(el), np.radians(az), indexing="ij")
    tilt, turn = np.radians(tilt_deg), np.radians(azimuth_deg)
    facing = np.sin(grid_el) * np.cos(tilt) + np.cos(grid_el) * np.sin(tilt) * np.cos(grid_az - turn)
    weight = np.maximum(0.0, facing) * np.cos(grid_el)
    edge = horizon_elevation_deg(points, az)[None, :]  # a cell the horizon cuts counts by its part above
    above = np.clip((el[:, None] + _ELEVATION_STEP_DEG / 2 - edge) / _ELEVATION_STEP_DEG, 0.0, 1.0)
    whole = float(weight.sum())
    return float((weight * above).sum()) / whole if whole > 0 else 1.0


def sun_hidden(points: Sequence[HorizonPoint], sun: Sun) -> NDArray[np.bool_]:
    """Return where the sun stands below the horizon of a face. (steps,) [bool]"""
    hidden: NDArray[np.bool_] = 90.0 - sun.apparent_zenith_deg < horizon_elevation_deg(points, sun.azimuth_deg)
    return hidden


def shaded_by_step(table: Sequence[Sequence[float]] | None, calendar: YearCalendar) -> Array | None:
    """Return the shaded part of a face per step from its months × hours table, in local standard time; None without one. (steps,)

    [0 to 1].
    """
    if table is None or not any(any(row) for row in table):
        return None
    hour = (np.arange(calendar.steps) % calendar.steps_per_day) * calendar.step_s // 3600
    values: Array = np.array(table, dtype=float)[calendar.month - 1, hour]
    return values


def light_for_power(beam: Array, diffuse: Array, shaded_frac: Array | None, *, each_module: bool) -> Array:
    """Return the even light that gives a string the power it makes in part shadow. [W/m²]

    Parameters
    ----------
    beam, diffuse : ndarray (steps,)
        On the face. [W/m²]
    shaded_frac : ndarray (steps,) or None
        Part of the string's modules that the beam does not reach.
    each_module : bool
        Whether every module has its own electronics (optimizer or module-level inverter).
    """
    if shaded_frac is None:
        whole: Array = beam + diffuse
        return whole
    lit = (1.0 - shaded_frac) * (beam + diffuse)
    if each_module:
        mixed: Array = lit + shaded_frac * diffuse
        return mixed
    at_shadow = np.where(shaded_frac > 0.0, diffuse, beam + diffuse)
    better: Array = np.maximum(lit, at_shadow)
    return better


@dataclass(frozen=True)
class SunPath:
    """The sun's way over a place on one day: name, azimuth and elevation at each hour that it is up. [°]"""

    name: str
    azimuth_deg: tuple[float, ...]
    elevation_deg: tuple[float, ...]
    hour: tuple[float, ...]


def sun_paths(sun: Sun, calendar: YearCalendar, every_h: float = 0.25) -> tuple[SunPath, ...]:
    """Return the sun's way at the solstices and the equinoxes, hours in local standard time."""
    n = calendar.steps_per_day
    step = max(1, round(every_h / calendar.step_h))
    out = []
    for day, name in PATH_DAYS:
        rows = slice(day * n, (day + 1) * n, step)
        zenith, azimuth = sun.apparent_zenith_deg[rows], sun.azimuth_deg[rows]
        hours = (np.arange(len(zenith)) * step + 0.5) * calendar.step_h
        up = zenith < 90.0
        out.append(SunPath(name, tuple(azimuth[up].tolist()), tuple((90.0 - zenith[up]).tolist()), tuple(hours[up].tolist())))
    return tuple(out)
