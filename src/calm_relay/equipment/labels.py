"""What the figures of a card are called on screen, in the trade's words; the file names of the fields stand in files only."""

from __future__ import annotations

from calm_relay.job.field_words import CHOICES as FIELD_CHOICES

LABELS: dict[str, str] = {
    "id": "Short name", "name": "Name", "source": "Source", "warranty_years": "Warranty", "kind": "Kind",
    "power_stc_w": "Power at STC", "voc_stc_v": "Open-circuit voltage", "vmp_stc_v": "Voltage at maximum power",
    "isc_stc_a": "Short-circuit current", "imp_stc_a": "Current at maximum power",
    "beta_voc_per_c": "Temperature coefficient of Voc", "gamma_pmp_per_c": "Temperature coefficient of power",
    "alpha_isc_per_c": "Temperature coefficient of Isc", "beta_vmp_per_c": "Temperature coefficient of Vmp",
    "system_voltage_max_v": "Maximum system voltage", "series_fuse_max_a": "Maximum series fuse", "length_m": "Length",
    "width_m": "Width", "bifaciality_frac": "Bifaciality",
    "input_voltage_max_v": "Maximum input voltage", "input_current_max_a": "Maximum input current", "power_max_w": "Maximum power",
    "output_current_max_a": "Maximum output current", "string_voltage_v": "Fixed string voltage",
    "modules_min": "Modules, at least", "modules_max": "Modules, at most", "string_power_max_w": "Maximum string power",
    "unequal_strings": "Unequal strings in parallel", "loss_frac": "Own loss",
    "ac_rated_w": "Rated AC power", "loss.p_self_w": "Loss: fixed part", "loss.a": "Loss: linear term a",
    "loss.b": "Loss: square term b", "night_w": "Standby draw", "phases": "Phases", "dc_voltage_max_v": "Maximum DC voltage",
    "mppt_min_v": "window from", "mppt_max_v": "window to", "start_v": "starts at", "working_current_a": "working current",
    "short_circuit_current_a": "short-circuit current", "trackers_paralleled": "Trackers joined inside",
    "back_feed_a": "Current fed back into a string", "dc_ac_ratio_max": "Array ratio, at most",
    "pv_dc_max_w": "All trackers together, at most",
    "dc_ac_ratio_max_with_battery": "Array ratio with battery, at most", "controllable": "Output can be throttled",
    "branch_units_max": "Units on a branch", "ac_in_max_w": "Maximum AC input", "charge_loss.p_self_w": "Charger loss: fixed part",
    "charge_loss.a": "Charger loss: linear term a", "charge_loss.b": "Charger loss: square term b",
    "charge_max_w": "Maximum charge power", "discharge_max_w": "Maximum discharge power", "charge_max_a": "Maximum charge current",
    "discharge_max_a": "Maximum discharge current", "battery_voltage_min_v": "Battery voltage from",
    "battery_voltage_max_v": "Battery voltage to", "pv_and_ac_charge_max_w": "PV and AC charging together",
    "grid_port_max_w": "Grid port, at most", "backup_port_max_w": "Backup port, at most", "grid_forming": "Forms the grid",
    "offgrid_continuous_va": "Off grid, continuous", "offgrid_peak_va": "Off grid, peak", "offgrid_peak_s": "Seconds of the peak",
    "startable_lra_a": "Starts locked-rotor amps up to",
    "fault_current_a": "Short-circuit current off grid",
    "absorb_max_w": "Takes in off grid", "absorb_ratio": "PV to absorb, ratio",
    "pass_through_a": "Passes through", "pv_to_battery_max_w": "PV to battery, at most",
    "chemistry": "Chemistry", "capacity_wh": "Energy of a module", "soc_min_frac": "Lowest charge",
    "soc_max_frac": "Highest charge", "voltage_nominal_v": "Nominal voltage", "voltage_full_v": "Voltage when full",
    "voltage_empty_v": "Voltage when empty",
    "stacking": "Modules stand in", "bank_charge_max_w": "Bank's charge power", "bank_discharge_max_w": "Bank's discharge power",
    "dc_round_trip_frac": "DC round trip", "round_trip_at_a": "Round trip measured at",
    "dc_stage_loss": "DC stage", "dc_stage_loss.p_self_w": "DC stage: fixed loss",
    "dc_stage_loss.a": "DC stage: linear term a", "dc_stage_loss.b": "DC stage: square term b",
    "dc_stage_rated_w": "DC stage, rated", "peukert_exponent": "Peukert exponent",
    "capacity_hours_h": "Energy given for a discharge of", "absorption_h": "Absorption takes",
    "taper_soc_frac": "Charging slows above", "taper_end_frac": "Slows down to",
    "auxiliary_w": "Auxiliary draw of a bank", "heating_w": "Heater of a bank", "heating_below_c": "Heats below",
    "no_longer_made": "No longer made", "firmware_note": "Firmware note", "height_m": "Height", "depth_m": "Depth",
    "weight_kg": "Weight", "places": "Places allowed", "temperature_min_c": "Works from", "temperature_max_c": "Works up to",
    "supplies": "Connects to", "phase_max_w": "On one phase, at most", "leg_max_w": "On one leg, at most",
    "peak_efficiency_frac": "Peak efficiency", "european_efficiency_frac": "European efficiency",
    "cec_efficiency_frac": "CEC efficiency", "efficiency_points": "Efficiency by load", "load_frac": "load",
    "efficiency_frac": "efficiency", "frequency": "Response to frequency", "start_hz": "begins at", "droop_frac": "droop",
    "base": "reckoned on", "delay_s": "delay", "response_s": "response time", "trips": "trips", "frequency_hz": "trips above",
    "after_s": "after", "return_low_hz": "returns from", "return_high_hz": "returns up to", "return_delay_s": "returns after",
    "return_ramp_frac_per_min": "ramps up by the minute",
    "residual_type": "Residual-current type before it",
    "lug_min_mm2": "Terminals take from", "lug_max_mm2": "Terminals take up to",
    "chemistries": "Charges chemistries", "pairs_with": "Listed with", "protocols": "Talks by",
    "backup_breakers": "Largest backup breaker", "units": "units", "breaker_a": "breaker",
    "battery_lug_min_mm2": "Battery terminals take from", "battery_lug_max_mm2": "Battery terminals take up to",
    "cells_in_series": "Cells in series", "charge_over_temperature": "Charge current by temperature",
    "discharge_over_temperature": "Discharge current by temperature", "temperature_c": "at", "share_frac": "share",
    "internal_resistance_ohm": "Internal resistance", "depth_life": "Cycles by depth", "depth_frac": "depth", "cycles": "cycles",
    "warranty_throughput_wh": "Warranted throughput", "warranty_end_frac": "Warranted capacity at the end",
    "switch_s": "Switches over in", "bonds_neutral": "Bonds the neutral in an island", "generator_input": "Input for a generator",
    "power_factor_frac": "Power factor", "rated_va": "Rated power", "peak_va": "Peak power", "fuel": "Fuel",
    "fuel_full_l_per_h": "Fuel at full load", "fuel_half_l_per_h": "Fuel at half load", "tank_l": "Tank",
    "least_load_frac": "Load, at least", "frequency_min_hz": "Frequency from", "frequency_max_hz": "Frequency to",
    "auto_start": "Starts by itself", "current_max_a": "Measures up to", "accuracy_frac": "Accuracy", "clamps": "Clamps",
    "clamp_opening_m": "Opening of a clamp", "trackers": "Trackers", "loss": "Loss", "charge_loss": "Charger loss",
}  # fmt: skip
ROWS = {
    "trackers": "Tracker", "efficiency_points": "Efficiency", "backup_breakers": "Backup breaker",
    "charge_over_temperature": "Charge by temperature", "discharge_over_temperature": "Discharge by temperature",
    "depth_life": "Life", "trips": "trip", "frequency": "Frequency",
}  # fmt: skip


