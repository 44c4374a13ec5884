"""Drafts around a low-voltage bank: charge controllers, a charger on a time switch, a split-phase pair; and without a grid."""

from __future__ import annotations

import math
from collections.abc import Callable

from calm_relay.decision.new_systems import MOST_FACES, PLUG_IN, modules_wanted, room_of
from calm_relay.decision.sizing import (
    Drafted,
    Need,
    battery_of,
    free_faces,
    free_node_id,
    free_string_id,
    longest_string,
    usual_module,
)
from calm_relay.errors import NotFeasible
from calm_relay.job.bank_parts import without_grid
from calm_relay.job.models import BatteryChoice, Node, Plan, StringGroup
from calm_relay.library.cards import BatteryCard, BatteryInverterCard, Card, ChargeControllerCard, ModuleCard, TimerChargerCard
from calm_relay.plant.bank import Bank, cells_of
from calm_relay.plant.chain import LOW_VOLTAGE_V, stack_volts
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.unit import unit_of
from calm_relay.tariff.prices import cheap_window

BANK_PATTERNS: tuple[tuple[str, str, str], ...] = (
    ("controller-bank", "Bank with charge controllers", "an empty roof: strings on charge controllers, a low-voltage bank"),
    ("timer-bank", "Charger on a time switch", "a low-voltage bank filled by the clock, an inverter for the evening"),
    ("pair-bank", "Split-phase pair", "two like inverters on one low-voltage bank, a leg each"),
    ("leave-grid", "Without a grid", "what stands, with a bank that forms the grid; nothing is bought or sold"),
)
LEAST_RATED_W = 3000.0  # of an inverter that feeds a house from its bank
HOT_SHARE = 0.85  # of a module's working volts at 25 °C that is left on a hot day; ours, the checks reckon it by the card


def _units(need: Need, *, split_only: bool = False) -> list[BatteryInverterCard]:
    """Return battery inverters for low-voltage banks that form a grid and join the supply, the smallest first."""
    fitting = [
        c
        for c in need.cards.inverters().values()
        if isinstance(c, BatteryInverterCard) and c.grid_forming and c.battery_voltage_max_v <= LOW_VOLTAGE_V
        and not c.no_longer_made and PLUG_IN not in c.id
        and (not split_only or c.supplies == ("split_phase",))
        and need.batteries_for(unit_of(c))
    ]  # fmt: skip
    return sorted(fitting, key=lambda c: (not need.own(c), c.ac_rated_w))


def _unit(need: Need, rated_w: float = LEAST_RATED_W) -> BatteryInverterCard:
    units = _units(need)
    if not units:
        raise NotFeasible("no battery inverter for a low-voltage bank at hand joins this supply", "bring one in as a card")
    return next((c for c in units if c.ac_rated_w >= rated_w), units[-1])


