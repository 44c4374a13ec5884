"""Small makers that the demo jobs share."""

from __future__ import annotations

from collections.abc import Iterable

from calm_relay.job.cost_models import CostKind, CostLine
from calm_relay.job.costs import equipment
from calm_relay.job.house_models import Appliance
from calm_relay.job.models import Plan
from calm_relay.library.cards import Card
from calm_relay.library.shipped import shipped_card


def appliance(id_: str, name: str, watts: float, run_h: float, start: float = 0, end: float = 24, **more: object) -> Appliance:
    """Return an appliance that runs so many hours a day within a window of clock hours. [W], [h]"""
    row = {"id": id_, "name": name, "running_w": watts, "run_h": run_h, "window_start_h": start, "window_end_h": end}
    return Appliance.model_validate({**row, **more})


def cards_of(plans: Iterable[Plan]) -> tuple[Card, ...]:
    """Return the shipped cards that plans name, each once."""
    return tuple(shipped_card(card_id) for card_id in dict.fromkeys(i for plan in plans for i in equipment(plan)))


def piece(text: str, price: float, card: str, kind: CostKind) -> CostLine:
    """Return a cost line that follows the pieces of a card; with 'taken_out' those that go. [money a piece]"""
    return CostLine(text=text, amount=price, kind=kind, basis="per_piece", counts=card)


def work(text: str, amount: float, kind: CostKind) -> CostLine:
    """Return a fixed cost line. [money]"""
    return CostLine(text=text, amount=amount, kind=kind)


def labour(hours_h: float, rate: float) -> CostLine:
    """Return a line of labour. [h], [money/h]"""
    return CostLine(text="Labour", amount=rate, kind="labour", basis="per_hour", hours_h=hours_h)
