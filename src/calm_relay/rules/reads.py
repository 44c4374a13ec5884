"""What rests on each figure of a card: the checks and results that stay open where the data sheet lacks it.

A figure that no check reads yet names what it is kept for; the tests hold both lists to the code.
"""

from __future__ import annotations

from calm_relay.rules.runner import all_checks

# figure → ids of the checks that read it
READS: dict[str, tuple[str, ...]] = {
    "beta_voc_per_c": ("string.cold-voc", "string.start-voltage"),
    "gamma_pmp_per_c": ("string.hot-vmp", "string.cold-vmp"),
    "beta_vmp_per_c": ("string.hot-vmp", "string.cold-vmp"),
    "alpha_isc_per_c": ("tracker.working-current",),
    "system_voltage_max_v": ("string.system-voltage",),
    "series_fuse_max_a": ("tracker.reverse-current", "string.fuse-size"),
    "bifaciality_frac": ("tracker.short-circuit", "tracker.working-current"),
    "string_voltage_v": ("optimizer.string-voltage",),
    "string_power_max_w": ("optimizer.string-power",),
    "supplies": ("inverter.supply", "transfer.supply"),
    "start_v": ("string.start-voltage",),
    "short_circuit_current_a": ("tracker.short-circuit",),
    "power_max_w": ("tracker.power",),
    "back_feed_a": ("tracker.reverse-current",),
    "pv_dc_max_w": ("array.dc-power",),
    "dc_ac_ratio_max": ("array.dc-ac-ratio", "array.later-modules"),
    "dc_ac_ratio_max_with_battery": ("array.dc-ac-ratio", "array.later-modules"),
    "branch_units_max": ("module-inverter.branch",),
    "charge_max_a": ("battery.charge-chain", "battery.window-fill"),
    "charge_max_w": ("battery.charge-chain", "battery.window-fill"),
    "ac_in_max_w": ("battery.charge-chain", "battery.window-fill"),
    "bank_charge_max_w": ("battery.charge-chain",),
    "pv_and_ac_charge_max_w": ("battery.charge-chain", "battery.window-fill"),
    "discharge_max_a": (
        "battery.discharge-chain", "battery.feeds", "battery.used", "battery.dc-current", "battery.sharing",
        "battery.evening-peak", "backup.start-from-battery",
    ),
    "discharge_max_w": ("battery.discharge-chain", "battery.evening-peak"),
    "bank_discharge_max_w": ("battery.discharge-chain",),
    "offgrid_continuous_va": ("backup.offgrid-power", "backup.line-power"),
    "offgrid_peak_va": ("backup.motor-start",),
    "offgrid_peak_s": ("backup.motor-start",),
    "startable_lra_a": ("backup.motor-start",),
    "fault_current_a": ("backup.fault-current",),
    "bonds_neutral": ("backup.neutral-bond",),
    "peak_va": ("generator.starts",),
    "auto_start": ("generator.auto-start", "backup.life-support"),
    "absorb_max_w": ("backup.ac-pv-absorb",),
    "phase_max_w": ("backup.line-power",),
    "leg_max_w": ("backup.line-power",),
    "pass_through_a": ("backup.pass-through", "backup.unit-pass"),
    "pairs_with": ("battery.pairing",),
    "protocols": ("battery.protocol",),
    "chemistries": ("battery.chemistry",),
    "battery_lug_max_mm2": ("battery.dc-current", "battery.lug"),
    "battery_lug_min_mm2": ("battery.lug",),
    "lug_min_mm2": ("cable.lug", "battery.lug"), "lug_max_mm2": ("cable.lug", "battery.lug"),
    "backup_breakers": ("backup.largest-breaker",),
    "residual_type": ("place.residual-type",), "firmware_note": ("settings.firmware",),
    "weight_kg": ("place.weight",), "width_m": ("place.width",), "depth_m": ("place.clear",),
    "voltage_full_v": ("battery.voltage", "battery.growth"),
    "voltage_empty_v": ("battery.voltage", "battery.dc-current"),
    "cells_in_series": ("battery.voltage",),
    "internal_resistance_ohm": ("battery.voltage", "battery.sharing"),
    "charge_over_temperature": ("battery.cold-charge",),
    "depth_life": ("battery.cycle-life",),
    "warranty_throughput_wh": ("battery.warranty-throughput",),
    "warranty_end_frac": ("battery.warranty-throughput", "energy.end-of-life"),
    "places": ("battery.place", "place.unit"),
    "temperature_min_c": ("battery.temperature", "place.unit-temperature"),
    "temperature_max_c": ("battery.temperature", "place.unit-temperature"),
}  # fmt: skip
# figure → results, other than checks, that rest on it
RESULTS: dict[str, str] = {
    "night_w": "standby energy in the year; a third of the idle loss is assumed",
    "loss": "every energy of the year; efficiencies tell it as well",
    "charge_loss": "energy lost in charging; the inverter's own loss is assumed",
    "grid_port_max_w": "power to the grid in the year", "backup_port_max_w": "power to the backup side in the year",
    "pv_to_battery_max_w": "charging from own strings in the year", "warranty_years": "payback against the warranty on Decide",
    "peak_efficiency_frac": "the loss, where it is not typed", "european_efficiency_frac": "the loss, where it is not typed",
    "cec_efficiency_frac": "the loss, where it is not typed", "efficiency_points": "the loss, where it is not typed",
    "round_trip_at_a": "loss in the cells by power in the year; without it the round trip holds at every current",
    "dc_stage_loss": "loss of the DC stage by power in the year", "dc_stage_rated_w": "loss of the DC stage by power in the year",
    "peukert_exponent": "what a fast discharge of lead-acid takes from it",
    "capacity_hours_h": "the current that Peukert's rule begins at",
    "absorption_h": "how long the last of a charge takes in the year",
    "heating_w": "energy that its heater takes in the year",
    "heating_below_c": "hours of cold in which it may charge",
    **dict.fromkeys(
        (
            "frequency", "start_hz", "droop_frac", "base", "delay_s", "response_s", "trips", "frequency_hz", "after_s",
            "return_low_hz", "return_high_hz", "return_delay_s", "return_ramp_frac_per_min",
        ),
        "what AC-coupled PV does at a raised frequency",
    ),
    **dict.fromkeys(
        ("fuel_full_l_per_h", "fuel_half_l_per_h", "tank_l", "least_load_frac", "power_factor_frac"),
        "the generator in the outage drill",
    ),
}  # fmt: skip
_DRILL, _WALL = "the blackout drill", "drawings of the wall"
# figure → what it is kept for: recorded with the card and shown, read by no check yet
LATER: dict[str, str] = {
    **dict.fromkeys(
        (
            "fuel", "frequency_min_hz", "frequency_max_hz", "generator_input", "switch_s",
        ),
        _DRILL,
    ),
    "height_m": _WALL,
    **dict.fromkeys(("accuracy_frac", "clamps", "clamp_opening_m"), "meters in a plan, and commissioning"),
}  # fmt: skip


