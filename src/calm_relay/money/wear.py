"""What wearing a battery down costs per kWh it delivers, and whether storing a kWh pays with it (definitions D18)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import plan_costs
from calm_relay.plant.resolve import plant_of
from calm_relay.year.ageing import BatteryAgeing, battery_ageing

if TYPE_CHECKING:
    from calm_relay.year.facts import YearFacts


@dataclass(frozen=True)
class Wear:
    """Cost per kWh delivered over a plan's batteries' lives: of the batteries alone, and of all that the plan costs. [money/kWh]"""

    per_kwh: float
    all_per_kwh: float | None
    delivered_wh: float
    arithmetic: str


def wear_of(job: Job, plan: Plan, facts: YearFacts, ageing: tuple[BatteryAgeing, ...] | None = None) -> Wear | None:
    """Return what wear costs; None where no battery is priced, or how one ages is not known.

    Batteries that stand today already cost nothing more: what all deliver is shared by those that were bought.
    """
    costs = plan_costs(job, plan)
    priced = costs.of_kind("battery")
    rows = battery_ageing(plant_of(job, plan), job.rules(), facts) if ageing is None else ageing
    parts = [row.delivered_over_life_wh(job.finance.battery_end_frac) for row in rows]
    if priced <= 0 or not rows or any(part is None for part in parts):
        return None
    delivered = sum(part or 0.0 for part in parts)
    if delivered <= 0:
        return None
    each = priced / (delivered / 1000.0)
    words = f"{priced:,.0f} for batteries ÷ {delivered / 1e6:.1f} MWh delivered over their life = {each:.3f} a kWh"
    return Wear(each, None if costs.total is None else costs.total / (delivered / 1000.0), delivered, words)
