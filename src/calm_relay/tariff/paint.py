"""Changing a tariff's periods and seasons: pure, each returns a changed tariff."""

from __future__ import annotations

from collections.abc import Iterable

from calm_relay.errors import BadInput, Fault
from calm_relay.job.tariff_models import Period, Season, Tariff

ALL_YEAR = tuple(range(1, 13))
MOST_PERIODS, MOST_SEASONS = 9, 4


def _free(base: str, used: Iterable[str]) -> str:
    taken = set(used)
    return next(name for n in range(1, 100) if (name := f"{base}-{n}") not in taken)


def with_week(tariff: Tariff) -> Tariff:
    """Return a two-price tariff as a painted week: the cheap window's whole hours get a period of their own.

    A window that begins or ends within an hour takes the hours that lie mostly in it.
    """
    normal = Period(id="period-1", name="normal", import_price_per_kwh=tariff.import_price_per_kwh)
    periods = [normal]
    hours = ["period-1"] * 24
    if tariff.cheap_start_h != tariff.cheap_end_h:
        periods.append(Period(id="period-2", name="cheap", import_price_per_kwh=tariff.cheap_price_per_kwh))
        length = (tariff.cheap_end_h - tariff.cheap_start_h) % 24.0
        for hour in range(24):
            if (hour + 0.5 - tariff.cheap_start_h) % 24.0 < length:
                hours[hour] = "period-2"
    season = Season(id="season-1", name="all year", months=ALL_YEAR, week=(tuple(hours),) * 7)
    return tariff.model_copy(update={"periods": tuple(periods), "seasons": (season,)})


def without_week(tariff: Tariff) -> Tariff:
    """Return a tariff that has two prices again; the painted week is gone."""
    return tariff.model_copy(update={"periods": (), "seasons": ()})


def add_period(tariff: Tariff) -> Tariff:
    """Return the tariff with one more period, priced like the first; raises BadInput where there are nine."""
    if len(tariff.periods) >= MOST_PERIODS:
        raise BadInput([Fault("", "tariff.periods", f"there are {MOST_PERIODS} periods", "take one out first")])
    made = _free("period", (p.id for p in tariff.periods))
    period = tariff.periods[0].model_copy(update={"id": made, "name": f"period {len(tariff.periods) + 1}"})
    return tariff.model_copy(update={"periods": (*tariff.periods, period)})


def remove_period(tariff: Tariff, period_id: str) -> Tariff:
    """Return the tariff without a period; its hours get the first one that is left. Raises BadInput for the last period."""
    left = tuple(p for p in tariff.periods if p.id != period_id)
    if not left:
        raise BadInput([Fault("", "tariff.periods", "a week needs a period", "go back to two prices instead")])
    seasons = tuple(
        s.model_copy(update={"week": tuple(tuple(left[0].id if c == period_id else c for c in day) for day in s.week)})
        for s in tariff.seasons
    )
    return tariff.model_copy(update={"periods": left, "seasons": seasons})


def paint_hours(tariff: Tariff, season_id: str, days: Iterable[int], hours: Iterable[int], period_id: str) -> Tariff:
    """Return the tariff with cells of a season's week put into a period."""
    wanted = {(d, h) for d in days for h in hours}
    seasons = tuple(
        s
        if s.id != season_id
        else s.model_copy(
            update={
                "week": tuple(
                    tuple(period_id if (d, h) in wanted else cell for h, cell in enumerate(day)) for d, day in enumerate(s.week)
                )
            }
        )
        for s in tariff.seasons
    )
    return tariff.model_copy(update={"seasons": seasons})


def add_season(tariff: Tariff) -> Tariff:
    """Return the tariff with one more season like the last; it takes the later half of the months of the largest one."""
    if len(tariff.seasons) >= MOST_SEASONS:
        raise BadInput([Fault("", "tariff.seasons", f"there are {MOST_SEASONS} seasons", "take one out first")])
    largest = max(tariff.seasons, key=lambda s: len(s.months))
    keep = len(largest.months) // 2
    if keep == 0:
        raise BadInput([Fault("", "tariff.seasons", "no season has a month to spare", "put more months into one first")])
    made = _free("season", (s.id for s in tariff.seasons))
    name = f"season {len(tariff.seasons) + 1}"
    new = largest.model_copy(update={"id": made, "name": name, "months": largest.months[keep:]})
    old = largest.model_copy(update={"months": largest.months[:keep]})
    return tariff.model_copy(update={"seasons": (*(old if s.id == largest.id else s for s in tariff.seasons), new)})


def paint_months(tariff: Tariff, months: Iterable[int], season_id: str) -> Tariff:
    """Return the tariff with months moved to a season; a season left without months goes."""
    moved = set(months)
    seasons = []
    for season in tariff.seasons:
        mine = set(season.months) | moved if season.id == season_id else set(season.months) - moved
        if mine:
            seasons.append(season.model_copy(update={"months": tuple(sorted(mine))}))
    return tariff.model_copy(update={"seasons": tuple(seasons)})


def season_of_month(tariff: Tariff) -> tuple[int, ...]:
    """Return for each month the place of its season."""
    return tuple(next(i for i, s in enumerate(tariff.seasons) if month in s.months) for month in ALL_YEAR)
