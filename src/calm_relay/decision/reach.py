"""How many battery modules more survive the brief's outage in its season from 90, 95 or 99 of a hundred starts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from calm_relay.calendar import season_of_months
from calm_relay.errors import NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.job.rows import battery_rows
from calm_relay.simulation.chain import module_counts
from calm_relay.units import count_words
from calm_relay.year.outage import HOURS, energies_by_hour, outage_inputs, ride_through

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from calm_relay.study import Study

SHARES = (0.90, 0.95, 0.99)
RESERVES = (0.3, 0.5, 0.7, 0.9)
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
        return out


def outage_length_h(job: Job) -> float:
    """Return the longest outage the brief names, a day where it names none. [h]"""
    return job.brief.longest_h or 24.0


def season_hours(study: Study, job: Job) -> NDArray[np.int64]:
    """Return the hours of the year in the brief's season; all where it names none. [number]"""
    season = job.brief.outage_season
    if season == "any":
        return np.arange(HOURS)
    calendar = study.calendar(job)
    month = calendar.month[:: calendar.steps // HOURS]
    return np.flatnonzero(np.isin(month, season_of_months(job.site.place.latitude_deg)[season]))


def reach(study: Study, job: Job, plan: Plan, cancelled: Callable[[], bool] = _never) -> Reach:
    """Return what share survives with the modules that stand and with each number more that fits.

    Raises
    ------
    NotFeasible
        Where there is no bank, more than one, or no outage to speak of.
    """
    rows = [row for row in battery_rows(plan, job.cards()) if row.node.side == "backup"]
    if len(rows) != 1:
        raise NotFeasible(
            f"plan {plan.letter} has {count_words(len(rows), 'bank')} on the backup side",
            "modules are counted on one bank: change them by hand",
        )
    row = rows[0]
    length = outage_length_h(job)
    hours = season_hours(study, job)
    counts = sorted(n for n in module_counts(row.unit, row.battery) if n >= row.choice.modules) or [row.choice.modules]

    def survived(changed: Plan) -> float:
        made = study.flow(job, changed, cancelled=cancelled)
        packed, here = outage_inputs(job, changed, job.cards(), made, "essential")
        found = ride_through(packed, energies_by_hour(made, here), length, cancelled, hours)
        return found.survived_frac(length, hours)

    out: list[tuple[int, float]] = []
    for modules in counts:
        choice = row.choice.model_copy(update={"modules": modules, "leads_ohm": ()})
        nodes = tuple(n.model_copy(update={"battery": choice}) if n.id == row.node.id else n for n in plan.nodes)
        larger = plan.model_copy(update={"nodes": nodes})
        out.append((modules, survived(larger)))
        if out[-1][1] >= SHARES[-1]:
            break
    held: list[tuple[float, float]] = []
    for reserve in RESERVES:
        if reserve <= plan.controls.reserve_soc_frac or out[0][1] >= SHARES[-1]:
            continue
        season: dict[str, float | None] = {f"reserve_{name}_soc_frac": None for name in SEASONS}
        controls = plan.controls.model_copy(update={"reserve_soc_frac": reserve, **season})
        held.append((reserve, survived(plan.model_copy(update={"controls": controls}))))
    return Reach(
        node=row.node.name, length_h=length, season=job.brief.outage_season, modules_now=row.choice.modules, rows=tuple(out),
        by_reserve=tuple(held),
    )  # fmt: skip
