"""A pack written out as a file that can be read, edited and shared: every figure with its source, those of one job included."""

from __future__ import annotations

import json
from typing import Any

from calm_relay.packs.pack import Pack

HEAD = "# A rule pack: every figure with its source. Copy, edit, share; rules change and local codes decide."


def _toml(value: Any) -> str:
    """Return a plain value as TOML writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, int):
        return str(value)
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_toml(item)}" for key, item in value.items()) + " }"
    return "[" + ", ".join(_toml(item) for item in value) + "]"


def _key(name: str) -> str:
    return name if name.replace("-", "").replace("_", "").isalnum() and name.isascii() else json.dumps(name, ensure_ascii=False)


def pack_text(pack: Pack, *, pack_id: str = "", name: str = "") -> str:
    """Return a pack as TOML, whole: it stands on no other. `pack_id` and `name`: what the copy is called."""
    out = [HEAD]
    for field, value in (("id", pack_id or pack.id), ("name", name or pack.name), ("version", pack.version), ("place", pack.place)):
        out.append(f"{field} = {_toml(value)}")
    parts: tuple[tuple[str, dict[str, tuple[Any, str]]], ...] = (
        ("tight", pack.tight), ("parameter", pack.parameter), ("table", dict(pack.table)), ("list", pack.list_),
    )  # fmt: skip
    for kind, rows in parts:
        out += ["", f"[{kind}]"]
        out += [f"{_key(key)} = {{ value = {_toml(value)}, source = {_toml(source)} }}" for key, (value, source) in rows.items()]
    for key, (curve, source) in pack.frequency.items():
        trips = [[row["frequency_hz"], row["after_s"]] for row in curve["trips"]]
        out += ["", f"[frequency.{_key(key)}]", f"source = {_toml(source)}", f"value = {_toml({**curve, 'trips': trips})}"]
    return "\n".join(out) + "\n"
