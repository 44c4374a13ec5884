"""Long series: kept once, by content, as read-only arrays; written as gzip CSV that any tool opens."""

from __future__ import annotations

import csv
import gzip
import hashlib
import io
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import BadInput, Fault
from calm_relay.job.common_models import SeriesRef

Series = NDArray[np.float64]
SIGNED = ("°C", "per_kwh")  # units whose values may lie below 0


def series_hash(values: Series) -> str:
    """Return the SHA-256 of the values as little-endian float64."""
    return hashlib.sha256(np.ascontiguousarray(values, dtype="<f8").tobytes()).hexdigest()


class SeriesStore:
    """Arrays by content hash; what is put in is copied and made read-only."""

    def __init__(self) -> None:
        self._kept: dict[str, Series] = {}

    def put(self, values: Series, unit: str | None = None) -> str:
        """Keep `values` and return their hash; what the reader of a job would refuse is never kept.

        Raises
        ------
        BadInput
            A value is not finite, or below 0 in a `unit` that knows no such values.
        """
        array = np.asarray(values, dtype=np.float64)
        wrong = ~np.isfinite(array) if unit is None or unit in SIGNED else ~(np.isfinite(array) & (array >= 0))
        if wrong.any():
            at = int(np.flatnonzero(wrong)[0])
            least = "" if unit is None or unit in SIGNED else ", 0 or more"
            raise BadInput([Fault("", f"row {at + 1}", f"the value {array[at]:g} cannot be kept", f"give finite numbers{least}")])
        key = series_hash(values)
        if key not in self._kept:
            kept = np.array(values, dtype=np.float64)
            kept.setflags(write=False)
            self._kept[key] = kept
        return key

    def get(self, key: str) -> Series:
        """Return the values of `key`; raises KeyError."""
        return self._kept[key]

    def __contains__(self, key: str) -> bool:
        return key in self._kept


def write_csv_gz(values: Series, column: str) -> bytes:
    """Return one column with one header row, UTF-8, full precision, gzip level 1 without a time stamp."""
    text = io.StringIO()
    text.write(f"{column}\n")
    text.write("\n".join(map(repr, values.tolist())))
    text.write("\n")
    return gzip.compress(text.getvalue().encode(), compresslevel=1, mtime=0)


def read_csv_column(raw: bytes, ref: SeriesRef, file: str, field: str) -> Series:
    """Return the column `ref.column` of a CSV (gzip or plain) with `ref.rows` rows of finite numbers; only `SIGNED` ones below 0.

    Raises
    ------
    BadInput
        Naming the row and what is wrong there.
    """

    def bad(problem: str, remedy: str) -> BadInput:
        return BadInput([Fault(file, field, problem, remedy)])

    try:
        data = gzip.decompress(raw) if raw[:2] == b"\x1f\x8b" else raw
        text = data.decode("utf-8-sig")
    except (OSError, EOFError, UnicodeDecodeError) as error:
        raise bad(f"it is not readable as UTF-8 CSV ({error})", "save it as plain UTF-8 CSV") from error
    rows = csv.reader(io.StringIO(text, newline=""))
    header = next(rows, [])
    if ref.column not in header:
        raise bad(f"there is no column '{ref.column}' in its first row", f"its columns are: {', '.join(header) or 'none'}")
    at = header.index(ref.column)
    values = np.empty(ref.rows)
    count = 0
    for number, row in enumerate(rows, start=2):
        if not row:
            continue
        if count >= ref.rows:
            raise bad(f"it has more than the {ref.rows} rows stated", "correct 'rows' or the file")
        try:
            values[count] = float(row[at])
        except (ValueError, IndexError):
            shown = row[at] if at < len(row) else "nothing"
            raise bad(f"row {number} holds '{shown}' where a number belongs", f"write a plain number in {ref.unit}") from None
        if not (np.isfinite(values[count]) and (values[count] >= 0 or ref.unit in SIGNED)):
            least = "" if ref.unit in SIGNED else ", 0 or more"
            raise bad(f"row {number} holds {row[at]}", f"write a finite number of {ref.unit}{least}")
        count += 1
    if count != ref.rows:
        raise bad(f"it has {count} rows, not the {ref.rows} stated", "correct 'rows' or the file")
    return values


def read_beside(job_file: Path, ref: SeriesRef, field: str) -> Series:
    """Return a series named by relative path inside the folder of a plain ``.json`` job; raises BadInput."""
    name = ref.path or ""
    relative = Path(name)
    shown = str(job_file)
    if relative.is_absolute() or ".." in relative.parts:
        raise BadInput([Fault(shown, field, f"the path '{name}' leaves the job's folder", "put the file beside the job")])
    path = job_file.parent / relative
    try:
        if not path.resolve().is_relative_to(job_file.parent.resolve()):
            problem = f"'{name}' is a link out of the job's folder"
            raise BadInput([Fault(shown, field, problem, "put the file itself beside the job")])
        raw = path.read_bytes()
    except FileNotFoundError:
        raise BadInput([Fault(shown, field, f"the file '{name}' is not there", f"put it at {path}")]) from None
    except OSError as error:
        raise BadInput([Fault(shown, field, f"'{name}' cannot be read ({error.strerror})", "check its rights")]) from error
    return read_csv_column(raw, ref, name, field)
