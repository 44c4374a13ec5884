"""Group C, battery to inverter: a case for each verdict, and values and limits by hand on both sides."""

from __future__ import annotations

from calm_relay.demo import demo_job
from calm_relay.job.edits import Edit
from calm_relay.library.shipped import shipped_card

A, B = "ac-add-on", "hybrid-swap"
BAT = f"plans[{A}].nodes[bat]"
STACK, CHARGER = "library[stack-3k]", "library[battery-inverter-5k]"


def bank(battery: str, modules: int, unit: str = "charger-5k-48v", **more: object) -> list[Edit]:
    """Edits that put another inverter and bank into plan A."""
    choice = {"card": battery, "modules": modules, "place": "indoors", **more}
    cards = [Edit("library[+]", shipped_card(i).model_dump()) for i in (unit, battery)]
    return [*cards, Edit(f"{BAT}.card", unit), Edit(f"{BAT}.battery", choice)]


RACKS = bank("rack-5k", 4)
UNEVEN = bank("rack-5k", 2, leads_ohm=[0.0, 0.3])
GEL = bank("gel-cell-600", 24)
ROOM = Edit("site.network.sum_limit_w", 30_000.0)  # so that a larger inverter is not itself over
PLACE = f"{BAT}.battery.place"

APPLIANCES = [a.id for a in demo_job().house.appliances]
ALONE = [
    Edit(f"plans[{A}].transfer", None),
    Edit(f"plans[{A}].nodes[old].side", "backup"),
    Edit(f"plans[{A}].off_grid", value=True),
]


def declared(**more: str) -> list[Edit]:
    """Edits that put a generator into plan A, with what is declared of it, the old inverter on its bus."""
    choice = {"card": "generator-6k", **more}
    card = shipped_card("generator-6k").model_dump()
    return [Edit("library[+]", card), Edit(f"plans[{A}].generator", choice), Edit(f"plans[{A}].nodes[old].side", "backup")]


