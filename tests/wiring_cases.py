"""Groups E and F: a case for each verdict of the checks of wiring, board and network rules, with values by hand."""

from __future__ import annotations

from calm_relay.job.edits import Edit

A, B = "ac-add-on", "hybrid-swap"
OLD, SUPPLY, BOARD = "plans[today].nodes[old].run", "site.supply_run", "site.board"
TODAY = "today"
BRITAIN, GERMANY = Edit("pack", "great-britain"), Edit("pack", "germany")
THREE = [GERMANY, Edit("site.supply.kind", "three_phase"), Edit("site.network.sum_limit_w", 30_000.0)]
HOT = 1 + 0.00393 * 50

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
NO_REMEDY = ("network.notify", "network.imbalance")

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
]  # fmt: skip
