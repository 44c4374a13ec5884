"""Drafts on an empty roof or without PV, and a second battery: sizes from the house, the roof and the cards at hand."""

from __future__ import annotations

import math
from collections.abc import Callable

from calm_relay.decision.sizing import (
    Drafted,
    Need,
    battery_of,
    carried_by_service,
    free_faces,
    free_node_id,
    free_string_id,
    longest_string,
    pv_inverters,
    smallest_unit,
    usual_module,
)
from calm_relay.errors import NotFeasible
from calm_relay.job.models import BatteryChoice, Node, Plan, StringGroup
from calm_relay.job.parts import like_inverter
from calm_relay.job.sky_models import Face
from calm_relay.library.cards import ModuleCard, ModuleInverterCard, OptimizerCard
from calm_relay.plant.bank import cells_of
from calm_relay.plant.chain import module_counts
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.unit import unit_of
from calm_relay.tariff.prices import cheap_window

NEW_PATTERNS: tuple[tuple[str, str, str], ...] = (
    ("hybrid-new", "New hybrid system", "an empty roof: a hybrid with new strings and a battery"),
    ("string-new", "New array, no battery", "an empty roof: a string inverter with new strings"),
    ("optimizers-new", "New hybrid with optimizers", "an empty roof: an optimizer on every module, a hybrid with a battery"),
    ("modules-new", "Module-level inverters, AC battery", "an empty roof: an inverter on every module, a battery beside them"),
    ("battery-only", "Battery only", "no PV joins: a battery inverter, filled in cheap hours"),
    ("plug-in", "Plug-in set", "two modules with inverters of their own, and a small battery"),
    ("onto-hybrid", "Battery on today's hybrid", "the hybrid that stands has its battery input free"),
    ("second-module", "Larger battery", "one module more on today's battery: energy"),
    ("second-unit", "Second battery", "another inverter and battery like today's: energy and power"),
)
FULL_LOAD_H = 1000.0  # what a kilowatt makes in a year of fair sun, in hours (common practice)
AC_PER_DC = 0.8  # of a new array: its inverter over its modules, the usual oversizing (common practice)
MOST_FACES = 2
ROOM_UNKNOWN = 12  # modules drafted on a face whose room nobody has typed (ours)
PLUG_IN = "plug-in"


def modules_wanted(need: Need, module: ModuleCard) -> int:
    """Return how many modules make a year's use, no fewer than two."""
    return max(2, math.ceil(365.0 * need.battery_day_wh / FULL_LOAD_H / module.power_stc_w))


def room_of(face: Face) -> int:
    """Return how many modules a draft puts on a face at most."""
    return ROOM_UNKNOWN if face.room_modules is None else face.room_modules


def new_modules(need: Need, today: Plan, module: ModuleCard, ceiling_v: float) -> list[tuple[str, int]]:
    """Return (face, modules) of a new array: what makes a year's use, as far as up to two free faces and the volts allow."""
    free = free_faces(need.job, today)[:MOST_FACES]
    wanted = modules_wanted(need, module)
    longest = longest_string(need.job, module, ceiling_v)
    out: list[tuple[str, int]] = []
    for left, face in zip(range(len(free), 0, -1), free, strict=True):
        share = math.ceil((wanted - sum(count for _, count in out)) / left)
        count = min(share, longest, room_of(face))
        if count > 0:
            out.append((face.id, count))
    if not out:
        raise NotFeasible("no free roof face has room for a module", "type its room or its size on Site & roof")
    return out


def new_strings(need: Need, today: Plan, module: ModuleCard, ceiling_v: float, optimizer: str | None = None) -> list[StringGroup]:
    """Return the strings of a new array, one a face, each on a tracker of its own."""
    _empty_roof(need, today)
    out: list[StringGroup] = []
    for tracker, (face, count) in enumerate(new_modules(need, today, module, ceiling_v), start=1):
        out.append(
            StringGroup(
                id=free_string_id(today, out),
                face=face,
                module=module.id,
                tracker=tracker,
                modules_per_string=count,
                optimizer=optimizer,
            )
        )
    return out


