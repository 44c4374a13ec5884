"""Files of cards in and out: JSON, CSV of either decimal mark, XLSX. What is wrong names row and column; nothing is half read."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from calm_relay.equipment.columns import card_classes, card_of, card_row, columns_of, made_card
from calm_relay.equipment.open_list import card_of_row, is_data, kind_of_heads
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.handed_in import bad, handed_in
from calm_relay.library.cards import Card

MARK, VERSION = "calm_relay_cards", 1
MOST_BYTES = 20_000_000
MOST_LISTED = 200  # cards taken from an open list at once
DELIMITERS = (";", "\t", ",")
SUFFIXES = (".json", ".csv", ".xlsx")


def read_cards(path: Path, wanted: str = "") -> tuple[Card, ...]:
    """Return the cards of a file, by its ending: ``.json``, ``.csv`` or ``.xlsx``; of an open list, those whose name has all of
    the words in `wanted`.

    Raises
    ------
    BadInput
        One fault for each thing wrong, with its row and column; then no card is taken.
    """
    raw = handed_in(path, MOST_BYTES, "it has {mb:.0f} MB: no list of cards is so large", "give a list of cards")
    ending = path.suffix.lower()
    if ending == ".json":
        return _unique(path, _from_json(path, raw))
    if ending == ".csv":
        rows, comma = _csv_rows(path, raw)
        return _unique(path, _from_rows(path, rows, wanted, decimal_comma=comma))
    if ending == ".xlsx":
        return _unique(path, _from_rows(path, _xlsx_rows(path, raw), wanted, decimal_comma=False))
    raise bad(path, "", f"'{ending or 'no ending'}' is no list of cards", f"give one of {', '.join(SUFFIXES)}")


def table_rows(path: Path) -> tuple[list[list[str]], bool]:
    """Return the cells of a table, ``.csv`` or ``.xlsx``, as text, and whether its numbers have a decimal comma.

    Raises
    ------
    BadInput
        It is not there, too large, or no such table.
    """
    raw = handed_in(path, MOST_BYTES, "it has {mb:.0f} MB: no price list is so large", "give a price list")
    ending = path.suffix.lower()
    if ending == ".csv":
        return _csv_rows(path, raw)
    if ending == ".xlsx":
        return _xlsx_rows(path, raw), False
    raise bad(path, "", f"'{ending or 'no ending'}' is no price list", "give one of .csv, .xlsx")


def written_cards(cards: Sequence[Card], ending: str) -> bytes:
    """Return a file of cards by its ending; raises KeyError for another ending."""
    return {".json": _as_json, ".csv": _as_csv, ".xlsx": _as_xlsx}[ending](cards)


# --- JSON
def _from_json(path: Path, raw: bytes) -> list[tuple[str, Card]]:
    try:
        data = json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise bad(path, "", f"it is no JSON ({error})", "give a file of cards as the program writes it") from None
    if isinstance(data, dict) and MARK in data:
        if data[MARK] != VERSION:
            raise bad(path, MARK, f"its version is {data[MARK]}", f"this program reads version {VERSION}")
        data = data.get("cards")
    rows = data if isinstance(data, list) else [data]
    out: list[tuple[str, Card]] = []
    faults: list[Fault] = []
    for number, row in enumerate(rows, start=1):
        named = row.get("id") if isinstance(row, dict) else None
        place = f"cards[{named if isinstance(named, str) else number}]"
        kind = row.get("kind") if isinstance(row, dict) else None
        if kind not in card_classes():
            problem = "this is no card" if kind is None else f"'{kind}' is no kind of card"
            faults.append(Fault(str(path), place, problem, f'write "kind" as one of: {", ".join(card_classes())}'))
            continue
        try:
            out.append((place, made_card(str(kind), {k: v for k, v in row.items() if k != "kind"}, str(path), place)))
        except BadInput as error:
            faults += error.faults
    if faults:
        raise BadInput(faults)
    return out


def _as_json(cards: Sequence[Card]) -> bytes:
    data = {MARK: VERSION, "cards": [card.model_dump(mode="json") for card in cards]}
    return (json.dumps(data, indent=1, ensure_ascii=False) + "\n").encode()


# --- tables
def _from_rows(path: Path, rows: list[list[str]], wanted: str, *, decimal_comma: bool) -> list[tuple[str, Card]]:
    if len(rows) < 2:
        raise bad(path, "row 1", "there is no row under a heading", "give a row of column names and a row a card")
    heads = [head.strip() for head in rows[0]]
    twice = next((head for head in heads if head and heads.count(head) > 1), None)
    if twice is not None:
        raise bad(path, f"row 1, column {twice}", "this column stands there twice", "keep one of them")
    listed = kind_of_heads(heads)
    if listed is not None:
        return _from_open_list(path, listed, heads, rows, wanted)
    if "kind" not in heads:
        raise bad(path, "row 1", "there is no column 'kind'", "name the columns as the program writes them")
    out: list[tuple[str, Card]] = []
    faults: list[Fault] = []
    for number, row in enumerate(rows[1:], start=2):
        if not any(cell.strip() for cell in row):
            continue
        place = f"row {number}"
        if any(cell.strip() for cell in row[len(heads) :]):
            problem = f"it has {len(row)} cells, the heading {len(heads)}"
            faults.append(Fault(str(path), place, problem, "give it as many as the heading"))
            continue
        cells = {head: cell for head, cell in zip(heads, row, strict=False) if head}
        try:
            out.append((place, card_of(cells, str(path), place, decimal_comma=decimal_comma)))
        except BadInput as error:
            faults += error.faults
    if faults:
        raise BadInput(faults)
    return out


def _from_open_list(path: Path, kind: str, heads: list[str], rows: list[list[str]], wanted: str) -> list[tuple[str, Card]]:
    """Return the cards of an open list; rows that lack what a card needs are faults, so that what is taken is whole."""
    words = wanted.casefold().split()
    out: list[tuple[str, Card]] = []
    faults: list[Fault] = []
    for number, row in enumerate(rows[1:], start=2):
        cells = dict(zip(heads, row, strict=False))
        if not is_data(cells) or not all(word in cells["Name"].casefold() for word in words):
            continue
        if len(out) + len(faults) >= MOST_LISTED:
            problem = f"more than {MOST_LISTED} of its rows are so"
            raise bad(path, "", problem, "name the ones you want by --find with words of their name")
        try:
            out.append((f"row {number}", card_of_row(kind, cells, str(path), f"row {number}")))
        except BadInput as error:
            faults += error.faults
        except NotFeasible as error:
            faults.append(Fault(str(path), f"row {number}", error.reason, error.remedy))
    if faults:
        raise BadInput(faults)
    if not out:
        raise bad(path, "", "no row of the list is so", "leave a word of --find out")
    return out


def _csv_rows(path: Path, raw: bytes) -> tuple[list[list[str]], bool]:
    """Return a CSV's rows, and whether its numbers have a decimal comma: where the cells are not told apart by commas."""
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("cp1252", errors="replace")
    if "\0" in text:
        raise bad(path, "", "it is no text", "export it as CSV")
    first = next((line for line in text.splitlines() if line.strip()), "")
    delimiter = max(DELIMITERS, key=first.count)
    try:
        rows = list(csv.reader(io.StringIO(text), delimiter=delimiter))
    except csv.Error as error:
        raise bad(path, "", f"its rows are not of one shape ({error})", "save it as CSV again") from error
    return rows, delimiter != ","


