"""Figures in the copied text of a data sheet, by name and unit, each with the words it came from. What is not there is not made up.

A figure counts only where a known name is followed by a number with a unit that fits, with nothing between them but symbols, units
in brackets, dots, bars and the few words that sheets put there. Prose that names a figure is left alone.
"""

from __future__ import annotations

import re
import tomllib
import unicodedata
from dataclasses import dataclass, replace
from functools import cache
from importlib import resources
from typing import Any

from calm_relay.equipment.columns import fields_of

LANGUAGES = ("en", "de", "fr", "es", "it", "nl")
# quantity → unit as written (folded) → its size in core units
UNITS: dict[str, dict[str, float]] = {
    "power": {"w": 1.0, "wp": 1.0, "kw": 1e3, "kwp": 1e3},
    "volts": {"v": 1.0, "vdc": 1.0, "v dc": 1.0, "kv": 1e3},
    "amps": {"a": 1.0, "adc": 1.0, "a dc": 1.0},
    "energy": {"wh": 1.0, "kwh": 1e3},
    "per_kelvin": {"%/°c": 0.01, "%/k": 0.01, "% / °c": 0.01, "% / k": 0.01, "%/ºc": 0.01, "%/c": 0.01},
    "share": {"%": 0.01},
    "apparent": {"va": 1.0, "kva": 1e3, "w": 1.0, "kw": 1e3},
    "window": {"v": 1.0, "vdc": 1.0, "v dc": 1.0},
    "mass": {"kg": 1.0, "lb": 0.45359237, "lbs": 0.45359237},
    "count": {},
    "size": {"mm": 0.001, "cm": 0.01, "m": 1.0},
}
WHOLE = {"w", "wp", "v", "vdc", "v dc", "mm", "wh", "va"}  # with these a group of three digits after one mark is thousands
BETWEEN = {"stc", "dc", "max", "min", "nom", "typ", "bei", "at", "a", "stk", "each", "ca", "approx", "iec", "ul"}
MOST_COUNT = 12
_RANGE = re.compile(r"(\d+(?:[.,]\d+)*)\s*(?:v|vdc|v dc)?\s*(?:-+|~|/|…|\.\.\.?|to|bis|tot|a|hasta|fino a)\s*(\d+(?:[.,]\d+)*)")
_COUNT = re.compile(r"(\d{1,2})(?![\d.,]*\d|\s*[a-z%°])")
_NUMBER = re.compile(r"[+\-]?\d+(?:[.,]\d+)*")
_SIZE = re.compile(r"(\d+(?:[.,]\d+)?)\s*[x×*]\s*(\d+(?:[.,]\d+)?)(?:\s*[x×*]\s*\d+(?:[.,]\d+)?)?")


@dataclass(frozen=True)
class SheetFigure:
    """One figure found: the card's field, its value in core units, the line it stands on and the other values of that line."""

    field: str
    value: float
    words: str
    others: tuple[float, ...] = ()


@dataclass(frozen=True)
class SheetRead:
    """What a text holds of one kind of card."""

    kind: str
    figures: tuple[SheetFigure, ...]

    def values(self) -> dict[str, float]:
        """Return the figures by field. [core unit of each]"""
        return {figure.field: figure.value for figure in self.figures}


