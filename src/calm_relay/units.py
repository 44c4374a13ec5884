"""Quantities: one table of unit, text form and parser for every kind of number a person meets.

The core holds SI values and fractions only. This module is the one place where they become text and back.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Annotated

from pydantic import BeforeValidator, Field

from calm_relay.errors import BadInput, Fault


@dataclass(frozen=True)
class Quantity:
    """The kind of a number; put on a model field with ``Annotated`` so that fields, tables and text agree."""

    kind: str


@dataclass(frozen=True)
class Scale:
    """How a kind is shown: `unit`, its size in core units, the decimals used by default, and what core 0 is shown as.

    `also` lists further units a person may type: name (folded), size in core units, what core 0 is in that unit.
    """

    unit: str
    factor: float
    decimals: int
    also: tuple[tuple[str, float, float], ...] = ()
    zero: float = 0.0

    def to_core(self, shown: float) -> float:
        """Return a shown number in core units. [core unit]"""
        return (shown - self.zero) * self.factor

    def to_shown(self, core: float) -> float:
        """Return a core number as it is shown. [shown unit]"""
        return core / self.factor + self.zero


def _also(**sizes: float) -> tuple[tuple[str, float, float], ...]:
    return tuple((name.replace("per_", "/"), size, 0.0) for name, size in sizes.items())


_FAHRENHEIT = 5 / 9
METRIC: dict[str, Scale] = {
    "power_w": Scale("kW", 1000.0, 2, _also(w=1.0, kwp=1000.0, wp=1.0, mw=1e6)),
    "apparent_va": Scale("kVA", 1000.0, 2, _also(va=1.0, kw=1000.0, w=1.0)),
    "energy_wh": Scale("kWh", 1000.0, 1, _also(wh=1.0, mwh=1e6)),
    "voltage_v": Scale("V", 1.0, 0, _also(kv=1000.0)),
    "current_a": Scale("A", 1.0, 1, _also(lra=1.0, ma=0.001)),
    "temperature_c": Scale("°C", 1.0, 0, (("c", 1.0, 0.0), ("f", _FAHRENHEIT, 32.0), ("°f", _FAHRENHEIT, 32.0))),
    "kelvin_k": Scale("K", 1.0, 1, _also(c=1.0)),
    "angle_deg": Scale("°", 1.0, 0, _also(deg=1.0)),
    "fraction": Scale("%", 0.01, 0),
    "length_m": Scale("m", 1.0, 1, _also(mm=0.001, cm=0.01, km=1000.0, ft=0.3048)),
    "altitude_m": Scale("m", 1.0, 0, _also(km=1000.0, ft=0.3048)),
    "speed_m_per_s": Scale("m/s", 1.0, 1, (("km/h", 1 / 3.6, 0.0), ("mph", 0.44704, 0.0))),
    "irradiation_wh_per_m2": Scale("kWh/m²", 1000.0, 2, (("wh/m²", 1.0, 0.0), ("wh/m2", 1.0, 0.0), ("kwh/m2", 1000.0, 0.0))),
    "irradiance_w_per_m2": Scale("W/m²", 1.0, 0, (("w/m2", 1.0, 0.0),)),
    "hours_h": Scale("h", 1.0, 1, (("min", 1 / 60, 0.0), ("hr", 1.0, 0.0))),
    "clock_h": Scale("", 1.0, 2),
    "count": Scale("", 1.0, 0),
    "year": Scale("", 1.0, 0),
    "ratio": Scale("", 1.0, 2),
    "money": Scale("", 1.0, 0),
    "price_per_kwh": Scale(
        "per kWh",
        1.0,
        3,
        (("/kwh", 1.0, 0.0), ("ct", 0.01, 0.0), ("c", 0.01, 0.0), ("cent", 0.01, 0.0), ("ct/kwh", 0.01, 0.0), ("c/kwh", 0.01, 0.0)),
    ),
    "price_per_day": Scale("a day", 1.0, 2),
    "years": Scale("years", 1.0, 1, _also(y=1.0, year=1.0)),
    "mass_kg": Scale("kg", 1.0, 1, _also(g=0.001, t=1000.0, lb=0.45359237)),
    "area_mm2": Scale("mm²", 1.0, 1, (("mm2", 1.0, 0.0),)),
    "area_cm2": Scale("cm²", 1.0, 0, (("cm2", 1.0, 0.0),)),
    "frequency_hz": Scale("Hz", 1.0, 2),
    "seconds_s": Scale("s", 1.0, 1, _also(ms=0.001, min=60.0)),
    "resistance_ohm": Scale("mΩ", 0.001, 1, (("mohm", 0.001, 0.0), ("ω", 1.0, 0.0), ("ohm", 1.0, 0.0))),
    "litres": Scale("l", 1.0, 1, _also(gal=3.785411784)),
    "litres_per_h": Scale("l/h", 1.0, 1, (("gal/h", 3.785411784, 0.0),)),
}
NORTH_AMERICAN: dict[str, Scale] = {
    **METRIC,
    "temperature_c": Scale("°F", _FAHRENHEIT, 0, (("f", _FAHRENHEIT, 32.0), ("c", 1.0, 0.0), ("°c", 1.0, 0.0)), 32.0),
    "kelvin_k": Scale("°F", _FAHRENHEIT, 1, _also(k=1.0)),
    "length_m": Scale("ft", 0.3048, 1, (("in", 0.0254, 0.0), ("m", 1.0, 0.0), ("mm", 0.001, 0.0))),
    "altitude_m": Scale("ft", 0.3048, 0, _also(m=1.0)),
    "speed_m_per_s": Scale("mph", 0.44704, 1, (("m/s", 1.0, 0.0), ("km/h", 1 / 3.6, 0.0))),
    "mass_kg": Scale("lb", 0.45359237, 1, _also(kg=1.0)),
}
SYSTEMS = {"metric": METRIC, "north_american": NORTH_AMERICAN}
SCALES: dict[str, Scale] = dict(METRIC)  # the units in use: see use_units


def use_units(system: str) -> None:
    """Show and read numbers in another system of units from now on: ``metric`` or ``north_american``; raises KeyError."""
    SCALES.update(SYSTEMS[system])


PowerW = Annotated[float, Quantity("power_w"), Field(ge=0)]
ApparentVa = Annotated[float, Quantity("apparent_va"), Field(ge=0)]
EnergyWh = Annotated[float, Quantity("energy_wh"), Field(ge=0)]
VoltageV = Annotated[float, Quantity("voltage_v"), Field(gt=0)]
CurrentA = Annotated[float, Quantity("current_a"), Field(gt=0)]
TemperatureC = Annotated[float, Quantity("temperature_c"), Field(ge=-80, le=90)]


def _clock_from_text(given: object) -> object:
    """Return a clock's time in a file, such as "12:30" or "11 pm", as hours [h]; everything else as it is."""
    clock = _CLOCK.match(given) if isinstance(given, str) else None
    if clock is None or not (clock.group(2) or clock.group(3)):
        return given
    return _clock_h(int(clock.group(1)), int(clock.group(2) or 0), (clock.group(3) or "").casefold())


