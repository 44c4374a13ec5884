"""Commands on equipment: the cards that ship and the firm's own, found, shown, added, taken off the shelf and written out."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path

from calm_relay.cli.shared import open_job, print_json
from calm_relay.equipment.columns import asked_of, card_from, card_row, lacking
from calm_relay.equipment.datasheet import read_sheet
from calm_relay.equipment.efficiency import card_fit
from calm_relay.equipment.files import SUFFIXES, read_cards, written_cards
from calm_relay.equipment.find import find_cards
from calm_relay.equipment.labels import KINDS
from calm_relay.equipment.shelf import Shelf, differences, read_shelf, save_shelf, shelf_path
from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import handed_in
from calm_relay.job.container import write_atomically
from calm_relay.library.cards import AcUnit, Card
from calm_relay.rules.reads import rests_on
from calm_relay.units import count_words

ACTIONS = ("show", "add", "remove", "write", "read-sheet", "differ")
MOST_SHEET_BYTES = 2_000_000


def cards_command(options: argparse.Namespace) -> int:
    """Run `cards`: list them, or show, add, remove or write some."""
    action, *names = options.what or ["list"]
    if action == "list":
        return _list(options)
    if action not in ACTIONS:
        raise BadInput([Fault("cards", action, "there is no such action", f"use one of: {', '.join(ACTIONS)}")])
    if len(names) != 1:
        raise BadInput([Fault("cards", action, f"it takes one name, {len(names)} were given", f"write: cards {action} NAME")])
    done: dict[str, Callable[[argparse.Namespace, str], int]] = {
        "show": _show,
        "add": _add,
        "remove": _remove,
        "write": _write,
        "read-sheet": _read_sheet,
        "differ": _differ,
    }
    return done[action](options, names[0])


def _chosen(options: argparse.Namespace, shelf: Shelf) -> list[Card]:
    cards = [card for card in shelf.book().values() if options.kind in (None, card.kind)]
    return find_cards(cards, options.find)


def _list(options: argparse.Namespace) -> int:
    shelf = read_shelf()
    own = {card.id for card in shelf.cards}
    cards = _chosen(options, shelf)
    if options.json:
        print_json({"cards": [{**card.model_dump(), "own": card.id in own} for card in cards]})
        return 0
    for card in cards:
        print(f"{card.kind:17} {card.id:28} {card.name}{'   (own)' if card.id in own else ''}")
    if not cards:
        print("no card is so; leave a word out, or add one with: cards add FILE")
    return 0


def _card(shelf: Shelf, card_id: str) -> Card:
    book = shelf.book()
    if card_id not in book:
        near = [known for known in book if card_id in known][:5]
        remedy = f"use one of: {', '.join(near) or 'those that cards lists'}"
        raise BadInput([Fault("cards", card_id, "there is no such card", remedy)])
    return book[card_id]


def _show(options: argparse.Namespace, card_id: str) -> int:
    card = _card(read_shelf(), card_id)
    if options.json:
        print_json(card.model_dump())
        return 0
    for name, text in card_row(card).items():
        print(f"{name:34} {text}")
    fit = card_fit(card) if isinstance(card, AcUnit) else None
    if fit is not None:
        print(f"the loss against the sheet's efficiencies: at most {fit.worst_frac * 100:.2f} % off")
    lacks = lacking(card)
    print(f"the data sheet lacks: {', '.join(lacks) or 'nothing'}")
    for name in lacks:
        rests = rests_on(card.kind, name)
        if rests:
            print(f"  without {name:30} open: {rests}")
    return 0


def _differ(options: argparse.Namespace, file: str) -> int:
    """Print where the shelf has a job's cards otherwise than the job's own copies."""
    job, shelf = open_job(file).job, read_shelf()
    own = {card.id: card for card in shelf.cards}
    rows = {card.id: differences(card, own[card.id]) for card in job.library if card.id in own}
    if options.json:
        print_json({"cards": {i: [vars(d) for d in found] for i, found in rows.items()}})
        return 0
    for card_id, found in rows.items():
        said = "; ".join(f"{d.column} {d.before or 'none'} here, {d.after or 'none'} on the shelf" for d in found)
        print(f"{card_id}: {said or 'as on the shelf'}")
    if not rows:
        print("no card of this job stands on the shelf")
    return 0


def _add(options: argparse.Namespace, file: str) -> int:
    shelf, cards = read_shelf(), read_cards(Path(file), options.find)
    known = {card.id: card for card in shelf.cards}
    path = save_shelf(shelf.with_cards(cards))
    for card in cards:
        if card.id not in known:
            print(f"added: {card.name} ({card.id})")
            continue
        changed = differences(known[card.id], card)
        words = "; ".join(f"{d.column} {d.before or 'none'} to {d.after or 'none'}" for d in changed)
        print(f"replaced: {card.name} ({card.id}): {words}" if changed else f"as it was: {card.name} ({card.id})")
    print(f"on the shelf: {path}")
    return 0


def _remove(options: argparse.Namespace, card_id: str) -> int:
    shelf = read_shelf()
    try:
        save_shelf(shelf.without(card_id))
    except KeyError:
        own = ", ".join(card.id for card in shelf.cards) or "none yet"
        raise BadInput([Fault(str(shelf_path()), card_id, "no own card has this id", f"own cards: {own}")]) from None
    print(f"taken off the shelf: {card_id}")
    return 0


def _read_sheet(options: argparse.Namespace, file: str) -> int:
    """Print the figures found in a data sheet's text; with --as they become a card on the shelf, if none is missing."""
    raw = handed_in(Path(file), MOST_SHEET_BYTES, "it has {mb:.1f} MB: no data sheet's text is so long", "give the copied text")
    made = read_sheet(raw.decode("utf-8", errors="replace"))
    if made is None:
        raise BadInput([Fault(file, "", "no figure was found by name and unit", "give the text of a data sheet, or type the card")])
    missing = asked_of(made.kind, made.values())
    if options.json:
        figures = [{"field": f.field, "value": f.value, "words": f.words, "others": list(f.others)} for f in made.figures]
        print_json({"kind": made.kind, "figures": figures, "missing": missing})
    else:
        print(f"{KINDS[made.kind]}, by {count_words(len(made.figures), 'figure')}; look at each beside its words:")
        for figure in made.figures:
            also = f"   (also on the line: {', '.join(f'{v:g}' for v in figure.others)})" if figure.others else ""
            print(f"  {figure.field:24} {figure.value:<12g} from: {' '.join(figure.words.split())}{also}")
        print(f"not found, and needed: {', '.join(missing) or 'nothing'}")
    if options.as_id:
        if missing:
            raise BadInput(
                [
                    Fault(file, name, "the sheet does not say it", "write it into the text, or add the card by CSV")
                    for name in missing
                ]
            )
        values = {
            **made.values(),
            "id": options.as_id,
            "name": options.name or options.as_id,
            "source": f"read from {Path(file).name}",
        }
        save_shelf(read_shelf().with_cards([card_from(made.kind, values, file)]))
        print(f"on the shelf: {options.as_id}")
    return 0


def _write(options: argparse.Namespace, file: str) -> int:
    path, cards = Path(file), _chosen(options, read_shelf())
    if path.suffix.lower() not in SUFFIXES:
        raise BadInput([Fault(file, "", f"'{path.suffix}' is no list of cards", f"end it in one of {', '.join(SUFFIXES)}")])
    try:
        write_atomically(path, written_cards(cards, path.suffix.lower()))
    except OSError as error:
        raise BadInput([Fault(file, "", f"it cannot be written ({error.strerror})", "choose another folder")]) from error
    print(f"{count_words(len(cards), 'card')} written to {file}")
    return 0
