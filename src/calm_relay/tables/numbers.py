"""Numbers of a sheet's columns: decimal and thousands marks, empty cells, the one cell that is wrong."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.handed_in import bad
from calm_relay.tables.sheet import Sheet

Array = NDArray[np.float64]
EMPTY = ("", "nan", "null", "-", "--", "n/a", "na", "none")
GROUPED = r"-?[1-9]\d{0,2}(,\d{3})+"


def numbers(sheet: Sheet, at: int) -> Array | None:
    """Return a column as numbers, NaN where a cell is empty; None where it holds words. (rows,) [as written]

    Raises
    ------
    BadInput
        A single cell is no number; its row and column are named.
    """
    import pandas as pd

    try:
        values: Array = sheet.cells[at].to_numpy(dtype=float)  # three times as fast where every cell is a plain number
    except ValueError:
        values = pd.to_numeric(sheet.cells[at], errors="coerce").to_numpy(dtype=float)
    odd = ~np.isfinite(values)
    if odd.any() and (sheet.cells[at][odd].str.strip() != "").any():
        cells = sheet.column(at)
        plain = _plain(cells, sheet.delimiter)
        values = pd.to_numeric(plain.where(plain != "", None), errors="coerce").to_numpy(dtype=float)
        wrong = np.flatnonzero(~np.isfinite(values) & ~plain.str.casefold().isin(EMPTY).to_numpy())
        if len(wrong) > len(values) / 2:
            return None
        if len(wrong):
            where = f"row {cells.index[int(wrong[0])]}, column '{sheet.heads[at]}'"
            problem = f"'{str(sheet.cells[at].iloc[int(wrong[0])])[:40]}' is not a number"
            raise bad(sheet.path, where, problem, "write a plain number, or leave it empty")
    return None if np.isnan(values).all() else values


def _plain(cells: Any, delimiter: str) -> Any:
    """Return cells with blanks, apostrophes, units and thousands marks taken out, and a point for the decimal."""
    text = cells.str.replace(r"[\s'’\u00a0\u202f]", "", regex=True)
    text = text.str.replace(r"(?i)(?<=\d)(kwh|wh|kw|w)$", "", regex=True)
    comma, point = text.str.contains(",", regex=False), text.str.contains(".", regex=False)
    both = text[comma & point]
    if len(both):
        decimal_comma = bool((both.str.rfind(",") > both.str.rfind(".")).all())
    else:
        grouped = bool(comma.any()) and bool(text[comma].str.fullmatch(GROUPED).all())
        decimal_comma = bool(comma.any()) and not (grouped and delimiter == ",")
    if decimal_comma:
        return text.str.replace(".", "", regex=False).str.replace(",", ".", regex=False)
    return text.str.replace(",", "", regex=False)
