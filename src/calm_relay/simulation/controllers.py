"""Charge controllers on a low-voltage bank: what each takes in at most, and at which efficiency."""

from __future__ import annotations

from calm_relay.job.models import Node
from calm_relay.library.book import CardBook
from calm_relay.library.stations import BankStationCard
from calm_relay.simulation.chain import stack_voltage_v


def controllers_of(node: Node, cards: CardBook) -> tuple[int, float, float] | None:
    """Return (trackers each, W in at their output limit, efficiency) of a node's charge controllers; None: it has none.

    The output is amps at the bank's nominal volts (assumed; volts follow the charge), at the top of their window without a bank.
    """
    card = cards.station(node)
    if not isinstance(card, BankStationCard):
        return None
    choice = node.battery
    volts = card.battery_voltage_max_v if choice is None else stack_voltage_v(cards.battery(choice.card), choice.modules)
    eta = card.controller_efficiency_frac
    return card.trackers_each, card.controller_out_a * volts / eta, eta
