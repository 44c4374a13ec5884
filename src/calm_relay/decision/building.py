"""What can be added to a plan and taken out of it, step by step: each a named change, or the reason why it cannot be made."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from calm_relay.decision.building_actions import ACTIONS, Task
from calm_relay.decision.sizing import NIGHT_SHARE, Need
from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.library.book import CardBook
from calm_relay.library.cards import Card
from calm_relay.plant.bank import bank_of, cells_of
from calm_relay.plant.chain import is_low_voltage, modules_fit, soc_window
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.offers import offered
from calm_relay.simulation.kernel.records import MOST_NODES

MOST_CONTROLLERS = 8  # as the job document holds


@dataclass(frozen=True)
class Step:
    """A change that builds a plan.

    Attributes
    ----------
    key : str
        What is done and where, such as ``battery:hyb``; the command line takes it as it stands.
    text : str
        What it is called, without a full stop.
    station : str
        Id of the station of the relay line it belongs to; empty: the plan as a whole.
    path : str
        Where a card is chosen for it; empty where none is.
    refused : str
        Why it cannot be done; empty where it can.
    takes_out : bool
        Whether it takes something out.
    """

    key: str
    text: str
    station: str = ""
    path: str = ""
    refused: str = ""
    takes_out: bool = False

    def belongs_to(self, station_id: str) -> bool:
        """Return whether it is done at a station of the relay line; the AC side of an inverter is the inverter's."""
        return bool(self.station) and station_id.replace("inverter:", "node:", 1) == self.station


def building_steps(job: Job, plan: Plan) -> tuple[Step, ...]:
    """Return every step that can be made in a plan, and those that cannot be with the reason."""
    return (*_whole(job, plan), *(step for node in plan.nodes for step in _of_node(job, plan, node)))


def _whole(job: Job, plan: Plan) -> Iterator[Step]:
    base = f"plans[{plan.id}]"
    yield from _grid(plan, base)
    if plan.generator is None:
        yield Step("generator", "Add a generator…", "panel", f"{base}.generator.card")
    else:
        yield Step("no-generator", "Take the generator out", "generator", takes_out=True)
    yield Step("face", "Add a roof face", "")
    with_battery = any(node.battery is not None for node in plan.nodes)
    idle = "without a grid slots have nothing to do" if plan.off_grid else ""
    why = idle if with_battery else "there is no battery yet that a slot could steer"
    yield Step("slot", "Add a charge slot", "", "", why)


def _grid(plan: Plan, base: str) -> Iterator[Step]:
    """Yield what is done on either side of the transfer device, with and without a grid."""
    place = f"{base}.nodes[+]"
    if plan.off_grid:
        yield Step("inverter:backup", "Add an inverter…", "panel", place)
        yield Step("on-grid", "Connect it to a grid", "grid")
        return
    one_side = "" if plan.transfer is not None else "without a transfer device there is one side only: add one first"
    yield Step("inverter:grid", "Add an inverter on the grid side…", "grid", place)
    yield Step("inverter:backup", "Add an inverter on the backup side…", "transfer", place, one_side)
    if plan.transfer is None:
        yield Step("transfer", "Add a transfer device…", "panel", f"plans[{plan.id}].transfer.card")
    else:
        yield Step("no-transfer", "Take the transfer device out", "transfer", takes_out=True)
    yield Step("off-grid", "Take the grid connection out", "grid", takes_out=True)


def _of_node(job: Job, plan: Plan, node: Node) -> Iterator[Step]:
    cards, station = job.cards(), f"node:{node.id}"
    card = plant_of(job, plan).station(node.id).unit
    base = f"plans[{plan.id}].nodes[{node.id}]"
    if card.battery_terminals:
        if node.battery is None:
            yield Step(f"battery:{node.id}", f"Add a battery to {node.name}…", station, f"{base}.battery.card")
        else:
            yield from _of_bank(job, plan, node)
        full = "" if len(plant_of(job, plan).battery_side) < MOST_NODES else f"a plan holds at most {MOST_NODES} battery inverters"
        yield Step(f"again:{node.id}", f"Add another like {node.name}", station, "", full)
    if cards[node.card].kind == "battery_inverter":
        yield from _on_bank(cards, plan, node, base, station)
    if card.trackers:
        used = {group.tracker for group in node.strings}
        why = "" if len(used) < len(card.trackers) else "no tracker is left: put strings in parallel, or take another inverter"
        why = why if job.faces else "there is no roof face: add one on Site & roof"
        yield Step(f"string:{node.id}", f"Add a string to {node.name}", station, "", why)
    for group in node.strings:
        at = f"tracker:{node.id}/{group.tracker}"
        if not card.per_module:
            yield _optimizers(node, group, base, at)
        yield Step(f"no-string:{node.id}/{group.id}", f"Take string {group.id} of {node.name} out", at, takes_out=True)
    yield Step(f"no-inverter:{node.id}", f"Take {node.name} out", station, takes_out=True)


