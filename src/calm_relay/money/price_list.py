"""The firm's own price list: an open table (CSV or XLSX), kept apart from the job and copied into it when used, with its date."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import get_args

import platformdirs

from calm_relay.equipment.files import table_rows
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import write_atomically
from calm_relay.job.cost_models import CostBasis, CostKind

COLUMNS = ("card", "kind", "basis", "text", "price", "currency", "date")
_DATE = re.compile(r"^\d{4}-\d{2}-\d{2}$")
MOST_ROWS = 5000


@dataclass(frozen=True)
class ListRow:
    """A price of one piece of a card, or of a class of lines by its basis. [money]"""

    text: str
    price: float
    card: str
    kind: CostKind
    basis: CostBasis
    date: str = ""


@dataclass(frozen=True)
class PriceList:
    """A price list: its name and date, the currency of all rows where one is named, and the rows as they stand."""

    name: str
    date: str
    currency: str
    rows: tuple[ListRow, ...]

    def row_of(self, card: str, kind: CostKind, basis: CostBasis) -> ListRow | None:
        """Return the row for a card, else for a class of lines with the same basis, else for the class; the last one wins."""
        of_card = [row for row in self.rows if row.card and row.card == card]
        alike = [row for row in self.rows if not row.card and row.kind == kind]
        return next(iter([*of_card[::-1], *[r for r in alike[::-1] if r.basis == basis], *([] if card else alike[::-1])]), None)


def prices_folder() -> Path:
    """Return where the firm's list is kept between jobs under its own name (``XDG_DATA_HOME``)."""
    return Path(platformdirs.user_data_dir("calm-relay")) / "prices"


def _kept() -> Path | None:
    found = sorted(prices_folder().glob("*.csv"), key=lambda path: path.stat().st_mtime_ns) if prices_folder().is_dir() else []
    return found[-1] if found else None


def read_price_list(path: Path) -> PriceList:
    """Read a price list; its columns are `COLUMNS` in any order: `price` must be there, and `card` or `kind`.

    Raises
    ------
    BadInput
        One fault for each cell that cannot be read; nothing of the list is used then.
    """
    rows, decimal_comma = table_rows(path)
    if not rows:
        raise BadInput([Fault(str(path), "", "the list is empty", f"give a table with the columns {', '.join(COLUMNS)}")])
    heads = [str(cell).strip().casefold() for cell in rows[0]]
    if "price" not in heads or not {"card", "kind"} & set(heads):
        wrong = "its first row names no column 'price'" if "price" not in heads else "it has neither a column 'card' nor 'kind'"
        raise BadInput([Fault(str(path), "row 1", wrong, f"name the columns {', '.join(COLUMNS)}")])
    if len(rows) - 1 > MOST_ROWS:
        raise BadInput([Fault(str(path), "", f"it has {len(rows) - 1} rows", f"give at most {MOST_ROWS}")])
    faults: list[Fault] = []
    out, currencies = [], set()
    for number, cells in enumerate(rows[1:], start=2):
        row = {head: str(cell).strip() for head, cell in zip(heads, cells, strict=False)}
        if not any(row.values()):
            continue
        made = _row(row, str(path), number, decimal_comma, faults)
        if made is not None:
            out.append(made)
            currencies.add(row.get("currency", "").upper())
    named = currencies - {""}
    if len(named) > 1:
        faults.append(Fault(str(path), "currency", f"prices stand in {' and '.join(sorted(named))}", "give a list a currency"))
    if not out and not faults:
        faults.append(Fault(str(path), "", "it holds no price", "give at least one row below the names of the columns"))
    if faults:
        raise BadInput(faults)
    latest = max((row.date for row in out if row.date), default="")
    return PriceList(path.stem, latest, next(iter(named), ""), tuple(out))


def _row(row: dict[str, str], file: str, number: int, decimal_comma: bool, faults: list[Fault]) -> ListRow | None:
    def wrong(column: str, what: str, right: str) -> None:
        faults.append(Fault(file, f"row {number}, {column}", what, right))

    before = len(faults)
    price = _number(row.get("price", ""), decimal_comma)
    if price is None:
        wrong("price", f"'{row.get('price', '')}' is no price", "write a number such as 1450.00")
    card, kind, basis = row.get("card", ""), row.get("kind", "") or "other", row.get("basis", "")
    basis = basis or ("per_piece" if card else "fixed")
    if kind not in get_args(CostKind):
        wrong("kind", f"'{kind}' is no kind of cost", f"use one of {', '.join(get_args(CostKind))}")
    if basis not in get_args(CostBasis):
        wrong("basis", f"'{basis}' says not what is counted", f"use one of {', '.join(get_args(CostBasis))}")
    if not card and not row.get("kind"):
        wrong("card", "it says not what the price is of", "name a card's id, or a kind of cost")
    when = row.get("date", "")[:10]
    if when and not _is_date(when):
        wrong("date", f"'{when}' is no date", "write it as 2026-11-27")
    if len(faults) > before:
        return None
    assert price is not None
    made = {"text": row.get("text", "") or card or kind, "card": card, "kind": kind, "basis": basis, "date": when}
    return ListRow(price=price, **made)  # type: ignore[arg-type]


def _is_date(text: str) -> bool:
    if not _DATE.match(text):
        return False
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return True


def _number(text: str, decimal_comma: bool) -> float | None:
    plain = text.replace("−", "-").replace(" ", "").replace("\u00a0", "").replace("'", "")
    if decimal_comma and "," in plain:
        plain = plain.replace(".", "").replace(",", ".")
    elif re.fullmatch(r"-?\d{1,3}(,\d{3})+(\.\d+)?", plain):
        plain = plain.replace(",", "")
    try:
        value = float(plain)
    except ValueError:
        return None
    return value if abs(value) < 1e9 else None  # NaN and infinity are no prices


def kept_price_list() -> PriceList | None:
    """Return the firm's list kept between jobs; None where there is none yet. Raises BadInput where it cannot be read."""
    path = _kept()
    return None if path is None else read_price_list(path)


def keep_price_list(path: Path) -> PriceList:
    """Read a list and keep it between jobs in place of the last; a list that cannot be read changes nothing. Raises OSError."""
    found, before = read_price_list(path), _kept()
    to = prices_folder() / f"{path.stem}.csv"
    to.parent.mkdir(parents=True, exist_ok=True)
    write_atomically(to, written(found.rows, found.currency, found.date).encode("utf-8"))
    if before is not None and before != to:
        before.unlink(missing_ok=True)
    return found


def written(rows: Sequence[ListRow], currency: str, when: str) -> str:
    """Return rows as the CSV that is read back."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for row in rows:
        writer.writerow([row.card, row.kind, row.basis, row.text, repr(row.price), currency, row.date or when])
    return out.getvalue()
