"""The sums of wiring: amps from kVA, voltage change, the smallest size that does, protective devices, busbars of two sources."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from calm_relay.packs.conductors import Conductor, ConductorTable

Way = Literal["single", "three", "dc"]


def amps_of(va: float, volts: float, way: Way) -> float:
    """Return the current of an apparent power, S/V or S/(√3·V). [A]"""
    return va / (volts * (3.0**0.5 if way == "three" else 1.0))


def voltage_change_v(way: Way, amps: float, length_m: float, ohm_per_m: float) -> float:
    """Return the volts along a run: 2·I·R·L, or √3·I·R·L on three phases. [V]"""
    return (3.0**0.5 if way == "three" else 2.0) * amps * ohm_per_m * length_m


@dataclass(frozen=True)
class Carries:
    """What a size carries where it lies: amps of the table, the factor for air and grouping, and their product. [A], [1]"""

    conductor: Conductor
    table_a: float
    factor: float

    @property
    def amps(self) -> float:
        """Corrected amps. [A]"""
        return self.table_a * self.factor

    @property
    def words(self) -> str:
        """The arithmetic."""
        return f"{self.conductor.name}: {self.table_a:g} A × {self.factor:.2f} = {self.amps:.1f} A"


def carries(table: ConductorTable, size: str, method: str, ambient_c: float, grouped: int) -> Carries:
    """Return what a size carries; raises BadInput for one that is not there. [°C]"""
    row = table.size(size)
    return Carries(row, row.amps[table.column(method)], table.correction(ambient_c, grouped))


@dataclass(frozen=True)
class Terminals:
    """The sizes that terminals take; None: no such bound. [mm²]"""

    low_mm2: float | None
    high_mm2: float | None

    @property
    def known(self) -> bool:
        """Whether anything is said of them."""
        return self.low_mm2 is not None or self.high_mm2 is not None

    @property
    def words(self) -> str:
        """The sizes in words."""
        low = "" if self.low_mm2 is None else f"from {self.low_mm2:g} "
        return f"{low}{'' if self.high_mm2 is None else f'up to {self.high_mm2:g} '}mm²"

    def take(self, conductor: Conductor) -> bool:
        """Return whether a size fits."""
        above = self.low_mm2 is None or conductor.area_mm2 >= self.low_mm2
        return above and (self.high_mm2 is None or conductor.area_mm2 <= self.high_mm2)


def breaker_for(amps: float, sizes: tuple[float, ...]) -> float | None:
    """Return the smallest standard size of at least so many amps; None where there is none. [A]"""
    return min((size for size in sizes if size >= amps - 1e-9), default=None)


def most_breaker_a(table: ConductorTable, size: str, corrected_a: float, sizes: tuple[float, ...]) -> float | None:
    """Return the largest standard breaker that protects a size: by its corrected amps, small sizes by their own cap. [A]"""
    cap = min(corrected_a, dict(table.small).get(size, corrected_a))
    return max((one for one in sizes if one <= cap + 1e-9), default=None)


@dataclass(frozen=True)
class Choice:
    """The smallest size that does it all, or why none does."""

    conductor: Conductor | None
    breaker_a: float | None
    change_v: float
    words: str


def smallest_size(
    table: ConductorTable, method: str, ambient_c: float, grouped: int, *, design_a: float, way: Way, volts: float, length_m: float,
    most_frac: float, breakers: tuple[float, ...],
) -> Choice:  # fmt: skip
    """Return the smallest size with Ib ≤ In ≤ Iz whose voltage change is within its limit.

    Parameters
    ----------
    design_a : float
        Ib, continuous-duty factor included. [A]
    most_frac : float
        Voltage change allowed, as a share of `volts`. [0 to 1]
    """
    device = breaker_for(design_a, breakers)
    if device is None:
        return Choice(None, None, 0.0, f"no standard breaker of {design_a:.1f} A or more")
    for row in table.rows:
        held = carries(table, row.name, method, ambient_c, grouped)
        most = most_breaker_a(table, row.name, held.amps, breakers)
        if most is None or device > most:
            continue
        change = voltage_change_v(way, design_a, length_m, table.ohm_per_m(row))
        if change <= most_frac * volts + 1e-9:
            words = (
                f"{design_a:.1f} A ≤ {device:g} A ≤ {held.amps:.1f} A, {change:.2f} V of {most_frac * volts:.2f} V on {row.name}"
            )
            return Choice(row, device, change, words)
    return Choice(None, device, 0.0, f"no size of this table carries {device:g} A within {most_frac * 100:g} % over {length_m:g} m")


@dataclass(frozen=True)
class BusbarRule:
    """One rule for a busbar with two sources: whether it passes, its amps against their limit, and its arithmetic. [A]"""

    id: str
    name: str
    value_a: float
    limit_a: float
    words: str

    @property
    def passes(self) -> bool:
        """Whether it holds; equality is within."""
        return self.value_a <= self.limit_a + 1e-9


def busbar_rules(
    names: tuple[str, ...], busbar_a: float, main_a: float, inverters_a: float, breakers_a: float | None, *, factor: float = 1.25,
    far_end: float = 1.2,
) -> tuple[BusbarRule, ...]:  # fmt: skip
    """Return each rule of a pack for one busbar. [A]

    Parameters
    ----------
    inverters_a : float
        Rated output of all inverters feeding it, those of downstream panels included.
    breakers_a : float or None
        Sum of all load and source breakers on it, the main one left out; None: not known.

    Source: NEC 705.12(B), from memory.
    """
    fed, out = factor * inverters_a, []
    for name in names:
        if name == "plain":
            words = f"{main_a:g} A main + {factor:g} × {inverters_a:.1f} A = {main_a + fed:.1f} of {busbar_a:g} A"
            out.append(BusbarRule(name, "main and inverters together", main_a + fed, busbar_a, words))
        elif name == "far_end":
            words = f"{main_a:g} A main + {factor:g} × {inverters_a:.1f} A = {main_a + fed:.1f} of {far_end:g} × {busbar_a:g} A"
            out.append(BusbarRule(name, "backfeed at the far end", main_a + fed, far_end * busbar_a, words))
        elif name == "sum_of_breakers" and breakers_a is not None:
            words = f"all breakers but the main one {breakers_a:g} of {busbar_a:g} A"
            out.append(BusbarRule(name, "sum of breakers", breakers_a, busbar_a, words))
        elif name == "sum_of_sources":
            words = f"{main_a:g} A main + {inverters_a:.1f} A of inverters = {main_a + inverters_a:.1f} of {busbar_a:g} A"
            out.append(BusbarRule(name, "sum of sources", main_a + inverters_a, busbar_a, words))
    return tuple(out)


def backfeed_most_a(busbar_a: float, main_a: float, *, far_end: float = 1.2, factor: float = 1.25) -> tuple[float, float]:
    """Return the backfeed that the far-end rule leaves: as breaker, and as continuous output of inverters. [A]"""
    room = far_end * busbar_a - main_a
    return room, room / factor
