"""A rule pack: parameters, tables and lists with their sources, read from TOML and validated."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field
from functools import cache
from importlib import resources
from typing import Any

from calm_relay.errors import BadInput, Fault

SHIPPED = ("international",)  # ids of the packs that come with the program; each is `<id>.toml` beside this file


@dataclass(frozen=True)
class Pack:
    """A pack: name → (value, source) of thresholds and parameters; tables of (key, value) rows; lists of numbers or ids.

    Every reader fails with a fault that names pack and key where the pack lacks it: a missing figure is never a quiet 0.
    """

    id: str
    name: str
    version: str
    tight: dict[str, tuple[float, str]]
    parameter: dict[str, tuple[float, str]]
    table: dict[str, tuple[tuple[tuple[float, float], ...], str]]
    list_: dict[str, tuple[tuple[Any, ...], str]]
    frequency: dict[str, tuple[dict[str, Any], str]] = field(default_factory=dict)

    def value(self, name: str) -> float:
        """Return a parameter's value; raises BadInput naming pack and key. [unit in the parameter's name]"""
        return float(self._row("parameter", self.parameter, name)[0])

    def source(self, name: str) -> str:
        """Return where a parameter comes from; raises BadInput."""
        return str(self._row("parameter", self.parameter, name)[1])

    def tight_frac(self, name: str) -> float:
        """Return the margin below which a quantity is 'tight' (definitions D13); raises BadInput."""
        return float(self._row("tight", self.tight, name)[0])

    def rows(self, name: str) -> tuple[tuple[float, float], ...]:
        """Return a table's rows; raises BadInput."""
        found: tuple[tuple[float, float], ...] = self._row("table", self.table, name)[0]
        return found

    def items(self, name: str) -> tuple[Any, ...]:
        """Return a list's items; raises BadInput."""
        found: tuple[Any, ...] = self._row("list", self.list_, name)[0]
        return found

    def curve(self, name: str) -> tuple[dict[str, Any], str]:
        """Return a frequency curve's figures as a card has them, and its source; raises BadInput."""
        found: tuple[dict[str, Any], str] = self._row("frequency", self.frequency, name)
        return found

    def _row(self, kind: str, rows: dict[str, Any], name: str) -> Any:
        if name not in rows:
            pack = f"pack {self.id} {self.version}"
            raise BadInput([Fault(pack, f"{kind}.{name}", "this figure is missing", "add it to the pack")])
        return rows[name]


def parse_pack(text: str, file: str) -> Pack:
    """Return the pack a TOML text describes; raises BadInput with every fault."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput([Fault(file, "", f"it is not TOML ({error})", "mend the text")]) from error
    faults: list[Fault] = []
    kinds: dict[str, dict[str, Any]] = {}
    for kind, wanted in (("tight", _number), ("parameter", _number), ("table", _table), ("list", _list), ("frequency", _curve)):
        rows = kinds[kind] = {}
        for name, row in data.get(kind, {}).items():
            value = wanted(row.get("value")) if isinstance(row, dict) else None
            source = row.get("source") if isinstance(row, dict) else None
            if value is None or not isinstance(source, str) or not source:
                faults.append(Fault(file, f"{kind}.{name}", "value or source is missing", "write { value = …, source = … }"))
            else:
                rows[name] = (value, source)
    if faults:
        raise BadInput(faults)
    head = (str(data.get("id", "")), str(data.get("name", "")), str(data.get("version", "")))
    return Pack(
        *head, tight=kinds["tight"], parameter=kinds["parameter"], table=kinds["table"], list_=kinds["list"],
        frequency=kinds["frequency"],
    )  # fmt: skip


def _number(value: object) -> float | None:
    return None if isinstance(value, bool) or not isinstance(value, int | float) else float(value)


def _table(value: object) -> tuple[tuple[float, float], ...] | None:
    """Return rows of two numbers; None where they are anything else."""
    if not isinstance(value, list) or not value:
        return None
    rows = [(_number(r[0]), _number(r[1])) if isinstance(r, list) and len(r) == 2 else (None, None) for r in value]
    whole = tuple((a, b) for a, b in rows if a is not None and b is not None)
    return whole if len(whole) == len(value) else None


def _list(value: object) -> tuple[Any, ...] | None:
    if not isinstance(value, list) or not all(isinstance(item, str) or _number(item) is not None for item in value):
        return None
    return tuple(item if isinstance(item, str) else float(item) for item in value)


def _curve(value: object) -> dict[str, Any] | None:
    """Return a curve's figures where it has at least one trip of (Hz, s); None otherwise."""
    trips = _table(value.get("trips")) if isinstance(value, dict) else None
    if not isinstance(value, dict) or trips is None:
        return None
    rows = [{"frequency_hz": hz, "after_s": seconds} for hz, seconds in trips]
    return {**value, "trips": rows}


@cache
def pack_named(pack_id: str) -> Pack:
    """Return a shipped pack; raises BadInput where there is none of this id."""
    if pack_id not in SHIPPED:
        raise BadInput([Fault("", "pack", f"there is no pack '{pack_id}'", f"use one of: {', '.join(SHIPPED)}")])
    text = resources.files("calm_relay.packs").joinpath(f"{pack_id}.toml").read_text(encoding="utf-8")
    return parse_pack(text, f"{pack_id}.toml")
