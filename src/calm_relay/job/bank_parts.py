"""What stands beside the inverters: charge controllers and chargers on a bank, a generator, and whether there is a grid at all."""

from __future__ import annotations

from calm_relay.job.models import GeneratorChoice, Job, Plan
from calm_relay.job.parts import with_cards, with_node, with_plan
from calm_relay.library.cards import Card


def put_controllers(job: Job, plan_id: str, node_id: str, card: Card, count: int = 1) -> Job:
    """Return the job with so many charge controllers of a card on an inverter's bank."""
    node = job.plan(plan_id).node(node_id).model_copy(update={"controller": card.id, "controllers": count})
    return with_node(with_cards(job, [card]), plan_id, node)


def count_controllers(job: Job, plan_id: str, node_id: str, count: int) -> Job:
    """Return the job with so many charge controllers on a bank; strings on those taken out go too."""
    node = job.plan(plan_id).node(node_id)
    assert node.controller is not None
    most = count * len(job.cards().controller(node.controller).trackers)
    strings = tuple(group for group in node.strings if group.tracker <= most)
    return with_node(job, plan_id, node.model_copy(update={"controllers": count, "strings": strings}))


def remove_controllers(job: Job, plan_id: str, node_id: str) -> Job:
    """Return the job without the charge controllers of a bank and the strings on them."""
    node = job.plan(plan_id).node(node_id).model_copy(update={"controller": None, "controllers": 1, "strings": ()})
    return with_node(job, plan_id, node)


def put_timer_charger(job: Job, plan_id: str, node_id: str, card: Card | None) -> Job:
    """Return the job with a charger on a time switch in place of an inverter's own; None: its own again."""
    node = job.plan(plan_id).node(node_id).model_copy(update={"timer_charger": None if card is None else card.id})
    return with_node(with_cards(job, [] if card is None else [card]), plan_id, node)


def put_generator(job: Job, plan_id: str, card: Card | None) -> Job:
    """Return the job with a generator in a plan, nothing declared of it yet; None: without one."""
    choice = None if card is None else GeneratorChoice(card=card.id)
    plan = job.plan(plan_id).model_copy(update={"generator": choice})
    return with_plan(with_cards(job, [] if card is None else [card]), plan)


def without_grid(plan: Plan) -> Plan:
    """Return a plan without a grid: everything stands on the one side there is, and nothing is left to transfer from."""
    nodes = tuple(n.model_copy(update={"side": "backup"}) for n in plan.nodes)
    controls = plan.controls.model_copy(update={"sensor": "meter"})
    return plan.model_copy(update={"off_grid": True, "transfer": None, "nodes": nodes, "controls": controls})


def set_off_grid(job: Job, plan_id: str, *, off_grid: bool) -> Job:
    """Return the job with a plan without a grid, or with one again; then all stands on the grid side."""
    plan = job.plan(plan_id)
    if off_grid:
        return with_plan(job, without_grid(plan))
    nodes = tuple(n.model_copy(update={"side": "grid"}) for n in plan.nodes)
    return with_plan(job, plan.model_copy(update={"off_grid": False, "nodes": nodes}))