def _as_csv(cards: Sequence[Card]) -> bytes:
    columns = columns_of(cards)
    out = io.StringIO()
    writer = csv.DictWriter(out, columns, lineterminator="\n", restval="")
    writer.writeheader()
    writer.writerows(card_row(card) for card in cards)
    return out.getvalue().encode()


def _xlsx_rows(path: Path, raw: bytes) -> list[list[str]]:
    import openpyxl

    try:
        book = openpyxl.load_workbook(io.BytesIO(raw), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows = [[_cell(value) for value in row] for row in sheet.iter_rows(values_only=True)]
    except Exception as error:
        raise bad(path, "", f"it is no spreadsheet ({type(error).__name__})", "save it as XLSX, or as CSV") from error
    return rows


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


def _as_xlsx(cards: Sequence[Card]) -> bytes:
    import openpyxl

    columns = columns_of(cards)
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "cards"
    sheet.append(columns)
    for card in cards:
        row = card_row(card)
        sheet.append([_typed(row.get(name, "")) for name in columns])
    sheet.freeze_panes = "D2"
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _typed(text: str) -> Any:
    if not text:
        return None
    if text in ("true", "false"):
        return text == "true"
    try:
        return float(text) if any(mark in text for mark in ".e") else int(text)
    except ValueError:
        return text


def _unique(path: Path, rows: list[tuple[str, Card]]) -> tuple[Card, ...]:
    seen: dict[str, str] = {}
    faults = []
    for place, card in rows:
        if card.id in seen:
            problem = f"the id '{card.id}' stands in {seen[card.id]} as well"
            faults.append(Fault(str(path), place, problem, "give each card an id of its own"))
        seen.setdefault(card.id, place)
    if faults:
        raise BadInput(faults)
    return tuple(card for _, card in rows)
