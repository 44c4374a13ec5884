"""Answers for the picker: the card that is to be chosen next."""

from __future__ import annotations

from calm_relay.rules.picking import ranked
from calm_relay.ui.session import Session


def take(session: Session, card_id: str) -> None:
    """Let the next question for a card be answered with this one, or with the best that is not there now."""

    def answer(path: str):
        offers = ranked(session.job, path, session.known_cards())
        return next(o for o in offers if (o.card.id == card_id if card_id else not o.now))

    session.dialogs.pick = answer