ClockH = Annotated[float, BeforeValidator(_clock_from_text), Quantity("clock_h"), Field(ge=0, le=24)]
Fraction = Annotated[float, Quantity("fraction"), Field(ge=0, le=1)]
LengthM = Annotated[float, Quantity("length_m"), Field(gt=0)]
HoursH = Annotated[float, Quantity("hours_h"), Field(ge=0)]
PricePerKwh = Annotated[float, Quantity("price_per_kwh")]
Money = Annotated[float, Quantity("money")]

_CLOCK = re.compile(r"^\s*(\d{1,2})(?:[:h](\d{2}))?\s*(h|am|pm)?\s*$", re.IGNORECASE)
_CURRENCY = re.compile(r"[$€£¥]|\b(?:eur|usd|gbp|aud|nzd|cad|chf|sek|nok|dkk)\b", re.IGNORECASE)
_THOUSANDS = re.compile(r"^[+\-−]?[1-9]\d{0,2}(?:,\d{3})+(?:\.\d+)?$")  # as money is shown; a price has no such form
_COMPASS = {"n": 0.0, "ne": 45.0, "e": 90.0, "se": 135.0, "s": 180.0, "sw": 225.0, "w": 270.0, "nw": 315.0}
_NUMBER = re.compile(r"^\s*([+\-−]?\d*(?:[.,]\d+)?(?:[eE][+\-]?\d+)?)\s*(.*?)\s*$")


