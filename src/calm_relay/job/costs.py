"""What a plan costs to build, and whether the lines still belong to what stands in it."""

from __future__ import annotations

from collections import Counter

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


def costs_are_stale(plan: Plan) -> bool:
    """Return whether the cost lines were made for other equipment than stands in the plan now."""
    return bool(plan.costs) and bool(plan.costs_for) and plan.costs_for != equipment(plan)


def plan_cost(plan: Plan) -> float | None:
    """Return the sum of a plan's cost lines; None where there are none, or they belong to other equipment. [money]"""
    return None if not plan.costs or costs_are_stale(plan) else sum(line.amount for line in plan.costs)


def with_costs_kept(plan: Plan) -> Plan:
    """Return the plan with a note of the equipment that its cost lines are for."""
    return plan.model_copy(update={"costs_for": equipment(plan) if plan.costs else {}})


def with_costs_noted(job: Job) -> Job:
    """Return a job whose cost lines without a note are taken to belong to what stands in their plan now."""
    if all(plan.costs_for or not plan.costs for plan in job.plans):
        return job
    plans = tuple(plan if plan.costs_for else with_costs_kept(plan) for plan in job.plans)
    return job.model_copy(update={"plans": plans})