def _layout(need: Need, module: ModuleCard, card: ChargeControllerCard, wanted: int) -> tuple[int, int]:
    """Return (modules in series, strings in parallel) on one controller: as many modules as it takes of those wanted."""
    tracker = card.trackers[0]
    best = (0, 0)
    for series in range(min(wanted, longest_string(need.job, module, card.dc_voltage_max_v)), 0, -1):
        strings = min(wanted // series, int(tracker.working_current_a / module.imp_stc_a))
        if series * HOT_SHARE * module.vmp_stc_v >= tracker.mppt_min_v and series * strings > best[0] * best[1]:
            best = series, strings
    return best


def _controllers(need: Need, today: Plan, bank: BatteryCard, modules: int) -> tuple[ChargeControllerCard, list[StringGroup]]:
    """Return the charge controller and its strings, one controller a face: the card on which most modules find room."""
    module, volts = usual_module(need), stack_volts(Bank(cells_of(bank), modules))
    faces = free_faces(need.job, today)[:MOST_FACES]
    wanted = modules_wanted(need, module)
    best: tuple[int, float, ChargeControllerCard, list[StringGroup]] | None = None
    for card in need.cards.controllers().values():
        if card.no_longer_made or card.battery_voltage_max_v < volts.full_v or card.battery_voltage_min_v > volts.empty_v:
            continue
        groups: list[StringGroup] = []
        for left, face in zip(range(len(faces), 0, -1), faces, strict=True):
            open_count = wanted - sum(g.modules_per_string * g.parallel_strings for g in groups)
            series, strings = _layout(need, module, card, min(room_of(face), math.ceil(open_count / left)))
            if series * strings:
                made = free_string_id(today, groups)
                group = StringGroup(id=made, face=face.id, module=module.id, tracker=len(groups) + 1, modules_per_string=series)
                groups.append(group.model_copy(update={"parallel_strings": strings}))
        count = sum(g.modules_per_string * g.parallel_strings for g in groups)
        if count and (best is None or (count, -card.charge_max_a) > best[:2]):
            best = count, -card.charge_max_a, card, groups
    if best is None:
        raise NotFeasible("no charge controller at hand carries a string of these modules", "bring one in as a card")
    return best[2], best[3]


def _controller_bank(need: Need, today: Plan) -> Drafted:
    if any(node.strings for node in today.nodes):
        raise NotFeasible("there is an array already", "put charge controllers on a bank by hand, or take the old strings out")
    unit, module = _unit(need), usual_module(need)
    bank, modules = battery_of(need, unit_of(unit), unit.name)
    controller, strings = _controllers(need, today, bank, modules)
    new = Node(
        id=free_node_id("bank", today), name="Battery bank", card=unit.id, side="backup", strings=tuple(strings),
        battery=BatteryChoice(card=bank.id, modules=modules), controller=controller.id, controllers=len(strings),
    )  # fmt: skip
    return (*today.nodes, new), [unit, bank, module, controller], True


def _timer_bank(need: Need, today: Plan) -> Drafted:
    if cheap_window(need.job.tariff) is None:
        raise NotFeasible(
            "prices are the same at all hours: a time switch gains nothing", "type the cheap hours on Tariff & network"
        )
    unit = _unit(need, 0.0)
    bank, modules = battery_of(need, unit_of(unit), unit.name)
    volts = stack_volts(Bank(cells_of(bank), modules))
    fitting = [
        c
        for c in need.cards.values()
        if isinstance(c, TimerChargerCard) and not c.no_longer_made
        and c.battery_voltage_min_v <= volts.empty_v and volts.full_v <= c.battery_voltage_max_v
    ]  # fmt: skip
    if not fitting:
        raise NotFeasible(f"no charger on a time switch at hand charges {bank.name} on this supply", "bring one in as a card")
    charger = max(fitting, key=lambda c: (need.own(c), c.ac_in_max_w))
    new = Node(
        id=free_node_id("bank", today), name="Battery bank", card=unit.id, timer_charger=charger.id,
        battery=BatteryChoice(card=bank.id, modules=modules),
    )  # fmt: skip
    return (*today.nodes, new), [unit, bank, charger], True


def _pair_bank(need: Need, today: Plan) -> Drafted:
    if need.job.site.supply.kind != "split_phase":
        raise NotFeasible("the supply has no two legs", "draft an AC battery")
    units = _units(need, split_only=True)
    if not units:
        raise NotFeasible("no battery inverter for a low-voltage bank at hand is made for two legs", "bring one in as a card")
    unit = units[0]
    bank, modules = battery_of(need, unit_of(unit, 2), unit.name)
    new = Node(
        id=free_node_id("pair", today), name="Battery pair", card=unit.id, count=2, side="backup",
        battery=BatteryChoice(card=bank.id, modules=modules),
    )  # fmt: skip
    behind = tuple(node.model_copy(update={"side": "backup"}) for node in today.nodes)
    return (*behind, new), [unit, bank], True


def _leave_grid(need: Need, today: Plan) -> Drafted:
    if today.off_grid:
        raise NotFeasible("today's system has no grid already", "draft something else")
    alone = without_grid(today)
    if plant_of(need.job, alone).forming:
        return alone.nodes, [], True
    unit = _unit(need)
    bank, modules = battery_of(need, unit_of(unit), unit.name)
    new = Node(
        id=free_node_id("bank", alone), name="Battery bank", card=unit.id, side="backup",
        battery=BatteryChoice(card=bank.id, modules=modules),
    )  # fmt: skip
    cards: list[Card] = [unit, bank]
    return (*alone.nodes, new), cards, True


BANK_MAKERS: dict[str, Callable[[Need, Plan], Drafted]] = {
    "controller-bank": _controller_bank,
    "timer-bank": _timer_bank,
    "pair-bank": _pair_bank,
    "leave-grid": _leave_grid,
}
