"""A job's plan, resolved: the one place where the document and its cards become the plant."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import fields, replace
from typing import Any, Generic, TypeVar

from calm_relay.job.models import GeneratorChoice, Job, Node, Plan, StringGroup
from calm_relay.job.models import Transfer as TransferChoice
from calm_relay.job.site_models import OldCircuit
from calm_relay.library.base import BoxCard, CardBase
from calm_relay.library.battery_card import BatteryCard
from calm_relay.library.book import CardBook
from calm_relay.library.cards import BatteryInverterCard, ModuleCard, OptimizerCard
from calm_relay.plant.bank import bank_of, cells_of
from calm_relay.plant.lines import Lines, lines_of, unit_shares
from calm_relay.plant.same import same
from calm_relay.plant.station import (
    BatteryBox,
    BatteryRow,
    Box,
    Converter,
    Fitting,
    Life,
    Model,
    Module,
    Optimizer,
    Station,
    StringRow,
    Strings,
)
from calm_relay.plant.unit import Unit, unit_of, with_controllers, with_timer_charger
from calm_relay.plant.whole import Caps, Generator, Plant, Service, Transfer

R = TypeVar("R")


def _taken(kind: type[R], source: object, **more: Any) -> R:
    """Return a record made of the fields of like name, and of what is given beside."""
    return same(_made(kind, source, **more))


def _made(kind: type[R], source: object, **more: Any) -> R:
    names = [field.name for field in fields(kind)]  # type: ignore[arg-type]
    return kind(**{name: getattr(source, name) for name in names if name not in more and hasattr(source, name)}, **more)


def model_of(card: CardBase) -> Model:
    """Return what a card says on paper."""
    return _taken(Model, card)


def module_of(card: ModuleCard) -> Module:
    """Return a module card's electrical figures."""
    return _taken(Module, card)


def optimizer_of(card: OptimizerCard) -> Optimizer:
    """Return an optimizer card's electrical figures."""
    return _taken(Optimizer, card)


def box_of(card: BoxCard) -> Box:
    """Return what a card says of a box on a wall."""
    return _taken(Box, card)


def battery_box(card: BatteryCard) -> BatteryBox:
    """Return what a battery's card says beside its electrical figures."""
    lives = tuple(sorted((row.depth_frac, row.cycles) for row in card.depth_life))
    life = _taken(Life, card, depth_life=lives, window_frac=card.soc_max_frac - card.soc_min_frac)
    return same(BatteryBox(model_of(card), box_of(card), _taken(Fitting, card), life))


def string_row(group: StringGroup, cards: CardBook) -> StringRow:
    """Return like strings as the light meets them."""
    optimizer = cards.optimizer(group.optimizer)
    return _taken(
        StringRow, group, module=module_of(cards.module(group.module)),
        optimizer=None if optimizer is None else optimizer_of(optimizer),
    )  # fmt: skip


def _strings(group: StringGroup, cards: CardBook) -> Strings:
    optimizer = cards.optimizer(group.optimizer)
    return _taken(
        Strings, group, row=string_row(group, cards), model=model_of(cards.module(group.module)),
        optimizer=None if optimizer is None else model_of(optimizer),
    )  # fmt: skip


def unit_at(node: Node, cards: CardBook, count: int) -> Unit:
    """Return a node's inverters as one, so many of them, with what stands with them on a low-voltage bank."""
    card = cards.inverter(node.card)
    unit = unit_of(card)
    if isinstance(card, BatteryInverterCard) and node.timer_charger is not None:
        unit = with_timer_charger(unit, cards.timer_charger(node.timer_charger))
    unit = unit.together(count)
    if isinstance(card, BatteryInverterCard) and node.controller is not None:
        unit = with_controllers(unit, cards.controller(node.controller), node.controllers)
    return same(unit)


def station_of(node: Node, cards: CardBook, lines: Lines, circuits: tuple[OldCircuit, ...] = ()) -> Station:
    """Return a node of a plan as a station."""
    card = cards.inverter(node.card)
    battery = None if node.battery is None else cards.battery(node.battery.card)
    reused = next((circuit.run for circuit in circuits if circuit.id == node.reuses), None)
    beside = tuple(cards[name] for name in (node.controller, node.timer_charger) if name)
    converter = Converter(
        id=node.id, side=node.side, unit=unit_at(node, cards, node.count),
        bank=None if battery is None or node.battery is None else bank_of(battery, node.battery),
        dc_car=node.dc_car, switched=node.timer_charger is not None,
    )  # fmt: skip
    return _taken(
        Station, node, converter=same(converter), path=f"nodes[{node.id}]", each=unit_of(card),
        shares=unit_shares(node.line, card.phases, node.count, lines.count),
        strings=tuple(_strings(group, cards) for group in node.strings), model=model_of(card), box=box_of(card),
        fitting=_taken(Fitting, card), battery=None if battery is None else battery_box(battery),
        beside=tuple(model_of(one) for one in beside), run=reused or node.run,
    )  # fmt: skip