@cache
def vocabulary() -> dict[str, dict[str, dict[str, Any]]]:
    """Return what sheets call their figures: kind → field → quantity, symbols and spellings by language."""
    text = resources.files("calm_relay.equipment").joinpath("sheet_words.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def read_sheet(text: str) -> SheetRead | None:
    """Return the figures of the kind of card that a text says most of; None where it says nothing of any."""
    lines = [(raw.strip(), _folded(raw)) for raw in text.splitlines() if raw.strip()]
    reads = [_kinded(SheetRead(kind, _figures(kind, lines))) for kind in vocabulary()]
    best = max(reads, key=lambda read: len(read.figures), default=None)
    return best if best is not None and best.figures else None


PAIRS = {"mppt_window": ("mppt_min_v", "mppt_max_v"), "battery_window": ("battery_voltage_min_v", "battery_voltage_max_v")}
OF_BATTERY = ("battery_voltage_min_v", "charge_max_a", "charge_max_w", "discharge_max_a", "discharge_max_w")
OF_TRACKERS = ("mppt_min_v", "mppt_max_v", "start_v", "working_current_a", "short_circuit_current_a")


def _kinded(read: SheetRead) -> SheetRead:
    """Return what was read of an inverter as that of its kind: with a battery and trackers a hybrid, else of the one it has.

    Figures of a tracker stand for each of the trackers that the sheet counts, for the first where it does not.
    """
    if read.kind != "inverter":
        return read
    found = {figure.field: figure for figure in read.figures}
    battery = any(name in found for name in OF_BATTERY)
    trackers = any(name in found for name in OF_TRACKERS) or "dc_voltage_max_v" in found
    kind = "hybrid" if battery and trackers else "battery_inverter" if battery else "pv_inverter"
    count = int(found.pop("tracker_count").value) if "tracker_count" in found else 1
    out: list[SheetFigure] = []
    for name, figure in found.items():
        columns = [f"trackers.{n}.{name}" for n in range(1, count + 1)] if name in OF_TRACKERS else [name]
        known = fields_of(kind)
        out += [replace(figure, field=column) for column in columns if column in known]
    return SheetRead(kind, tuple(out))


def _folded(text: str) -> str:
    """Return text without case, accents and hyphens between letters; minus signs and degree signs of one kind."""
    plain = unicodedata.normalize("NFKD", text.replace("º", "°").replace("℃", "°C")).casefold()
    plain = "".join(c for c in plain if not unicodedata.combining(c))
    plain = plain.replace("−", "-").replace("–", "-").replace("\u00a0", " ").replace("ø", "o")
    plain = re.sub(r"(?<=[a-z])-(?=[a-z])", " ", plain)
    return re.sub(r"[ \t]+", " ", plain).strip()


@cache
def _names(kind: str) -> tuple[tuple[re.Pattern[str], str], ...]:
    """Return patterns of names with their fields, the longest first: 'maximum power voltage' is no 'maximum power'."""
    rows = [
        (name, field)
        for field, entry in vocabulary()[kind].items()
        for name in (*entry["symbols"], *(spelling for language in LANGUAGES for spelling in entry[language]))
    ]
    rows.sort(key=lambda row: -len(row[0]))
    return tuple((re.compile(rf"(?<![a-z0-9]){re.escape(name)}(?![a-z0-9])"), field) for name, field in rows)


def _figures(kind: str, lines: list[tuple[str, str]]) -> tuple[SheetFigure, ...]:
    found: dict[str, SheetFigure] = {}
    for at, (raw, line) in enumerate(lines):
        marks = _marks(kind, line)
        for number, (start, end, field) in enumerate(marks):
            until = marks[number + 1][0] if number + 1 < len(marks) else len(line)
            quantity = vocabulary()[kind][field]["quantity"]
            rest = line[end:until]
            read = _value(rest, quantity, kind)
            words = raw
            if (
                read is None
                and number == len(marks) - 1
                and start < 4
                and at + 1 < len(lines)
                and not _marks(kind, lines[at + 1][1])
            ):
                read = _value(f"{rest} {lines[at + 1][1]}", quantity, kind)  # the figure stands under its name
                words = f"{raw} / {lines[at + 1][0]}"
            if read is None:
                continue
            if field == "size":
                for name, value in (("length_m", max(read)), ("width_m", min(read[:2]))):
                    found.setdefault(name, SheetFigure(name, value, words))
                continue
            if field in PAIRS:
                for name, value in zip(PAIRS[field], sorted(read[:2]), strict=True):
                    found.setdefault(name, SheetFigure(name, value, words))
                continue
            found.setdefault(field, SheetFigure(field, read[0], words, tuple(read[1:])))
    return tuple(found.values())


def _marks(kind: str, line: str) -> list[tuple[int, int, str]]:
    """Return where names stand on a line (start, end, field), from left to right; a name inside a longer one is none."""
    taken: list[tuple[int, int, str]] = []
    for pattern, field in _names(kind):
        for match in pattern.finditer(line):
            a, b = match.span()
            if all(b <= start or a >= end for start, end, _ in taken):
                taken.append((a, b, field))
    taken.sort()
    out: list[tuple[int, int, str]] = []
    for start, end, field in taken:  # a symbol behind its own name belongs to it
        if out and out[-1][2] == field and not _NUMBER.search(line[out[-1][1] : start]):
            out[-1] = (out[-1][0], end, field)
        else:
            out.append((start, end, field))
    return out


def _value(rest: str, quantity: str, kind: str) -> list[float] | None:
    """Return the numbers that follow a name, the first with a fitting unit; None where something else stands between."""
    units = UNITS[quantity]
    if quantity == "size":
        match = _SIZE.search(rest)
        if match is None or not _only_signs(rest[: match.start()], units):
            return None
        unit = _unit_after(rest[match.end() :], units) or _unit_in(rest[: match.start()], units)
        return None if unit is None else [_number(part, unit) * units[unit] for part in match.groups()[:2]]
    if quantity == "count":
        match = _COUNT.search(rest)
        if match is None or not _only_signs(rest[: match.start()], units) or not 1 <= int(match.group(1)) <= MOST_COUNT:
            return None
        return [float(match.group(1))]
    if quantity == "window":
        match = _RANGE.search(rest)
        if match is None or not _only_signs(rest[: match.start()], units):
            return None
        unit = _unit_after(rest[match.end() :], units) or _unit_in(rest[: match.start()], units)
        return None if unit is None else [_number(part, unit) * units[unit] for part in match.groups()]
    match = _NUMBER.search(rest)
    if match is None or not _only_signs(rest[: match.start()], units):
        return None
    unit = _unit_after(rest[match.end() :], units) or _unit_in(rest[: match.start()], units)
    if unit is None:
        return None
    out, at = [_number(match.group(), unit) * units[unit]], match.end()
    while (more := _NUMBER.search(rest, at)) is not None and _only_signs(rest[at : more.start()], units):
        out.append(_number(more.group(), unit) * units[unit])
        at = more.end()
    return out


def _unit_after(text: str, units: dict[str, float]) -> str | None:
    for unit in sorted(units, key=len, reverse=True):
        if re.match(rf"\s*[\[(|;]?\s*{re.escape(unit)}(?![a-z0-9/°%])", text):
            return unit
    return None


def _unit_in(text: str, units: dict[str, float]) -> str | None:
    """Return a unit that stands alone before the number: in brackets, or in a column of its own."""
    for unit in sorted(units, key=len, reverse=True):
        if re.search(rf"(?:^|[\[(|;,\t ]){re.escape(unit)}(?:$|[\])|;,:\t ])", text):
            return unit
    return None


def _only_signs(text: str, units: dict[str, float]) -> bool:
    """Return whether nothing stands there but signs, units, symbols in brackets and the few words sheets put between."""
    bare = re.sub(r"[\[(][^\])]{0,14}[\])]", " ", text)
    words = [word for word in re.split(r"[\s.:;,|=+\-_/*\[\]()~±•·…<>≤≥]+", bare) if word]
    known = {part for unit in units for part in unit.replace("/", " ").split()} | set(units) | BETWEEN
    return all(word in known for word in words)


def _number(text: str, unit: str) -> float:
    """Return a number of either decimal mark; '1.500 V' and '1,134 mm' are thousands."""
    sign, digits = (-1.0, text[1:]) if text.startswith("-") else (1.0, text.lstrip("+"))
    marks = re.findall(r"[.,]", digits)
    if len(marks) > 1:
        last = max(digits.rfind("."), digits.rfind(","))
        same = len(set(marks)) == 1
        whole, part = (digits, "") if same else (digits[:last], digits[last + 1 :])
        return sign * float(re.sub(r"[.,]", "", whole) + ("." + part if part else ""))
    if len(marks) == 1 and unit in WHOLE and re.fullmatch(r"[1-9]\d?[.,]\d{3}", digits):
        return sign * float(re.sub(r"[.,]", "", digits))
    return sign * float(digits.replace(",", "."))