DIESEL = declared()
CASES: dict[str, dict[str, tuple[str, list[Edit]]]] = {
    "island.formed": {
        "over": (A, [*ALONE, Edit(f"{BAT}.battery", None)]),
        "within": (A, ALONE),
    },
    "island.served": {
        "over": (A, ALONE),
        "within": (
            B,
            [
                Edit(f"plans[{B}].transfer", None),
                Edit(f"plans[{B}].off_grid", value=True),
                Edit("house.background", {"kind": "profile", "shape": "flat", "energy_wh_per_day": [200.0] * 12}),
                *(Edit(f"house.appliances[{a}].running_w", 60.0) for a in APPLIANCES),
                *(Edit(f"house.appliances[{a}].run_h", 1.0) for a in APPLIANCES),
                *(Edit(f"house.appliances[{a}].never_from_battery", value=False) for a in APPLIANCES),
            ],
        ),
    },
    "car.dc-side": {
        "tight": (B, [Edit(f"plans[{B}].nodes[hyb].dc_car", "laundry"), Edit("library[hybrid-5k].ac_in_max_w", 900.0)]),
        "within": (B, [Edit(f"plans[{B}].nodes[hyb].dc_car", "laundry")]),
    },
    "network.phase-sum": {
        "over": ("hybrid-alongside", [Edit("site.network.phase_limit_w", 10_500.0), ROOM]),
        "within": (A, [Edit("site.network.phase_limit_w", 15_000.0)]),
    },
    "generator.lock-out": {
        "over": (A, declared(pv_locked_out="no")),
        "within": (A, declared(pv_locked_out="yes")),
        "not known": (A, DIESEL),
    },
    "generator.supply": {
        "over": (A, [*DIESEL, Edit("library[generator-6k].supplies", ["three_phase"])]),
        "within": (A, DIESEL),
        "not known": (A, [*DIESEL, Edit("library[generator-6k].supplies", [])]),
    },
    "backup.black-start": {"tight": (A, []), "within": (B, [])},
    "generator.size": {
        "over": (A, [*DIESEL, Edit("library[generator-6k].rated_va", 1500.0)]),
        "within": (A, DIESEL),
    },
    "generator.bypass": {
        "tight": (A, declared(bypass="no")),
        "within": (A, declared(bypass="yes")),
        "not known": (A, DIESEL),
    },
    "battery.pairing": {
        "over": (A, [Edit(f"{CHARGER}.pairs_with", ["stack-5k"])]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.pairs_with", [])]),
    },
    "battery.protocol": {
        "over": (A, [Edit(f"{STACK}.protocols", ["modbus_tcp"])]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.protocols", [])]),
    },
    "battery.chemistry": {
        "over": (A, [Edit(f"{CHARGER}.chemistries", ["NMC"])]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.chemistries", [])]),
    },
    "inverter.supply": {
        "over": (A, [Edit(f"{CHARGER}.supplies", ["three_phase"]), ROOM]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.supplies", [])]),
    },
    "transfer.supply": {
        "over": (A, [Edit("library[gateway-63].supplies", ["three_phase"])]),
        "within": (A, []),
        "not known": (A, [Edit("library[gateway-63].supplies", [])]),
    },
    "array.dc-power": {
        "tight": (B, [Edit("library[hybrid-5k].pv_dc_max_w", 5000.0)]),
        "within": (B, [Edit("library[hybrid-5k].pv_dc_max_w", 8000.0)]),
    },
    "battery.discharge-chain": {
        "tight": (A, [Edit(f"{BAT}.battery.modules", 2)]),
        "within": (A, [Edit(f"{CHARGER}.discharge_max_w", 6000.0)]),
        "not known": (A, [Edit(f"{STACK}.discharge_max_a", None)]),
    },
    "battery.feeds": {
        "tight": (A, [Edit(f"{BAT}.battery.modules", 2)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.discharge_max_a", None)]),
    },
    "battery.used": {
        "tight": (A, [Edit(f"{STACK}.discharge_max_a", 90.0), ROOM]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.discharge_max_a", None)]),
    },
    "battery.growth": {"tight": (A, [Edit(f"{BAT}.battery.modules", 6)]), "within": (A, [])},
    "battery.sheet-round-trip": {"tight": (A, [Edit(f"{STACK}.dc_round_trip_frac", 0.89)]), "within": (A, [])},
    "battery.sheet-depth": {"tight": (A, [Edit(f"{STACK}.soc_min_frac", 0.2)]), "within": (A, [])},
    "battery.dc-current": {
        "tight": (A, [Edit(f"{BAT}.battery.modules", 2)]),
        "within": (A, [Edit(f"{BAT}.battery.modules", 5)]),
        "not known": (A, [Edit(f"{STACK}.discharge_max_a", None)]),
    },
    "battery.sharing": {
        "over": (A, UNEVEN),
        "within": (A, RACKS),
        "not known": (A, [*UNEVEN, Edit("library[rack-5k].internal_resistance_ohm", None)]),
    },
    "battery.place": {
        "over": (A, [Edit(PLACE, "outdoors")]),
        "within": (A, []),
        "not known": (A, [Edit(PLACE, None)]),
    },
    "battery.temperature": {
        "over": (A, [Edit(PLACE, "garage"), Edit("site.record_low_c", -25.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.temperature_min_c", None)]),
    },
    "battery.cold-charge": {
        "tight": (A, [Edit(PLACE, "garage")]),
        "within": (A, []),
        "not known": (A, [Edit(PLACE, "garage"), Edit("site.record_low_c", None)]),
    },
    "battery.lead-recharge": {
        "over": (A, [*GEL, Edit(f"plans[{A}].controls.slots", []), Edit(f"plans[{A}].nodes[old].strings", [])]),
        "within": (A, [*GEL, Edit(f"plans[{A}].controls.slots[0].target_soc_frac", 1.0),
                       Edit(f"plans[{A}].controls.slots[0].power_w", 3500.0)]),
    },
    "battery.cycle-life": {
        "tight": (A, [Edit(f"{STACK}.depth_life", [{"depth_frac": 0.8, "cycles": 1500.0}])]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.depth_life", [])]),
    },
    "battery.warranty-throughput": {
        "tight": (A, [Edit(f"{STACK}.warranty_throughput_wh", 5e6)]),
        "within": (A, [Edit(f"{STACK}.warranty_throughput_wh", 2e7)]),
        "not known": (A, [Edit(f"{STACK}.warranty_throughput_wh", None)]),
    },
}  # fmt: skip
NO_REMEDY = ("battery.growth", "island.formed", "island.served", "generator.bypass", "backup.black-start")
NEED = 5000 + 30 + 0.01 * 5000 + 0.02 * 5000  # watts DC of 5 kW at AC: 30 W idle, 1 % and 2 %
NEED_VA = sum(load.running_w / load.power_factor for load in demo_job().house.appliances if load.essential)
FLOOR_V = 3 * 64 * (0.875 + 0.25 * 0.05)  # three modules at 5 %, 2.8 to 3.6 V a cell of 3.2 V

# check, plan, edits, value, limit, knob, turn, soft, whole: as the rows of test_check_values
ROWS: list[dict[str, object]] = [
    {"check": "battery.pairing", "value": 1, "limit": 1, "value_knob": True},
    {"check": "battery.protocol", "value": 1, "limit": 1, "value_knob": True},
    {"check": "battery.chemistry", "value": 1, "limit": 1, "value_knob": True},
    {"check": "inverter.supply", "value": 1, "limit": 1, "value_knob": True},
    {"check": "transfer.supply", "value": 1, "limit": 1, "value_knob": True},
    {"check": "battery.place", "value": 1, "limit": 1, "value_knob": True},
    {"check": "network.phase-sum", "edits": [Edit("site.network.phase_limit_w", 12_000.0)], "value": 10_000, "limit": 12_000,
     "knob": "site.network.phase_limit_w"},
    {"check": "island.formed", "edits": ALONE, "value": 1, "limit": 1, "value_knob": True},
    {"check": "generator.lock-out", "edits": declared(pv_locked_out="yes"), "value": 1, "limit": 1, "value_knob": True},
    {"check": "generator.supply", "edits": DIESEL, "value": 1, "limit": 1, "value_knob": True},
    {"check": "generator.size", "edits": DIESEL, "value": 5500, "limit": NEED_VA, "knob": "library[generator-6k].rated_va",
     "value_knob": True},
    {"check": "generator.bypass", "edits": declared(bypass="yes"), "value": 1, "limit": 1, "value_knob": True, "soft": True},
    {"check": "array.dc-power", "plan": B, "edits": [Edit("library[hybrid-5k].pv_dc_max_w", 8000.0)], "value": 16 * 385,
     "limit": 8000, "knob": "library[hybrid-5k].pv_dc_max_w", "soft": True},
    {"check": "battery.discharge-chain", "value": NEED, "limit": 5300, "knob": f"{CHARGER}.discharge_max_w", "soft": True},
    {"check": "battery.feeds", "value": 3 * 64 * 30, "limit": NEED, "value_knob": True, "soft": True},
    {"check": "battery.used", "edits": [Edit(f"{STACK}.discharge_max_a", 60.0)], "value": NEED / (3 * 64 * 60), "limit": 0.4,
     "value_knob": True, "soft": True},
    {"check": "battery.growth", "value": 3, "limit": 1, "value_knob": True, "soft": True},  # 6 × 72 V are 432 V, 7 are 504 V
    {"check": "battery.sheet-round-trip", "value": 0.95, "limit": 0.9, "value_knob": True, "soft": True},
    {"check": "battery.sheet-depth", "value": 0.95, "limit": 0.9, "value_knob": True, "soft": True},
    {"check": "battery.dc-current", "value": NEED / FLOOR_V, "limit": 30, "knob": f"{CHARGER}.discharge_max_a", "soft": True,
     "edits": [Edit(f"{STACK}.discharge_max_a", 60.0)]},
    {"check": "battery.temperature", "value": 10, "limit": -10, "knob": f"{STACK}.temperature_min_c"},
    {"check": "battery.temperature", "value": 32, "limit": 50, "knob": f"{STACK}.temperature_max_c"},
    {"check": "battery.temperature", "edits": [Edit(PLACE, "garage")], "value": -4 + 8, "limit": -10,
     "knob": f"{STACK}.temperature_min_c"},
    {"check": "battery.cold-charge", "edits": [Edit(PLACE, "garage")], "value": 0.4, "limit": 0.5,
     "value_knob": True, "soft": True},
    # Two branches of 15 and 15 + 300 mΩ: the stiffer one takes 315/330 of what the inverter asks.
    {"check": "battery.sharing", "edits": [*UNEVEN, Edit("library[rack-5k].internal_resistance_ohm", 0.015),
                                           Edit("library[charger-5k-48v].discharge_max_a", 80.0)],
     "value": 80 * 315 / 330, "limit": 80, "knob": "library[rack-5k].discharge_max_a"},
]  # fmt: skip
BY_YEAR = (
    "backup.black-start",
    "car.dc-side",
    "island.served",
    "battery.lead-recharge",
    "battery.cycle-life",
    "battery.warranty-throughput",
)
