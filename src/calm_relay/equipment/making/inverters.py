"""Inverters from their losses: idle watts, a linear and a square term by topology; limits as designers set them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from calm_relay.equipment.making.table import SUPPLIES, rows

# Loss by topology: idle as a share of the rating, linear term, square term (typical, from memory).
LOSS = {
    "transformer": (0.0070, 0.030, 0.018),
    "older": (0.0045, 0.014, 0.016),
    "silicon": (0.0033, 0.009, 0.013),
    "carbide": (0.0024, 0.006, 0.010),
    "high-frequency": (0.0060, 0.020, 0.028),
    "low-frequency": (0.0052, 0.016, 0.036),
    "hybrid": (0.0058, 0.009, 0.016),
    "hybrid-carbide": (0.0045, 0.007, 0.012),
}
# Over-frequency curves, from memory: IEEE 1547-2018, AS/NZS 4777.2 region Australia A, VDE-AR-N 4105; and what only trips.
CURVES: dict[str, dict[str, Any]] = {
    "north-america": {
        "start_hz": 60.036, "droop_frac": 0.05, "base": "rated_power", "delay_s": 0.2, "response_s": 5,
        "trips": [{"frequency_hz": 61.2, "after_s": 300}, {"frequency_hz": 62.0, "after_s": 0.16}],
        "return_low_hz": 59.5, "return_high_hz": 60.1, "return_delay_s": 300, "return_ramp_frac_per_min": 0.2,
    },
    "australasia": {
        "start_hz": 50.25, "droop_frac": 0.035, "base": "power_at_start", "response_s": 10,
        "trips": [{"frequency_hz": 52.0, "after_s": 0.2}], "return_low_hz": 47.5, "return_high_hz": 50.15, "return_delay_s": 60,
        "return_ramp_frac_per_min": 0.16,
    },
    "europe": {
        "start_hz": 50.2, "droop_frac": 0.05, "base": "power_at_start", "response_s": 2,
        "trips": [{"frequency_hz": 51.5, "after_s": 0.1}], "return_low_hz": 47.5, "return_high_hz": 50.1, "return_delay_s": 60,
        "return_ramp_frac_per_min": 0.1,
    },
    "legacy-50": {
        "trips": [{"frequency_hz": 50.5, "after_s": 0.2}], "return_low_hz": 49.5, "return_high_hz": 50.2, "return_delay_s": 180,
    },
    "legacy-60": {
        "trips": [{"frequency_hz": 60.5, "after_s": 0.16}], "return_low_hz": 59.3, "return_high_hz": 60.5, "return_delay_s": 300,
    },
}  # fmt: skip
ISOLATED = ("transformer", "high-frequency", "low-frequency")  # no smooth DC reaches the AC side (common practice)
WORDS = {"single": "", "split": " split-phase", "three": " three-phase"}
EVERY_CHEMISTRY = ("LFP", "NMC", "lead-acid", "lead-gel", "lead-flooded")
Row = dict[str, Any]


def _loss(topology: str, rated_w: float) -> dict[str, float]:
    idle, linear, square = LOSS[topology]
    return {"p_self_w": round(idle * rated_w, 2), "a": linear, "b": square}


TRACKER = ("mppt_min_v", "mppt_max_v", "start_v", "working_current_a", "short_circuit_current_a")


def _trackers(row: Row) -> dict[str, Any]:
    one = {name: row[name] for name in TRACKER}
    return {"trackers": [dict(one) for _ in range(row.get("trackers", 1))], "dc_voltage_max_v": row["dc_max_v"]}


def _ac(kind: str, row: Row, name: str, rated_w: float) -> Row:
    made = {
        "kind": kind, "id": row["id"], "name": name, "ac_rated_w": rated_w, "loss": _loss(row["topology"], rated_w),
        "supplies": SUPPLIES[row["supply"]], "phases": 3 if row["supply"] == "three" else 1, "frequency": CURVES[row["curve"]],
        "residual_type": "b" if row["supply"] == "three" and row["topology"] not in ISOLATED else "a",
    }  # fmt: skip
    if row["supply"] == "three":
        made["phase_max_w"] = round(rated_w / 3.0, -1)
    return made


def _night_w(row: Row, rated_w: float) -> float:
    """Return the standby draw: three tenths of the running idle. [W]"""
    return round(0.3 * _loss(row["topology"], rated_w)["p_self_w"], 1)


LINE_V = {"single": 230.0, "split": 240.0, "three": 690.0}  # volts over which a rating is spread


def _off_grid(row: Row, rated_w: float) -> Row:
    if row["peak_times"] is None:
        return {"grid_forming": False, "pass_through_a": row["pass_a"]}
    return {
        "grid_forming": True, "offgrid_continuous_va": rated_w, "offgrid_peak_va": round(row["peak_times"] * rated_w),
        "offgrid_peak_s": row["peak_s"], "absorb_max_w": rated_w, "startable_lra_a": row["lra_a"], "pass_through_a": row["pass_a"],
        "fault_current_a": round(1.2 * row["peak_times"] * rated_w / LINE_V[row["supply"]], 0),
    }  # fmt: skip


def _breakers(row: Row) -> list[dict[str, float]]:
    """Return the largest backup breakers by units: a table of the card, not a multiple (the second unit adds less)."""
    passes = row["pass_a"]
    if passes is None or row["supply"] == "three":
        return []
    return [{"units": 1, "breaker_a": round(0.8 * passes)}, {"units": 2, "breaker_a": round(1.4 * passes)}]


def _string_inverter(row: Row) -> Row:
    many = "1 tracker" if row["trackers"] == 1 else f"{row['trackers']} trackers"
    many += ", wide input" if row["id"] == "string-5k-au" else ""
    tail = ", legacy" if row["curve"].startswith("legacy") else ", older" if row["old"] else ""
    name = f"String inverter {row['kw']:g} kW{WORDS[row['supply']]}, {many}, {row['dc_max_v']} V{tail}"
    return {
        **_ac("pv_inverter", row, name, row["kw"] * 1e3), **_trackers(row), "dc_ac_ratio_max": row["ratio"],
        "night_w": row["night_w"], "warranty_years": row["years"], "no_longer_made": row["old"],
        "back_feed_a": None if row["old"] else 0.1,
    }  # fmt: skip


def _module_inverter(row: Row) -> Row:
    name = f"Module-level inverter {row['w']} W, {row['words']}"
    return {
        **_ac("module_inverter", row, name, row["w"]), **_trackers(row), "dc_ac_ratio_max": row["ratio"],
        "branch_units_max": row["branch_units"], "night_w": 0.05, "warranty_years": row["years"], "no_longer_made": row["old"],
        "controllable": row["curve"] == "north-america", "places": ("outdoors_sheltered", "outdoors"),
    }  # fmt: skip


def _hybrid(row: Row) -> Row:
    rated, low = row["kw"] * 1e3, row["battery_max_v"] < 100
    old = row["topology"] == "older"
    words = "48 V battery" if low else "high-voltage battery"
    name = f"Hybrid {row['kw']:g} kW{WORDS[row['supply']]}, {row['trackers']} trackers, {words}"
    return {
        **_ac("hybrid", row, name, rated), **_trackers(row), "dc_ac_ratio_max": row["ratio"],
        "dc_ac_ratio_max_with_battery": row["ratio_with_battery"], "battery_voltage_min_v": row["battery_min_v"],
        "battery_voltage_max_v": row["battery_max_v"], "charge_max_a": row["charge_a"], "discharge_max_a": row["charge_a"],
        "charge_max_w": row["charge_kw"] * 1e3, "discharge_max_w": round(rated * 1.05), "ac_in_max_w": rated,
        "night_w": _night_w(row, rated), "backup_breakers": _breakers(row), "warranty_years": 5 if old else 10,
        "no_longer_made": old, "chemistries": EVERY_CHEMISTRY if low else ("LFP", "NMC"), **_off_grid(row, rated),
    }  # fmt: skip


def _battery_inverter(row: Row) -> Row:
    rated, high, charge, give = row["kw"] * 1e3, row["battery_max_v"], row["charge_a"], row["discharge_a"]
    old = "older" in row["words"]
    lead = high < 100 and row["topology"] == "low-frequency"
    name = f"Battery inverter {row['kw']:g} kW{WORDS[row['supply']]}, {row['words']}"
    return {
        **_ac("battery_inverter", row, name, rated), "battery_voltage_min_v": row["battery_min_v"], "battery_voltage_max_v": high,
        "charge_max_a": charge, "discharge_max_a": give, "charge_max_w": min(rated, charge * high),
        "discharge_max_w": min(1.08 * rated, give * high), "ac_in_max_w": round(min(rated, 1.1 * charge * high)),
        "night_w": _night_w(row, rated), "absorb_ratio": row["absorb_ratio"], "backup_breakers": _breakers(row),
        "warranty_years": 5 if old else 10, "no_longer_made": old, "chemistries": EVERY_CHEMISTRY if lead else ("LFP",),
        "protocols": ("can", "volts_only") if lead else ("can", "rs485"), **_off_grid(row, rated),
    }  # fmt: skip


def inverters() -> Iterator[Row]:
    """Yield the card data of every kind of inverter."""
    yield from map(_string_inverter, rows("string_inverters"))
    yield from map(_module_inverter, rows("module_inverters"))
    yield from map(_hybrid, rows("hybrids"))
    yield from map(_battery_inverter, rows("battery_inverters"))
