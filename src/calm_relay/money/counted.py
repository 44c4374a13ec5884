"""What cost lines and rebates count: what a plan adds to today's system, and what it takes out."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.cost_models import CostKind
from calm_relay.job.costs import equipment
from calm_relay.job.models import Job, Plan
from calm_relay.library.book import CardBook
from calm_relay.library.cards import AcUnit, BatteryCard, Card, ModuleCard

KIND_OF_CARD: dict[str, CostKind] = {
    "battery": "battery", "module": "modules", "optimizer": "modules", "transfer": "transfer", "generator": "generator",
}  # fmt: skip


def kind_of(card: Card) -> CostKind:
    """Return the class of cost lines that a card belongs to; what converts is an inverter."""
    return KIND_OF_CARD.get(card.kind, "inverter")


def new_boxes(job: Job, plan: Plan, cards: CardBook) -> list[Card]:
    """Return the cards of a plan that today's system does not have, modules and what is on them apart."""
    had = equipment(job.plans[0])
    return [cards[card] for card in equipment(plan) if card not in had and kind_of(cards[card]) != "modules"]


@dataclass(frozen=True)
class Counted:
    """Pieces of each card that a plan adds and takes out, and what they come to.

    Energies in Wh, nominal and between the card's limits; powers in W: AC ratings and STC.
    """

    added: dict[str, int]
    taken_out: dict[str, int]
    nominal_wh: float
    usable_wh: float
    rated_w: float
    stc_w: float


def usable_of(card: BatteryCard) -> float:
    """Return what a module of a battery card holds between its limits. [Wh]"""
    return card.capacity_wh * (card.soc_max_frac - card.soc_min_frac)


def counted(job: Job, plan: Plan, cards: CardBook | None = None) -> Counted:
    """Return what a plan adds to today's system and takes out of it; of today's system itself, all that stands in it stays."""
    known = cards or job.cards()
    now = equipment(plan)
    had = now if plan.id == job.plans[0].id else equipment(job.plans[0])
    added = {card: more for card, count in now.items() if (more := count - had.get(card, 0)) > 0}
    gone = {card: less for card, count in had.items() if (less := count - now.get(card, 0)) > 0}
    nominal = usable = rated = stc = 0.0
    for card_id, count in added.items():
        card = known[card_id]
        if isinstance(card, BatteryCard):
            nominal += count * card.capacity_wh
            usable += count * usable_of(card)
        elif isinstance(card, AcUnit):
            rated += count * card.ac_rated_w
        elif isinstance(card, ModuleCard):
            stc += count * card.power_stc_w
    return Counted(
        added=added, taken_out=gone, nominal_wh=nominal, usable_wh=usable, rated_w=rated, stc_w=stc
    )  # fmt: skip
