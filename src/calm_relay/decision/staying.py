"""What stays on when the grid goes: each load with what it asks for, and what all of them together ask of the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from calm_relay.calendar import MONTH_DAYS, season_of_months
from calm_relay.decision.schools import BACKGROUND, USUAL_DIVERSITY
from calm_relay.job.models import Job, Plan
from calm_relay.load.motors import motor_start
from calm_relay.plant.offgrid import plan_continuous_va
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.checks_motor import BESIDE, StartRow, start_rows
from calm_relay.rules.checks_service import running_va
from calm_relay.rules.registry import CheckContext
from calm_relay.study import Study
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


@dataclass(frozen=True)
class StayRow:
    """A load: whether it is behind the transfer device, must stay on, may be shed; running and starting [VA], Wh a day by season.

    `off` says why it is not served in an outage; empty where it is.
    """

    id: str
    name: str
    backed_up: bool
    essential: bool
    sheddable: bool
    off: str
    running_va: float
    start_va: float
    day_wh: dict[str, float]


@dataclass(frozen=True)
class Staying:
    """The loads of a plan and their sums, at a diversity. `made_va` None: a card is silent, or nothing forms a grid. [VA], [Wh]"""

    rows: tuple[StayRow, ...]
    diversity: float
    made_va: float | None
    largest_start: StartRow | None
    listed: bool

    def _served(self, *, essential: bool) -> list[StayRow]:
        return [r for r in self.rows if r.backed_up and not r.off and (r.essential or not essential)]

    def running_va(self, *, essential: bool = False) -> float:
        """Return what runs all at once of what is served. [VA]"""
        return sum(row.running_va for row in self._served(essential=essential))

    def day_wh(self, *, essential: bool = False) -> dict[str, float]:
        """Return what a mean day asks for, by season. [Wh]"""
        rows = self._served(essential=essential)
        seasons = self.rows[0].day_wh if self.rows else {}
        return {season: sum(row.day_wh[season] for row in rows) for season in seasons}

    @property
    def running_sums_va(self) -> dict[str, float]:
        """The sum of what is served up to each load, in their order. [VA]"""
        total, out = 0.0, {}
        for row in self.rows:
            total += row.running_va if row.backed_up and not row.off else 0.0
            out[row.id] = total
        return out

    @property
    def to_move(self) -> int:
        """Circuits that have to be moved behind the transfer device: none where the whole house stands there."""
        return sum(row.backed_up for row in self.rows) if self.listed else 0

    @property
    def words(self) -> list[str]:
        """What the sums say."""
        total = self.running_va()
        part = total * self.diversity
        said = f"{count_words(len(self._served(essential=False)), 'load')} together {show(total, 'apparent_va')}, at "
        said += f"{self.diversity * 100:.0f} % of it {show(part, 'apparent_va')}"
        if self.made_va is None:
            said += "; what is made with the grid gone is not known"
        else:
            left = self.made_va - part
            margin = f"{show(left, 'apparent_va')} are left" if left >= 0 else f"{show(-left, 'apparent_va')} too much"
            said += f"; {show(self.made_va, 'apparent_va')} are made with the grid gone: {margin}"
        out = [said + "."]
        for name, essential in (("A day of all that is backed up", False), ("Of what must stay on alone", True)):
            days = ", ".join(f"{season} {show(wh, 'energy_wh')}" for season, wh in self.day_wh(essential=essential).items())
            out.append(f"{name}: {days}.")
        if self.largest_start is not None:
            row = self.largest_start
            line = f", {row.line}" if row.line else ""
            figure = f"{show(row.value, row.quantity)} of {show(row.limit, row.quantity)}"
            out.append(f"Largest start: {row.name}{line}, {row.way}: {figure}, {row.of}.")
        moved = count_words(self.to_move, "circuit")
        out.append(
            f"{moved} to move behind the transfer device: labour for the quote." if self.to_move else "No circuit has to be moved."
        )
        return out

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain data."""
        return {
            "rows": [vars(row) for row in self.rows], "diversity": self.diversity, "made_va": self.made_va,
            "running_va": self.running_va(), "essential_running_va": self.running_va(essential=True),
            "running_sums_va": self.running_sums_va, "day_wh": self.day_wh(), "essential_day_wh": self.day_wh(essential=True),
            "largest_start": None if self.largest_start is None else vars(self.largest_start), "circuits_to_move": self.to_move,
            "words": self.words,
        }  # fmt: skip


def staying(study: Study, job: Job, plan: Plan, diversity: float = USUAL_DIVERSITY) -> Staying:
    """Return what stays on in an outage of a plan; `diversity` is the part of all that plausibly runs together. [0 to 1]"""
    house, calendar, pack = study.house(job), study.calendar(job), job.rules()
    behind, seasons = plan.backed_up, season_of_months(job.site.place.latitude_deg)
    marks = {season: np.isin(calendar.month, months) for season, months in seasons.items()}
    days = {season: sum(MONTH_DAYS[m - 1] for m in months) for season, months in seasons.items()}

    def by_season(watts: np.ndarray) -> dict[str, float]:
        return {season: float(watts[at].sum()) * calendar.step_h / days[season] for season, at in marks.items()}

    def backed(load_id: str) -> bool:
        return plan.has_backup_side and (behind is None or load_id in behind)

    rows = []
    for load in job.house.counted:
        start = motor_start(load, pack.value("lra_per_running_amp"), pack.value("soft_start_frac"))
        off = "never from the battery" if load.never_from_battery else "on what is left over" if load.surplus != "no" else ""
        rows.append(
            StayRow(
                id=load.id, name=load.name, backed_up=backed(load.id), essential=load.essential, sheddable=load.sheddable, off=off,
                running_va=running_va(load), start_va=0.0 if start is None else start.start_va,
                day_wh=by_season(house.appliance_w[load.id]),
            )
        )  # fmt: skip
    most = float(house.background_w.max(initial=0.0))
    rows.append(
        StayRow(
            id=BACKGROUND,
            name="everything else",
            backed_up=backed(BACKGROUND),
            essential=False,
            sheddable=False,
            off="",
            running_va=most,
            start_va=0.0,
            day_wh=by_season(house.background_w),
        )
    )
    starts = [row for row in start_rows(CheckContext(job, plan, job.cards(), None, advise=False)) if row.way == BESIDE]
    worst = max(starts, key=lambda row: row.value / row.limit if row.limit > 0 else np.inf, default=None)
    listed = plan.transfer is not None and plan.transfer.backed_up == "listed"
    return Staying(tuple(rows), diversity, plan_continuous_va(plant_of(job, plan)), worst, listed)
