"""Energy, board, operator, rooms and settings: a case for each verdict, with values by hand."""

from __future__ import annotations

from calm_relay.job.edits import Edit
from calm_relay.library.shipped import shipped_card
from tests.wiring_cases import THREE

A, B, C, TODAY = "ac-add-on", "hybrid-swap", "hybrid-alongside", "today"
BAT, HYB, OLD = f"plans[{A}].nodes[bat]", f"plans[{B}].nodes[hyb]", f"plans[{A}].nodes[old]"
SLOTS, CONTROLS = f"plans[{A}].controls.slots", f"plans[{A}].controls"
IN, GARAGE, BOARD, RULE = "site.spots[0]", "site.spots[1]", "site.board", "site.network"
CHARGER, STACK, GATEWAY = "library[battery-inverter-5k]", "library[stack-3k]", "library[gateway-63]"
PROTECTION = f"plans[{A}].protection"
WHOLE = Edit(f"plans[{A}].transfer.backed_up", "whole_house")
GERMANY, AMERICA, INTERNATIONAL = Edit("pack", "germany"), Edit("pack", "north-america"), Edit("pack", "international")
REUSES = [Edit(f"{HYB}.reuses", "shed-circuit"), Edit("site.circuits[shed-circuit].run.size", "6 mm²")]
NO_BOARD = Edit("site.supply_run", None)
IN_AMERICA = [AMERICA, NO_BOARD, *(Edit(f"plans[{A}].nodes[{n}].run", None) for n in ("old", "bat"))]
PLUGGED = [Edit(f"{BAT}.plugged_in", value=True)]
LEAD = [Edit(f"{STACK}.chemistry", "lead-gel"), Edit(f"{STACK}.voltage_nominal_v", 64.0)]
EACH = [*THREE, Edit("tariff.netting", "each"), Edit(f"{BAT}.line", "1")]
LATE = Edit(f"{SLOTS}[0].end_h", 8.0)
TIMER = [Edit(f"{SLOTS}[0].kind", "timer"), Edit(f"{SLOTS}[0].start_h", 10.0), Edit(f"{SLOTS}[0].end_h", 14.0)]
SECOND = {"kind": "hold", "start_h": 4.0, "end_h": 6.0}
CURVE = {"trips": [{"frequency_hz": 50.5, "after_s": 0.2}]}
STRINGS = f"plans[{TODAY}].nodes[old].string_run"
HOT_ROOF = Edit("library[module-385].isc_stc_a", 40.0)
ZERO = Edit("site.export_limit_w", 0.0)
CAR = Edit("house.appliances[laundry].surplus", "before_battery")