NOT_IN_PLANS = ("meter",)
_UNREAD = "kept: nothing reads it of this box yet"
# what rests on the figures of boxes that stand on a low-voltage bank, where it is other than on inverters
ON_BANK: dict[str, dict[str, str]] = {
    "charge_controller": {
        "peak_efficiency_frac": "what reaches the bank in the year; 97 % is assumed",
        "night_w": "standby energy in the year; without it none is counted",
        "protocols": _UNREAD, "battery_lug_min_mm2": _UNREAD, "battery_lug_max_mm2": _UNREAD,
    },
    "timer_charger": {
        "peak_efficiency_frac": "its loss in the year; the inverter's own is assumed",
        "night_w": "standby energy in the year; without it none is counted",
        "supplies": _UNREAD, "power_factor_frac": _UNREAD,
    },
}  # fmt: skip
INVERTERS = ("pv_inverter", "module_inverter", "hybrid", "battery_inverter")
# read of batteries and inverters, kept of other boxes
ON_THE_WALL = ("places", "temperature_min_c", "temperature_max_c", "width_m", "depth_m", "weight_kg", "firmware_note")
OF_BATTERIES = ("battery.place", "battery.temperature", "battery.cold-charge", "energy.end-of-life")
OF_INVERTERS = ("place.unit", "place.unit-temperature", "place.residual-type", "backup.largest-breaker")


def rests_on(kind: str, column: str) -> str:
    """Return in words what stays open where a card of a kind lacks a figure; empty where nothing is known to rest on it."""
    if kind in NOT_IN_PLANS:
        return "kept: no plan holds one yet"
    parts = column.split(".")
    if parts[-1] in ON_BANK.get(kind, {}):
        return ON_BANK[kind][parts[-1]]
    for name in (parts[-1], parts[0]):
        if name in ON_THE_WALL and kind not in ("battery", "module", *INVERTERS):
            return f"kept for {_WALL}"
        checks = [check for check in READS.get(name, ()) if _asks(check, kind)]
        if checks:
            shorts = {entry.id: entry.short for entry in all_checks()}
            return ", ".join(shorts[check] for check in checks)
        if name in RESULTS:
            return RESULTS[name]
        if name in LATER:
            return f"kept for {LATER[name]}"
    return ""


def _asks(check: str, kind: str) -> bool:
    """Return whether a check looks at cards of a kind: transfer devices have two of their own."""
    if check.startswith("generator.") or check == "backup.life-support":
        return kind == "generator"
    if check == "cable.lug":
        return kind in (*INVERTERS, "transfer")
    if check in OF_BATTERIES or check in OF_INVERTERS:
        return kind in (("battery",) if check in OF_BATTERIES else INVERTERS)
    if check.startswith("place.") and kind == "module":
        return False
    of_devices = check in ("transfer.supply", "backup.pass-through", "backup.neutral-bond")
    return of_devices == (kind == "transfer")
