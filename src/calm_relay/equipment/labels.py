"""What the figures of a card are called on screen, in the trade's words; the file names of the fields stand in files only."""

from __future__ import annotations

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
    "dc_ac_ratio_max_with_battery": "Array ratio with battery, at most", "controllable": "Output can be throttled",
    "branch_units_max": "Units on a branch", "ac_in_max_w": "Maximum AC input", "charge_loss.p_self_w": "Charger loss: fixed part",
    "charge_loss.a": "Charger loss: linear term a", "charge_loss.b": "Charger loss: square term b",
    "charge_max_w": "Maximum charge power", "discharge_max_w": "Maximum discharge power", "charge_max_a": "Maximum charge current",
    "discharge_max_a": "Maximum discharge current", "battery_voltage_min_v": "Battery voltage from",
    "battery_voltage_max_v": "Battery voltage to", "pv_and_ac_charge_max_w": "PV and AC charging together",
    "grid_port_max_w": "Grid port, at most", "backup_port_max_w": "Backup port, at most", "grid_forming": "Forms the grid",
    "offgrid_continuous_va": "Off grid, continuous", "offgrid_peak_va": "Off grid, peak", "offgrid_peak_s": "Seconds of the peak",
    "startable_lra_a": "Starts locked-rotor amps up to", "absorb_max_w": "Takes in off grid", "absorb_ratio": "PV to absorb, ratio",
    "pass_through_a": "Passes through", "pv_to_battery_max_w": "PV to battery, at most",
    "chemistry": "Chemistry", "capacity_wh": "Energy of a module", "soc_min_frac": "Lowest charge",
    "soc_max_frac": "Highest charge", "voltage_nominal_v": "Nominal voltage", "voltage_full_v": "Voltage when full",
    "voltage_empty_v": "Voltage when empty",
    "stacking": "Modules stand in", "bank_charge_max_w": "Bank's charge power", "bank_discharge_max_w": "Bank's discharge power",
    "dc_round_trip_frac": "DC round trip", "taper_soc_frac": "Charging slows above", "taper_end_frac": "Slows down to",
    "auxiliary_w": "Auxiliary draw of a bank",
}  # fmt: skip


def label_of(column: str) -> str:
    """Return a figure's name in the trade's words; a tracker's with its number."""
    parts = column.split(".")
    if parts[0] == "trackers" and len(parts) == 3:
        words = LABELS[parts[2]]
        return f"Tracker {parts[1]}, {words[:1].lower()}{words[1:]}"
    return LABELS[column]
