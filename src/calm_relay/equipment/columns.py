"""Cards as rows of a table and back: one column a figure, named as in the job file, trackers counted from 1.

``trackers.2.mppt_min_v`` is the second tracker's window, ``loss.p_self_w`` a term of the loss. Cells are in core units; an empty
cell is a figure that the data sheet lacks; a cell of several words (places, protocols) has blanks between them.
"""

from __future__ import annotations

import difflib
import re
import types
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from annotated_types import MaxLen
from pydantic import BaseModel, TypeAdapter, ValidationError

from calm_relay.equipment.efficiency import fit_of
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.job.fault_words import words_of
from calm_relay.library.cards import Card, CardBase

FIRST = ("kind", "id", "name")
MOST_ROWS = 8  # of a numbered group whose field sets no other limit
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
        inner = _plain(get_args(plain)[0]) if get_origin(plain) is tuple else None
        if isinstance(plain, type) and issubclass(plain, BaseModel):
            yield from _walk(plain, f"{before}{name}.")
        elif isinstance(inner, type) and issubclass(inner, BaseModel):
            most = next((m.max_length for m in model.metadata if isinstance(m, MaxLen)), MOST_ROWS)
            for number in range(1, most + 1):
                yield from _walk(inner, f"{before}{name}.{number}.")
        else:
            yield f"{before}{name}", plain


@cache
def groups_of(kind: str) -> tuple[str, ...]:
    """Return the numbered groups of a kind of card, outermost names only: trackers, efficiency_points and their like."""
    return tuple(dict.fromkeys(".".join(_before_number(name)) for name in fields_of(kind) if _before_number(name)))


def _before_number(column: str) -> tuple[str, ...]:
    parts = column.split(".")
    at = next((i for i, part in enumerate(parts) if part.isdigit()), 0)
    return tuple(parts[:at])


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
        elif isinstance(value, list | tuple) and all(isinstance(inner, str) for inner in value):
            if value:
                out[name] = " ".join(value)
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
    """Return the columns that a card's data sheet lacks; a numbered group that has no row is named once."""
    row = card_row(card)
    have = {*row, *(".".join(_before_number(name)) for name in row)}
    out = dict.fromkeys(".".join(_before_number(name)) or name for name in fields_of(card.kind))
    return [name for name in out if name not in have and not (name.startswith("frequency.") and card_has_no_frequency(row))] + (
        ["frequency"] if any(n.startswith("frequency.") for n in out) and card_has_no_frequency(row) else []
    )


def card_has_no_frequency(row: Mapping[str, str]) -> bool:
    """Return whether a row of cells says nothing of what the unit does when the frequency rises."""
    return not any(name.startswith("frequency.") for name in row)


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
        card = made_card(kind, _lists(data), file, place)
    except BadInput as error:
        faults += error.faults
    if faults or card is None:
        raise BadInput(faults)
    return card


def made_card(kind: str, data: Mapping[str, Any], file: str, place: str = "") -> Card:
    """Return the card that nested data describe, its loss fitted where only efficiencies are given.

    Raises
    ------
    BadInput
        One fault for each figure that is wrong or missing, named as a column; `place` stands before it.
    """
    try:
        return _CARDS.validate_python({"kind": kind, **with_loss(kind, data)})
    except NotFeasible as error:
        raise BadInput([Fault(file, _where(place, "loss"), error.reason, error.remedy)]) from None
    except ValidationError as error:
        raise BadInput(
            [Fault(file, _where(place, _column(item["loc"], kind)), *words_of(item)) for item in error.errors()]
        ) from None


def _where(place: str, column: str) -> str:
    if not place:
        return column
    return f"{place}.{column}" if place.endswith("]") else f"{place}, column {column}"


def _column(loc: tuple[int | str, ...], kind: str) -> str:
    """Return the column of a model's location; its first step is the kind."""
    steps = loc[1:] if loc and loc[0] == kind else loc
    return ".".join(str(step + 1 if isinstance(step, int) else step) for step in steps)


def with_loss(kind: str, data: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return a card's data with terms of its loss, fitted to its efficiencies where it has none; raises NotFeasible."""
    if "loss" in data or "loss" not in card_classes()[kind].model_fields:
        return data
    rated = data.get("ac_rated_w")
    fit = None
    if isinstance(rated, int | float) and rated > 0:
        fit = fit_of(data, float(rated))
    return data if fit is None else {**data, "loss": fit.terms.model_dump()}


def required_of(kind: str) -> tuple[str, ...]:
    """Return the columns a card of a kind cannot be without, id and name left out; a first row stands for its group."""
    fields = card_classes()[kind].model_fields
    needed = []
    for name, model in fields.items():
        plain = _plain(model.annotation)
        if not model.is_required() or name in FIRST:
            continue
        inner = _plain(get_args(plain)[0]) if get_origin(plain) is tuple else plain
        if isinstance(inner, type) and issubclass(inner, BaseModel):
            before = f"{name}.1." if get_origin(plain) is tuple else f"{name}."
            needed += [before + n for n, m in inner.model_fields.items() if m.is_required()]
        else:
            needed.append(name)
    return tuple(needed)


EFFICIENCIES = ("peak_efficiency_frac", "european_efficiency_frac", "cec_efficiency_frac")


def missing_of(kind: str, row: Mapping[str, Any]) -> list[str]:
    """Return what a card of a kind still needs, as columns; a loss is not missing where efficiencies tell it."""
    told = any(name.startswith("efficiency_points.3.") for name in row) or (
        EFFICIENCIES[0] in row and any(name in row for name in EFFICIENCIES[1:])
    )
    missing = [name for name in required_of(kind) if name not in row and not (told and name.startswith("loss."))]
    if any(name.startswith("loss.") for name in missing) and not any(name.startswith("loss.") for name in row):
        wanted = [name for name in EFFICIENCIES[:2] if name not in row]
        missing = [*(name for name in missing if not name.startswith("loss.")), *wanted]
    return missing


def asked_of(kind: str, row: Mapping[str, Any]) -> list[str]:
    """Return what a card read from a sheet is asked for: what it still needs, and the phases, which are not to be guessed."""
    phases = ["phases"] if "phases" in fields_of(kind) and "phases" not in row else []
    return [*phases, *missing_of(kind, row)]


def card_from(kind: str, values: Mapping[str, Any], file: str) -> Card:
    """Return the card of a kind with these figures by column; raises BadInput, a fault a figure."""
    data: dict[str, Any] = {}
    for column, value in values.items():
        _put(data, column.split("."), value)
    return made_card(kind, _lists(data), file)


def id_of(name: str, most: int = 40) -> str:
    """Return what of a name may stand in an id: small letters and digits with hyphens between, at most so many; may be empty."""
    return re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:most].strip("-")


def _nearest(column: str, known: Iterable[str]) -> str:
    near = difflib.get_close_matches(column, list(known), 1)
    return f"did you mean '{near[0]}'?" if near else "remove the column, or check its spelling"


def _value(text: str, plain: Any, *, decimal_comma: bool) -> Any:
    """Return a cell's value by the type of its field; what cannot be read stays text, for the models to refuse."""
    if get_origin(plain) is tuple:
        return re.split(r"[\s,;]+", text)
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
