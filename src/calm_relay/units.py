"""Quantities: one table of unit, text form and parser for every kind of number a person meets.

The core holds SI values and fractions only. This module is the one place where they become text and back.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field

from calm_relay.errors import BadInput, Fault


@dataclass(frozen=True)
class Quantity:
    """The kind of a number; put on a model field with ``Annotated`` so that fields, tables and text agree."""

    kind: str


@dataclass(frozen=True)
class Scale:
    """How a kind is shown: `unit`, its size in core units, and the decimals used by default."""

    unit: str
    factor: float
    decimals: int
    also: tuple[tuple[str, float], ...] = ()


# kind -> how it is shown; `also` lists further units a person may type, with their size in core units.
SCALES: dict[str, Scale] = {
    "power_w": Scale("kW", 1000.0, 2, (("w", 1.0), ("kwp", 1000.0), ("wp", 1.0), ("mw", 1e6))),
    "apparent_va": Scale("kVA", 1000.0, 2, (("va", 1.0), ("kw", 1000.0), ("w", 1.0))),
    "energy_wh": Scale("kWh", 1000.0, 1, (("wh", 1.0), ("mwh", 1e6))),
    "voltage_v": Scale("V", 1.0, 0, (("kv", 1000.0),)),
    "current_a": Scale("A", 1.0, 1, (("lra", 1.0), ("ma", 0.001))),
    "temperature_c": Scale("°C", 1.0, 0, (("c", 1.0),)),
    "angle_deg": Scale("°", 1.0, 0, (("deg", 1.0),)),
    "fraction": Scale("%", 0.01, 0),
    "length_m": Scale("m", 1.0, 1, (("mm", 0.001), ("cm", 0.01), ("km", 1000.0))),
    "hours_h": Scale("h", 1.0, 1, (("min", 1 / 60), ("hr", 1.0))),
    "count": Scale("", 1.0, 0),
    "ratio": Scale("", 1.0, 2),
    "money": Scale("", 1.0, 0),
    "price_per_kwh": Scale("per kWh", 1.0, 3, (("/kwh", 1.0),)),
    "years": Scale("years", 1.0, 1, (("y", 1.0), ("year", 1.0))),
}

PowerW = Annotated[float, Quantity("power_w"), Field(ge=0)]
ApparentVa = Annotated[float, Quantity("apparent_va"), Field(ge=0)]
EnergyWh = Annotated[float, Quantity("energy_wh"), Field(ge=0)]
VoltageV = Annotated[float, Quantity("voltage_v"), Field(gt=0)]
CurrentA = Annotated[float, Quantity("current_a"), Field(gt=0)]
TemperatureC = Annotated[float, Quantity("temperature_c"), Field(ge=-80, le=90)]
Fraction = Annotated[float, Quantity("fraction"), Field(ge=0, le=1)]
LengthM = Annotated[float, Quantity("length_m"), Field(gt=0)]
HoursH = Annotated[float, Quantity("hours_h"), Field(ge=0)]
PricePerKwh = Annotated[float, Quantity("price_per_kwh")]
Money = Annotated[float, Quantity("money")]

_NUMBER = re.compile(r"^\s*([+\-−]?\d*(?:[.,]\d+)?(?:[eE][+\-]?\d+)?)\s*(.*?)\s*$")


def format_quantity(value: float, kind: str, decimals: int | None = None, *, with_unit: bool = True) -> str:
    """Return `value`, given in core units, as text in the shown unit, e.g. ``6600, 'power_w'`` → ``6.60 kW``."""
    scale = SCALES[kind]
    shown = value / scale.factor
    if not math.isfinite(shown):
        return "no limit" if shown > 0 else "–"
    places = scale.decimals if decimals is None else decimals
    if kind == "money":
        text = f"{shown:,.{places}f}"
    else:
        text = f"{shown:.{places}f}"
    if text.startswith("-"):
        text = text[1:] if float(text.replace(",", "")) == 0 else "−" + text[1:]
    if not with_unit or not scale.unit:
        return text
    return f"{text}{scale.unit}" if scale.unit == "°" else f"{text} {scale.unit}"


def parse_quantity(text: str, kind: str) -> float:
    """Return what a person typed, in core units; a bare number is in the shown unit, the decimal mark ',' or '.'.

    Raises
    ------
    BadInput
        When there is no number, or the unit does not belong to the kind.
    """
    scale = SCALES[kind]
    match = _NUMBER.match(text)
    digits = match.group(1) if match else ""
    try:
        number = float(digits.replace(",", ".").replace("−", "-"))
    except ValueError:
        raise BadInput([Fault("", "", f"'{text.strip()}' is not a number", f"type it like '{_example(kind)}'")]) from None
    unit = match.group(2).casefold() if match else ""
    if not unit or unit == scale.unit.casefold():
        return number * scale.factor
    for name, factor in scale.also:
        if unit == name:
            return number * factor
    known = ", ".join([scale.unit, *(name for name, _ in scale.also)]).strip(", ")
    raise BadInput([Fault("", "", f"the unit '{match.group(2) if match else ''}' does not fit here", f"use one of: {known}")])


def _example(kind: str) -> str:
    return format_quantity({"power_w": 6600.0, "energy_wh": 13200.0, "fraction": 0.2}.get(kind, 10.0), kind)
