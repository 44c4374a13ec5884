"""Rule packs: parameters with their sources, read from TOML and validated."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib import resources

from calm_relay.errors import BadInput, Fault


@dataclass(frozen=True)
class Pack:
    """A pack's thresholds and parameters: name → (value, source)."""

    id: str
    name: str
    version: str
    tight: dict[str, tuple[float, str]]
    parameter: dict[str, tuple[float, str]]

    def value(self, name: str) -> float:
        """Return a parameter's value; raises KeyError."""
        return self.parameter[name][0]

    def source(self, name: str) -> str:
        """Return where a parameter comes from."""
        return self.parameter[name][1]


def parse_pack(text: str, file: str) -> Pack:
    """Return the pack a TOML text describes; raises BadInput with every fault."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput([Fault(file, "", f"it is not TOML ({error})", "mend the text")]) from error
    faults: list[Fault] = []
    tables: dict[str, dict[str, tuple[float, str]]] = {}
    for table in ("tight", "parameter"):
        rows = tables[table] = {}
        for name, row in data.get(table, {}).items():
            value = row.get("value") if isinstance(row, dict) else None
            source = row.get("source") if isinstance(row, dict) else None
            if isinstance(value, bool) or not isinstance(value, int | float) or not isinstance(source, str) or not source:
                faults.append(Fault(file, f"{table}.{name}", "value or source is missing", "write { value = …, source = … }"))
            else:
                rows[name] = (float(value), source)
    if faults:
        raise BadInput(faults)
    return Pack(
        str(data.get("id", "")),
        str(data.get("name", "")),
        str(data.get("version", "")),
        tables["tight"],
        tables["parameter"],
    )


@cache
def international() -> Pack:
    """Return the shipped international pack."""
    text = resources.files("calm_relay.rules").joinpath("international.toml").read_text(encoding="utf-8")
    return parse_pack(text, "international.toml")