def _optimizers(node: Node, group: StringGroup, base: str, station: str) -> Step:
    """Return the step that puts optimizers on a string's modules, or takes them off."""
    where = f"{node.id}/{group.id}"
    if group.optimizer is not None:
        return Step(f"no-optimizers:{where}", f"Take the optimizers off string {group.id}", station, takes_out=True)
    path = f"{base}.strings[{group.id}].optimizer"
    return Step(f"optimizers:{where}", f"Put optimizers on string {group.id} of {node.name}…", station, path)


def _on_bank(cards: CardBook, plan: Plan, node: Node, base: str, station: str) -> Iterator[Step]:
    """Yield what can stand on a low-voltage bank beside its inverter."""
    high = node.battery is not None and not is_low_voltage(bank_of(cards.battery(node.battery.card), node.battery))
    why = "its bank is no low-voltage bank" if high else ""
    if node.controller is None:
        yield Step(f"controllers:{node.id}", f"Add charge controllers to {node.name}…", station, f"{base}.controller", why)
    else:
        name = cards[node.controller].name
        full = "" if node.controllers < MOST_CONTROLLERS else f"a bank takes at most {MOST_CONTROLLERS} here"
        last = "" if node.controllers > 1 else "it is the last one: take the controllers out"
        yield Step(f"more-controllers:{node.id}", f"One more {name} on {node.name}", station, "", full)
        yield Step(f"fewer-controllers:{node.id}", f"One {name} fewer on {node.name}", station, "", last, takes_out=True)
        yield Step(f"no-controllers:{node.id}", f"Take the charge controllers of {node.name} out", station, takes_out=True)
    if node.timer_charger is None:
        words = f"Put a charger on a time switch on {node.name}…"
        none = "there is no grid to charge from" if plan.off_grid else why
        yield Step(f"timer-charger:{node.id}", words, station, f"{base}.timer_charger", none)
    else:
        yield Step(f"no-timer-charger:{node.id}", f"Take the timer charger of {node.name} out", station, takes_out=True)


def _of_bank(job: Job, plan: Plan, node: Node) -> Iterator[Step]:
    assert node.battery is not None
    cards, station = job.cards(), f"battery:{node.id}"
    module, unit = cards.battery(node.battery.card), plant_of(job, plan).station(node.id).unit
    low, _ = soc_window(bank_of(module, node.battery))
    for key, word, modules in (("more", "One module more", 1), ("fewer", "One module fewer", -1)):
        count = node.battery.modules + modules
        why = ""
        if not module.modules_min <= count <= module.modules_max:
            why = f"its card takes {module.modules_min} to {module.modules_max} modules"
        elif not modules_fit(unit, cells_of(module), count, low):
            window = f"{unit.battery_voltage_min_v:g} to {unit.battery_voltage_max_v:g} V"
            why = f"{count} modules are outside the battery input of {node.name}, {window}"
        yield Step(f"{key}:{node.id}", f"{word} on {node.name}", station, "", why, takes_out=modules < 0)
    yield Step(f"no-battery:{node.id}", f"Take the battery of {node.name} out", station, takes_out=True)


def wanted_wh(job: Job, day_wh: float | None, known: CardBook | None = None) -> float:
    """Return the usable energy that a first bank is sized for: the trade's 60 % of a day's use (common practice). [Wh]"""
    return NIGHT_SHARE * Need(job, day_wh, offered(job, known), known).battery_day_wh


def step_of(job: Job, plan: Plan, key: str) -> Step:
    """Return a step by its key; raises BadInput for one that there is not, or that is refused."""
    steps = {step.key: step for step in building_steps(job, plan)}
    if key not in steps:
        raise BadInput([Fault("", key, f"there is no such step in plan {plan.letter}", f"use one of: {', '.join(steps)}")])
    if steps[key].refused:
        raise BadInput([Fault("", key, f"'{steps[key].text}' does not go", steps[key].refused)])
    return steps[key]


def take_step(job: Job, plan_id: str, key: str, card: Card | None = None, modules: int | None = None) -> tuple[Job, str]:
    """Return the job with a step made, and the id of the station to look at then.

    Raises
    ------
    BadInput
        For a step that there is not, that is refused, or that a card is missing for.
    """
    plan = job.plan(plan_id)
    step = step_of(job, plan, key)
    if step.path and card is None:
        raise BadInput([Fault("", key, f"'{step.text.rstrip('…')}' needs a card", f"choose one for {step.path}")])
    what, _, where = key.partition(":")
    return ACTIONS[what](Task(job, plan, where, card, modules))