def format_quantity(value: float, kind: str, decimals: int | None = None, *, with_unit: bool = True) -> str:
    """Return `value`, given in core units, as text in the shown unit, e.g. ``6600, 'power_w'`` → ``6.60 kW``."""
    scale = SCALES[kind]
    shown = scale.to_shown(value)
    if kind == "clock_h" and 0 <= value <= 24:
        minutes = round(value * 60)
        return f"{minutes // 60:02d}:{minutes % 60:02d}"
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


def count_words(count: int, noun: str) -> str:
    """Return a count with its noun in the right number."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


def hours_a_year(hours_h: float) -> str:
    """Return hours of a year in words; a few minutes are not none."""
    return "under 1 h a year" if 0 < hours_h < 1 else f"{hours_h:.0f} h a year"


def parse_quantity(text: str, kind: str) -> float:
    """Return what a person typed, in core units; a bare number is in the shown unit, the decimal mark ',' or '.'.

    [core unit of the quantity].

    Raises
    ------
    BadInput
        When there is no number, or the unit does not belong to the kind.
    """
    scale = SCALES[kind]
    if kind == "clock_h" and (clock := _CLOCK.match(text)) and (clock.group(2) or clock.group(3)):
        return _clock_h(int(clock.group(1)), int(clock.group(2) or 0), (clock.group(3) or "").casefold())
    if kind in ("money", "price_per_kwh", "price_per_day"):
        text = _CURRENCY.sub("", text).strip().removesuffix("/")
        text = text.replace(",", "") if kind == "money" and _THOUSANDS.match(text) else text
    if kind == "angle_deg" and text.strip().casefold() in _COMPASS:
        return _COMPASS[text.strip().casefold()]
    match = _NUMBER.match(text)
    digits = match.group(1) if match else ""
    try:
        number = float(digits.replace(",", ".").replace("−", "-"))
    except ValueError:
        raise BadInput([Fault("", "", f"'{text.strip()}' is not a number", f"type it like '{_example(kind)}'")]) from None
    unit = match.group(2).casefold() if match else ""
    if not unit or unit == scale.unit.casefold():
        return scale.to_core(number)
    for name, factor, zero in scale.also:
        if unit == name:
            return (number - zero) * factor
    known = ", ".join([scale.unit, *(name for name, _, _ in scale.also)]).strip(", ") or "no unit"
    raise BadInput([Fault("", "", f"the unit '{match.group(2) if match else ''}' does not fit here", f"use one of: {known}")])


def _clock_h(hour: int, minute: int, half: str) -> float:
    """Return an hour of the day from a clock's time; noon and midnight by am and pm. [h]"""
    if half in ("am", "pm"):
        hour = hour % 12 + (12 if half == "pm" else 0)
    return hour + minute / 60


def _example(kind: str) -> str:
    typical = {"power_w": 6600.0, "energy_wh": 13200.0, "fraction": 0.2, "irradiation_wh_per_m2": 4200.0, "year": 2025.0}
    return format_quantity(typical.get(kind, 10.0), kind)


def exact_text(value: float, kind: str, *, with_unit: bool = True) -> str:
    """Return a value with as many decimals as it needs, up to four: what a field shows for editing."""
    scale = SCALES[kind]
    shown, places = scale.to_shown(value), scale.decimals
    while places < 4 and abs(round(shown, places) - shown) > 1e-9:
        places += 1
    return format_quantity(value, kind, places, with_unit=with_unit)
