"""Cards as rows of a table and back: one column a figure, named as in the job file, trackers counted from 1.

``trackers.2.mppt_min_v`` is the second tracker's window, ``loss.p_self_w`` a term of the loss. Cells are in core units; an empty
cell is a figure that the data sheet lacks.
"""

from __future__ import annotations

import difflib
import re
import types
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, TypeAdapter, ValidationError

from calm_relay.errors import BadInput, Fault
from calm_relay.job.fault_words import words_of
from calm_relay.library.cards import Card, CardBase

FIRST = ("kind", "id", "name")
MOST_TRACKERS = 8
YES, NO = ("true", "yes", "1"), ("false", "no", "0")
_CARDS: TypeAdapter[Card] = TypeAdapter(Card)


@cache
def card_classes() -> dict[str, type[CardBase]]:
    """Return the classes of cards by kind."""
    union = get_args(Card)[0]
    return {str(cls.model_fields["kind"].default): cls for cls in get_args(union)}


@cache
def fields_of(kind: str) -> dict[str, Any]:
    """Return the columns a kind of card has, by name, each with the plain type of its cells."""
    return dict(_walk(card_classes()[kind], ""))


def _walk(record: type[BaseModel], before: str) -> Iterable[tuple[str, Any]]:
    for name, model in record.model_fields.items():
        plain = _plain(model.annotation)
        if isinstance(plain, type) and issubclass(plain, BaseModel):
            yield from _walk(plain, f"{before}{name}.")
        elif get_origin(plain) is tuple:
            inner = _plain(get_args(plain)[0])
            for number in range(1, MOST_TRACKERS + 1):
                yield from _walk(inner, f"{before}{name}.{number}.")
        else:
            yield f"{before}{name}", plain


def _plain(annotation: Any) -> Any:
    """Return a field's type without what is annotated and without None."""
    while True:
        if get_origin(annotation) is Annotated:
            annotation = get_args(annotation)[0]
        elif get_origin(annotation) in (Union, types.UnionType):
            annotation = next(part for part in get_args(annotation) if part is not type(None))
        else:
            return annotation


def card_row(card: Card) -> dict[str, str]:
    """Return a card as cells by column; what it lacks is left out."""
    out: dict[str, str] = {}

    def put(name: str, value: Any) -> None:
        if isinstance(value, Mapping):
            for key, inner in value.items():
                put(f"{name}.{key}" if name else str(key), inner)
        elif isinstance(value, list | tuple):
            for number, inner in enumerate(value, start=1):
                put(f"{name}.{number}", inner)
        elif value is not None:
            out[name] = ("true" if value else "false") if isinstance(value, bool) else _text(value)

    put("", card.model_dump())
    return out


def _text(value: Any) -> str:
    if isinstance(value, float):
        return repr(int(value)) if value.is_integer() and abs(value) < 1e15 else repr(value)
    return str(value)


def lacking(card: Card) -> list[str]:
    """Return the columns that a card's data sheet lacks; trackers that are not there are no lack."""
    row = card_row(card)
    return [name for name in fields_of(card.kind) if name not in row and not name.startswith("trackers.")]


def columns_of(cards: Sequence[Card]) -> list[str]:
    """Return the columns a table of cards needs: kind, id and name first, then in the cards' own order."""
    have = {name for card in cards for name in card_row(card)}
    order = dict.fromkeys(name for card in cards for name in fields_of(card.kind) if name in have)
    return [*FIRST, *(name for name in order if name not in FIRST)]


def card_of(row: Mapping[str, str], file: str, place: str, *, decimal_comma: bool = False) -> Card:
    """Return the card that a row of cells holds.

    Raises
    ------
    BadInput
        One fault for each cell that is wrong or column that the kind does not have, each naming row and column.
    """
    kind = row.get("kind", "").strip()
    if kind not in card_classes():
        known = ", ".join(card_classes())
        raise BadInput([Fault(file, f"{place}, column kind", f"'{kind}' is no kind of card", f"use one of: {known}")])
    known_fields = fields_of(kind)
    data: dict[str, Any] = {}
    faults: list[Fault] = []
    for column, cell in row.items():
        text = cell.strip()
        if not text:
            continue
        if column not in known_fields:
            if not any(column in fields_of(other) for other in card_classes()):
                faults.append(Fault(file, f"{place}, column {column}", "no card has such a figure", _nearest(column, known_fields)))
            else:
                words = f"a {kind.replace('_', ' ')} has no such figure"
                faults.append(Fault(file, f"{place}, column {column}", words, "leave the cell empty"))
            continue
        _put(data, column.split("."), _value(text, known_fields[column], decimal_comma=decimal_comma))
    card = None
    try:
        card = _CARDS.validate_python(_lists(data))
    except ValidationError as error:
        for item in error.errors():
            column = ".".join(str(step + 1 if isinstance(step, int) else step) for step in item["loc"] if step != kind)
            faults.append(Fault(file, f"{place}, column {column}", *words_of(item)))
    if faults or card is None:
        raise BadInput(faults)
    return card


def required_of(kind: str) -> tuple[str, ...]:
    """Return the columns a card of a kind cannot be without, id and name left out."""
    fields = card_classes()[kind].model_fields
    return tuple(name for name, model in fields.items() if model.is_required() and name not in FIRST)


def card_from(kind: str, values: Mapping[str, Any], file: str) -> Card:
    """Return the card of a kind with these figures; raises BadInput, a fault a figure."""
    try:
        return _CARDS.validate_python({"kind": kind, **values})
    except ValidationError as error:
        raise BadInput(
            [Fault(file, ".".join(str(s) for s in item["loc"] if s != kind), *words_of(item)) for item in error.errors()]
        ) from None


def id_of(name: str, most: int = 40) -> str:
    """Return what of a name may stand in an id: small letters and digits with hyphens between, at most so many; may be empty."""
    return re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:most].strip("-")


def _nearest(column: str, known: Iterable[str]) -> str:
    near = difflib.get_close_matches(column, list(known), 1)
    return f"did you mean '{near[0]}'?" if near else "remove the column, or check its spelling"


def _value(text: str, plain: Any, *, decimal_comma: bool) -> Any:
    """Return a cell's value by the type of its field; what cannot be read stays text, for the models to refuse."""
    if plain is bool:
        return True if text.lower() in YES else False if text.lower() in NO else text
    if plain in (int, float) or (get_origin(plain) is Literal and all(isinstance(v, int) for v in get_args(plain))):
        written = text.replace("−", "-")
        written = written.replace(",", ".") if decimal_comma else written
        try:
            number = float(written)
        except ValueError:
            return text
        return int(number) if plain is not float and number.is_integer() else number
    return text


def _put(data: dict[str, Any], path: Sequence[str], value: Any) -> None:
    for step in path[:-1]:
        data = data.setdefault(step, {})
    data[path[-1]] = value


def _lists(data: Any) -> Any:
    """Return plain data whose groups of numbered members are lists, without the empty places between."""
    if not isinstance(data, dict):
        return data
    if data and all(key.isdigit() for key in data):
        return [_lists(data[key]) for key in sorted(data, key=int)]
    return {key: _lists(value) for key, value in data.items()}