def _transfer(choice: TransferChoice, cards: CardBook, lines: Lines) -> Transfer:
    card = cards.transfer(choice.card)
    amps = card.pass_through_a
    declared = {name: getattr(choice, name) for name in (
        "neutral_bond", "residual_current", "earth_electrode", "largest_breaker_a", "breaker_trips_at"
    )}  # fmt: skip
    return _taken(
        Transfer, card, model=model_of(card), box=box_of(card), fitting=_taken(Fitting, card),
        limit_w=math.inf if amps is None else lines.watts_of(amps), whole_house=choice.backed_up == "whole_house", **declared,
    )  # fmt: skip


def _generator(choice: GeneratorChoice, cards: CardBook) -> Generator:
    card = cards.generator(choice.card)
    run = {name: getattr(choice, name) for name in (
        "pv_locked_out", "bypass", "start_soc_frac", "stop_soc_frac", "quiet_start_h", "quiet_end_h"
    )}  # fmt: skip
    return _taken(Generator, card, model=model_of(card), box=box_of(card), fitting=_taken(Fitting, card), **run)


def caps_of(job: Job, stations: tuple[Station, ...], *, off_grid: bool) -> Caps:
    """Return the limits in force at the meter: export as typed, or a share of the array where that is less."""
    network, typed = job.site.network, job.site.export_limit_w
    if network.export_share_frac is not None:
        by_array = network.export_share_frac * sum(station.array_stc_w for station in stations)
        typed = by_array if typed is None else min(typed, by_array)
    return same(Caps(typed, job.site.import_limit_w, 1.0 if off_grid else network.power_factor))


class _OfLate(Generic[R]):
    """What was made lately, by the very objects it was made of, which are held: they never change."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[tuple[int, ...], tuple[tuple[object, ...], R]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, made_of: tuple[object, ...], make: Callable[[], R]) -> R:
        """Return what was made of these, or make it."""
        key = tuple(id(one) for one in made_of)
        with self._lock:
            found = self._kept.get(key)
        if found is not None:
            return found[1]
        made = make()
        with self._lock:
            self._kept[key] = made_of, made
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
        return made


_PLANTS: _OfLate[Plant] = _OfLate(64)
_STATIONS: _OfLate[Station] = _OfLate(256)


def _cards_of(node: Node, cards: CardBook) -> Iterator[object]:
    """Yield the cards that a node names."""
    names = [node.card, node.controller, node.timer_charger, None if node.battery is None else node.battery.card]
    names += [name for group in node.strings for name in (group.module, group.optimizer)]
    return (cards[name] for name in names if name)


def resolve(job: Job, plan: Plan, cards: CardBook) -> Plant:
    """Return a plan resolved. Raises BadInput where a card is of another kind than its place asks for."""
    lines = lines_of(job.site.supply)
    circuits = job.site.circuits

    def station(node: Node) -> Station:
        made_of = (node, lines, circuits, *_cards_of(node, cards))
        return _STATIONS.get(made_of, lambda: station_of(node, cards, lines, circuits))

    stations = tuple(station(node) for node in plan.nodes)
    return _made(
        Plant, plan, lines=lines, stations=stations,
        transfer=None if plan.transfer is None else _transfer(plan.transfer, cards, lines),
        generator=None if plan.generator is None else _generator(plan.generator, cards),
        caps=caps_of(job, stations, off_grid=plan.off_grid),
        service=same(Service(job.site.supply.service_a, job.site.supply_run, job.site.board)),
    )  # fmt: skip


def plant_of(job: Job, plan: Plan) -> Plant:
    """Return a job's plan resolved, once as long as both are looked at."""
    return _PLANTS.get((job, plan), lambda: resolve(job, plan, job.cards()))


def with_battery(row: BatteryRow, card: BatteryCard, modules: int) -> BatteryRow:
    """Return a battery row with so many modules of another card, the window and the leads its own."""
    bank = replace(row.bank, cells=cells_of(card), modules=modules, soc_min_frac=None, soc_max_frac=None, leads_ohm=())
    return replace(row, bank=bank, battery=battery_box(card))


def with_bank(row: BatteryRow, **changes: Any) -> BatteryRow:
    """Return a battery row with another bank: so many modules, other leads."""
    return replace(row, bank=replace(row.bank, **changes))
