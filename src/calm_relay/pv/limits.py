"""Limits of strings and trackers: the one place where checks, ladder and planner take volts, amps and fuses from.

Every factor comes from the rule pack that is handed in.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from calm_relay.job.models import Site, StringGroup
from calm_relay.job.sky_models import Face
from calm_relay.library.cards import ModuleCard, OptimizerCard, Tracker
from calm_relay.packs.pack import Pack
from calm_relay.plant.station import Module, Optimizer, StringRow
from calm_relay.pv.voltage import ColdBy, beta_vmp_per_c, cell_rise_k, cold_voc_v, hot_vmp_v, rear_gain_frac, start_voltage_v


@dataclass(frozen=True)
class Bound:
    """A value against one limit of it; `rule` names the limit."""

    rule: str
    value: float
    limit: float
    sense: Literal["most", "least"]

    @property
    def broken(self) -> bool:
        """Whether the limit is passed, rounding apart; equality is within (definitions D13)."""
        return self.gap < -1e-9 * max(1.0, abs(self.limit))

    @property
    def gap(self) -> float:
        """What is left to the limit, below 0 past it. [unit of value and limit]"""
        return self.limit - self.value if self.sense == "most" else self.value - self.limit

    @property
    def margin_frac(self) -> float:
        """The gap as a share of the limit."""
        return self.gap / abs(self.limit) if self.limit else 0.0


# --- volts -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class StringVolts:
    """A string's volts at the site's extremes; None where a temperature or a coefficient is not known. [V]"""

    cold_open_v: float | None
    cold_working_v: float | None
    hot_working_v: float | None
    hot_open_v: float | None
    hot_cell_c: float | None


@dataclass(frozen=True)
class Extremes:
    """What a site's strings must stand: record low and design high of the air, a hottest cell where one is typed. [°C]

    `cold_by` is how the cold open voltage is found.
    """

    low_c: float | None = None
    high_c: float | None = None
    cell_c: float | None = None
    cold_by: ColdBy = "coefficient"


def extremes_of(site: Site) -> Extremes:
    """Return a site's extremes as they are typed."""
    return Extremes(site.record_low_c, site.design_high_c, site.hot_cell_c, site.cold_voltage_by)


def hot_cell_c(module: ModuleCard | Module, at: Extremes, mounting: str) -> float | None:
    """Return the hottest cell: as typed, else the design high and its rise under 1000 W/m²; None: neither is known. [°C]"""
    if at.cell_c is not None or at.high_c is None:
        return at.cell_c
    return at.high_c + cell_rise_k(1000.0, module.efficiency_frac, mounting)


def string_volts(pack: Pack, module: ModuleCard | Module, modules: int, at: Extremes, mounting: str) -> StringVolts:
    """Return the volts of `modules` in series: open and working, at the record low and at the hottest cell."""
    low_c = at.low_c
    cold_open = cold_working = hot_working = hot_open = None
    if low_c is not None:
        cold_open = cold_voc_v(module, modules, low_c, pack.rows("cold_voc"), at.cold_by)
        cold_working = modules * (module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (low_c - 25.0)))
    hot = hot_cell_c(module, at, mounting)
    if hot is not None:
        hot_working = hot_vmp_v(module, modules, hot)
        one = start_voltage_v(module, 1, hot)
        hot_open = None if one is None else modules * one
    return StringVolts(cold_open, cold_working, hot_working, hot_open, hot)


def ceiling_v(dc_voltage_max_v: float, module: ModuleCard | Module, local_v: float | None) -> tuple[float, str]:
    """Return the lowest of inverter input, module system voltage and local ceiling, as far as known, and which it is. [V]"""
    rows = [(dc_voltage_max_v, "inverter input")]
    if module.system_voltage_max_v is not None:
        rows.append((module.system_voltage_max_v, "module's system voltage"))
    if local_v is not None:
        rows.append((local_v, "local ceiling"))
    return min(rows, key=lambda row: row[0])


def least_working_v(pack: Pack, tracker: Tracker) -> float:
    """Return the working voltage a hot string must keep: the tracker's least with the pack's margin for ageing. [V]"""
    return tracker.mppt_min_v * (1.0 + pack.value("hot_voltage_margin_frac"))


def volt_bounds(pack: Pack, volts: StringVolts, tracker: Tracker, top_v: float) -> tuple[Bound, ...]:
    """Return the bounds of a string's volts that must hold, as far as its volts are known."""
    out = []
    if volts.cold_open_v is not None:
        out.append(Bound("cold voltage", volts.cold_open_v, top_v, "most"))
    if volts.hot_working_v is not None:
        out.append(Bound("hot voltage", volts.hot_working_v, least_working_v(pack, tracker), "least"))
    if volts.hot_open_v is not None and tracker.start_v is not None:
        out.append(Bound("start voltage", volts.hot_open_v, tracker.start_v, "least"))
    return tuple(out)


def held_bound(held_v: float, tracker: Tracker, dc_voltage_max_v: float) -> Bound:
    """Return the bound of a voltage that optimizers hold, against the window and the ceiling of its tracker: the nearer end."""
    if held_v < tracker.mppt_min_v:
        return Bound("held voltage", held_v, tracker.mppt_min_v, "least")
    return Bound("held voltage", held_v, min(tracker.mppt_max_v, dc_voltage_max_v), "most")


