"""Which cards are proposed for a job: those at hand that are still made and connect to its supply, the firm's own first."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.models import Job
from calm_relay.library.book import CardBook
from calm_relay.library.cards import AcUnit, Card, GeneratorCard, MeterCard, TimerChargerCard, TransferCard
from calm_relay.library.shipped import shipped_book


def connects(card: Card, supply_kind: str) -> bool:
    """Return whether a card connects to a kind of supply; one whose sheet does not say so is not ruled out by it."""
    if not isinstance(card, AcUnit | TransferCard | TimerChargerCard | GeneratorCard | MeterCard):
        return True
    three = isinstance(card, AcUnit) and card.phases == 3
    return (not card.supplies or supply_kind in card.supplies) and not (three and supply_kind != "three_phase")


def is_own(card: Card, known: CardBook | None = None) -> bool:
    """Return whether a card is the firm's: none of that id ships, or the known one of that id is not the shipped one.

    A job's copy of a shipped card is nobody's own, even where the shipped card has more figures by now.
    """
    shipped = shipped_book().get(card.id)
    return shipped is None or (known is not None and known.get(card.id, shipped) != shipped)


def offered(job: Job, known: CardBook | None = None) -> CardBook:
    """Return the cards that may be proposed for a job: known ones and the job's own copies, the firm's own first.

    One that is no longer made is proposed only where the job has it already.
    """
    return CardBook({card.id: card for card in _offered(job, known)})


def _offered(job: Job, known: CardBook | None) -> Iterator[Card]:
    kind = job.site.supply.kind
    copies = job.cards()
    everything = {**(shipped_book() if known is None else known), **copies}
    usable = [c for c in everything.values() if connects(c, kind) and (not c.no_longer_made or c.id in copies)]
    yield from sorted(usable, key=lambda card: not is_own(card, known))
