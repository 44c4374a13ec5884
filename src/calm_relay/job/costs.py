"""What a plan holds that is bought by the piece, and whether its cost lines still belong to what stands in it."""

from __future__ import annotations

from collections import Counter

from calm_relay.job.cost_models import CostLine
from calm_relay.job.models import Job, Plan


def equipment(plan: Plan) -> dict[str, int]:
    """Return how many of each card a plan holds: inverters and what stands on their banks, modules, transfer device, generator."""
    found: Counter[str] = Counter()
    for node in plan.nodes:
        found[node.card] += node.count
        if node.battery is not None:
            found[node.battery.card] += node.battery.modules  # like units stand on one bank
        if node.controller is not None:
            found[node.controller] += node.controllers
        if node.timer_charger is not None:
            found[node.timer_charger] += 1
        for group in node.strings:
            modules = group.modules_per_string * group.parallel_strings * node.count
            found[group.module] += modules
            if group.optimizer is not None:
                found[group.optimizer] += modules
    for whole in (plan.transfer, plan.generator):
        if whole is not None:
            found[whole.card] += 1
    return dict(sorted(found.items()))


HOLDS = frozenset({"wiring", "approvals", "drawings", "cabling", "scaffold", "labour", "visit", "transfer"})  # whatever is changed


def is_stale(plan: Plan, line: CostLine) -> bool:
    """Return whether a fixed amount for equipment was typed for other equipment than stands in the plan now."""
    noted = bool(plan.costs_for) and plan.costs_for != equipment(plan)
    return noted and line.basis == "fixed" and line.kind not in HOLDS and line.amount is not None


def costs_are_stale(plan: Plan) -> bool:
    """Return whether a cost line belongs to other equipment than stands in the plan now; lines that count follow it."""
    return any(is_stale(plan, line) for line in plan.costs)


def with_costs_kept(plan: Plan) -> Plan:
    """Return the plan with a note of the equipment that its cost lines are for."""
    return plan.model_copy(update={"costs_for": equipment(plan) if plan.costs else {}})


def with_costs_noted(job: Job) -> Job:
    """Return a job whose cost lines without a note are taken to belong to what stands in their plan now."""
    if all(plan.costs_for or not plan.costs for plan in job.plans):
        return job
    plans = tuple(plan if plan.costs_for else with_costs_kept(plan) for plan in job.plans)
    return job.model_copy(update={"plans": plans})
