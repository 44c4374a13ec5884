"""How each step that builds a plan is made: one small function a kind of step, by the first word of its key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from calm_relay.errors import BadInput, Fault
from calm_relay.job.bank_parts import (
    count_controllers,
    put_controllers,
    put_generator,
    put_timer_charger,
    remove_controllers,
    set_off_grid,
)
from calm_relay.job.control_models import SLOT_DEFAULTS
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job, Node, Plan
from calm_relay.job.parts import (
    add_face,
    add_inverter,
    add_like_inverter,
    add_string,
    put_battery,
    put_modules,
    put_transfer,
    remove_battery,
    remove_inverter,
    remove_string,
    remove_transfer,
    with_cards,
    with_node,
)
from calm_relay.library.cards import Card
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.kernel.records import MOST_NODES


@dataclass(frozen=True)
class Task:
    """A step to be made: in which plan, where (what follows the colon of its key), with which card and how many modules."""

    job: Job
    plan: Plan
    where: str
    card: Card | None
    modules: int | None

    @property
    def chosen(self) -> Card:
        """The card chosen for it; steps that need one are not made without."""
        assert self.card is not None
        return self.card

    @property
    def node(self) -> Node:
        """The inverter it is done at."""
        return self.plan.node(self.where)


Made = tuple[Job, str]  # the changed job, and the station to look at then


def _inverter(t: Task) -> Made:
    made, node_id = add_inverter(t.job, t.plan.id, t.chosen, "backup" if t.where == "backup" else "grid")
    if len(plant_of(made, made.plan(t.plan.id)).battery_side) > MOST_NODES:
        key = f"inverter:{t.where}"
        raise BadInput([Fault("", key, f"a plan holds at most {MOST_NODES} battery inverters", "count like ones on one bank")])
    return made, f"node:{node_id}"


def _battery(t: Task) -> Made:
    return put_battery(t.job, t.plan.id, t.where, t.chosen, t.modules or 1), f"battery:{t.where}"


def _modules(more: int) -> Callable[[Task], Made]:
    def make(t: Task) -> Made:
        assert t.node.battery is not None
        return put_modules(t.job, t.plan.id, t.where, t.node.battery.modules + more), f"battery:{t.where}"

    return make


def _again(t: Task) -> Made:
    made, node_id = add_like_inverter(t.job, t.plan.id, t.where)
    return made, f"node:{node_id}"


def _string(t: Task) -> Made:
    made, string_id = add_string(t.job, t.plan.id, t.where, _like_module(t.job, t.plan, t.where))
    tracker = next(g.tracker for n in made.plan(t.plan.id).nodes for g in n.strings if n.id == t.where and g.id == string_id)
    return made, f"tracker:{t.where}/{tracker}"


def _no_string(t: Task) -> Made:
    node_id, _, string_id = t.where.partition("/")
    return remove_string(t.job, t.plan.id, node_id, string_id), f"node:{node_id}"


def _optimizers(t: Task) -> Made:
    """Put the chosen optimizer on a string's modules; without one take them off."""
    node_id, _, string_id = t.where.partition("/")
    node = t.plan.node(node_id)
    strings = tuple(
        g.model_copy(update={"optimizer": None if t.card is None else t.card.id}) if g.id == string_id else g for g in node.strings
    )
    job = with_node(with_cards(t.job, [] if t.card is None else [t.card]), t.plan.id, node.model_copy(update={"strings": strings}))
    tracker = next(g.tracker for g in node.strings if g.id == string_id)
    return job, f"tracker:{node_id}/{tracker}"


def _slot(t: Task) -> Made:
    return apply_edits(t.job, [Edit(f"plans[{t.plan.id}].controls.slots[+]", dict(SLOT_DEFAULTS))]), ""


def _controllers(more: int) -> Callable[[Task], Made]:
    def make(t: Task) -> Made:
        return count_controllers(t.job, t.plan.id, t.where, t.node.controllers + more), f"node:{t.where}"

    return make


ACTIONS: dict[str, Callable[[Task], Made]] = {
    "face": lambda t: (add_face(t.job)[0], ""),
    "inverter": _inverter,
    "battery": _battery,
    "transfer": lambda t: (put_transfer(t.job, t.plan.id, t.chosen), "transfer"),
    "more": _modules(1),
    "fewer": _modules(-1),
    "again": _again,
    "string": _string,
    "slot": _slot,
    "controllers": lambda t: (put_controllers(t.job, t.plan.id, t.where, t.chosen), f"node:{t.where}"),
    "more-controllers": _controllers(1),
    "fewer-controllers": _controllers(-1),
    "timer-charger": lambda t: (put_timer_charger(t.job, t.plan.id, t.where, t.chosen), f"node:{t.where}"),
    "generator": lambda t: (put_generator(t.job, t.plan.id, t.chosen), ""),
    "off-grid": lambda t: (set_off_grid(t.job, t.plan.id, off_grid=True), ""),
    "on-grid": lambda t: (set_off_grid(t.job, t.plan.id, off_grid=False), "grid"),
    "no-string": _no_string,
    "optimizers": _optimizers,
    "no-optimizers": _optimizers,
    "no-battery": lambda t: (remove_battery(t.job, t.plan.id, t.where), f"node:{t.where}"),
    "no-controllers": lambda t: (remove_controllers(t.job, t.plan.id, t.where), f"node:{t.where}"),
    "no-timer-charger": lambda t: (put_timer_charger(t.job, t.plan.id, t.where, None), f"node:{t.where}"),
    "no-inverter": lambda t: (remove_inverter(t.job, t.plan.id, t.where), ""),
    "no-transfer": lambda t: (remove_transfer(t.job, t.plan.id), ""),
    "no-generator": lambda t: (put_generator(t.job, t.plan.id, None), ""),
}


def _like_module(job: Job, plan: Plan, node_id: str) -> Card | None:
    """Return the module that the inverter's, else the plan's, strings are made of; None where there is none yet."""
    groups = [g for n in sorted(plan.nodes, key=lambda n: n.id != node_id) for g in n.strings]
    return job.cards().module(groups[0].module) if groups else None