# --- amps ------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class StringAmps:
    """Currents of one string of a group. [A]

    `working_a` is that of hot cells, `cell_c` their temperature, None where it is not known and the current is at STC.
    `short_circuit_a` is at STC before any factor; where optimizers hold the voltage it is what they can give at most, and the
    pack's factor for bright light does not apply (`limited`).
    """

    strings: int
    working_a: float
    short_circuit_a: float
    limited: bool
    cell_c: float | None = None

    def design_a(self, factor: float) -> float:
        """Return what one string is designed for: its short-circuit current times a factor, where nothing limits it. [A]"""
        return self.short_circuit_a if self.limited else factor * self.short_circuit_a


def amps_of(
    module: ModuleCard | Module,
    optimizer: OptimizerCard | Optimizer | None,
    modules: int,
    strings: int,
    rear_gain_frac: float,
    cell_c: float | None,
) -> StringAmps:
    """Return the currents of one of `strings` like strings of so many modules; light on the rear adds its gain.

    The working current is that of cells at `cell_c`: Imp·(1 + α·(T − 25)), below 25 °C and where it is not known at STC.
    """
    held = None if optimizer is None else optimizer.string_voltage_v
    if optimizer is None or held is None:
        rear = 1.0 + rear_gain_frac
        hot = 1.0 if cell_c is None else 1.0 + max(0.0, module.alpha_isc_per_c * (cell_c - 25.0))
        return StringAmps(strings, module.imp_stc_a * rear * hot, module.isc_stc_a * rear, limited=False, cell_c=cell_c)
    most = optimizer.output_current_max_a
    return StringAmps(strings, min(modules * module.power_stc_w / held, most), most, limited=True)


def string_amps(
    group: StringGroup | StringRow,
    module: ModuleCard | Module,
    face: Face,
    optimizer: OptimizerCard | Optimizer | None,
    at: Extremes,
) -> StringAmps:
    """Return the currents of one string of a group, hot cells and light on the rear counted in."""
    rear, cell = rear_gain_frac(module, face), hot_cell_c(module, at, face.mounting)
    return amps_of(module, optimizer, group.modules_per_string, group.parallel_strings, rear, cell)


def tracker_short_circuit_a(pack: Pack, strings: Sequence[StringAmps]) -> float:
    """Return the current a tracker's input must stand: the pack's factor on every string that nothing limits. [A]"""
    free = sum(s.strings * s.short_circuit_a for s in strings if not s.limited)
    held = sum(s.strings * s.short_circuit_a for s in strings if s.limited)
    return pack.value("short_circuit_factor") * free + held


def reverse_current_a(pack: Pack, strings: Sequence[StringAmps], weakest: StringAmps, back_feed_a: float) -> float:
    """Return what all other strings in parallel, and the inverter, push into one faulted string. [A]"""
    others = sum(s.strings * s.short_circuit_a for s in strings) - weakest.short_circuit_a
    return pack.value("short_circuit_factor") * others + back_feed_a


def fuse_range_a(pack: Pack, short_circuit_a: float) -> tuple[float, float]:
    """Return the least and the most amps a string fuse may have for a string's short-circuit current. [A]"""
    return pack.value("string_fuse_factor") * short_circuit_a, pack.value("string_fuse_factor_most") * short_circuit_a


def fuse_for(pack: Pack, short_circuit_a: float, series_fuse_max_a: float | None) -> float | None:
    """Return the smallest standard fuse for a string; None where none fits between its current and its modules' rating. [A]"""
    least, highest = fuse_range_a(pack, short_circuit_a)
    most = min(series_fuse_max_a or 0.0, highest)
    sizes = (float(size) for size in pack.items("fuse_sizes_a"))
    return next((size for size in sizes if least - 1e-9 <= size <= most + 1e-9), None)


# --- optimizers ------------------------------------------------------------------------------------------------------


def optimizer_string_w(optimizer: OptimizerCard) -> float | None:
    """Return the watts a string of optimizers may carry: the card's, else output current × held volts; None: not known. [W]"""
    if optimizer.string_power_max_w is not None:
        return optimizer.string_power_max_w
    if optimizer.string_voltage_v is None:
        return None
    return optimizer.output_current_max_a * optimizer.string_voltage_v


def optimizer_bounds(optimizer: OptimizerCard, modules: int, power_stc_w: float) -> tuple[Bound, ...]:
    """Return the bounds of so many optimizers in series."""
    out = [
        Bound("optimizer count", modules, optimizer.modules_min, "least"),
        Bound("optimizer count", modules, optimizer.modules_max, "most"),
    ]
    most = optimizer_string_w(optimizer)
    if most is not None:
        out.append(Bound("optimizer string power", modules * power_stc_w, most, "most"))
    return tuple(out)


def optimizer_input_bounds(
    pack: Pack, optimizer: OptimizerCard, module: ModuleCard, rear_gain: float, at: Extremes
) -> tuple[Bound, Bound] | None:
    """Return one module's cold volts and bright amps against an optimizer's input; None where the volts are not known."""
    volts = None if at.low_c is None else cold_voc_v(module, 1, at.low_c, pack.rows("cold_voc"), at.cold_by)
    if volts is None:
        return None
    amps = pack.value("short_circuit_factor") * module.isc_stc_a * (1.0 + rear_gain)
    return (
        Bound("optimizer input", volts, optimizer.input_voltage_max_v, "most"),
        Bound("optimizer input", amps, optimizer.input_current_max_a, "most"),
    )
