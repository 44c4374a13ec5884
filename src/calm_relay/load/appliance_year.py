"""An appliance's year: seeded starts inside its window, days alike or by degree-days, and what it leaves to PV surplus."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS, MONTH_OF_DAY, YearCalendar
from calm_relay.job.house_models import Appliance
from calm_relay.load.profile import seed_of

Array = NDArray[np.float64]
WORTH_H = 1e-9
HEATING_BALANCE_C, COOLING_BALANCE_C = 15.0, 22.0  # bases of degree-days, common practice; to be typed over


def appliance_w(appliance: Appliance, calendar: YearCalendar, seed: int, day_air_c: Array | None = None) -> Array:
    """Return one appliance's power: seeded starts inside its clock window, each month's energy as its list says.

    An appliance that runs on a share of days runs on whole days drawn month by month; its runs are stretched or cut a little so
    that the month holds its energy. One that follows the weather keeps its energy of the year, and its days share it by their
    degree-days.

    Parameters
    ----------
    day_air_c : ndarray (365,) or None
        Mean air temperature of each day, for those that follow it. [°C]
    """
    rng = np.random.default_rng(seed_of(appliance.id, seed))
    length, cycles = appliance.window_h, appliance.cycles_per_day
    run = appliance.day_run_h / cycles
    part = length / cycles
    shifts = rng.random((DAYS, cycles))
    draw = rng.random(DAYS)
    may = np.isin(MONTH_OF_DAY, appliance.months) if appliance.months else np.ones(DAYS, dtype=bool)
    noon = calendar.clock_weekend.reshape(DAYS, -1)[:, calendar.steps_per_day // 2]
    if appliance.days != "every":
        may &= noon == (appliance.days == "weekends")
    if appliance.follows == "clock":
        used, runs = _drawn_days(may, draw, appliance.share_of_days_frac, run, part)
    else:
        runs = _by_weather(appliance, may, day_air_c, run * appliance.share_of_days_frac, part)
        used = runs > 0
    starts = appliance.window_start_h + np.arange(cycles) * part + shifts * (part - runs[:, None])
    starts = starts + np.arange(DAYS)[:, None] * 24.0 - calendar.saving_h[:, None]
    if not used.any():
        return np.zeros(calendar.steps)
    flat, lasts = _within_months(starts[used].ravel(), np.repeat(runs[used], cycles), np.repeat(MONTH_OF_DAY[used], cycles))
    sums = np.cumsum(lasts)
    edges = np.arange(calendar.steps + 1) * calendar.step_h
    grid = np.concatenate(([-1e3], np.column_stack((flat, flat + lasts)).ravel(), [1e6]))
    done = np.concatenate(([0.0], np.column_stack((sums - lasts, sums)).ravel(), [sums[-1]]))
    on_time = np.diff(np.interp(edges, grid, done))
    power: Array = appliance.running_w * np.maximum(0.0, on_time) / calendar.step_h
    return power


def _within_months(starts: Array, lasts: Array, month: NDArray[np.int64]) -> tuple[Array, Array]:
    """Return runs, earliest first, none meeting another, that stay in their day's month. [h]

    What goes past a month's end goes on at its begin at the same clock hours, so that every month holds its days' energy. Where
    the clock going forward makes runs meet, the later one waits.
    """
    first = np.concatenate(([0.0], np.cumsum(MONTH_DAYS) * 24.0))
    made = []
    for m in range(12):
        here = month == m + 1
        at, last, long = starts[here] - first[m], lasts[here], first[m + 1] - first[m]
        while len(at):
            order = np.argsort(at, kind="stable")
            at, last = at[order], last[order]
            before = np.cumsum(last) - last
            at = before + np.maximum.accumulate(np.maximum(at, 0.0) - before)
            over = np.minimum(last, np.maximum(0.0, at + last - long))
            if over.max() < WORTH_H:
                break
            kept, past = last - over, over >= WORTH_H
            at, last = (
                np.concatenate((at[kept > 0], np.maximum(at[past] - long, 0.0))),
                np.concatenate((kept[kept > 0], over[past])),
            )
        made.append((at + first[m], last))
    return np.concatenate([at for at, _ in made]), np.concatenate([last for _, last in made])


def _drawn_days(
    may: NDArray[np.bool_], draw: Array, share_frac: float, run_h: float, most_h: float
) -> tuple[NDArray[np.bool_], Array]:
    """Return the days an appliance runs on, and the length of its runs on each: months hold share × days × run. [h]"""
    runs = np.full(DAYS, run_h)
    if share_frac >= 1.0:
        return may, runs
    used = np.zeros(DAYS, dtype=bool)
    first = 0
    for days in MONTH_DAYS:
        here = np.arange(first, first + days)[may[first : first + days]]
        first += days
        wanted = share_frac * len(here)
        count = min(len(here), max(1, round(wanted))) if len(here) else 0
        while count < len(here) and run_h * wanted / count > most_h:  # a run does not fit its window: more days then
            count += 1
        chosen = here[np.argsort(draw[here], kind="stable")[:count]]
        used[chosen] = True
        if count:
            runs[chosen] = min(most_h, run_h * wanted / count)
    return used, runs


def degree_weights(appliance: Appliance, day_air_c: Array) -> Array:
    """Return how the days share the energy of an appliance that follows the weather: (365,), its scale without meaning.

    Heating: kelvins below the base, more for each of them where the machine's COP falls with them. Cooling: kelvins above it.
    """
    if appliance.follows == "cooling_degrees":
        base = COOLING_BALANCE_C if appliance.balance_c is None else appliance.balance_c
        above: Array = np.maximum(0.0, day_air_c - base)
        return above
    base = HEATING_BALANCE_C if appliance.balance_c is None else appliance.balance_c
    below = np.maximum(0.0, base - day_air_c)
    weights: Array = below * (1.0 + appliance.colder_draws_frac_per_k * below)
    return weights


def _by_weather(appliance: Appliance, may: NDArray[np.bool_], day_air_c: Array | None, run_h: float, most_h: float) -> Array:
    """Return the length of the runs on each day by its degree-days; a day holds at most its window, the rest goes to others. [h]"""
    if day_air_c is None:
        raise ValueError(f"{appliance.id} follows the weather: give the days' mean air temperatures")
    weights = np.where(may, degree_weights(appliance, day_air_c), 0.0)
    if not weights.any():  # a climate without such days: all that may are alike
        weights = may.astype(float)
    wanted, runs = run_h * float(may.sum()), np.zeros(DAYS)
    left = wanted
    for _ in range(12):  # full days hand on to those that are not full yet
        free = (weights > 0) & (runs < most_h - 1e-12)
        if left <= 1e-9 * max(1.0, wanted) or not free.any():
            break
        share = np.where(free, weights, 0.0)
        runs = np.minimum(most_h, runs + left * share / share.sum())
        left = wanted - float(runs.sum())
    return runs
