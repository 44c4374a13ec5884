"""What hangs where in a plan, with its cards: inverters, strings, batteries, and what forms the grid in an outage."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from calm_relay.job.models import BatteryChoice, Node, Plan, StringGroup
from calm_relay.library.book import CardBook
from calm_relay.library.cards import BatteryCard, BatterySideUnit, InverterCard, ModuleCard


@dataclass(frozen=True)
class BatteryRow:
    """A node with a battery and its cards."""

    node: Node
    unit: BatterySideUnit
    battery: BatteryCard
    choice: BatteryChoice


def strings_kept(node: Node, mode: str, keep: Collection[str]) -> tuple[StringGroup, ...]:
    """Return the strings of an inverter that stay where they are: all with ``keep``, those named with ``rewire``, else none."""
    return tuple(g for g in node.strings if mode == "keep" or (mode == "rewire" and g.id in keep))


def inverter_rows(plan: Plan, cards: CardBook) -> Iterator[tuple[Node, InverterCard]]:
    """Yield every node with its card."""
    for node in plan.nodes:
        yield node, cards.station(node)


def string_rows(plan: Plan, cards: CardBook) -> Iterator[tuple[Node, InverterCard, StringGroup, ModuleCard]]:
    """Yield every string group with its node, the node's card and its module card."""
    for node, card in inverter_rows(plan, cards):
        for group in node.strings:
            yield node, card, group, cards.module(group.module)


def battery_side_nodes(plan: Plan, cards: CardBook) -> list[tuple[Node, BatterySideUnit]]:
    """Return the nodes that have battery terminals, in the plan's order, which is their priority."""
    return [(node, cards.battery_station(node)) for node, card in inverter_rows(plan, cards) if card.battery_terminals]


def pv_only_nodes(plan: Plan, cards: CardBook) -> list[tuple[Node, InverterCard]]:
    """Return the nodes with PV inputs only."""
    return [(node, card) for node, card in inverter_rows(plan, cards) if not card.battery_terminals]


def pv_behind(plan: Plan, cards: CardBook) -> list[tuple[Node, InverterCard]]:
    """Return the AC-coupled PV of the backup side: PV inputs only, with strings on them."""
    return [(node, card) for node, card in pv_only_nodes(plan, cards) if node.side == "backup" and node.strings]


def battery_rows(plan: Plan, cards: CardBook) -> Iterator[BatteryRow]:
    """Yield every node that has a battery."""
    for node, unit in battery_side_nodes(plan, cards):
        if node.battery is not None:
            yield BatteryRow(node, unit, cards.battery(node.battery.card), node.battery)


def forming_rows(plan: Plan, cards: CardBook) -> list[BatteryRow]:
    """Return what forms the grid in an outage: able to, on the backup side, with a battery."""
    return [row for row in battery_rows(plan, cards) if row.unit.grid_forming and row.node.side == "backup"]


def module_count(plan: Plan, cards: CardBook) -> int:
    """Return how many PV modules a plan has."""
    return sum(
        card.unit_count(node.count) * g.modules_per_string * g.parallel_strings for node, card, g, _ in string_rows(plan, cards)
    )
