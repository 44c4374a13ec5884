"""A plan's inverters and strings beside the document they come from, for what still edits both: checks of strings, drafts."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.models import Node, Plan, StringGroup
from calm_relay.library.book import CardBook
from calm_relay.library.cards import ModuleCard
from calm_relay.plant.resolve import unit_at
from calm_relay.plant.unit import Unit


def inverter_rows(plan: Plan, cards: CardBook) -> Iterator[tuple[Node, Unit]]:
    """Yield every node with one of its units, what stands with it on its bank counted in."""
    for node in plan.nodes:
        yield node, unit_at(node, cards, 1)


def string_rows(plan: Plan, cards: CardBook) -> Iterator[tuple[Node, Unit, StringGroup, ModuleCard]]:
    """Yield every string group with its node, one of the node's units and the group's module."""
    for node, unit in inverter_rows(plan, cards):
        for group in node.strings:
            yield node, unit, group, cards.module(group.module)


def module_count(plan: Plan, cards: CardBook) -> int:
    """Return how many PV modules a plan has."""
    return sum(
        unit.unit_count(node.count) * g.modules_per_string * g.parallel_strings for node, unit, g, _ in string_rows(plan, cards)
    )
