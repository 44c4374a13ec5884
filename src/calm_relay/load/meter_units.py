"""Units of a meter file's columns: what a heading names, what stands elsewhere in the file, else by size."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
UNITS = {  # a heading's unit: what it is, and what turns it into Wh or W
    "kwh": ("energy", 1000.0), "mwh": ("energy", 1e6), "wh": ("energy", 1.0),
    "kw": ("power", 1000.0), "w": ("power", 1.0), "watt": ("power", 1.0), "watts": ("power", 1.0),
}  # fmt: skip
UNIT = re.compile(r"(?<![a-z0-9])(kwh|mwh|wh|kw|watts?|w)(?![a-z])")
POWER = re.compile(r"power|demand|leistung|puissance|potencia|vermogen")
MOST_KWH_A_DAY = 300.0  # a column without a unit that comes to less is kWh
MOST_KW = 60.0  # where no unit is named, a mean that is less is kW


def unit_of(head: str, hint: str = "") -> str:
    """Return the unit that a heading names, else a hint from elsewhere in the file, else ''."""
    found = UNIT.search(head.casefold().replace("_", " ").replace("·", ""))
    return found.group(1) if found else hint


def hinted_unit(text: str) -> str:
    """Return the one unit of energy or power that a text speaks of; '' where it speaks of none or of several."""
    found = {m for m in UNIT.findall(text.casefold().replace("_", " ")) if m != "w"}
    return found.pop() if len(found) == 1 else ""


def is_power(head: str, unit: str) -> bool:
    """Return whether a column is a mean power, not an energy."""
    return UNITS[unit][0] == "power" if unit else bool(POWER.search(head.casefold()))


def to_wh(head: str, unit: str, values: Array, interval_s: int) -> tuple[float, str]:
    """Return what turns a column into Wh an interval, and the unit in words; without one, by size. [Wh per unit of the column]"""
    if is_power(head, unit):
        by_size = ""
        if not unit:
            unit, by_size = ("kw" if float(np.nanmean(np.abs(values))) < MOST_KW else "w"), " by its size"
        name = "W" if UNITS[unit][1] == 1.0 else "kW"
        return UNITS[unit][1] * interval_s / 3600.0, f"{name} (mean power){by_size}"
    if unit:
        return UNITS[unit][1], {"kwh": "kWh", "wh": "Wh", "mwh": "MWh"}[unit]
    day = float(np.nanmean(np.abs(values))) * 86_400 / interval_s
    return (1000.0, "kWh by its size") if day < MOST_KWH_A_DAY else (1.0, "Wh by its size")
