"""Prices of every step of a year: periods by season, weekday and clock hour, holidays, or an hourly series."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import numpy as np
from numpy.typing import NDArray

from calm_relay.cache import Last
from calm_relay.calendar import DAYS, YearCalendar, dates, in_window
from calm_relay.errors import BadInput, Fault
from calm_relay.job.series import SeriesStore
from calm_relay.job.tariff_models import Tariff

Array = NDArray[np.float64]
SUNDAY = 6


@dataclass(frozen=True, eq=False)
class Prices:
    """Per step: import and export price [money per kWh], and the period it belongs to by its place in `names`."""

    import_price: Array
    export_price: Array
    period: NDArray[np.int16]
    names: tuple[str, ...]


def clock_days(calendar: YearCalendar, holidays: tuple[str, ...] = ()) -> tuple[NDArray[np.int8], NDArray[np.int8]]:
    """Return the clock's weekday (0 Monday; holidays count as Sunday) and month of every step.

    Daylight saving moves the clock: a step after 23:00 of standard time may belong to the next clock day. (steps,) each
    [0 to 6], [1 to 12].
    """
    days = dates(calendar.year)
    after = days[-1] + timedelta(days=1)
    all_days = (*days, after)
    weekday = np.array([SUNDAY if f"{d.month:02d}-{d.day:02d}" in holidays else d.weekday() for d in all_days], dtype=np.int8)
    raw = (np.arange(calendar.steps) % calendar.steps_per_day) * calendar.step_h
    index = calendar.day + (calendar.clock_hour < raw - 12.0)
    return weekday[index], calendar.clock_month


@dataclass(frozen=True, eq=False)
class Hourly:
    """Prices of the 8760 hours of local standard time, where the tariff names such series. [money per kWh]"""

    bought: Array | None = None
    sold: Array | None = None


def hourly_of(tariff: Tariff, store: SeriesStore) -> Hourly:
    """Return a tariff's hourly prices from a store of series, where it names some."""
    refs = (tariff.hourly_import, tariff.hourly_export)
    return Hourly(*(None if ref is None else store.get(ref.sha256 or "") for ref in refs))


def year_prices(tariff: Tariff, calendar: YearCalendar, hourly: Hourly | None = None) -> Prices:
    """Return the prices of a year.

    Parameters
    ----------
    tariff : Tariff
    calendar : YearCalendar
    hourly : Hourly or None
        The series that the tariff names.

    Raises
    ------
    BadInput
        When an hourly series is no year of hours.
    """
    hourly = hourly or Hourly()
    made_of = tariff, calendar, hourly.bought, hourly.sold
    return _LAST.get(made_of, lambda: _year_prices(tariff, calendar, hourly))


_LAST: Last[Prices] = Last()  # the bills of several plans are asked for one after the other


def _year_prices(tariff: Tariff, calendar: YearCalendar, hourly: Hourly) -> Prices:
    bought = None if tariff.hourly_import is None else _by_hour("hourly_import", hourly.bought, calendar)
    sold = None if tariff.hourly_export is None else _by_hour("hourly_export", hourly.sold, calendar)
    period, (taken, given) = year_periods(tariff, calendar), period_prices(tariff)
    import_price = taken[period] if bought is None else bought
    return Prices(import_price, given[period] if sold is None else sold, period, period_names(tariff))


