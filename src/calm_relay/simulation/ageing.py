"""How a battery ages: cycles counted by rainflow against the card's life by depth, the calendar beside it, and the warranty's line.

Each cycle of a depth uses up one part in as many as the card gives at that depth (Palmgren and Miner's rule); the whole life uses
up the capacity down to the end of life. The calendar takes its share whether the battery is used or not: from lithium cells by the
root of time (calendar ageing studies of LFP and NMC cells, Schmalstieg et al. 2014 among them; from memory), from lead a like part
a year. Cycles and calendar are summed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.plant.station import Life

Array = NDArray[np.float64]
YEARS = 20
SMALLEST_DEPTH = 0.005  # shallower turns are noise of the simulation, not cycles


@dataclass(frozen=True)
class CycleCount:
    """So many cycles a year of one depth. [0 to 1 of the capacity in that year]"""

    depth_frac: float
    count: float


def count_cycles(series: Array) -> list[tuple[float, float]]:
    """Return (range, count) of a history by rainflow as it stands, by range, half cycles as 0.5 (ASTM E1049-85)."""
    from calm_relay.simulation.counting import rainflow, turning_points  # compiled: not loaded before it is asked for

    sizes, counts = rainflow(turning_points(series))
    each, place = np.unique(sizes, return_inverse=True)
    return list(zip(each.tolist(), np.bincount(place, weights=counts, minlength=len(each)).tolist(), strict=True))


def year_cycles(energy_wh: Array, capacity_wh: float) -> tuple[CycleCount, ...]:
    """Return the cycles of a steady year, depths in whole percents of the capacity, the deepest first.

    The year repeats, so it is read from its highest point round to it again (ASTM E1049-85, repeating histories): no half cycle
    is left over.
    """
    if capacity_wh <= 0 or not len(energy_wh):
        return ()
    from calm_relay.simulation.counting import rainflow, turns_round

    sizes, counts = rainflow(turns_round(energy_wh, capacity_wh))
    deep = sizes >= SMALLEST_DEPTH
    percents = np.maximum(1, np.rint(100 * np.minimum(sizes[deep], 1.0))).astype(np.int64)
    by_percent = np.bincount(percents, weights=counts[deep], minlength=101)
    return tuple(CycleCount(percent / 100.0, float(by_percent[percent])) for percent in np.flatnonzero(by_percent)[::-1].tolist())


def damage_per_year(life: Life, cycles: tuple[CycleCount, ...], deeper: float = 1.0) -> float | None:
    """Return the share of its cycle life that a battery uses in a year; None where the card has no life by depth. [0 to 1]

    `deeper` is how much deeper each cycle is than counted, the capacity being less: the same energy, as far as the window goes.
    """
    if not life.depth_life:
        return None
    if not cycles:
        return 0.0
    depths = np.array([row.depth_frac for row in cycles])
    lives = cycles_at(life.depth_life, np.maximum(depths, np.minimum(life.window_frac, depths * deeper)))
    return float((np.array([row.count for row in cycles]) / lives).sum())


def cycles_at(rows: tuple[tuple[float, float], ...], depths_frac: Array) -> Array:
    """Return cycles to the end of life at depths above nothing, straight lines between (depth, cycles) in log-log. (n,) [cycles]"""
    if len(rows) == 1:  # a single point: equal energy through the cells at every depth, common practice
        alone: Array = rows[0][1] * rows[0][0] / depths_frac
        return alone
    x, y, at = np.log([r[0] for r in rows]), np.log([r[1] for r in rows]), np.log(depths_frac)
    # beyond the card's shallowest point, its energy
    lives: Array = np.exp(np.where(at < x[0], y[0] + x[0] - at, np.interp(at, x, y)))
    return lives


@dataclass(frozen=True)
class AgedYear:
    """The capacity at the end of a year, as a share of the new one, and what the year took by cycles and by the calendar."""

    year: int
    capacity_frac: float
    by_cycles_frac: float
    by_calendar_frac: float


@dataclass(frozen=True)
class Ageing:
    """Twenty years of a battery from the capacity it begins with, and its warranty: what ends it first, and in which year.

    These are empty and None where nothing ends it.
    """

    begins_frac: float
    years: tuple[AgedYear, ...]
    ends_by: str
    ends_in_years: float | None
    warranted: bool | None

    def capacity_at(self, year: int) -> float:
        """Return the capacity that a year begins with, counted from 1. [0 to 1]"""
        return self.begins_frac if year <= 1 else self.years[min(year, len(self.years) + 1) - 2].capacity_frac


def age(
    life: Life,
    cycles: tuple[CycleCount, ...],
    delivered_wh_per_module: float,
    calendar_frac_per_year: float,
    end_of_life_frac: float,
    health_frac: float = 1.0,
    *,
    by_root: bool = False,
) -> Ageing | None:
    """Return twenty years of a battery from the cycles of its first; None where the card has no life by depth.

    Parameters
    ----------
    delivered_wh_per_module : float
        Energy that a module delivers in the first year, for the warranted throughput. [Wh]
    calendar_frac_per_year : float
        Capacity that the calendar takes a year, of the new one; in the first year where it goes `by_root` of time.
    end_of_life_frac : float
        Capacity at which the card's cycles are used up.
    health_frac : float
        State of health that the cycles were counted with; capacities are given as shares of the new one.
    """
    capacity, through, out = health_frac, 0.0, []
    ends: list[tuple[float, str]] = [] if life.warranty_years is None else [(life.warranty_years, "years")]
    for year in range(1, YEARS + 1):
        damage = damage_per_year(life, cycles, health_frac / capacity if capacity > 0 else 1.0)
        if damage is None:
            return None
        worn = min(capacity, damage * (1.0 - end_of_life_frac))
        calendar = calendar_frac_per_year * (year**0.5 - (year - 1) ** 0.5 if by_root else 1.0)
        rest = min(capacity - worn, calendar)
        before, capacity = capacity, capacity - worn - rest
        out.append(AgedYear(year, capacity, worn, rest))
        delivered = delivered_wh_per_module * min(1.0, before / health_frac)
        limit = life.warranty_throughput_wh
        if limit is not None and through < limit <= through + delivered:
            ends.append((year - 1 + (limit - through) / delivered, "throughput"))
        through += delivered
        floor = life.warranty_end_frac
        if floor is not None and before > floor >= capacity:
            ends.append((year - 1 + (before - floor) / (before - capacity), "capacity"))
    first = min(ends, default=None)
    kept = None
    if life.warranty_end_frac is not None and life.warranty_years is not None:
        at = min(int(life.warranty_years), YEARS)
        kept = out[at - 1].capacity_frac >= life.warranty_end_frac if at >= 1 else None
    return Ageing(
        begins_frac=health_frac,
        years=tuple(out),
        ends_by=first[1] if first else "",
        ends_in_years=first[0] if first else None,
        warranted=kept,
    )
