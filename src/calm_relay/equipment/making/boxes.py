"""What every box has by its size: weight, measures, places, lugs, and the efficiencies that its loss terms give."""

from __future__ import annotations

from typing import Any

from calm_relay.equipment.efficiency import efficiency_at, weighted_efficiency
from calm_relay.library.cards import LossTerms

SIZES_MM2 = (1.5, 2.5, 4.0, 6.0, 10.0, 16.0, 25.0, 35.0, 50.0, 70.0, 95.0, 120.0, 150.0, 185.0)
A_PER_MM2 = 3.5  # of a conductor in a terminal, common practice
KG_PER_M3 = 620.0  # of a filled box on a wall
SHARES = (0.05, 0.1, 0.2, 0.3, 0.5, 0.75, 1.0)
KG_PER_KWH = {"LFP": 10.2, "NMC": 8.4, "lead-acid": 29.0, "lead-gel": 33.0, "lead-flooded": 30.0}
INVERTERS = ("pv_inverter", "hybrid", "battery_inverter", "module_inverter")
OUTSIDE = ("indoors", "garage", "outdoors_sheltered", "outdoors")
INSIDE = ("indoors", "garage")


def lugs(amps: float) -> tuple[float, float]:
    """Return the smallest and the largest conductor that terminals for so many amps take. [mm²]"""
    at = next((i for i, size in enumerate(SIZES_MM2) if size * A_PER_MM2 >= amps), len(SIZES_MM2) - 1)
    return SIZES_MM2[max(0, at - 3)], SIZES_MM2[min(len(SIZES_MM2) - 1, at + 1)]


def measures(weight_kg: float, flat: float = 2.9) -> dict[str, float]:
    """Return height, width and depth of a box of a weight: `flat` times as wide as deep, a quarter higher than wide. [m]"""
    depth = (weight_kg / KG_PER_M3 / (1.25 * flat * flat)) ** (1 / 3)
    return {"height_m": round(1.25 * flat * depth, 3), "width_m": round(flat * depth, 3), "depth_m": round(depth, 3)}


def finished(row: dict[str, Any]) -> dict[str, Any]:
    """Return card data with what follows from the rest; what is given stays."""
    kind = row["kind"]
    if kind in ("module", "optimizer"):
        return row
    out = dict(row)
    if kind in INVERTERS:
        out = {**_inverter(out), **row}
    if kind == "battery":
        out = {**_battery(out), **row}
    if "weight_kg" in out and kind != "meter":
        out = {**measures(out["weight_kg"]), **out}
    return out


def _inverter(row: dict[str, Any]) -> dict[str, Any]:
    rated, terms = float(row["ac_rated_w"]), LossTerms(**row["loss"])
    per_module = row["kind"] == "module_inverter"
    volts = 690.0 if row.get("phases") == 3 else 230.0
    kilograms = 0.9 + 0.003 * rated if per_module else 5.0 + 2.0 * rated / 1000.0 + (3.0 if row.get("grid_forming") else 0.0)
    low, high = lugs(rated / volts)
    best = min(1.0, (terms.p_self_w / rated / terms.b) ** 0.5) if terms.b > 0 else 1.0
    made = {
        "weight_kg": round(kilograms, 1), "lug_min_mm2": low, "lug_max_mm2": high,
        "supplies": ("single_phase", "split_phase", "three_phase"), "places": OUTSIDE,
        "temperature_min_c": -25.0, "temperature_max_c": 60.0,
        "peak_efficiency_frac": round(efficiency_at(terms, rated, best), 4),
        "european_efficiency_frac": round(weighted_efficiency(terms, rated, "european"), 4),
        "cec_efficiency_frac": round(weighted_efficiency(terms, rated, "cec"), 4),
        "efficiency_points": [
            {"load_frac": share, "efficiency_frac": round(efficiency_at(terms, rated, share), 4)} for share in SHARES
        ],
    }  # fmt: skip
    if row["kind"] in ("hybrid", "battery_inverter"):
        low, high = lugs(float(row.get("discharge_max_a") or 30.0))
        made |= {
            "battery_lug_min_mm2": low,
            "battery_lug_max_mm2": high,
            "chemistries": ("LFP", "NMC"),
            "protocols": ("can", "rs485"),
        }
        made |= {"temperature_min_c": -15.0}
    return made


def _battery(row: dict[str, Any]) -> dict[str, Any]:
    chemistry = row.get("chemistry", "LFP")
    lithium = chemistry in ("LFP", "NMC")
    low, high = lugs(float(row.get("discharge_max_a") or 30.0))
    made: dict[str, Any] = {
        "weight_kg": round(KG_PER_KWH[chemistry] * row["capacity_wh"] / 1000.0 + (2.5 if lithium else 0.0), 1),
        "lug_min_mm2": low, "lug_max_mm2": high, "places": OUTSIDE[:3] if lithium else INSIDE,
        "temperature_min_c": -10.0 if lithium else -15.0, "temperature_max_c": 50.0,
        "protocols": ("can", "rs485") if lithium else ("volts_only",),
    }  # fmt: skip
    if lithium:
        made["warranty_end_frac"] = 0.7
    return made
