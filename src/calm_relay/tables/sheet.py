"""A CSV of unknown style as a sheet of text cells: encoding, delimiter, where its rows begin and what stands above them."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path
from statistics import median
from typing import Any

from calm_relay.handed_in import Watch, bad, unwatched

MARKS = (";", "\t", ",", "|")
LOOKED_AT = 80  # lines in which the rows must have begun
CHUNK_ROWS = 50_000
STAMP = re.compile(
    r"\d{1,4}[-/. ](\d{1,2}|[A-Za-z]{3,9})[-/. ]\d{1,4}(?!\d)|[A-Za-z]{3,9} \d{1,2},? \d{4}|\d{8}( ?\d{4,6})?$|\d{9,13}(\.\d+)?$"
)


@dataclass(frozen=True, eq=False)
class Sheet:
    """Cells as text; columns are counted from 0, the index holds the row numbers of the file."""

    path: Path
    cells: Any
    heads: tuple[str, ...]
    delimiter: str
    above: str
    told: tuple[tuple[str, str], ...]
    _stripped: dict[int, Any] = field(default_factory=dict)

    def column(self, at: int) -> Any:
        """Return a column's cells without blanks around them."""
        if at not in self._stripped:
            self._stripped[at] = self.cells[at].str.strip()
        return self._stripped[at]

    def sample(self, at: int, count: int) -> Any:
        """Return about so many of a column's cells, spread over it, without blanks around them."""
        return self.cells[at].iloc[:: max(1, len(self.cells) // count)].str.strip()

    def rows(self, which: Any) -> Sheet:
        """Return the sheet with some of its rows."""
        return replace(self, cells=self.cells.loc[which], _stripped={})


def read_sheet(path: Path, raw: bytes, watch: Watch = unwatched) -> Sheet:
    """Read the bytes of a file as a sheet.

    Raises
    ------
    BadInput
        It is no text, no table, or its rows are not of one shape.
    """
    watch("its text", 0.02)
    text, told = _text(path, raw)
    lines = text[:400_000].splitlines()[:LOOKED_AT]
    written = [line for line in lines if line.strip()][-40:]
    delimiter = max(MARKS, key=lambda mark: median([len(_cells(line, mark)) for line in written] or [0]))
    rows = [_cells(line, delimiter) for line in lines]
    widths = Counter(len(row) for row in rows if any(row)).most_common(1)
    width = widths[0][0] if widths else 0
    if width < 2:
        remedy = "give a CSV with a time column and a value column"
        raise bad(path, "row 1", "it is no table: no column is told from another", remedy)
    first, at = _first_row(rows, width)
    cells = _table(path, text, delimiter, first, width, watch)
    return Sheet(
        path=path,
        cells=cells,
        heads=_heads(rows[:first], width, at),
        delimiter=delimiter,
        above="\n".join(lines[:first]),
        told=told,
    )


def _text(path: Path, raw: bytes) -> tuple[str, tuple[tuple[str, str], ...]]:
    try:
        if raw.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
            return raw.decode("utf-16"), (("text", "UTF-16"),)
        if b"\0" in raw[:4096]:
            raise bad(path, "", "it is no text", "export it as CSV")
        try:
            return raw.decode("utf-8-sig"), ()
        except UnicodeDecodeError:
            return raw.decode("cp1252"), (("text", "Windows-1252"),)
    except UnicodeDecodeError as error:
        raise bad(path, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8") from error


def _cells(line: str, delimiter: str) -> list[str]:
    try:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter), [])]
    except csv.Error:
        return [line]


def _first_row(rows: list[list[str]], width: int) -> tuple[int, int]:
    """Return the first row of data and the column of its stamp: three rows on end have one in the same column."""
    for i, row in enumerate(rows):
        if len(row) < 2 or abs(len(row) - width) > 1:
            continue
        for at, cell in enumerate(row):
            after = [r for r in rows[i + 1 : i + 6] if any(r)][:2]
            if STAMP.match(cell) and all(len(r) == len(row) and STAMP.match(r[at]) for r in after):
                return i, at
    head = next((i for i, row in enumerate(rows) if len(row) == width), 0)
    return head + 1, 0


def _heads(above: list[list[str]], width: int, stamp_at: int) -> tuple[str, ...]:
    """Return the headings: the nearest row above that is a table's, with the row over it where its own stamp column is empty."""
    wide = [row for row in above if len(row) >= width - 1 and sum(map(bool, row)) >= min(2, width - 1)]
    if not wide:
        return tuple(f"column {i + 1}" for i in range(width))
    last = wide[-1] + [""] * (width - len(wide[-1]))
    if len(wide) > 1 and stamp_at < len(last) and not last[stamp_at]:
        over = wide[-2] + [""] * (width - len(wide[-2]))
        last = [f"{a} {b}".strip() for a, b in zip(over, last, strict=False)]
    return tuple(last[:width])


def _table(path: Path, text: str, delimiter: str, first: int, width: int, watch: Watch) -> Any:
    import pandas as pd

    try:
        source, parts = io.StringIO(text), []
        chunks = pd.read_csv(
            source, sep=delimiter, dtype=str, keep_default_na=False, skiprows=first, header=None, names=list(range(width)),
            index_col=False, skip_blank_lines=True, engine="c", chunksize=CHUNK_ROWS,
        )  # fmt: skip
        for part in chunks:
            parts.append(part)
            watch("its rows", 0.05 + 0.4 * source.tell() / len(text))
        table = pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]
    except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, StopIteration, IndexError) as error:
        raise bad(path, "", f"its rows are not of one shape ({error})", "give every row the same columns") from error
    if table.empty:
        raise bad(path, "", "there is no row under its heading", "give a meter file")
    table = table.fillna("")
    table.index = pd.RangeIndex(first + 1, first + 1 + len(table))
    return table