CASES: dict[str, dict[str, tuple[str, list[Edit]]]] = {
    # D: what energy does
    "energy.night-use": {"tight": (A, []), "within": (A, [Edit(f"{BAT}.battery.modules", 5)])},
    "energy.idle": {"tight": (A, [Edit(f"{CHARGER}.loss.p_self_w", 90.0)]), "within": (A, [])},
    "energy.standby": {"tight": (A, [Edit(f"{STACK}.auxiliary_w", 60.0)]), "within": (A, [])},
    "energy.export-price": {"tight": (A, [Edit("tariff.export_price_per_kwh", 0.40)]), "within": (A, [])},
    "energy.beside-battery": {
        "tight": (A, [CAR, Edit("house.appliances[laundry].run_h", 4.0)]),
        "within": (A, [CAR]),
    },
    "energy.timed-charger": {
        "tight": (A, [*TIMER, Edit(f"{SLOTS}[0].power_w", 4000.0)]),
        "within": (A, [*TIMER, Edit(f"{SLOTS}[0].power_w", 300.0)]),
    },
    "energy.large-load": {
        "tight": (A, [Edit("house.appliances[oven].running_w", 5500.0)]),
        "within": (A, []),
    },
    "energy.end-of-life": {
        "tight": (A, [Edit("brief.outage_longest_h", 30.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.warranty_end_frac", None)]),
    },
    # E: service and board
    "cable.strings": {"over": (TODAY, [Edit(f"{STRINGS}.size", "2.5 mm²"), HOT_ROOF]), "within": (TODAY, [])},
    "cable.strings-drop": {
        "tight": (TODAY, [Edit(f"{STRINGS}.length_m", 90.0)]),
        "within": (TODAY, []),
        "not known": (TODAY, [Edit(f"{STRINGS}.length_m", None)]),
    },
    "service.supply-volts": {
        "over": (TODAY, [Edit("site.supply.voltage_v", 120.0), Edit("site.export_limit_w", 1000.0)]),
        "within": (TODAY, []),
    },
    "service.free-ways": {
        "tight": (A, [Edit(f"{BOARD}.free_ways", 0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{BOARD}.free_ways", None)]),
    },
    "service.fault-level": {
        "over": (A, [Edit(f"{BOARD}.fault_level_a", 6500.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{BOARD}.breaks_a", None)]),
    },
    "backup.device-rating": {
        "over": (A, [WHOLE, Edit(f"{BOARD}.main_breaker_a", 80.0)]),
        "within": (A, [WHOLE]),
        "not known": (A, [WHOLE, Edit(f"{GATEWAY}.pass_through_a", None)]),
    },
    "backup.largest-breaker": {
        "over": (A, [Edit(f"{CHARGER}.backup_breakers", [{"units": 1, "breaker_a": 10.0}])]),
        "within": (A, [Edit(f"{CHARGER}.backup_breakers", [{"units": 1, "breaker_a": 20.0}])]),
        "not known": (A, [Edit(f"{CHARGER}.backup_breakers", [{"units": 2, "breaker_a": 20.0}])]),
    },
    "cable.lug": {
        "over": (A, [Edit(f"{CHARGER}.lug_max_mm2", 6.0), Edit(f"{BAT}.run.protected_a", 25.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.lug_min_mm2", None), Edit(f"{CHARGER}.lug_max_mm2", None)]),
    },
    "service.reuse": {
        "over": (B, [REUSES[0], Edit("site.circuits[shed-circuit].run.size", "1.5 mm²")]),
        "within": (B, REUSES),
        "not known": (B, [*REUSES, Edit("site.circuits[shed-circuit].run.protected_a", None)]),
    },
    "service.charging": {
        "tight": (A, [Edit("site.supply.service_a", 32.0)]),
        "within": (A, []),
    },
    "service.kva": {"over": (A, [Edit("site.supply.service_a", 20.0)]), "within": (A, [])},
    "service.existing-load": {
        "tight": (A, [Edit(f"{BOARD}.main_breaker_a", 32.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{BOARD}.main_breaker_a", None)]),
    },
    "service.balance": {
        "tight": (A, [*THREE, Edit("house.background_lines_frac", [1.0, 0.0, 0.0])]),
        "within": (A, THREE),
    },
    "service.one-phase-battery": {"tight": (A, EACH), "within": (A, [*EACH, Edit("tariff.netting", "summed")])},
    # F: the operator
    "network.set-point": {
        "tight": (A, [ZERO, Edit(f"{CONTROLS}.export_response_s", 5.0)]),
        "within": (A, [ZERO, Edit(f"{CONTROLS}.export_response_s", 5.0), Edit(f"{CONTROLS}.meter_bias_w", 30.0)]),
        "not known": (A, [ZERO]),
    },
    "network.sensor": {"tight": (A, [Edit(f"{CONTROLS}.sensor", "device")]), "within": (A, [])},
    "network.plug-in": {
        "over": (A, [*PLUGGED, GERMANY]),
        "within": (A, [*PLUGGED, GERMANY, Edit(f"{CHARGER}.ac_rated_w", 600.0)]),
        "not known": (A, [*PLUGGED, INTERNATIONAL]),
    },
    "network.approval": {
        "over": (A, [Edit(f"{RULE}.transfer_approved", "no")]),
        "within": (A, [Edit(f"{RULE}.transfer_approved", "yes")]),
        "not known": (A, [Edit(f"{RULE}.transfer_approved", "not_known")]),
    },
    "network.frequency-response": {
        "over": (A, [Edit(f"{CHARGER}.frequency", CURVE)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.frequency", None)]),
    },
    "network.return-ramp": {
        "tight": (A, [GERMANY]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.frequency", CURVE)]),
    },
    "network.dynamic-cap": {
        "over": (A, [Edit(f"{RULE}.dynamic_least_w", 1500.0), Edit("library[string-inverter-5k].controllable", value=False)]),
        "within": (A, [Edit(f"{RULE}.dynamic_least_w", 1500.0)]),
    },
    "network.usual-export": {
        "tight": (A, [Edit("site.export_limit_w", 6000.0)]),
        "within": (A, []),
        "not known": (A, [Edit("site.export_limit_w", None)]),
    },
    "network.netting": {"tight": (A, EACH), "within": (A, [*EACH, Edit("tariff.netting", "summed")])},
    # H: places
    "place.known": {"within": (A, []), "not known": (A, [Edit("site.spots", [])])},
    "place.flood": {
        "over": (C, [Edit(f"{GARAGE}.flood_m", 0.5)]),
        "within": (C, []),
        "not known": (C, [Edit(f"{GARAGE}.flood_m", None)]),
    },
    "place.unit": {
        "over": (A, [Edit(f"{CHARGER}.places", ["garage"])]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.places", [])]),
    },
    "place.unit-temperature": {
        "over": (A, [Edit(f"{OLD}.place", "garage"), Edit(f"{GARAGE}.low_c", -30.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.temperature_max_c", None)]),
    },
    "place.sun": {
        "tight": (A, [Edit(f"{GARAGE}.place", "outdoors"), Edit(f"{OLD}.place", "outdoors"), Edit(f"{GARAGE}.in_sun", "yes")]),
        "within": (A, [Edit(f"{GARAGE}.place", "outdoors"), Edit(f"{OLD}.place", "outdoors"), Edit(f"{GARAGE}.in_sun", "no")]),
        "not known": (A, [Edit(f"{GARAGE}.place", "outdoors"), Edit(f"{OLD}.place", "outdoors")]),
    },
    "place.room": {
        "over": (A, [Edit(f"{IN}.room", "living")]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.room", "not_said")]),
    },
    "place.opening": {
        "over": (A, [Edit(f"{IN}.opening_m", 0.5)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.opening_m", None)]),
    },
    "place.apart": {
        "over": (A, [*IN_AMERICA, Edit(f"{IN}.apart_m", 0.3), Edit(f"{STACK}.stacking", "parallel")]),
        "within": (A, [*IN_AMERICA, Edit(f"{IN}.apart_m", 0.9), Edit(f"{STACK}.stacking", "parallel")]),
        "not known": (A, [*IN_AMERICA, Edit(f"{STACK}.stacking", "parallel")]),
    },
    "place.clear": {
        "over": (A, [Edit(f"{IN}.clear_m", 0.8)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.clear_m", None)]),
    },
    "place.width": {
        "over": (A, [Edit(f"{IN}.width_m", 0.8)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.width_m", None)]),
    },
    "place.weight": {
        "over": (A, [Edit(f"{IN}.carries_kg", 100.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.carries_kg", None)]),
    },
    "place.backing": {
        "over": (A, [Edit(f"{IN}.backing", "no")]),
        "within": (A, []),
        "not known": (A, [Edit(f"{IN}.backing", "not_known")]),
    },
    "place.air": {
        "over": (A, [*LEAD, Edit(f"{IN}.vent_cm2", 50.0)]),
        "within": (A, [*LEAD, Edit(f"{IN}.vent_cm2", 800.0)]),
        "not known": (A, LEAD),
    },
    "place.duty": {
        "over": (A, [Edit(f"{PROTECTION}.ac_isolator", "no")]),
        "within": (A, []),
        "not known": (A, [Edit(f"{PROTECTION}.surge", "not_known")]),
    },
    "place.residual-type": {
        "over": (A, [Edit(f"{PROTECTION}.residual_type", "ac")]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.residual_type", None)]),
    },
    "place.labels": {"note": (A, [])},
    # J: settings
    "settings.target": {"tight": (A, [LATE]), "within": (A, [LATE, Edit(f"{SLOTS}[0].target_soc_frac", 0.05)])},
    "settings.overlap": {
        "tight": (A, [Edit(f"{SLOTS}[+]", SECOND)]),
        "within": (A, [Edit(f"{SLOTS}[+]", {**SECOND, "start_h": 5.0})]),
    },
    "settings.reserve": {"tight": (A, [Edit(f"{CONTROLS}.reserve_soc_frac", 0.95)]), "within": (A, [])},
    "settings.limiter": {
        "tight": (A, [Edit("site.export_limit_w", 100.0), Edit(f"{CONTROLS}.meter_bias_w", 150.0)]),
        "within": (A, []),
    },
    "settings.cut-off": {"note": (A, []), "not known": (A, [Edit("library[string-inverter-5k].frequency", None)])},
    "settings.firmware": {"note": (A, [Edit(f"{CHARGER}.firmware_note", "1.4 or newer")])},
}
NEVER_OVER = ("place.known",)
NO_REMEDY = (
    "energy.idle", "energy.standby", "energy.export-price", "energy.timed-charger", "service.free-ways", "service.fault-level",
    "service.kva", "service.balance", "service.one-phase-battery", "service.supply-volts", "network.frequency-response",
    "network.return-ramp", "network.netting", "place.sun", "place.room", "place.width", "place.weight",
)  # fmt: skip

SIZED = [Edit(f"{IN}.vent_cm2", 700.0)]
BOX, UNIT = shipped_card("stack-3k"), shipped_card("battery-inverter-5k")
ESSENTIAL_WH = 110 * 8 + 160 * 9 + 350 * 0.8 + 1100 + 140 * 5 + 18 * 24 + 450 * 2.5
AMPS = 5000 / 230
ROWS: list[dict[str, object]] = [
    {"check": "energy.idle", "value": 30 * 24 / 9405, "limit": 0.15, "value_knob": True},
    {"check": "energy.export-price", "edits": [Edit(f"{STACK}.dc_round_trip_frac", 1.0), Edit(f"{CHARGER}.loss.p_self_w", 0.0),
     Edit(f"{CHARGER}.loss.a", 0.0), Edit(f"{CHARGER}.loss.b", 0.0)], "value": 0.12, "limit": 0.36,
     "knob": "tariff.import_price_per_kwh", "soft": True},
    {"check": "energy.beside-battery", "edits": [CAR], "value": 1900 * 1.2 * 0.5 / 9405, "limit": 0.3, "value_knob": True},
    {"check": "energy.large-load", "value": 2100, "limit": 5000, "knob": f"{CHARGER}.ac_rated_w", "soft": True},
    {"check": "energy.end-of-life", "value": 9405 * 0.7, "limit": ESSENTIAL_WH * 18 / 24, "knob": "brief.outage_longest_h",
     "turn": 24 / ESSENTIAL_WH, "soft": True},
    # class 5, 90 °C: 5.09 mΩ/m × 1.2751 over 18 m there and back at 9.53 A, on 8 × 40.4 V
    {"check": "cable.strings-drop", "plan": TODAY, "value": 2 * 9.53 * 18 * 5.09e-3 * (1 + 0.00393 * 70) / (8 * 40.4),
     "limit": 0.03, "value_knob": True},
    {"check": "cable.strings", "plan": TODAY, "value": 1.25 * 10.1, "limit": 55, "value_knob": True},
    {"check": "service.supply-volts", "plan": TODAY, "edits": [Edit("site.supply.voltage_v", 250.0)], "value": 20 / 230,
     "limit": 0.1, "value_knob": True},
    {"check": "service.free-ways", "value": 1, "limit": 4, "value_knob": True},
    {"check": "service.fault-level", "value": 1800, "limit": 6000, "knob": f"{BOARD}.breaks_a"},
    {"check": "backup.device-rating", "edits": [WHOLE], "value": 63, "limit": 63, "knob": f"{GATEWAY}.pass_through_a"},
    {"check": "backup.largest-breaker", "edits": list(CASES["backup.largest-breaker"]["within"][1]), "value": 16, "limit": 20,
     "knob": f"{CHARGER}.backup_breakers[0].breaker_a"},
    {"check": "cable.lug", "value": 1, "limit": 1, "value_knob": True},
    {"check": "service.reuse", "plan": B, "edits": [REUSES[0], Edit("site.circuits[shed-circuit].run.protected_a", 25.0)],
     "value": AMPS, "limit": 25, "value_knob": True},
    {"check": "network.set-point", "edits": list(CASES["network.set-point"]["within"][1]), "value": 30, "limit": 20,
     "value_knob": True},
    {"check": "network.sensor", "value": 1, "limit": 1, "value_knob": True},
    {"check": "network.plug-in", "edits": [*PLUGGED, GERMANY], "value": 5000, "limit": 800, "value_knob": True},
    {"check": "network.approval", "edits": list(CASES["network.approval"]["within"][1]), "value": 1, "limit": 1,
     "value_knob": True},
    {"check": "network.frequency-response", "value": 1, "limit": 1, "value_knob": True},
    {"check": "network.return-ramp", "value": 0.16, "limit": 0.167, "value_knob": True},
    {"check": "network.dynamic-cap", "edits": list(CASES["network.dynamic-cap"]["over"][1]), "value": 5000, "limit": 1500,
     "knob": f"{RULE}.dynamic_least_w"},
    {"check": "network.usual-export", "edits": [Edit(f"{RULE}.export_share_frac", 0.5)], "value": 0.5 * 6160, "limit": 5000,
     "value_knob": True},
    {"check": "network.usual-export", "edits": [GERMANY, Edit("site.export_limit_w", 3000.0)], "value": 3000,
     "limit": 0.6 * 6160, "value_knob": True},
    {"check": "place.known", "value": 1, "limit": 1, "value_knob": True},
    {"check": "place.flood", "plan": C, "value": 0.6, "limit": 0.5, "knob": f"{GARAGE}.flood_m", "turn": 1.0, "value_knob": True},
    {"check": "place.unit", "value": 1, "limit": 1, "value_knob": True},
    {"check": "place.unit-temperature", "edits": [Edit(f"{IN}.high_c", 41.0)], "value": 41, "limit": UNIT.temperature_max_c,
     "knob": f"{CHARGER}.temperature_max_c"},
    {"check": "place.sun", "edits": list(CASES["place.sun"]["within"][1]), "value": 1, "limit": 1, "value_knob": True},
    {"check": "place.room", "value": 1, "limit": 1, "value_knob": True},
    {"check": "place.opening", "value": 0.9, "limit": 0.6, "value_knob": True},
    {"check": "place.apart", "edits": list(CASES["place.apart"]["over"][1]), "value": 0.3, "limit": 0.9, "value_knob": True},
    {"check": "place.clear", "value": 1.1 - max(BOX.depth_m, UNIT.depth_m), "limit": 0.7, "value_knob": True},
    {"check": "place.width", "value": BOX.width_m + UNIT.width_m, "limit": 2.4, "knob": f"{IN}.width_m"},
    {"check": "place.weight", "value": 3 * BOX.weight_kg + UNIT.weight_kg, "limit": 260, "knob": f"{IN}.carries_kg"},
    {"check": "place.backing", "value": 1, "limit": 1, "value_knob": True},
    # 3 × 64 V of gel: 96 cells of 3300/64 = 51.56 Ah, 8 mA each ampere hour: 0.05·96·0.008·51.56 = 1.98 m³/h, 28 cm² each
    {"check": "place.air", "edits": [*LEAD, *SIZED], "value": 700, "limit": 28 * 0.05 * 96 * 0.008 * 3300 / 64, "value_knob": True},
    {"check": "place.duty", "value": 1, "limit": 1, "value_knob": True},
    {"check": "place.residual-type", "value": 1, "limit": 1, "value_knob": True},
    {"check": "settings.overlap", "edits": [Edit(f"{SLOTS}[+]", SECOND)], "value": 1.0, "limit": 0.0, "value_knob": True},
    {"check": "settings.reserve", "value": 0.15, "limit": 0.9, "knob": f"{SLOTS}[0].target_soc_frac", "soft": True},
    {"check": "settings.limiter", "edits": list(CASES["settings.limiter"]["tight"][1]), "value": 150, "limit": 100,
     "knob": "site.export_limit_w", "soft": True},
]  # fmt: skip
# Held to the year in test_year_limits, or they only say something.
BY_OTHERS = (
    "energy.night-use", "energy.standby", "energy.timed-charger", "service.charging", "service.kva", "service.existing-load",
    "service.balance", "service.one-phase-battery", "network.netting", "settings.target", "place.labels", "settings.cut-off",
    "settings.firmware",
)  # fmt: skip
