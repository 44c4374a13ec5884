"""The firm's own cards between jobs: one open file in the user's data folder, with favourites and what was used last."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import platformdirs

from calm_relay.equipment.files import MARK, VERSION, read_cards
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import write_atomically
from calm_relay.library.book import CardBook, book_of
from calm_relay.library.cards import Card
from calm_relay.library.shipped import shipped_book, shipped_cards

LAST_KEPT = 24


@dataclass(frozen=True)
class Shelf:
    """Own cards by the order they were put there, ids of favourites, and ids by last use, the latest first."""

    cards: tuple[Card, ...] = ()
    favourites: tuple[str, ...] = ()
    last_used: tuple[str, ...] = ()

    def book(self) -> CardBook:
        """Return all that can be chosen: the shipped cards, with own cards in place of those of the same id."""
        return book_of(shipped_cards(), self.cards)

    def with_cards(self, cards: Iterable[Card]) -> Shelf:
        """Return the shelf with cards put on it; one of the same id is replaced where it stands."""
        new = {card.id: card for card in cards}
        kept = [new.pop(card.id, card) for card in self.cards]
        return replace(self, cards=(*kept, *new.values()))

    def without(self, card_id: str) -> Shelf:
        """Return the shelf without one of its own cards; raises KeyError where it has none of that id."""
        if all(card.id != card_id for card in self.cards):
            raise KeyError(card_id)
        return replace(self, cards=tuple(card for card in self.cards if card.id != card_id))

    def with_favourite(self, card_id: str, *, on: bool) -> Shelf:
        """Return the shelf with a card among the favourites, or not."""
        rest = tuple(known for known in self.favourites if known != card_id)
        return replace(self, favourites=(*rest, card_id) if on else rest)

    def used(self, card_id: str) -> Shelf:
        """Return the shelf with a card marked as used now."""
        rest = [known for known in self.last_used if known != card_id]
        return replace(self, last_used=(card_id, *rest)[:LAST_KEPT])


def shelf_path() -> Path:
    """Return where the shelf stands (``XDG_DATA_HOME``); copy the file to share it."""
    return Path(platformdirs.user_data_dir("calm-relay")) / "cards.json"


def read_shelf(path: Path | None = None) -> Shelf:
    """Return the shelf; an empty one where there is no file yet.

    Raises
    ------
    BadInput
        The file is there and is no shelf; nothing of it is used, and it is left as it is.
    """
    path = path or shelf_path()
    if not path.exists():
        return Shelf()
    cards = read_cards(path)
    data = json.loads(path.read_bytes())
    return Shelf(cards, *(_names(path, data, key) for key in ("favourites", "last_used")))


class KnownCards:
    """All cards that can be chosen, read anew when the shelf's file changed; one that cannot be read is said once and left out."""

    def __init__(self, path: Path | None = None) -> None:
        self._path, self._stamp = path, (-1, -1)
        self._book: CardBook = shipped_book()
        self.own: frozenset[str] = frozenset()
        self.favourites: frozenset[str] = frozenset()
        self.last_used: tuple[str, ...] = ()
        self.fault = ""

    def book(self) -> CardBook:
        """Return the shipped cards and own ones, by id; `own` are the ids of these, `fault` says why they are missing."""
        path = self._path or shelf_path()
        try:
            status = path.stat()
            stamp = (status.st_mtime_ns, status.st_size)
        except OSError:
            stamp = (0, 0)
        if stamp != self._stamp:
            self._stamp, self.fault, self.favourites, self.last_used = stamp, "", frozenset(), ()
            try:
                shelf = read_shelf(path)
                self._book, self.own = shelf.book(), frozenset(card.id for card in shelf.cards)
                self.favourites, self.last_used = frozenset(shelf.favourites), shelf.last_used
            except BadInput as error:
                self._book, self.own, self.fault = shipped_book(), frozenset(), f"Your own cards are left out: {error}"
        return self._book


def _names(path: Path, data: Any, key: str) -> tuple[str, ...]:
    rows = data.get(key, []) if isinstance(data, dict) else []
    if not isinstance(rows, list) or not all(isinstance(row, str) for row in rows):
        raise BadInput([Fault(str(path), key, "this is no list of ids", 'write it as ["card-a", "card-b"]')])
    return tuple(rows)


def save_shelf(shelf: Shelf, path: Path | None = None) -> Path:
    """Write the shelf so that a crash leaves the old one or the new one; returns where. Raises OSError."""
    path = path or shelf_path()
    data = {
        MARK: VERSION,
        "cards": [card.model_dump(mode="json") for card in shelf.cards],
        "favourites": list(shelf.favourites),
        "last_used": list(shelf.last_used),
    }
    path.parent.mkdir(parents=True, exist_ok=True)
    write_atomically(path, (json.dumps(data, indent=1, ensure_ascii=False) + "\n").encode())
    return path


@dataclass(frozen=True)
class Difference:
    """One figure that two cards give otherwise; None where one of them lacks it."""

    column: str
    before: str | None
    after: str | None


def differences(before: Card, after: Card) -> tuple[Difference, ...]:
    """Return the figures in which two cards differ, in the order of the second one's data sheet."""
    from calm_relay.equipment.columns import card_row

    one, two = card_row(before), card_row(after)
    names: Sequence[str] = [*two, *(name for name in one if name not in two)]
    return tuple(Difference(name, one.get(name), two.get(name)) for name in names if one.get(name) != two.get(name))
