"""A rule pack: parameters, tables and lists with their sources, read from TOML and validated."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from functools import cache
from importlib import resources
from typing import Any

from calm_relay.errors import BadInput, Fault

# Ids of the packs that come with the program; each is `<id>.toml` beside this file.
SHIPPED = (
    "international", "north-america", "great-britain", "australia-new-zealand", "australia-new-zealand-separate", "germany",
    "no-grid",
)  # fmt: skip
OWN = "own"  # what a job calls the pack of its own file
KINDS = ("tight", "parameter", "table", "list", "frequency")


@dataclass(frozen=True)
class Pack:
    """A pack: name → (value, source) of thresholds and parameters; tables of (key, value) rows; lists of numbers or ids.

    Every reader fails with a fault that names pack and key where the pack lacks it: a missing figure is never a quiet 0.
    `own_tables` is the text of a job's own tables of conductors; empty: the shipped ones hold.
    """

    id: str
    name: str
    version: str
    tight: dict[str, tuple[float, str]]
    parameter: dict[str, tuple[float, str]]
    table: dict[str, tuple[tuple[tuple[float, float], ...], str]]
    list_: dict[str, tuple[tuple[Any, ...], str]]
    frequency: dict[str, tuple[dict[str, Any], str]] = field(default_factory=dict)
    place: str = ""
    overridden: tuple[str, ...] = ()
    own_tables: str = ""

    def value(self, name: str) -> float:
        """Return a parameter's value; raises BadInput naming pack and key. [unit in the parameter's name]"""
        return float(self._row("parameter", self.parameter, name)[0])

    def get(self, name: str) -> float | None:
        """Return a parameter's value; None where the pack has no such rule. [unit in the parameter's name]"""
        found = self.parameter.get(name)
        return None if found is None else found[0]

    def choice(self, name: str) -> str | None:
        """Return the one word of a list of one; None where the pack has no such list."""
        found = self.list_.get(name)
        return str(found[0][0]) if found is not None and len(found[0]) == 1 else None

    def with_overrides(self, rows: Iterable[tuple[str, float, str]]) -> Pack:
        """Return the pack with parameters changed for one job: (name, value, reason) each; raises BadInput for an unknown one."""
        changed, rows = dict(self.parameter), tuple(rows)
        for name, value, reason in rows:
            if name not in changed:
                known = ", ".join(difflib.get_close_matches(name, changed, 3)) or "see 'pack show'"
                raise BadInput([Fault("", "overrides", f"pack {self.id} has no parameter '{name}'", f"use one it has: {known}")])
            changed[name] = (value, f"changed for this job: {reason}; the pack says {changed[name][0]:g}, {changed[name][1]}")
        names = tuple(name for name, _, _ in rows)
        return replace(self, parameter=changed, overridden=names) if names else self

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


def _line_of(text: str, kind: str, name: str) -> str:
    """Return in words where a key stands in a TOML text."""
    inside = False
    for number, line in enumerate(text.splitlines(), start=1):
        bare = line.strip()
        if bare.startswith("["):
            inside = bare.startswith(f"[{kind}]")
            if bare.startswith(f"[{kind}.{name}]"):
                return f", line {number}"
        elif inside and re.match(rf"^{re.escape(name)}\s*=", bare):
            return f", line {number}"
    return ""


def parse_pack(text: str, file: str, base: Callable[[str], Pack] | None = None) -> Pack:
    """Return the pack a TOML text describes; what it `extends`, found by `base`, gives all that it does not say itself.

    Raises BadInput with every fault, each with the line it stands in.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput([Fault(file, "", f"it is not TOML ({error})", "mend the text")]) from error
    faults: list[Fault] = []
    kinds: dict[str, dict[str, Any]] = {}
    for kind, wanted in zip(KINDS, (_number, _number, _table, _list, _curve), strict=True):
        rows = kinds[kind] = {}
        part = data.get(kind, {})
        if not isinstance(part, dict):
            faults.append(Fault(file, kind, "it is no table of names", f"write [{kind}] and names under it"))
            continue
        for name, row in part.items():
            value = wanted(row.get("value")) if isinstance(row, dict) else None
            source = row.get("source") if isinstance(row, dict) else None
            if value is None or not isinstance(source, str) or not source:
                at = f"{kind}.{name}{_line_of(text, kind, name)}"
                faults.append(Fault(file, at, "value or source is missing", "write { value = …, source = … }"))
            else:
                rows[name] = (value, source)
    for kind in data:
        if isinstance(data[kind], dict) and kind not in KINDS:
            faults.append(Fault(file, str(kind), "a pack has no such part", f"use one of: {', '.join(KINDS)}"))
    known = ("id", "name", "version", "place", "extends")
    for name in ("id", "name", "version"):
        if not isinstance(data.get(name), str) or not data[name]:
            faults.append(Fault(file, name, "it is missing", f'write {name} = "…"'))
    faults += [
        Fault(file, str(name), "a pack has no such line", f"use one of: {', '.join(known)}")
        for name, value in data.items()
        if not isinstance(value, dict) and name not in known
    ]
    if faults:
        raise BadInput(faults)
    under = data.get("extends")
    if under is not None:
        if base is None or not isinstance(under, str):
            raise BadInput(
                [Fault(file, "extends", f"'{under}' is no pack that is known here", f"use one of: {', '.join(SHIPPED)}")]
            )
        below = base(under)
        parts: tuple[dict[str, Any], ...] = (below.tight, below.parameter, below.table, below.list_, below.frequency)
        for kind, rows in zip(KINDS, parts, strict=True):
            kinds[kind] = {**rows, **kinds[kind]}
    head = (str(data.get("id", "")), str(data.get("name", "")), str(data.get("version", "")))
    return Pack(
        *head, tight=kinds["tight"], parameter=kinds["parameter"], table=kinds["table"], list_=kinds["list"],
        frequency=kinds["frequency"], place=str(data.get("place", "")),
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
    return parse_pack(text, f"{pack_id}.toml", pack_named)


@cache
def own_pack(text: str, file: str) -> Pack:
    """Return the pack of a job's own file; raises BadInput with every fault."""
    return parse_pack(text, file, pack_named)
