"""DC power of string groups and trackers, and AC power of PV-only inverters, as arrays over the year."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.models import Face, StringGroup
from calm_relay.library.cards import AcUnit, LossTerms, ModuleCard, Tracker
from calm_relay.pv.voltage import ABSORBED_FRAC, MOUNTING_U_W_PER_M2_K
from calm_relay.weather.solar import PlaneOfArray

Array = NDArray[np.float64]
AGE_LOSS_PER_YEAR = 0.005  # common practice for crystalline silicon
TRACKING_FRAC = 0.99  # common practice 0.98–0.99


@dataclass(frozen=True, eq=False)
class GroupInput:
    """A string group with what it refers to and the light on its face."""

    group: StringGroup
    face: Face
    module: ModuleCard
    light: PlaneOfArray


@dataclass(frozen=True, eq=False)
class TrackerOutput:
    """DC power of one tracker per step, before and after its own limits. [W]"""

    available_w: Array
    limited_w: Array


def group_dc_w(item: GroupInput, air_c: Array) -> tuple[Array, Array]:
    """Return DC power [W] and working current [A] of a string group per step.

    PVWatts' temperature-corrected model (Dobos 2014) with the module's γ; cell rise 0.9·(1 − η)·G/u as for hot voltage.
    """
    g, module = item.group, item.module
    light = (item.light.beam_w_per_m2 + item.light.diffuse_w_per_m2) * (1.0 - item.face.shade_loss_frac)
    u = MOUNTING_U_W_PER_M2_K[item.face.mounting]
    cell_c = air_c + ABSORBED_FRAC * (1.0 - module.efficiency_frac) / u * light
    kept = (1.0 - g.other_loss_frac) * max(0.0, 1.0 - AGE_LOSS_PER_YEAR * g.age_years) * TRACKING_FRAC
    rated = g.modules_per_string * g.parallel_strings * module.power_stc_w
    power = rated * kept * light / 1000.0 * np.maximum(0.0, 1.0 + module.gamma_pmp_per_c * (cell_c - 25.0))
    current = g.parallel_strings * module.imp_stc_a * light / 1000.0 * (1.0 + module.alpha_isc_per_c * (cell_c - 25.0))
    return power, current


def tracker_dc_w(items: Sequence[GroupInput], tracker: Tracker, air_c: Array, count: int = 1) -> TrackerOutput:
    """Return the DC power of `count` like trackers, each with these groups; current and power limits cut it."""
    power = np.zeros_like(air_c)
    current = np.zeros_like(air_c)
    for item in items:
        p, i = group_dc_w(item, air_c)
        power += p
        current += i
    share = np.minimum(1.0, np.divide(tracker.working_current_a, current, out=np.ones_like(current), where=current > 0))
    limited = power * share
    if tracker.power_max_w is not None:
        limited = np.minimum(limited, tracker.power_max_w)
    return TrackerOutput(power * count, limited * count)


def night_w(card: AcUnit) -> tuple[float, bool]:
    """Return the standby draw and whether it was assumed (a third of p_self, definitions D4). [W]"""
    return (card.loss.p_self_w / 3.0, True) if card.night_w is None else (card.night_w, False)


def ac_from_dc_w(dc_w: Array, loss: LossTerms, rated_w: float) -> Array:
    """Return AC watts for DC watts in by the three-term loss (Schmidt and Sauer, 1996); no upper limit."""
    over = np.maximum(0.0, dc_w - loss.p_self_w)
    slope = 1.0 + loss.a
    return 2.0 * over / (slope + np.sqrt(slope * slope + 4.0 * loss.b * over / rated_w))


def dc_from_ac_w(ac_w: float, loss: LossTerms, rated_w: float) -> float:
    """Return DC watts for AC watts out by the same form; 0 for nothing out."""
    return ac_w + loss.p_self_w + loss.a * ac_w + loss.b * ac_w * ac_w / rated_w if ac_w > 0 else 0.0


@dataclass(frozen=True, eq=False)
class PvOnlyOutput:
    """A PV-only inverter (or `count` like ones, clipped one by one) per step. [W]

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


def pv_only_output(dc_w: Array, card: AcUnit, count: int = 1) -> PvOnlyOutput:
    """Return the output of `count` like PV-only inverters that share `dc_w` evenly."""
    each = dc_w / count
    potential = ac_from_dc_w(each, card.loss, card.ac_rated_w)
    ac = np.minimum(potential, card.ac_rated_w)
    night, _ = night_w(card)
    running = potential > 0
    standby = np.where(running, 0.0, np.minimum(night, each))
    below = np.where(running, 0.0, each - standby)
    own = np.where(running, 0.0, night - standby)
    loss = np.where(running, each - potential, 0.0)
    return PvOnlyOutput(dc_w, ac * count, (potential - ac) * count, standby * count, below * count, loss * count, own * count)
