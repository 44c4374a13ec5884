"""What a plan does to today's system, in the words that old contracts end by."""

from __future__ import annotations

from calm_relay.job.brief_models import Contract, ContractEnd
from calm_relay.job.models import Job, Plan
from calm_relay.library.book import CardBook
from calm_relay.plant.rows import module_count


def _batteries(plan: Plan) -> int:
    return sum(node.battery.modules for node in plan.nodes if node.battery is not None)


def what_it_does(today: Plan, plan: Plan, cards: CardBook) -> frozenset[ContractEnd]:
    """Return what a plan does to today's system, in the words old contracts end by."""
    out: set[ContractEnd] = set()
    kept = {(node.id, node.card) for node in plan.nodes}
    if any((node.id, node.card) not in kept for node in today.nodes):
        out.add("inverter_taken_out")
    if _batteries(plan) > _batteries(today):
        out.add("battery_added")
    before, after = module_count(today, cards), module_count(plan, cards)
    if after != before:
        out.add("modules_added" if after > before else "modules_taken_out")
    return frozenset(out)


def ended_contracts(job: Job, plan: Plan, cards: CardBook) -> tuple[Contract, ...]:
    """Return the brief's contracts that a plan would end."""
    if plan.id == job.plans[0].id:
        return ()
    does = what_it_does(job.plans[0], plan, cards)
    return tuple(contract for contract in job.brief.contracts if does & set(contract.ends_with))
