"""Groups E and F: a case for each verdict of the checks of wiring, board and network rules, with values by hand."""

from __future__ import annotations

from calm_relay.job.edits import Edit

A, B = "ac-add-on", "hybrid-swap"
OLD, SUPPLY, BOARD = "plans[today].nodes[old].run", "site.supply_run", "site.board"
TODAY = "today"
BRITAIN, GERMANY = Edit("pack", "great-britain"), Edit("pack", "germany")
THREE = [GERMANY, Edit("site.supply.kind", "three_phase"), Edit("site.network.sum_limit_w", 30_000.0)]
HOT = 1 + 0.00393 * 50
NO_RUNS = [Edit(f"plans[{A}].nodes[{node}].run", None) for node in ("old", "bat")]

CASES: dict[str, dict[str, tuple[str, list[Edit]]]] = {
    "cable.ampacity": {
        "over": (TODAY, [Edit(f"{OLD}.size", "1.5 mm²")]),
        "within": (TODAY, []),
    },
    "cable.breaker": {
        "over": (TODAY, [Edit(f"{OLD}.protected_a", 16.0)]),
        "within": (TODAY, []),
    },
    "cable.rise": {
        "tight": (TODAY, []),
        "within": (A, [Edit(f"plans[{A}].nodes[old].run.size", "10 mm²")]),
        "not known": (TODAY, [Edit(SUPPLY, None)]),
    },
    "cable.volts": {
        "over": (TODAY, [Edit(f"{BOARD}.highest_supply_v", 253.0)]),
        "within": (TODAY, []),
        "not known": (TODAY, [Edit(f"{BOARD}.highest_supply_v", None)]),
    },
    "service.busbar": {
        "over": (A, [Edit(f"{BOARD}.busbar_a", 100.0)]),
        "within": (TODAY, []),
        "not known": (TODAY, [Edit("pack", "north-america"), Edit(OLD, None), Edit(SUPPLY, None), Edit(f"{BOARD}.busbar_a", None)]),
    },
    "network.notify": {
        "tight": (TODAY, [BRITAIN]),
        "within": (TODAY, [BRITAIN, Edit("library[string-inverter-5k].ac_rated_w", 3680.0)]),
    },
    "network.imbalance": {
        "over": (TODAY, THREE),
        "within": (TODAY, [*THREE, Edit("library[string-inverter-5k].ac_rated_w", 4000.0)]),
    },
}
NO_LUGS = [
    *(Edit(f"library[battery-inverter-5k].battery_lug_{end}_mm2", None) for end in ("min", "max")),
    *(Edit(f"library[stack-3k].lug_{end}_mm2", None) for end in ("min", "max")),
]
CABLE, AMERICA = f"plans[{A}].nodes[bat].battery_run", Edit("pack", "north-america")
CASES |= {
    "battery.cable": {
        "over": (A, [Edit(f"{CABLE}.size", "2.5 mm²"), Edit(f"{CABLE}.ambient_c", 75.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CABLE}.protected_a", None)]),
    },
    "battery.cable-drop": {
        "tight": (A, [Edit(f"{CABLE}.length_m", 40.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CABLE}.length_m", None)]),
    },
    "battery.lug": {
        "over": (A, [Edit("library[battery-inverter-5k].battery_lug_max_mm2", 6.0)]),
        "within": (A, [Edit("library[battery-inverter-5k].battery_lug_max_mm2", 16.0)]),
        "not known": (A, NO_LUGS),
    },
    "place.energy": {
        "over": (A, [AMERICA, Edit("site.supply_run", None), *NO_RUNS, Edit("library[stack-3k].capacity_wh", 25_000.0)]),
        "within": (A, [AMERICA, Edit("site.supply_run", None), *NO_RUNS]),
        "not known": (A, [AMERICA, Edit("site.supply_run", None), *NO_RUNS, Edit(f"plans[{A}].nodes[bat].battery.place", None)]),
    },
}
NO_REMEDY = ("network.notify", "network.imbalance", "place.energy")

AMPS = 5000 / 230
ROWS: list[dict[str, object]] = [
    {"check": "cable.ampacity", "plan": TODAY, "value": AMPS, "limit": 36, "value_knob": True},
    {"check": "cable.breaker", "plan": TODAY, "value": 32, "limit": 32, "value_knob": True},
    {
        "check": "cable.rise", "plan": TODAY, "value": 2 * AMPS * HOT * (22 * 4.61e-3 + 14 * 1.15e-3) / 230, "limit": 0.02,
        "value_knob": True,
    },
    {
        "check": "cable.volts", "plan": TODAY, "value": 244 + 2 * AMPS * HOT * (22 * 4.61e-3 + 14 * 1.15e-3), "limit": 258,
        "value_knob": True,
    },
    {"check": "service.busbar", "plan": TODAY, "value": 63 + AMPS, "limit": 160, "knob": f"{BOARD}.busbar_a"},
    {"check": "network.notify", "plan": TODAY, "edits": [BRITAIN], "value": AMPS, "limit": 16, "value_knob": True},
    {"check": "network.imbalance", "plan": TODAY, "edits": THREE, "value": 5000, "limit": 4600, "value_knob": True},
    {"check": "battery.lug", "edits": list(CASES["battery.lug"]["within"][1]), "value": 1, "limit": 1, "value_knob": True},
    {
        "check": "place.energy", "edits": list(CASES["place.energy"]["within"][1]), "value": 9900, "limit": 40_000,
        "value_knob": True,
    },
]  # fmt: skip
BY_OTHERS = ("battery.cable", "battery.cable-drop")  # their current is that of `battery.dc-current`, which has its hand value
