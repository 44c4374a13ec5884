"""Transfer devices, charge controllers, timer chargers, generators and meters."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from calm_relay.equipment.making.boxes import INSIDE, lugs
from calm_relay.equipment.making.table import SUPPLIES, rows

WORDS = {"single": "single phase", "split": "split phase", "three": "three phase"}
# Heat of a litre [Wh] and efficiency at full and at half load, typical.
FUEL = {"petrol": (8900.0, 0.20, 0.155), "diesel": (9960.0, 0.29, 0.245), "gas": (6900.0, 0.21, 0.165)}

DRY = {"places": ("indoors", "garage", "outdoors_sheltered"), "temperature_min_c": -20.0, "temperature_max_c": 50.0}
Row = dict[str, Any]


def _transfer(row: Row) -> Row:
    low, high = lugs(row["pass_a"])
    words = "Changeover switch by hand" if row["switch_s"] is None else "Transfer device"
    return {
        "kind": "transfer", "id": row["id"], "name": f"{words} {row['pass_a']} A, {WORDS[row['supply']]}",
        "pass_through_a": row["pass_a"], "supplies": SUPPLIES[row["supply"]], "switch_s": row["switch_s"],
        "bonds_neutral": row["bonds_neutral"], "generator_input": row["generator_input"], "weight_kg": row["kg"],
        "lug_min_mm2": low, "lug_max_mm2": high, "warranty_years": 10, **DRY,
    }  # fmt: skip


def _controller(row: Row) -> Row:
    low, high = lugs(row["charge_a"])
    tracker = {name: row[name] for name in ("mppt_min_v", "mppt_max_v", "working_current_a")}
    return {
        "kind": "charge_controller", "id": row["id"], "name": f"Charge controller {row['charge_a']} A, {row['pv_max_v']} V",
        "dc_voltage_max_v": row["pv_max_v"],
        "trackers": [{**tracker, "short_circuit_current_a": round(1.3 * row["working_current_a"], 1)}],
        "charge_max_a": row["charge_a"], "battery_voltage_min_v": row["bank_min_v"], "battery_voltage_max_v": row["bank_max_v"],
        "peak_efficiency_frac": row["peak_frac"], "night_w": row["night_w"], "protocols": ("rs485",),
        "weight_kg": round(0.5 + 0.045 * row["charge_a"], 1), "battery_lug_min_mm2": low, "battery_lug_max_mm2": high,
        "warranty_years": 5, **DRY,
    }  # fmt: skip


def _timer_charger(row: Row) -> Row:
    heavy = row["power_factor"] < 0.8  # a transformer at the mains' frequency
    volts = 24 if row["bank_max_v"] < 40 else 48
    return {
        "kind": "timer_charger", "id": row["id"], "name": f"Timer charger {volts} V, {row['charge_a']} A, {WORDS[row['supply']]}",
        "ac_in_max_w": row["w"], "charge_max_a": row["charge_a"], "battery_voltage_min_v": row["bank_min_v"],
        "battery_voltage_max_v": row["bank_max_v"], "peak_efficiency_frac": row["peak_frac"],
        "power_factor_frac": row["power_factor"], "supplies": SUPPLIES[row["supply"]], "night_w": round(0.0015 * row["w"], 1),
        "weight_kg": round(2.0 + row["w"] / (180 if heavy else 420), 1), "places": INSIDE, "temperature_min_c": 0.0,
        "temperature_max_c": 40.0, "warranty_years": 3,
    }  # fmt: skip


def _generator(row: Row) -> Row:
    heat, full, half = FUEL[row["fuel"]]
    watts = row["kva"] * 1000.0 * row["power_factor"]
    return {
        "kind": "generator", "id": row["id"], "name": f"Generator {row['kva']:g} kVA {row['fuel']}, {WORDS[row['supply']]}",
        "rated_va": row["kva"] * 1000.0, "peak_va": row["peak_kva"] * 1000.0, "power_factor_frac": row["power_factor"],
        "supplies": SUPPLIES[row["supply"]], "fuel": row["fuel"], "fuel_full_l_per_h": round(watts / (heat * full), 2),
        "fuel_half_l_per_h": round(0.5 * watts / (heat * half), 2), "tank_l": row["tank_l"],
        "least_load_frac": 0.3 if row["fuel"] == "diesel" else 0.2, "frequency_min_hz": row["low_hz"],
        "frequency_max_hz": row["high_hz"], "auto_start": row["auto_start"], "weight_kg": row["kg"],
        "places": ("outdoors_sheltered", "outdoors"), "temperature_min_c": -15.0, "temperature_max_c": 40.0, "warranty_years": 3,
    }  # fmt: skip


def _meter(row: Row) -> Row:
    return {
        "kind": "meter", "id": row["id"],
        "name": f"Meter {row['amps']} A, {WORDS[row['supply']]}{', clamps' if row['clamps'] else ''}",
        "supplies": SUPPLIES[row["supply"]], "current_max_a": row["amps"], "accuracy_frac": row["accuracy_frac"],
        "response_s": row["response_s"], "clamps": row["clamps"], "clamp_opening_m": row["opening_m"],
        "protocols": ("rs485",) if row["response_s"] < 10 else ("dry_contact",), "weight_kg": 0.3, "places": INSIDE,
        "temperature_min_c": -20.0, "temperature_max_c": 55.0, "warranty_years": 5,
    }  # fmt: skip


def between() -> Iterator[Row]:
    """Yield the card data of what stands between inverters, banks and grid."""
    yield from map(_transfer, rows("transfers"))
    yield from map(_controller, rows("controllers"))
    yield from map(_timer_charger, rows("timer_chargers"))
    yield from map(_generator, rows("generators"))
    yield from map(_meter, rows("meters"))