def _by_hour(name: str, values: Array | None, calendar: YearCalendar) -> Array:
    count = 0 if values is None else len(values)
    if values is None or count != DAYS * 24:
        problem = f"{count} prices are not the 8760 hours of a year"
        raise BadInput([Fault("", f"tariff.{name}", problem, "give one price an hour, 29 February dropped")])
    return np.repeat(values, calendar.steps // (DAYS * 24))


def year_periods(tariff: Tariff, calendar: YearCalendar) -> NDArray[np.int16]:
    """Return each step's period by its place among `period_names`. (steps,) [number]"""
    if tariff.hourly_import is not None:
        return np.zeros(calendar.steps, np.int16)
    if not tariff.seasons:
        return cheap_steps(tariff, calendar).astype(np.int16)
    place = {period.id: i for i, period in enumerate(tariff.periods)}
    weekday, month = clock_days(calendar, tariff.holidays)
    table = np.zeros((13, 7, 24), dtype=np.int16)
    for season in tariff.seasons:
        table[list(season.months)] = np.array([[place[cell] for cell in day] for day in season.week])
    period: NDArray[np.int16] = table[month, weekday, calendar.hour_of_clock]
    return period


def period_names(tariff: Tariff) -> tuple[str, ...]:
    """Return the names of a tariff's periods: its own, those of two prices, or one where import is paid by the hour."""
    if tariff.hourly_import is not None:
        return ("by the hour",)
    return tuple(p.name for p in tariff.periods) if tariff.seasons else ("import", "import, cheap window")


def period_prices(tariff: Tariff) -> tuple[Array, Array]:
    """Return the import and export price of each of `period_names`, no number for import by the hour. (periods,) [money/kWh]"""
    sold = tariff.export_price_per_kwh
    if tariff.hourly_import is not None:
        return np.array([np.nan]), np.array([sold])
    if not tariff.seasons:
        return np.array([tariff.import_price_per_kwh, tariff.cheap_price_per_kwh]), np.array([sold, sold])
    given = [sold if p.export_price_per_kwh is None else p.export_price_per_kwh for p in tariff.periods]
    return np.array([p.import_price_per_kwh for p in tariff.periods]), np.array(given)


def cheap_steps(tariff: Tariff, calendar: YearCalendar) -> NDArray[np.bool_]:
    """Return where the cheap price holds, by clock time. Equal ends mean there is no cheap window. (steps,) [bool]"""
    if tariff.cheap_start_h == tariff.cheap_end_h:
        return np.zeros(calendar.steps, dtype=np.bool_)
    return in_window(calendar.clock_hour, tariff.cheap_start_h, tariff.cheap_end_h)


def cheap_window(tariff: Tariff) -> tuple[float, float] | None:
    """Return the clock hours of a tariff's cheap window; None where two prices are not what it has. [h]"""
    cheaper = tariff.cheap_price_per_kwh < tariff.import_price_per_kwh and tariff.cheap_start_h != tariff.cheap_end_h
    plain = not tariff.seasons and tariff.hourly_import is None
    return (tariff.cheap_start_h, tariff.cheap_end_h) if plain and cheaper else None


def settled(net_w: Array, calendar: YearCalendar, settlement_min: int, *, summed: bool = True) -> tuple[Array, Array]:
    """Return import and export as a meter settles them: netted over 15, 30 or 60 min, or at once (0). [W]

    Parameters
    ----------
    net_w : ndarray (steps,) or (steps, phases)
        What is drawn from the grid, below 0 where it is given.
    summed : bool
        Whether the meter adds the phases before it counts, or counts each by itself.
    """
    lines = net_w[:, None] if net_w.ndim == 1 else net_w
    per = settlement_min * 60 // calendar.step_s
    if per > 1:
        lines = np.repeat(lines.reshape(-1, per, lines.shape[1]).mean(axis=1), per, axis=0)
    if lines.shape[1] == 1:
        taken = np.maximum(lines[:, 0], 0.0)
        return taken, taken - lines[:, 0]
    return net_of_phases(lines, np.zeros_like(lines), summed=summed)


def net_of_phases(load_w: Array, made_w: Array, *, summed: bool) -> tuple[Array, Array]:
    """Return import and export of a three-phase meter. [W]

    Parameters
    ----------
    load_w, made_w : ndarray (steps, phases)
    summed : bool
        Whether the meter adds the phases before it counts (True), or counts each by itself.
    """
    net = load_w - made_w
    if summed:
        net = net.sum(axis=1, keepdims=True)
    return np.maximum(net, 0.0).sum(axis=1), np.maximum(-net, 0.0).sum(axis=1)
