"""The shipped cards, read once from their data file."""

from __future__ import annotations

from functools import cache
from importlib import resources

from pydantic import TypeAdapter

from calm_relay.library.book import CardBook, book_of
from calm_relay.library.cards import Card


@cache
def shipped_cards() -> tuple[Card, ...]:
    """Return every card that comes with the program, in the file's order."""
    text = resources.files("calm_relay.library").joinpath("shipped_cards.json").read_bytes()
    return TypeAdapter(tuple[Card, ...]).validate_json(text)


@cache
def shipped_book() -> CardBook:
    """Return the shipped cards by id."""
    return book_of(shipped_cards())


def shipped_card(card_id: str) -> Card:
    """Return one shipped card; raises KeyError when there is none of that id."""
    return shipped_book()[card_id]
