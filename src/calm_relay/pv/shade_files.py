"""Horizon profiles and shade tables as plain text: read with one clear line for what is wrong, and written the same way."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import handed_in
from calm_relay.job.sky_models import Face, HorizonPoint

MOST_BYTES = 1_000_000
MOST_POINTS = 73
HEAD = ("azimuth_deg", "elevation_deg")


def read_shade(path: Path | str) -> dict[str, object]:
    """Return what a text file says of a face's shade, as fields of the face: ``horizon`` or ``shade_table``.

    Two columns are a horizon: azimuth clockwise from north and elevation, in degrees. Twelve rows of 24 numbers are the shaded
    part of the face by month and hour of local standard time, each 0 to 1, or in percent with a ``%``.

    Raises
    ------
    BadInput
        One clear line: the row, what is wrong with it, and what would be right.
    """
    path = Path(path)
    rows = _rows(path)
    if len(rows) == 12 and all(len(row) == 24 for _, row in rows):
        return {"shade_table": tuple(tuple(_part(path, n, i, cell) for i, cell in enumerate(row, 1)) for n, row in rows)}
    if all(len(row) == 2 for _, row in rows):
        return {"horizon": _horizon(path, rows)}
    number, row = next(((n, r) for n, r in rows if len(r) not in (2, 24)), rows[0])
    shape = f"{len(rows)} rows, row {number} has {len(row)} numbers"
    raise BadInput(
        [Fault(str(path), f"row {number}", shape, "give 12 rows of 24 (months × hours), or two columns (azimuth, elevation)")]
    )


def _rows(path: Path) -> list[tuple[int, list[str]]]:
    """Return rows of cells with their numbers; a first row without any number is a heading."""
    raw = handed_in(path, MOST_BYTES, "it is far larger than a table of shade", "give 12 × 24 numbers or a horizon")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput([Fault(str(path), "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8")]) from error
    first = text.split("\n", 1)[0]
    mark = next((m for m in (";", "\t") if m in first), "," if "," in text else None)
    lines = text.replace("\0", "?").splitlines()
    cells = [line.split() for line in lines] if mark is None else list(csv.reader(io.StringIO("\n".join(lines)), delimiter=mark))
    rows = [(i, [c.strip() for c in row]) for i, row in enumerate(cells, start=1) if any(c.strip() for c in row)]
    if rows and not any(ch.isdigit() for cell in rows[0][1] for ch in cell):
        rows = rows[1:]
    if not rows:
        raise BadInput([Fault(str(path), "", "there are no numbers in it", "give 12 × 24 numbers, or azimuth and elevation")])
    return rows


def _number(path: Path, row: int, column: int, cell: str, low: float, high: float, what: str) -> float:
    try:
        value = float(cell.replace(",", "."))
    except ValueError:
        raise BadInput(
            [Fault(str(path), f"row {row}, column {column}", f"'{cell[:20]}' is not a number", f"type {what}")]
        ) from None
    if not low <= value <= high:
        raise BadInput([Fault(str(path), f"row {row}, column {column}", f"{value:g} is out of range", f"{what}")])
    return value


def _part(path: Path, row: int, column: int, cell: str) -> float:
    percent = cell.endswith("%")
    value = _number(
        path, row, column, cell.rstrip("% "), 0.0, 100.0 if percent else 1.0, "a shaded part lies between 0 and 1, or 100 %"
    )
    return value / 100.0 if percent else value


def _horizon(path: Path, rows: list[tuple[int, list[str]]]) -> tuple[HorizonPoint, ...]:
    if len(rows) > MOST_POINTS:
        raise BadInput([Fault(str(path), "", f"it has {len(rows)} points", f"give at most {MOST_POINTS}")])
    points: dict[float, HorizonPoint] = {}
    for number, (azimuth, elevation) in rows:
        at = _number(path, number, 1, azimuth, 0.0, 360.0, "an azimuth lies between 0 and 360, clockwise from north") % 360.0
        up = _number(path, number, 2, elevation, 0.0, 85.0, "an elevation lies between 0 and 85")
        if at in points and points[at].elevation_deg != up:
            raise BadInput([Fault(str(path), f"row {number}", f"azimuth {at:g}° stands twice", "give each azimuth once")])
        points[at] = HorizonPoint(azimuth_deg=at, elevation_deg=up)
    return tuple(points[a] for a in sorted(points))


def shade_text(face: Face) -> str:
    """Return a face's horizon as text that `read_shade` reads back; its table of shade where it has no horizon."""
    if face.horizon or face.shade_table is None:
        rows = [",".join(HEAD)] + [f"{p.azimuth_deg:g},{p.elevation_deg:g}" for p in face.horizon]
        return "\n".join(rows) + "\n"
    return "\n".join(",".join(f"{v:g}" for v in row) for row in face.shade_table) + "\n"
