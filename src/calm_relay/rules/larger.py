"""The remedy for what an AC limit clips: the smallest inverter of the same kind whose limit the array hardly reaches."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.models import Node
from calm_relay.library.cards import InverterCard
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.checks_strings import array_stc_w
from calm_relay.rules.registry import CheckContext, Remedy

HARDLY_FRAC = 0.85  # of an array's STC watts: above it hardly anything is clipped (mild undersizing, common practice)


def larger_inverter(c: CheckContext, node: Node) -> list[Remedy]:
    """Return the swap that ends a node's clipping, where there is such a card."""
    card = c.cards.inverter(node.card)
    each = HARDLY_FRAC * array_stc_w(c, node) / (node.count if card.per_module else 1)

    def carries(other: InverterCard) -> bool:
        return other.ac_rated_w >= each and other.ac_rated_w > card.ac_rated_w

    best = swap_card(c, node, carries, lambda other: other.ac_rated_w)
    return [] if best is None else [Remedy(f"{best.name} in place of {card.name}", swap_edits(c, node, best))]


def less_clipped(c: CheckContext, limit: float) -> Iterator[Remedy]:
    """Return a larger inverter where one alone clips too much, the one that clips most first."""
    assert c.facts is not None
    lost = {i: row["lost_ac_limit_w"] for i, row in c.facts.nodes_wh.items()}
    lost |= {i: row["clipped_ac_w"] for i, row in c.facts.pv_only_wh.items()}
    most = max(c.plan.nodes, key=lambda node: lost.get(node.id, 0.0))
    if c.facts.clipped_wh - lost.get(most.id, 0.0) <= limit * c.facts.clipped_wh:
        yield from larger_inverter(c, most)
    yield Remedy("fewer modules, a larger inverter, or a battery on the DC side of it")
