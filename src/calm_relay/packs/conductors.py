"""Tables of conductors: sizes with resistance and amps, corrections for air and grouping; each table with its source."""

from __future__ import annotations

import itertools
import tomllib
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Any

from calm_relay.errors import BadInput, Fault

FILE = "conductors.toml"
PER_K = 0.00393  # copper's resistance a kelvin, IEC 60228


@dataclass(frozen=True)
class Conductor:
    """One size: its name, area [mm²], resistance at the table's temperature [Ω/km], and amps by column [A]."""

    name: str
    area_mm2: float
    ohm_per_km: float
    amps: tuple[float, ...]


@dataclass(frozen=True)
class ConductorTable:
    """Sizes of one kind of cable. `ambient`, `grouped`: upper bounds with their factors; `small` caps a size's breaker. [A]"""

    id: str
    name: str
    source: str
    resistance_at_c: float
    runs_at_c: float
    columns: tuple[str, ...]
    rows: tuple[Conductor, ...]
    ambient: tuple[tuple[float, float], ...]
    grouped: tuple[tuple[float, float], ...]
    small: tuple[tuple[str, float], ...] = ()
    last_above_a: float | None = None

    def usual(self, amps: float) -> str:
        """Return the method that holds where none is chosen: the first, above the amps of `last_above_a` the last. [A]"""
        return self.columns[-1] if self.last_above_a is not None and amps > self.last_above_a else self.columns[0]

    def size(self, name: str) -> Conductor:
        """Return a size by its name; raises BadInput with those there are."""
        for row in self.rows:
            if row.name == name:
                return row
        known = ", ".join(row.name for row in self.rows)
        raise BadInput([Fault("", "size", f"there is no '{name}' in this table ({self.name})", f"use one of: {known}")])

    def column(self, name: str) -> int:
        """Return where a method's amps stand; raises BadInput with those there are. [index]"""
        if name in self.columns:
            return self.columns.index(name)
        raise BadInput([Fault("", "method", f"there is no '{name}' in this table", f"use one of: {', '.join(self.columns)}")])

    def ohm_per_m(self, row: Conductor, at_c: float | None = None) -> float:
        """Return a conductor's resistance where it runs at a temperature; None: as hot as the table allows. [Ω/m]"""
        hot = self.runs_at_c if at_c is None else at_c
        return row.ohm_per_km / 1000.0 * (1.0 + PER_K * (hot - self.resistance_at_c))

    def correction(self, ambient_c: float, grouped: int) -> float:
        """Return the factor for air and grouping: that of the next bound; beyond the last there is none. [0 to 1.1]"""
        return _factor(self.ambient, ambient_c) * _factor(self.grouped, float(grouped))


def _factor(rows: tuple[tuple[float, float], ...], value: float) -> float:
    return next((factor for bound, factor in rows if value <= bound), 0.0)


