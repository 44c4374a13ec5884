"""Rebates: a share of some classes of cost lines, so much per kWh up to a cap, and what they ask for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from calm_relay.job.cost_models import CostKind, Rebate, RebateCondition
from calm_relay.job.models import Job, Plan
from calm_relay.money.counted import Counted
from calm_relay.pv.roof import carried_w
from calm_relay.units import format_quantity as show

Met = Literal["yes", "no", "not_known"]


@dataclass(frozen=True)
class ConditionFound:
    """A condition of a rebate, whether it is met, and by which figures."""

    words: str
    met: Met


@dataclass(frozen=True)
class RebateSum:
    """What a rebate pays towards a plan [money], how it comes about, and its conditions; nothing where one of them is not met."""

    name: str
    amount: float
    arithmetic: str
    conditions: tuple[ConditionFound, ...]
    source: str

    def as_dict(self) -> dict[str, Any]:
        """Return the rebate as plain data."""
        return {**vars(self), "conditions": [vars(row) for row in self.conditions]}


def _condition(job: Job, plan: Plan, what: Counted, row: RebateCondition) -> ConditionFound:
    def found(words: str, holds: bool | None) -> ConditionFound:
        return ConditionFound(words, "not_known" if holds is None else "yes" if holds else "no")

    if row.rule == "battery_added":
        return found(f"{show(what.usable_wh, 'energy_wh')} usable of battery added, some is asked for", what.usable_wh > 0)
    if row.rule == "modules_added":
        return found(f"{show(what.stc_w, 'power_w')} of modules added, some are asked for", what.stc_w > 0)
    if row.rule == "backed_up":
        return found(
            "loads stay on in an outage" if plan.has_backup_side else "nothing stays on in an outage", plan.has_backup_side
        )
    if row.rule in ("least_usable_wh", "most_usable_wh"):
        if row.energy_wh is None:
            return found("how much energy is asked for is not typed", None)
        least = row.rule == "least_usable_wh"
        bound = "at least" if least else "at most"
        words = f"{show(what.usable_wh, 'energy_wh')} usable added, {bound} {show(row.energy_wh, 'energy_wh')}"
        room = 1e-6 * max(1.0, row.energy_wh)
        return found(words, what.usable_wh >= row.energy_wh - room if least else what.usable_wh <= row.energy_wh + room)
    if row.rule == "ratio_most":
        limit = row.ratio if row.ratio is not None else job.site.network.rebate_dc_ac_ratio_max
        if limit is None:
            return found("the array ratio asked for is not typed", None)
        array_w, rated_w = carried_w(plan, job.cards())
        ratio = array_w / rated_w if rated_w > 0 else 0.0
        return found(f"array over inverters {ratio:.2f}, at most {limit:g}", ratio <= limit + 1e-9)
    return ConditionFound(row.text or "a condition without words", row.met)


def rebate_of(job: Job, plan: Plan, what: Counted, by_kind: Mapping[CostKind, float], rebate: Rebate) -> RebateSum:
    """Return what one rebate pays towards a plan; `by_kind` is what the lines of each class come to. [money]"""
    conditions = tuple(_condition(job, plan, what, row) for row in rebate.conditions)
    base = sum(max(0.0, amount) for kind, amount in by_kind.items() if not rebate.share_of or kind in rebate.share_of)
    wh = what.usable_wh if rebate.counts == "usable" else what.nominal_wh
    paid_wh = wh if rebate.paid_up_to_wh is None else min(wh, rebate.paid_up_to_wh)
    amount, parts = rebate.share_frac * base + rebate.per_kwh * paid_wh / 1000.0, []
    if rebate.share_frac:
        parts.append(f"{rebate.share_frac * 100:g} % of {show(base, 'money')}")
    if rebate.per_kwh:
        cut = "" if paid_wh == wh else f" of {show(wh, 'energy_wh')}, the rest earns nothing"
        parts.append(f"{rebate.per_kwh:g} × {show(paid_wh, 'energy_wh')}{cut}")
    how = " + ".join(parts) or "neither a share nor a sum per kWh is typed"
    if rebate.most is not None and amount > rebate.most:
        amount, how = rebate.most, f"{how}, at most {show(rebate.most, 'money')}"
    failed = [row for row in conditions if row.met != "yes"]
    if failed:
        state = "is not met" if failed[0].met == "no" else "is not known to be met"
        amount, how = 0.0, f"nothing is counted, since a condition {state}: {failed[0].words}"
    return RebateSum(rebate.name, amount, how, conditions, rebate.source)


def rebate_sum(job: Job, plan: Plan, what: Counted, by_kind: Mapping[CostKind, float]) -> tuple[RebateSum, ...]:
    """Return what every rebate of the job pays towards a plan; none towards today's system."""
    if plan.id == job.plans[0].id:
        return ()
    return tuple(rebate_of(job, plan, what, by_kind, rebate) for rebate in job.rebates)
