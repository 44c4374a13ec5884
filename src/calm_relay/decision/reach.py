"""What survives the brief's outage in its season from more starts: modules, reserve, PV behind the transfer device, fewer loads."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from calm_relay.errors import NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.plant.chain import module_counts
from calm_relay.plant.resolve import plant_of
from calm_relay.pv.roof import group_stc_w
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.outage import brief_hours, island_ride, outage_inputs, outage_length_h

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from calm_relay.study import Study
    from calm_relay.year.plan_flow import PlanFlow

SHARES = (0.90, 0.95, 0.99)
RESERVES = (0.3, 0.5, 0.7, 0.9)
MORE_PV = (1.2, 1.5, 2.0, 3.0)  # times what stands behind the transfer device
MOST_LEFT_OUT = 3
SEASONS = ("winter", "spring", "summer", "autumn")


def _never() -> bool:
    return False


@dataclass(frozen=True)
class Reach:
    """The share survived by number of modules on one bank, and by the reserve held, of a length [h] and season. [0 to 1]"""

    node: str
    length_h: float
    season: str
    modules_now: int
    rows: tuple[tuple[int, float], ...]
    by_reserve: tuple[tuple[float, float], ...] = ()
    by_more_wp: tuple[tuple[float, float], ...] = ()
    by_left_out: tuple[tuple[tuple[str, ...], float], ...] = ()

    def modules_for(self, share_frac: float) -> int | None:
        """Return the fewest modules that reach a share; None where the most that fit do not."""
        return next((modules for modules, share in self.rows if share >= share_frac - 1e-9), None)

    @property
    def words(self) -> list[str]:
        """What would reach more, in sentences."""
        when = "of the year" if self.season == "any" else f"in {self.season}"
        said = ", ".join(f"{count_words(modules, 'module')} {share * 100:.0f} %" for modules, share in self.rows)
        out = [f"{self.length_h:g} h, what must stay on alone, starts {when}: {said}."]
        for share in SHARES:
            needed = self.modules_for(share)
            if needed is None:
                out.append(f"{share * 100:.0f} % is not reached with the {self.rows[-1][0]} modules that fit at most.")
            elif needed > self.modules_now:
                out.append(f"{share * 100:.0f} % is reached with {count_words(needed - self.modules_now, 'module')} more.")
            else:
                out.append(f"{share * 100:.0f} % is reached as it stands.")
        if self.by_reserve:
            held = ", ".join(f"{reserve * 100:.0f} %: {share * 100:.0f} %" for reserve, share in self.by_reserve)
            out.append(f"With the modules that stand and a reserve all year of {held}; what a reserve costs stands in the bill.")
        if self.by_more_wp:
            more = ", ".join(f"{show(wp, 'power_w', 1)}p more {share * 100:.0f} %" for wp, share in self.by_more_wp)
            out.append(
                f"With more PV behind the transfer device, like what stands there: {more}; whether the roof holds it is on Site."
            )
        for names, share in self.by_left_out:
            listed = names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
            out.append(f"Without {listed}: {share * 100:.0f} %.")
        return out


def season_hours(study: Study, job: Job) -> NDArray[np.int64]:
    """Return the hours of the year in the brief's season; all where it names none. [number]"""
    return brief_hours(job.brief, job.site.place.latitude_deg, study.calendar(job))


def reach(study: Study, job: Job, plan: Plan, cancelled: Callable[[], bool] = _never) -> Reach:
    """Return what share survives with the modules that stand and with each number more that fits.

    Raises
    ------
    NotFeasible
        Where there is no bank, more than one, or no outage to speak of.
    """
    rows = [row for row in plant_of(job, plan).banked if row.station.side == "backup"]
    if len(rows) != 1:
        raise NotFeasible(
            f"plan {plan.letter} has {count_words(len(rows), 'bank')} on the backup side",
            "modules are counted on one bank: change them by hand",
        )
    row = rows[0]
    length = outage_length_h(job.brief)
    hours = season_hours(study, job)
    counts = sorted(n for n in module_counts(row.unit, row.bank.cells) if n >= row.bank.modules) or [row.bank.modules]

    def survived(changed: Plan) -> float:
        made = study.flow(job, changed, cancelled=cancelled)
        island = outage_inputs(job.house, plant_of(job, changed), made, "essential")
        found = island_ride(island, made, length, hours, cancelled)
        return found.survived_frac(length, hours)

    out: list[tuple[int, float]] = []
    for modules in counts:
        nodes = tuple(
            n.model_copy(update={"battery": n.battery.model_copy(update={"modules": modules, "leads_ohm": ()})})
            if n.id == row.station.id and n.battery is not None
            else n
            for n in plan.nodes
        )
        out.append((modules, survived(plan.model_copy(update={"nodes": nodes}))))
        if out[-1][1] >= SHARES[-1]:
            break
    held: list[tuple[float, float]] = []
    for reserve in RESERVES:
        if reserve <= plan.controls.reserve_soc_frac or out[0][1] >= SHARES[-1]:
            continue
        season: dict[str, float | None] = {f"reserve_{name}_soc_frac": None for name in SEASONS}
        controls = plan.controls.model_copy(update={"reserve_soc_frac": reserve, **season})
        held.append((reserve, survived(plan.model_copy(update={"controls": controls}))))

    def ridden(changed: Job, made: PlanFlow) -> float:
        island = outage_inputs(changed.house, plant_of(changed, plan), made, "essential")
        return island_ride(island, made, length, hours, cancelled).survived_frac(length, hours)

    more: list[tuple[float, float]] = []
    behind = {n.id for n in plan.nodes if n.side == "backup" and n.strings}
    wp = sum(group_stc_w(g, job.cards()) for n in plan.nodes if n.id in behind for g in n.strings)
    for factor in MORE_PV if behind and out[0][1] < SHARES[-1] else ():
        made = study.case_flow(job, plan, dict.fromkeys(behind, factor), cancelled=cancelled)
        more.append(((factor - 1.0) * wp, ridden(job, made)))
        if more[-1][1] >= SHARES[-1]:
            break
    return Reach(
        node=row.station.name, length_h=length, season=job.brief.outage_season, modules_now=row.bank.modules, rows=tuple(out),
        by_reserve=tuple(held), by_more_wp=tuple(more),
        by_left_out=_left_out(job, ridden, study.flow(job, plan)) if out[0][1] < SHARES[-1] else (),
    )  # fmt: skip


def _left_out(job: Job, ridden: Callable[[Job, PlanFlow], float], made: PlanFlow) -> tuple[tuple[tuple[str, ...], float], ...]:
    """Return what share survives with the largest of what must stay on left off, then the two largest, and so on; one stays."""
    essential = sorted((a for a in job.house.counted if a.essential), key=lambda a: -a.mean_day_wh)
    out: list[tuple[tuple[str, ...], float]] = []
    for n in range(1, min(MOST_LEFT_OUT, len(essential) - 1) + 1):
        gone = {a.id for a in essential[:n]}
        loads = tuple(a.model_copy(update={"essential": False}) if a.id in gone else a for a in job.house.appliances)
        fewer = job.model_copy(update={"house": job.house.model_copy(update={"appliances": loads})})
        out.append((tuple(a.name for a in essential[:n]), ridden(fewer, made)))
        if out[-1][1] >= SHARES[-1]:
            break
    return tuple(out)
