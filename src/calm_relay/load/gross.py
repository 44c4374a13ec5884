"""From a net meter back to what the house drew: import − export + PV (+ battery), with the band that netting leaves open."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS
from calm_relay.load.meter import MeterYear

Array = NDArray[np.float64]
WORTH_FRAC = 0.002  # of the year's energy: below it a shortfall is rounding
APART_FRAC = 0.03  # a metered house and its balance may part so far by rounding and losses


@dataclass(frozen=True, eq=False)
class GrossLoad:
    """What the house drew per interval, and between which powers it must lie. [W]

    `low_w` is what was imported: less cannot have been drawn. `high_w` adds all PV that can have been made and was not exported.
    """

    power_w: Array
    low_w: Array
    high_w: Array
    cut_wh: float
    how: str
    notes: tuple[str, ...]


def on_intervals(power_w: Array, interval_s: int) -> Array:
    """Return a year's power per step as means of longer intervals, or repeated on shorter ones. [W]"""
    rows = DAYS * 86_400 // interval_s
    if len(power_w) % rows == 0:
        means: Array = power_w.reshape(rows, -1).mean(axis=1)
        return means
    if rows % len(power_w) == 0:
        return np.repeat(power_w, rows // len(power_w))
    raise ValueError(f"{len(power_w)} steps and intervals of {interval_s} s do not fit each other")


def gross_load(meter: MeterYear, pv_ac_w: Array | None = None, pv_most_w: Array | None = None) -> GrossLoad:
    """Return the gross load behind a net meter.

    Parameters
    ----------
    meter : MeterYear
        Import, and export where there is one; metered solar and battery are used where they are there. Where the house itself was
        metered, that is the answer.
    pv_ac_w : ndarray, a year at any step that fits, or None
        PV at AC as simulated, for meters without a solar channel. [W]
    pv_most_w : ndarray, likewise
        The most PV that can have been made (under a clear sky), for the band; None: `pv_ac_w`.
    """
    if "house" in meter.power_w:
        return _metered_house(meter)
    taken = meter.power_w["import"]
    zero = np.zeros_like(taken)
    given, metered = meter.power_w.get("export", zero), meter.power_w.get("solar")
    battery = meter.power_w.get("discharge", zero) - meter.power_w.get("charge", zero)
    notes: list[str] = []
    if metered is not None:
        pv, how = metered, "import − export + metered solar"
        most = metered
        if not given.any() and metered.any():
            how = "import + metered solar: no export was metered"
            notes.append("what was exported is not in the file and is counted as drawn by the house")
    elif pv_ac_w is not None and given.any():
        pv, how = on_intervals(pv_ac_w, meter.interval_s), "import − export + simulated PV"
        most = pv if pv_most_w is None else on_intervals(pv_most_w, meter.interval_s)
    else:
        pv, how, most = zero, "import alone: no export was metered", zero
    if battery.any():
        how += " + battery"
    bare = taken - given + pv + battery
    gross = np.maximum(bare, 0.0)
    low = np.maximum(0.0, taken + np.minimum(battery, 0.0))
    high = np.maximum(gross, taken + np.maximum(0.0, most - given) + np.maximum(0.0, battery))
    step_h = meter.interval_s / 3600.0
    cut = float((gross - bare).sum()) * step_h
    whole = float(gross.sum()) * step_h
    if cut > WORTH_FRAC * whole:
        kind = "simulated" if metered is None else "metered"
        notes.append(
            f"{cut / 1000:.0f} kWh of export were more than the {kind} PV of their interval: the house is taken as 0 there"
        )
    return GrossLoad(power_w=gross, low_w=low, high_w=high, cut_wh=cut, how=how, notes=tuple(notes))


def _metered_house(meter: MeterYear) -> GrossLoad:
    """Return the house as it was metered itself, and how far the other channels part from it."""
    house, powers = meter.power_w["house"], meter.power_w
    notes = []
    if {"import", "export", "solar"} <= set(powers):
        battery = powers.get("discharge", 0.0) - powers.get("charge", 0.0)
        balance = float((powers["import"] - powers["export"] + powers["solar"] + battery).sum())
        apart = balance / max(1e-9, float(house.sum())) - 1.0
        if abs(apart) > APART_FRAC:
            notes.append(f"import − export + solar comes to {apart * 100:+.0f} % of it: look at the columns")
    return GrossLoad(power_w=house, low_w=house, high_w=house, cut_wh=0.0, how="the house as it was metered", notes=tuple(notes))
