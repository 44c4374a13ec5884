"""DC power of string groups and trackers, and AC power of PV-only inverters, as arrays over the year."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.models import NamedLosses
from calm_relay.library.cards import ModuleCard, Tracker
from calm_relay.plant.station import Module, StringRow
from calm_relay.plant.unit import Unit
from calm_relay.pv.shade import light_for_power
from calm_relay.pv.voltage import ABSORBED_FRAC, MOUNTING_U_W_PER_M2_K, LitFace, beta_vmp_per_c, rear_gain_frac
from calm_relay.weather.solar import PlaneOfArray

Array = NDArray[np.float64]
AGE_LOSS_PER_YEAR = 0.005  # common practice for crystalline silicon
TRACKING_FRAC = 0.99  # common practice 0.98–0.99


@dataclass(frozen=True, eq=False)
class GroupInput:
    """A string group with what it refers to and the light on its face.

    `shaded_frac` is the part of its modules in shadow per step; `month` (1–12) per step is needed for soiling by month.
    """

    group: StringRow
    face: LitFace
    light: PlaneOfArray
    module_level: bool = False
    shaded_frac: Array | None = None
    month: NDArray[np.int8] | None = None

    @property
    def each_module(self) -> bool:
        """Whether every module works at its own best point."""
        return self.module_level or self.group.optimizer is not None


@dataclass(frozen=True, eq=False)
class TrackerOutput:
    """DC power of one tracker per step, before and after its own limits; what unlike strings in parallel lost is apart. [W]"""

    available_w: Array
    limited_w: Array
    parallel_lost_w: Array | None = None


def kept_frac(item: GroupInput) -> Array | float:
    """Return what is left after a group's losses, age and the tracker's search, per step where soiling changes by month."""
    g = item.group
    kept = max(0.0, 1.0 - AGE_LOSS_PER_YEAR * g.age_years) * TRACKING_FRAC
    if g.optimizer is not None:
        kept *= 1.0 - g.optimizer.loss_frac
    if g.other_loss_frac is not None:
        return kept * (1.0 - g.other_loss_frac)
    losses = g.losses or NamedLosses()
    for name, loss in named_losses(losses, each_module=item.each_module):
        kept *= 1.0 if name == "soiling" else 1.0 - loss
    soiling = np.array(losses.soiling_frac)
    if item.month is None:
        return kept * float(1.0 - soiling.mean())
    by_step: Array = kept * (1.0 - soiling[item.month - 1])
    return by_step


def named_losses(losses: NamedLosses, *, each_module: bool = False) -> tuple[tuple[str, float], ...]:
    """Return losses by name, soiling as its plain mean of months; mismatch is 0 where each module has its own electronics."""
    return (
        ("soiling", sum(losses.soiling_frac) / 12.0),
        ("mismatch", 0.0 if each_module else losses.mismatch_frac),
        ("wiring", losses.wiring_frac),
        ("connections", losses.connections_frac),
        ("light-induced", losses.light_induced_frac),
        ("nameplate", losses.nameplate_frac),
        ("availability", losses.availability_frac),
    )


def combined_loss_frac(losses: NamedLosses, *, each_module: bool = False) -> float:
    """Return losses by name multiplied into one, as PVWatts does (Dobos 2014)."""
    kept = 1.0
    for _, loss in named_losses(losses, each_module=each_module):
        kept *= 1.0 - loss
    return 1.0 - kept


def cell_c(item: GroupInput, light: Array, air_c: Array) -> Array:
    """Return cell temperature: air + 0.9·(1 − η)·G/u, as for the hot voltage. [°C]"""
    u = MOUNTING_U_W_PER_M2_K[item.face.mounting]
    cells: Array = air_c + ABSORBED_FRAC * (1.0 - item.group.module.efficiency_frac) / u * light
    return cells


def group_light(item: GroupInput) -> Array:
    """Return the even light on the front that gives the group its power. [W/m²]"""
    light = light_for_power(item.light.beam_w_per_m2, item.light.diffuse_w_per_m2, item.shaded_frac, each_module=item.each_module)
    kept: Array = light * (1.0 - item.face.shade_loss_frac)
    return kept


def group_dc_w(item: GroupInput, air_c: Array, *, whole_string: bool = True) -> tuple[Array, Array]:
    """Return DC power [W] and working current [A] of a string group per step.

    `whole_string` False: a single module stands for a string, so that the optimizers' least count does not apply.

    PVWatts' temperature-corrected model (Dobos 2014) with the module's γ; cell rise 0.9·(1 − η)·G/u as for hot voltage.
    """
    g, module, optimizer = item.group, item.group.module, item.group.optimizer
    light = group_light(item)
    cells = cell_c(item, light, air_c)
    light = light * (1.0 + rear_gain_frac(module, item.face))
    modules = g.modules_per_string * g.parallel_strings
    power = modules * module.power_stc_w * kept_frac(item) * light / 1000.0
    power = power * np.maximum(0.0, 1.0 + module.gamma_pmp_per_c * (cells - 25.0))
    if optimizer is not None:
        count = g.modules_per_string  # outside the optimizers' range the whole string stays off
        works = not whole_string or optimizer.modules_min <= count <= optimizer.modules_max
        power = np.minimum(power, modules * optimizer.power_max_w) * works
        if optimizer.string_voltage_v is not None:
            return power, power / optimizer.string_voltage_v
    current = g.parallel_strings * module.imp_stc_a * light / 1000.0 * (1.0 + module.alpha_isc_per_c * (cells - 25.0))
    return power, current


def tracker_dc_w(items: Sequence[GroupInput], tracker: Tracker, air_c: Array, count: int = 1) -> TrackerOutput:
    """Return the DC power of `count` like trackers, each with these groups; current and power limits cut it."""
    power = np.zeros_like(air_c)
    current = np.zeros_like(air_c)
    made = []
    for item in items:
        p, i = group_dc_w(item, air_c)
        made.append(p)
        power += p
        current += i
    lost = parallel_loss_w(items, made, air_c)
    if lost is not None:
        power = power - lost
    share = np.minimum(1.0, np.divide(tracker.working_current_a, current, out=np.ones_like(current), where=current > 0))
    limited = power * share
    if tracker.power_max_w is not None:
        limited = np.minimum(limited, tracker.power_max_w)
    return TrackerOutput(power * count, limited * count, None if lost is None else lost * count)


def curve_terms(module: Module | ModuleCard) -> tuple[float, float]:
    """Return (a, R_s) of a module's single diode: a = 0.04·V_oc, as of crystalline silicon (common practice). [V], [Ω]

    R_s closes V_mp = V_oc − a·ln(I_sc/(I_sc − I_mp)) − I_mp·R_s at the card's four points; at least 0.
    """
    a = 0.04 * module.voc_stc_v
    gap = max(1e-6, module.isc_stc_a - module.imp_stc_a)
    drop = module.voc_stc_v - a * float(np.log(module.isc_stc_a / gap)) - module.vmp_stc_v
    return a, max(0.0, drop / module.imp_stc_a)


def off_peak_curvature(module: Module) -> float:
    """Return k in P ≈ P_mp·(1 − k·(ΔV/V_mp)²) near the maximum: k = 1 + a·I_mp²/(2·V_mp·(I_sc − I_mp)²). [1]

    Second derivative of the power of V(I) = a·ln((I_L − I)/I_0) − I·R_s at its maximum, where dV/dI = −V_mp/I_mp.
    """
    a, _ = curve_terms(module)
    gap = max(1e-3 * module.isc_stc_a, module.isc_stc_a - module.imp_stc_a)
    return 1.0 + a * module.imp_stc_a**2 / (2.0 * module.vmp_stc_v * gap**2)


def best_voltage_v(item: GroupInput, air_c: Array) -> Array:
    """Return the voltage at which a string gives most: down with heat, and with the logarithm of light less the series drop. [V]"""
    module, light = item.group.module, group_light(item)
    a, series_ohm = curve_terms(module)
    suns = np.clip(light, 20.0, None) / 1000.0
    each = module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (cell_c(item, light, air_c) - 25.0))
    each = each + a * np.log(suns) + module.imp_stc_a * series_ohm * (1.0 - suns)
    volts: Array = item.group.modules_per_string * np.maximum(0.2 * module.vmp_stc_v, each)
    return volts


def parallel_loss_w(items: Sequence[GroupInput], power_w: Sequence[Array], air_c: Array) -> Array | None:
    """Return what unlike strings lose on one tracker because they share its voltage; None where all are alike.

    Each string's power falls off as a parabola around its own best voltage; the tracker takes the voltage where the sum is most.
    Strings of optimizers bring themselves to the voltage asked for and lose nothing here.
    """
    kinds = {(i.group.face, i.group.module, i.group.modules_per_string) for i in items}
    if len(kinds) < 2 or any(i.group.optimizer is not None for i in items):
        return None
    volts = [best_voltage_v(item, air_c) for item in items]
    bend = [off_peak_curvature(item.group.module) for item in items]
    weight = [p * k / (v * v) for p, k, v in zip(power_w, bend, volts, strict=True)]
    total = np.maximum(sum(weight, np.zeros_like(air_c)), 1e-12)
    common = sum((w * v for w, v in zip(weight, volts, strict=True)), np.zeros_like(air_c)) / total
    lost = np.zeros_like(air_c)
    for p, k, v in zip(power_w, bend, volts, strict=True):
        lost += np.minimum(p, p * k * ((common - v) / v) ** 2)
    return lost


@dataclass(frozen=True, eq=False)
class PvOnlyOutput:
    """A PV-only inverter, or like ones that share the light alike and clip together, per step. [W]

    dc_available = ac_potential + inverter loss (or standby and what was too little to start);
    ac_potential = ac + clipped; `own_draw` is standby taken from the AC bus.
    """

    dc_available_w: Array
    ac_w: Array
    clipped_ac_w: Array
    standby_from_pv_w: Array
    below_start_w: Array
    inverter_loss_w: Array
    own_draw_w: Array


def pv_only_output(dc_w: Array, unit: Unit, power_factor: float = 1.0) -> PvOnlyOutput:
    """Return the output of like PV-only inverters, as one, that share `dc_w` evenly; a fixed power factor takes watts (D14). [1]"""
    potential = unit.ac_w(dc_w)
    ac = np.minimum(potential, unit.ac_rated_w * power_factor)
    night, _ = unit.standby
    running = potential > 0
    standby = np.where(running, 0.0, np.minimum(night, dc_w))
    return PvOnlyOutput(
        dc_available_w=dc_w,
        ac_w=ac,
        clipped_ac_w=potential - ac,
        standby_from_pv_w=standby,
        below_start_w=np.where(running, 0.0, dc_w - standby),
        inverter_loss_w=np.where(running, dc_w - potential, 0.0),
        own_draw_w=np.where(running, 0.0, night - standby),
    )