def parse_tables(text: str, file: str) -> dict[str, ConductorTable]:
    """Return the tables of a TOML text by their ids; raises BadInput with every fault."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput([Fault(file, "", f"it is not TOML ({error})", "mend the text")]) from error
    faults: list[Fault] = []
    out: dict[str, ConductorTable] = {}
    for table_id, row in data.items():
        if not isinstance(row, dict):
            faults.append(Fault(file, str(table_id), "it is no table", f"write [{table_id}] and its lines"))
            continue
        try:
            out[table_id] = _table(table_id, row)
        except _Wrong as error:
            faults.append(Fault(file, f"{table_id}.{error.key}", error.what, error.right))
    if faults or not out:
        raise BadInput(faults or [Fault(file, "", "it holds no table of conductors", "see the shipped conductors.toml")])
    return out


class _Wrong(Exception):
    def __init__(self, key: str, what: str, right: str) -> None:
        super().__init__(what)
        self.key, self.what, self.right = key, what, right


def _number(row: dict[str, Any], key: str) -> float:
    value = row.get(key)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise _Wrong(key, "it is no number", "write degrees Celsius")
    return float(value)


def _text(row: dict[str, Any], key: str) -> str:
    value = row.get(key)
    if not isinstance(value, str) or not value:
        raise _Wrong(key, "it is missing", "write words in quotes")
    return value


def _pairs(row: dict[str, Any], key: str, *, named: bool = False, lacking: bool = False) -> tuple[Any, ...]:
    rows = row.get(key)
    if rows is None and lacking:
        return ()
    good = isinstance(rows, list) and rows and all(
        isinstance(r, list) and len(r) == 2 and isinstance(r[0], str if named else (int, float)) and isinstance(r[1], int | float)
        for r in rows
    )  # fmt: skip
    if not good:
        raise _Wrong(key, "it holds no pairs of numbers", "write [[30, 1.0], [35, 0.94]]")
    assert isinstance(rows, list)
    if not named and [r[0] for r in rows] != sorted(r[0] for r in rows):
        raise _Wrong(key, "its bounds do not rise", "put the lowest first")
    return tuple((r[0] if named else float(r[0]), float(r[1])) for r in rows)


def _table(table_id: str, row: dict[str, Any]) -> ConductorTable:
    columns = row.get("columns")
    if not isinstance(columns, list) or not columns or not all(isinstance(c, str) for c in columns):
        raise _Wrong("columns", "it names no methods", 'write columns = ["clipped direct"]')
    sizes = []
    for number, one in enumerate(row.get("rows") or [], start=1):
        right = f'write ["4 mm²", 4, 4.61, [{", ".join("36" for _ in columns)}]]'
        shape = isinstance(one, list) and len(one) == 4 and isinstance(one[0], str) and isinstance(one[3], list)
        if not shape or not all(isinstance(v, int | float) and v > 0 for v in (one[1], one[2], *one[3])):
            raise _Wrong(f"rows, number {number}", "it is no size with area, resistance and amps", right)
        if len(one[3]) != len(columns):
            raise _Wrong(f"rows, number {number}", f"it has {len(one[3])} amps for {len(columns)} methods", right)
        sizes.append(Conductor(one[0], float(one[1]), float(one[2]), tuple(float(a) for a in one[3])))
    if not sizes:
        raise _Wrong("rows", "it holds no sizes", 'write rows = [["4 mm²", 4, 4.61, [36]]]')
    for small, large in itertools.pairwise(sizes):
        if large.area_mm2 <= small.area_mm2 or large.ohm_per_km >= small.ohm_per_km:
            raise _Wrong("rows", f"{large.name} does not follow {small.name}: sizes rise, resistances fall", "put them in order")
    return ConductorTable(
        id=table_id, name=_text(row, "name"), source=_text(row, "source"), resistance_at_c=_number(row, "resistance_at_c"),
        runs_at_c=_number(row, "runs_at_c"), columns=tuple(columns), rows=tuple(sizes), ambient=_pairs(row, "ambient_c"),
        grouped=_pairs(row, "grouped"), small=_pairs(row, "small_most_a", named=True, lacking=True),
        last_above_a=_number(row, "last_above_a") if "last_above_a" in row else None,
    )  # fmt: skip


@cache
def shipped_tables() -> dict[str, ConductorTable]:
    """Return the tables that come with the program, by their ids."""
    return parse_tables(resources.files("calm_relay.packs").joinpath(FILE).read_text(encoding="utf-8"), FILE)


@cache
def own_tables(text: str, file: str = "the job's own tables") -> dict[str, ConductorTable]:
    """Return the tables of a job's own file, by their ids; raises BadInput with every fault."""
    return parse_tables(text, file)


def conductor_table(table_id: str, own: str = "") -> ConductorTable:
    """Return a table by its id, of a job's own file (its text) before the shipped ones; raises BadInput with those there are."""
    known = {**shipped_tables(), **(own_tables(own) if own else {})}
    found = known.get(table_id)
    if found is None:
        raise BadInput([Fault("", "cable_table", f"there is no table '{table_id}'", f"use one of: {', '.join(known)}")])
    return found