def label_of(column: str) -> str:
    """Return a figure's name in the trade's words; that of a numbered row with its number."""
    if column in LABELS:
        return LABELS[column]
    *before, name = column.split(".")
    words: list[str] = []
    for part in before:
        if part.isdigit() and words:
            words[-1] += f" {part}"
        else:
            words.append(ROWS[part])
    last = LABELS[name]
    return ", ".join([*words, f"{last[:1].lower()}{last[1:]}"])


# Plain names of the choices a card's figures take; those that fields of a job have too are theirs.
_SHARED = ("single_phase", "split_phase", "three_phase", "indoors", "garage", "outdoors_sheltered", "outdoors")
CHOICES: dict[str, str] = {name: FIELD_CHOICES[name] for name in _SHARED} | {
    "can": "CAN", "rs485": "RS-485", "modbus_tcp": "Modbus TCP", "dry_contact": "dry contact", "volts_only": "volts alone",
    "series": "series", "parallel": "parallel", "rated_power": "rated power", "power_at_start": "power when crossed", "LFP": "LFP",
    "NMC": "NMC", "lead-acid": "lead-acid", "lead-gel": "lead gel", "lead-flooded": "lead flooded", "petrol": "petrol",
    "diesel": "diesel", "gas": "gas",
}  # fmt: skip
KINDS: dict[str, str] = {
    "module": "module", "optimizer": "optimizer", "pv_inverter": "string inverter", "module_inverter": "module-level inverter",
    "hybrid": "hybrid inverter", "battery_inverter": "battery inverter", "battery": "battery module",
    "transfer": "transfer device", "charge_controller": "charge controller", "timer_charger": "timer charger",
    "generator": "generator", "meter": "meter",
}  # fmt: skip
