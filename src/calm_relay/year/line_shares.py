"""How loads and inverters lie on the phases of a three-phase supply, or on the legs of a split-phase one. Needs no year."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.house_models import House
from calm_relay.job.models import Node, Plan
from calm_relay.job.rows import BatteryRow, forming_rows
from calm_relay.job.site_models import Supply
from calm_relay.library.book import CardBook
from calm_relay.library.cards import InverterCard
from calm_relay.simulation.offgrid import continuous_va

Array = NDArray[np.float64]
COUNT = {"single_phase": 1, "split_phase": 2, "three_phase": 3}


def line_count(supply: Supply) -> int:
    """Return how many lines there are: 1, two legs, or three phases."""
    return COUNT[supply.kind]


def line_volts(supply: Supply) -> float:
    """Return the volts of a line against the neutral. [V]"""
    return supply.voltage_v / (2.0 if supply.kind == "split_phase" else 1.0)


def line_name(supply: Supply, index: int) -> str:
    """Return the name of a line, counted from 0."""
    return f"{'leg' if supply.kind == 'split_phase' else 'phase'} {index + 1}"


def shares_of(line: str, count: int) -> Array:
    """Return how something lies on the lines, (count,), its sum 1; a line that the supply does not have counts as the last. [1]"""
    if line == "all" or count == 1:
        return np.full(count, 1.0 / count)
    shares: Array = np.eye(count)[min(int(line), count) - 1]
    return shares


def node_shares(node: Node, card: InverterCard, count: int) -> Array:
    """Return how an inverter lies on the lines. `auto`: alike on all for what has three phases, or on two legs; else the first.

    (lines,) [0 to 1]     Like units in a number that fills the phases are taken as spread over them.
    """
    if node.line != "auto":
        return shares_of(node.line, count)
    spread = count < 3 or card.phases == 3 or node.count >= count
    return shares_of("all" if spread else "1", count)


def background_shares(house: House, count: int) -> Array:
    """Return how the background lies on the lines; typed shares are scaled to a sum of 1. [1]"""
    typed = np.array((house.background_lines_frac or (1.0, 1.0, 1.0))[:count], dtype=float)
    return typed / typed.sum() if typed.sum() > 0 else np.full(count, 1.0 / count)


def offgrid_lines_va(plan: Plan, cards: CardBook, count: int) -> Array | None:
    """Return what grid-forming units carry on each line with the grid gone; None: there is none, or a card is silent. [VA]

    A unit on all lines carries its share of the rating on each, or what its card says of one phase or leg.
    """
    total = lines_va(plan, cards, count, continuous_va)
    if total is None:
        return None
    for row in forming_rows(plan, cards):
        own = row.unit.leg_max_w if count == 2 else row.unit.phase_max_w if count == 3 else None
        shares = node_shares(row.node, cards.station(row.node), count)
        if own is not None and shares.max() < 1.0:
            made = continuous_va(row) or 0.0
            total += np.minimum(own, made) - made * shares
    return total


def lines_va(plan: Plan, cards: CardBook, count: int, carried: Callable[[BatteryRow], float | None]) -> Array | None:
    """Return what forming units carry on each line by `carried`; None: there is none, or one of them is unknown. [VA]"""
    total, found = np.zeros(count), False
    for row in forming_rows(plan, cards):
        made = carried(row)
        if made is None:
            return None
        total += made * node_shares(row.node, cards.station(row.node), count)
        found = True
    return total if found else None