def _empty_roof(need: Need, today: Plan) -> None:
    if pv_inverters(need.job, today):
        raise NotFeasible("an array stands already", "draft what keeps it: an AC battery, a hybrid swap, a hybrid alongside")


def _power_w(strings: list[StringGroup], module: ModuleCard) -> float:
    return sum(group.modules_per_string for group in strings) * module.power_stc_w


def _hybrid(need: Need, today: Plan, optimizer: OptimizerCard | None = None) -> Drafted:
    module = usual_module(need)
    strings = new_strings(need, today, module, 600.0, None if optimizer is None else optimizer.id)
    unit = smallest_unit(need, "hybrid", AC_PER_DC * _power_w(strings, module), trackers=len(strings), phases=need.phases)
    carried_by_service(need.job, unit)
    stack, modules = battery_of(need, unit_of(unit), unit.name)
    new = Node(
        id=free_node_id("hybrid", today), name="Hybrid", card=unit.id, side="backup", strings=tuple(strings),
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    return (*today.nodes, new), [unit, stack, module, *([optimizer] if optimizer else [])], True


def _hybrid_new(need: Need, today: Plan) -> Drafted:
    return _hybrid(need, today)


def _hybrid_bare(need: Need, today: Plan) -> Drafted:
    nodes, cards, _ = _hybrid(need, today)
    bare = tuple(n if n in today.nodes else n.model_copy(update={"battery": None, "side": "grid"}) for n in nodes)
    return bare, [c for c in cards if c.kind != "battery"], False


def _optimizers_new(need: Need, today: Plan) -> Drafted:
    watts = usual_module(need).power_stc_w
    fitting = [c for c in need.cards.values() if isinstance(c, OptimizerCard) and c.power_max_w >= watts and not c.no_longer_made]
    if not fitting:
        raise NotFeasible(f"no optimizer at hand takes a module of {watts:g} W", "bring one in as a card")
    return _hybrid(need, today, min(fitting, key=lambda c: (not need.own(c), c.power_max_w)))


def _string_new(need: Need, today: Plan) -> Drafted:
    module = usual_module(need)
    strings = new_strings(need, today, module, 600.0)
    rated = AC_PER_DC * _power_w(strings, module)
    fitting = [
        c
        for c in need.cards.inverters().values()
        if c.kind == "pv_inverter" and c.phases in (1, need.phases) and len(c.trackers) >= len(strings)
        and c.ac_rated_w >= rated and c.dc_voltage_max_v >= 600.0
    ]  # fmt: skip
    if not fitting:
        raise NotFeasible(
            f"no PV inverter at hand has {rated / 1000:.1f} kW and {len(strings)} trackers", "choose equipment by hand"
        )
    unit = min(fitting, key=lambda c: (not need.own(c), c.ac_rated_w))
    carried_by_service(need.job, unit)
    new = Node(id=free_node_id("inverter", today), name="PV inverter", card=unit.id, strings=tuple(strings))
    return (*today.nodes, new), [unit, module], False


def with_module_inverters(need: Need, today: Plan, most: int | None = None, *, plug_in: bool = False) -> Drafted:
    """Return today's nodes with an inverter on every module of a new array, a node a face."""
    _empty_roof(need, today)
    module = usual_module(need)
    fitting = [
        c
        for c in need.cards.inverters().values()
        if isinstance(c, ModuleInverterCard) and not c.no_longer_made and (PLUG_IN in c.id) == plug_in
        and c.ac_rated_w >= 0.7 * module.power_stc_w
    ]  # fmt: skip
    if not fitting:
        raise NotFeasible(f"no module-level inverter at hand takes a module of {module.power_stc_w:g} W", "choose one by hand")
    unit = min(fitting, key=lambda c: (not need.own(c), c.ac_rated_w))
    plan, count_left = today, most
    for face, wanted in new_modules(need, today, module, 600.0):
        count = wanted if count_left is None else min(wanted, count_left)
        if count <= 0:
            continue
        group = StringGroup(id=free_string_id(plan), face=face, module=module.id, tracker=1, modules_per_string=1)
        per_branch = unit.branch_units_max or count
        new = Node(
            id=free_node_id("modules", plan), name=f"Module inverters, {need.job.face(face).name}"[:60], card=unit.id, count=count,
            strings=(group,), branches=max(1, math.ceil(count / per_branch)),
        )  # fmt: skip
        plan = plan.model_copy(update={"nodes": (*plan.nodes, new)})
        count_left = None if count_left is None else count_left - count
    return plan.nodes, [unit, module], False


def _plug_in(need: Need, today: Plan) -> Drafted:
    nodes, cards, _ = with_module_inverters(need, today, 2, plug_in=True)
    units = [c for c in need.cards.inverters().values() if c.kind == "battery_inverter" and PLUG_IN in c.id]
    if not units:
        raise NotFeasible("no plug-in battery at hand", "bring one in as a card")
    unit = min(units, key=lambda c: c.ac_rated_w)
    banks = need.batteries_for(unit_of(unit))
    if not banks:
        raise NotFeasible(f"no battery at hand fits {unit.name}", "choose equipment by hand")
    bank = min(banks, key=lambda c: c.capacity_wh)
    least = min(module_counts(unit_of(unit), cells_of(bank)))
    plan = today.model_copy(update={"nodes": nodes})
    new = Node(
        id=free_node_id("battery", plan), name="Plug-in battery", card=unit.id, battery=BatteryChoice(card=bank.id, modules=least)
    )
    return (*nodes, new), [*cards, unit, bank], False


def _battery_only(need: Need, today: Plan) -> Drafted:
    if cheap_window(need.job.tariff) is None:
        raise NotFeasible(
            "prices are the same at all hours: nothing is gained by storing", "type the cheap hours on Tariff & network"
        )
    unit = smallest_unit(need, "battery_inverter", 3000.0, phases=1)
    carried_by_service(need.job, unit)
    stack, modules = battery_of(need, unit_of(unit), unit.name)
    new = Node(
        id=free_node_id("battery", today), name="Battery inverter", card=unit.id, side="backup",
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    return (*today.nodes, new), [unit, stack], True


def _bank_of_today(need: Need, today: Plan) -> Node:
    rows = plant_of(need.job, today).banked
    if not rows:
        raise NotFeasible("there is no battery yet", "draft a first one")
    return today.node(rows[0].station.id)


def _onto_hybrid(need: Need, today: Plan) -> Drafted:
    cards = need.job.cards()
    free = [n for n in today.nodes if n.battery is None and cards.inverter(n.card).battery_terminals]
    if not free:
        raise NotFeasible("no inverter of today's has a battery input that is free", "draft an AC battery or a hybrid")
    node = free[0]
    stack, modules = battery_of(need, plant_of(need.job, today).station(node.id).unit, cards[node.card].name)
    with_it = node.model_copy(update={"battery": BatteryChoice(card=stack.id, modules=modules), "side": "backup"})
    return tuple(with_it if n.id == node.id else n for n in today.nodes), [stack], True


def _second_module(need: Need, today: Plan) -> Drafted:
    node, cards = _bank_of_today(need, today), need.job.cards()
    assert node.battery is not None
    count = node.battery.modules + 1
    card, unit = cards.battery(node.battery.card), plant_of(need.job, today).station(node.id).unit
    if count not in module_counts(unit, cells_of(card)):
        raise NotFeasible(f"{count} modules of {card.name} are no bank that {node.name} carries", "draft a second battery")
    more = node.model_copy(update={"battery": node.battery.model_copy(update={"modules": count, "leads_ohm": ()})})
    return tuple(more if n.id == node.id else n for n in today.nodes), [], True


def _second_unit(need: Need, today: Plan) -> Drafted:
    node = _bank_of_today(need, today)
    return (*today.nodes, like_inverter(today, node)), [], True


NEW_MAKERS: dict[str, Callable[[Need, Plan], Drafted]] = {
    "hybrid-new": _hybrid_new,
    "hybrid-bare": _hybrid_bare,
    "string-new": _string_new,
    "optimizers-new": _optimizers_new,
    "battery-only": _battery_only,
    "plug-in": _plug_in,
    "onto-hybrid": _onto_hybrid,
    "second-module": _second_module,
    "second-unit": _second_unit,
}
