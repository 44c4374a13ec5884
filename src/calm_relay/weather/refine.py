"""From a file's hours to the simulation's step: each hour keeps its energy, broken cloud is brought back with a fixed seed.

Method (docs/weather.md): the clear-sky index is interpolated between the middles of hours and multiplied by the clear sky of
each step; a seeded first-order process (correlation time 20 min, strongest on half-clear hours) moves it; then each hour is
scaled to its energy. Energy goes only to steps with the sun up, at most 1.2 of clear sky; what an hour cannot place so is
counted in `unplaced_wh_per_m2`.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.weather.cloud import depth_of, flicker
from calm_relay.weather.solar import Sun, split_diffuse
from calm_relay.weather.synthetic import STEP_CAP, WeatherYear

Array = NDArray[Any]
LOWEST_COS_ZENITH = 0.065  # as in common decomposition models: below it beam is not told from diffuse
ROUNDS = 6


@dataclass(frozen=True, eq=False)
class FileYear:
    """A file's year in its own fixed UTC offset, 365 days, rows labelled by their begin. [W/m²], [°C]"""

    utc_offset_h: float
    ghi_w_per_m2: Array
    dni_w_per_m2: Array | None
    dhi_w_per_m2: Array | None
    air_c: Array


@dataclass(frozen=True, eq=False)
class Refined:
    """The weather at the simulation's step, and what could not be placed. [Wh/m²]"""

    weather: WeatherYear
    unplaced_wh_per_m2: float


def refine_year(file: FileYear, calendar: YearCalendar, sun: Sun, seed: int) -> Refined:
    """Return the file's year on the job's steps.

    Parameters
    ----------
    file : FileYear
    calendar : YearCalendar
        Of the job; its offset may differ from the file's by whole steps.
    sun : Sun
        At the job's steps.
    seed : int
        Of the sub-hourly variability.

    Raises
    ------
    ValueError
        When the file's step is no multiple of the job's.
    """
    file = _at_most_as_fine(file, calendar.steps)
    rows, steps = len(file.ghi_w_per_m2), calendar.steps
    if steps % rows:
        raise ValueError(f"{rows} rows do not fit {steps} steps")
    per_row = steps // rows
    shift = round((calendar.utc_offset_h - file.utc_offset_h) * 3600 / calendar.step_s)

    def to_file(values: Array) -> Array:
        return np.roll(values, -shift)

    def to_job(values: Array) -> Array:
        return np.roll(values, shift)

    zenith = to_file(sun.apparent_zenith_deg)
    if per_row == 1:
        ghi, unplaced = file.ghi_w_per_m2.copy(), 0.0
    else:
        ghi, unplaced = _split_hours(file.ghi_w_per_m2, to_file(sun.clear_ghi_w_per_m2), per_row, calendar, seed)
    dni, dhi = _beam_and_diffuse(file, ghi, zenith, to_file(sun.dni_extra_w_per_m2), to_file(calendar.day.astype(float)), per_row)
    air = _between_middles(file.air_c, per_row)
    return Refined(WeatherYear(to_job(ghi), to_job(dni), to_job(dhi), to_job(air)), unplaced)


def _at_most_as_fine(file: FileYear, steps: int) -> FileYear:
    """Return the file's year in means of the job's step, where its rows are finer."""
    rows = len(file.ghi_w_per_m2)
    if rows <= steps or rows % steps:
        return file

    def means(values: Array | None) -> Array | None:
        return None if values is None else values.reshape(steps, -1).mean(axis=1)

    ghi, air = means(file.ghi_w_per_m2), means(file.air_c)
    assert ghi is not None
    assert air is not None
    return FileYear(file.utc_offset_h, ghi, means(file.dni_w_per_m2), means(file.dhi_w_per_m2), air)


def _between_middles(values: Array, per_row: int) -> Array:
    """Return values interpolated between the middles of rows, the year wrapping round."""
    if per_row == 1:
        return values.copy()
    rows = len(values)
    middles = (np.arange(-1, rows + 1) + 0.5) * per_row
    wrapped = np.concatenate(([values[-1]], values, [values[0]]))
    out: Array = np.interp(np.arange(rows * per_row) + 0.5, middles, wrapped)
    return out


def _split_hours(ghi: Array, clear: Array, per_row: int, calendar: YearCalendar, seed: int) -> tuple[Array, float]:
    rows = len(ghi)
    clear_rows = clear.reshape(rows, per_row)
    mean = clear_rows.mean(axis=1)
    lit = mean > 5.0
    index = np.where(lit, ghi / np.where(lit, mean, 1.0), 0.0)
    where = np.flatnonzero(lit)
    index = np.clip(np.interp(np.arange(rows), where, index[where]) if len(where) else index, 0.0, STEP_CAP)
    smooth = _between_middles(index, per_row)
    moved = flicker(np.random.default_rng(seed), seed, calendar.step_s)
    cap = STEP_CAP * clear_rows
    out = np.clip(smooth * (1.0 + depth_of(smooth) * moved), 0.02, STEP_CAP).reshape(rows, per_row) * clear_rows
    wanted = ghi * per_row
    for _ in range(ROUNDS):  # scale to the hour's energy; what the cap takes goes to the steps that still have room
        made = out.sum(axis=1)
        out = np.minimum(out * np.divide(wanted, made, out=np.ones(rows), where=made > 0)[:, None], cap)
    room = cap - out
    left = np.maximum(0.0, wanted - out.sum(axis=1))
    space = room.sum(axis=1)
    out += room * np.divide(np.minimum(left, space), space, out=np.zeros(rows), where=space > 0)[:, None]
    unplaced = float(np.maximum(0.0, left - space).sum()) * calendar.step_h
    return out.ravel(), unplaced


def _beam_and_diffuse(file: FileYear, ghi: Array, zenith: Array, extra: Array, day: Array, per_row: int) -> tuple[Array, Array]:
    """Return (DNI, DHI): the file's own at its own step; else its diffuse share of each hour; without one, by Erbs."""
    cos_zenith = np.cos(np.radians(np.minimum(zenith, 90.0)))
    rows = len(file.ghi_w_per_m2)
    dni_file, dhi_file = file.dni_w_per_m2, file.dhi_w_per_m2
    if per_row == 1 and dni_file is not None and dhi_file is not None:
        return dni_file.copy(), dhi_file.copy()
    if dhi_file is None and dni_file is not None:
        mean_cos = np.maximum(0.0, cos_zenith).reshape(rows, per_row).mean(axis=1)
        dhi_file = np.clip(file.ghi_w_per_m2 - dni_file * mean_cos, 0.0, file.ghi_w_per_m2)
    if dhi_file is None:
        dni, dhi = split_diffuse(ghi, zenith, (day + 1).astype(int))
        return np.minimum(dni, extra), dhi
    share = np.clip(np.divide(dhi_file, file.ghi_w_per_m2, out=np.ones(rows), where=file.ghi_w_per_m2 > 0), 0.0, 1.0)
    dhi = ghi * np.repeat(share, per_row)
    dni = np.where(cos_zenith > LOWEST_COS_ZENITH, (ghi - dhi) / np.maximum(cos_zenith, LOWEST_COS_ZENITH), 0.0)
    dni = np.minimum(dni, extra)
    return dni, ghi - dni * np.maximum(0.0, cos_zenith) * (zenith < 90.0)
