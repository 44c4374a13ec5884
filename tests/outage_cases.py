"""Group G, blackout: a case for each verdict of the checks of outages and of what protects an island."""

from __future__ import annotations

from calm_relay.job.edits import Edit
from calm_relay.library.shipped import shipped_card

A, B, C = "ac-add-on", "hybrid-swap", "hybrid-alongside"
DEVICE, CHARGER, OLD = f"plans[{A}].transfer", "library[battery-inverter-5k]", "library[string-inverter-5k].frequency"
LATE, NONE = {"frequency_hz": 53.0, "after_s": 0.2}, {"frequency_hz": 50.5, "after_s": 0.2}
HELD = {"start_hz": 50.2, "droop_frac": 0.036, "base": "power_at_start", "trips": [LATE]}
ESSENTIAL = "house.appliances[fridge]"


def generator(card: str = "generator-6k", **more: object) -> list[Edit]:
    """Edits that put a generator into plan A."""
    shipped = shipped_card(card).model_dump()
    return [Edit("library[+]", shipped), Edit(f"plans[{A}].generator", {"card": card, "pv_locked_out": "yes", **more})]


def life(*edits: Edit) -> list[Edit]:
    """Edits that let a life hang on the fridge."""
    return [Edit(f"{ESSENTIAL}.life_support", value=True), *edits]


def declared(field: str) -> dict[str, tuple[str, list[Edit]]]:
    """The cases of what is declared of the transfer device."""
    return {
        "over": (A, [Edit(f"{DEVICE}.{field}", "no")]),
        "within": (A, [Edit(f"{DEVICE}.{field}", "yes")]),
        "not known": (A, [Edit(f"{DEVICE}.{field}", "not_known")]),
    }


CASES: dict[str, dict[str, tuple[str, list[Edit]]]] = {
    "backup.ride-through": {"tight": (A, []), "within": (A, [Edit(f"plans[{A}].controls.reserve_soc_frac", 0.8)])},
    "backup.parts": {"over": (A, [Edit(f"{CHARGER}.grid_forming", value=False)]), "within": (A, [])},
    "backup.pv-side": {"tight": (C, [Edit("site.network.sum_limit_w", 30_000.0)]), "within": (A, [])},
    "backup.absorb-energy": {"tight": (A, []), "within": (A, [Edit(f"plans[{A}].nodes[bat].battery.modules", 4)])},
    "backup.frequency": {
        "tight": (A, []),
        "within": (A, [Edit(OLD, HELD)]),
        "not known": (A, [Edit(OLD, None)]),
    },
    "backup.thresholds": {
        "over": (A, [Edit(f"plans[{A}].controls.island_start_soc_frac", 0.97)]),
        "within": (A, generator()),
    },
    "backup.frosty-dawn": {
        "tight": (A, [Edit(f"plans[{A}].nodes[bat].battery.place", "outdoors_sheltered")]),
        "within": (A, []),
        "not known": (A, [Edit("site.record_low_c", None), Edit(f"plans[{A}].nodes[bat].battery.place", None)]),
    },
    "backup.no-return": {
        "tight": (A, [Edit(f"{ESSENTIAL}.no_auto_return", value=True)]),
        "within": (A, [Edit(f"{ESSENTIAL}.no_auto_return", value=False)]),
    },
    "backup.neutral-bond": {**declared("neutral_bond"), "not known": (A, [Edit("library[gateway-63].bonds_neutral", None)])},
    "backup.residual-current": declared("residual_current"),
    "backup.earth-electrode": declared("earth_electrode"),
    "backup.fault-current": {
        "tight": (A, []),
        "within": (A, [Edit(f"{CHARGER}.fault_current_a", 90.0)]),
        "not known": (A, [Edit(f"{DEVICE}.largest_breaker_a", None)]),
    },
    "backup.life-support": {"over": (A, life()), "within": (A, life(*generator()))},
    "generator.auto-start": {
        "tight": (A, [*generator(), Edit("library[generator-6k].auto_start", value=False)]),
        "within": (A, generator()),
    },
    "generator.starts": {
        "tight": (A, generator()),
        "within": (A, generator("generator-10k-diesel")),
        "not known": (A, [*generator(), Edit("library[generator-6k].peak_va", None)]),
    },
}

# Nothing can be applied: work on site, another inverter, or a choice between several things.
NO_REMEDY = (
    "backup.pv-side", "backup.ride-through", "backup.parts", "backup.frequency", "backup.fault-current", "backup.life-support",
)  # fmt: skip

# Value and limit by hand. The bank of plan A: three modules of 3.3 kWh at 5 kW of AC-coupled PV, 2 kWh a kW (common practice).
# Its inverter's 39 A: 1.2 × 7.5 kVA over 230 V. Generator: 6 kVA at the peak, below 300 m; well pump 23 LRA × 230 V beside
# what else must stay on, in VA by watts over power factor.
LOW = {"frequency_hz": 51.1, "after_s": 0.2}
REST_VA = 110 + 160 + 350 / 0.8 + 140 + 18 + 450
ROWS: list[dict[str, object]] = [
    {"check": "backup.parts", "value": 3, "limit": 3, "value_knob": True},
    {"check": "backup.pv-side", "value": 16 * 385, "limit": 16 * 385, "value_knob": True},
    {"check": "backup.absorb-energy", "value": 9900, "limit": 10_000, "value_knob": True},
    {"check": "backup.frequency", "value": 5000, "limit": 18, "value_knob": True},
    {
        "check": "backup.frequency", "edits": [Edit(OLD, {**HELD, "trips": [LOW]})], "value": 2500,
        "limit": 18, "value_knob": True,
    },
    {"check": "backup.thresholds", "value": 0.05, "limit": 0.03, "value_knob": True},
    {"check": "backup.no-return", "value": 1, "limit": 1, "value_knob": True},
    {"check": "backup.neutral-bond", "value": 1, "limit": 1, "value_knob": True},
    {"check": "backup.residual-current", "value": 1, "limit": 1, "value_knob": True},
    {"check": "backup.earth-electrode", "value": 1, "limit": 1, "value_knob": True},
    {
        "check": "backup.fault-current", "value": 39, "limit": 80, "turn": 1 / 5, "soft": True,
        "knob": f"{DEVICE}.largest_breaker_a",
    },
    {"check": "backup.life-support", "edits": life(), "value": 0, "limit": 1, "value_knob": True},
    {"check": "generator.auto-start", "edits": generator(), "value": 1, "limit": 1, "value_knob": True},
    {
        "check": "generator.starts", "edits": generator(), "value": 6000, "limit": 23 * 230 + REST_VA,
        "knob": "house.appliances[well-pump].motor.lra_a", "value_knob": True, "soft": True,
    },
]  # fmt: skip
BY_YEAR = ("backup.ride-through", "backup.frosty-dawn")
