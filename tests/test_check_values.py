"""Every check's value and limit by hand, and its verdict a hair on both sides of the limit.

The hand sums use the demo job's own cards (module 385 W: 48.6 / 40.4 V, 10.1 / 9.53 A, β −0.28 %/K, γ − α −0.408 %/K, α 0.048 %/K)
and none of the product's helpers.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
import pytest

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.library.cards import LossTerms
from calm_relay.plant.resolve import plant_of
from calm_relay.year.ageing import battery_ageing
from tests import limit_cases, match_cases, outage_cases, wiring_cases
from tests.test_check_cases import (
    BRANCH,
    CASES,
    CHARGER,
    HYB,
    LATER,
    MEASURED,
    MODULE_INVERTERS,
    NE1,
    NE2,
    OLD_D,
    STACK,
    TODAY,
    A,
    B,
    C,
    D,
    findings,
)

CARD = "library[hybrid-5k]"
CELL = 30 + 0.9 * (1 - 385 / (1000 * 1.979 * 1.002)) * 1000 / 25.0  # ventilated roof: 25 W/(m²·K)
COLD_OPEN = 8 * 48.6 * (1 + 0.0028 * 29)
HOT_WORKING = 8 * 40.4 * (1 - 0.00408 * (CELL - 25))
HOT_OPEN = 8 * 48.6 * (1 - 0.0028 * (CELL - 25))
COLD_WORKING = 8 * 40.4 * (1 + 0.00408 * 29)
PARALLEL = [Edit(f"{NE2}.tracker", 1)]
INTERNATIONAL = Edit("pack", "international")
WORN = list(CASES["optimizer.count-min"]["within"][1])


def out_w(dc: float, p_self: float, a: float, b: float, rated: float) -> float:
    """AC of DC by trial: the three-term form solved by halving."""
    low, high = 0.0, dc
    for _ in range(100):
        middle = (low + high) / 2
        low, high = (middle, high) if middle + p_self + a * middle + b * middle**2 / rated < dc else (low, middle)
    return low


class Row(NamedTuple):
    """A check, the plan as it stands, value and limit by hand, and the figure that moves the limit."""

    check: str
    plan: str
    edits: list[Edit]
    value: float
    limit: float
    knob: str  # path of the figure that is turned; what it is turned to for a limit of x is `turn(x)`
    turn: float = 1.0
    soft: bool = False
    value_knob: bool = False  # the knob turns the value, not the limit
    subject: str = ""
    whole: bool = False


HAND = (match_cases.ROWS, outage_cases.ROWS, wiring_cases.ROWS, limit_cases.ROWS)
CHARGE_2K = out_w(2000, 30, 0.01, 0.02, 5000)
ROWS = [
    Row("string.cold-voc", B, [], COLD_OPEN, 600, f"{CARD}.dc_voltage_max_v"),
    Row("string.cold-voc", B, [Edit("site.dc_ceiling_v", 500.0)], COLD_OPEN, 500, "site.dc_ceiling_v"),
    Row("string.cold-voc", B, [Edit("library[module-385].beta_voc_per_c", None)], 8 * 48.6 * 1.12, 600, f"{CARD}.dc_voltage_max_v"),
    Row("string.system-voltage", B, [], COLD_OPEN, 1000, "library[module-385].system_voltage_max_v"),
    Row("string.hot-vmp", B, [], HOT_WORKING, 90 * 1.05, f"{CARD}.trackers[0].mppt_min_v", 1 / 1.05),
    Row("string.hot-vmp", B, [Edit("library[module-385].beta_vmp_per_c", -0.003), Edit("site.hot_cell_c", 75.0)],
        8 * 40.4 * (1 - 0.003 * 50), 90 * 1.05, f"{CARD}.trackers[0].mppt_min_v", 1 / 1.05),
    Row("string.cold-voc", B, [Edit("site.cold_voltage_by", "table")], 8 * 48.6 * 1.12, 600, f"{CARD}.dc_voltage_max_v"),
    Row("string.cold-voc", B, [Edit("site.cold_voltage_by", "higher")], max(COLD_OPEN, 8 * 48.6 * 1.12), 600,
        f"{CARD}.dc_voltage_max_v"),
    Row("string.start-voltage", B, [], HOT_OPEN, 110, f"{CARD}.trackers[0].start_v"),
    Row("string.cold-vmp", B, [], COLD_WORKING, 520, f"{CARD}.trackers[0].mppt_max_v", soft=True),
    Row("tracker.short-circuit", B, PARALLEL, 2 * 10.1 * 1.25, 20, f"{CARD}.trackers[0].short_circuit_current_a"),
    Row("tracker.working-current", B, [*PARALLEL, Edit("site.design_high_c", None)], 2 * 9.53, 16,
        f"{CARD}.trackers[0].working_current_a", soft=True),
    Row("tracker.working-current", B, PARALLEL, 2 * 9.53 * (1 + 0.00048 * (CELL - 25)), 16,
        f"{CARD}.trackers[0].working_current_a", soft=True),
    Row(
        "tracker.power", B, [*PARALLEL, Edit(f"{CARD}.trackers[0].power_max_w", 9000.0)], 16 * 385, 9000,
        f"{CARD}.trackers[0].power_max_w", soft=True,
    ),
    Row("tracker.reverse-current", D, [Edit(f"{OLD_D}.strings[ne].parallel_strings", 3)], 2 * 10.1 * 1.25, 20,
        "library[module-385].series_fuse_max_a"),
    Row("tracker.reverse-current", B, [Edit(f"{CARD}.trackers_paralleled", True), Edit(f"{CARD}.back_feed_a", 4.0)],
        10.1 * 1.25 + 4, 20, "library[module-385].series_fuse_max_a"),
    Row("string.fuse-size", D, [Edit(f"{OLD_D}.strings[ne].fuse_a", 16.0)], 16, 20, "library[module-385].series_fuse_max_a"),
    Row("roof.room", B, [], 16, 16, "faces[north-east].room_modules", whole=True),
    Row("array.dc-ac-ratio", B, [], 6160 / 5000, 2.0, f"{CARD}.dc_ac_ratio_max_with_battery"),
    Row("array.dc-ac-ratio", TODAY, [], 6160 / 5000, 1.5, "library[string-inverter-5k].dc_ac_ratio_max"),
    Row("array.network-ratio", C, [INTERNATIONAL, Edit("site.network.dc_ac_ratio_max", 1.5)], (6160 + 12 * 430) / 11_000, 1.5,
        "site.network.dc_ac_ratio_max"),
    Row("array.network-ratio", C, [Edit("site.network.rebate_dc_ac_ratio_max", 1.5)], (6160 + 12 * 430) / 11_000, 1.5,
        "site.network.rebate_dc_ac_ratio_max", soft=True),
    Row("optimizer.count-min", B, WORN, 8, 8, "library[optimizer-500].modules_min", whole=True),
    Row("optimizer.count-max", B, WORN, 8, 20, "library[optimizer-500].modules_max", whole=True),
    Row("optimizer.string-power", B, WORN, 8 * 385, 5700, "library[optimizer-500].string_power_max_w"),
    Row("optimizer.string-power", B, [*WORN, Edit("library[optimizer-500].string_power_max_w", None)], 8 * 385, 15 * 380,
        "library[optimizer-500].output_current_max_a", 1 / 380),
    Row("optimizer.input", B, WORN, 48.6 * (1 + 0.0028 * 29), 60, "library[optimizer-500].input_voltage_max_v"),
    Row("optimizer.string-voltage", B, WORN, 380, 520, f"{CARD}.trackers[0].mppt_max_v"),
    Row("module-inverter.branch", TODAY, [*MODULE_INVERTERS, Edit(BRANCH, 32.0)], 12, math.floor(0.8 * 32 / (380 / 230)),
        f"plans[{TODAY}].nodes[old].branch_breaker_a", 380 / 230 / 0.8, whole=True),
    Row("tracker.old-and-new", B, [*PARALLEL, Edit(f"{NE1}.age_years", 12.0)], 5, 5, f"{NE1}.age_years", soft=True,
        value_knob=True, turn=1.0),
    Row("array.later-modules", B, [Edit(f"plans[{B}].later", LATER)], 4, math.floor((2 * 5000 - 6160) / 385),
        f"plans[{B}].later.modules", soft=True, value_knob=True, whole=True),
    Row("brief.budget", B, [Edit("brief.budget", 20_000.0)], 12_185 - 180 * 9.405, 20_000, "brief.budget", soft=True),
    Row("network.inverter-sum", C, [], 11_000, 10_000, "site.network.sum_limit_w"),
    Row("battery.voltage", A, [], 3 * 64 * 1.125, 460, f"{CHARGER}.battery_voltage_max_v"),  # 3.6 V of a cell that is 3.2 V
    # Without its resistance the bank stands at 5 %; with 3 × 32 mΩ and the 30 A that battery and inverter carry, 2.88 V lower.
    Row("battery.voltage", A, [Edit(f"{CHARGER}.battery_voltage_min_v", 160.0), Edit(f"{STACK}.internal_resistance_ohm", None)],
        3 * 64 * (0.875 + 0.25 * 0.05), 160, f"{CHARGER}.battery_voltage_min_v"),
    Row("battery.voltage", A, [Edit(f"{CHARGER}.battery_voltage_min_v", 160.0)], 3 * 64 * (0.875 + 0.25 * 0.05) - 30 * 3 * 0.032,
        160, f"{CHARGER}.battery_voltage_min_v"),
    Row("battery.count", A, [], 3, 7, f"{STACK}.modules_max", whole=True),
    Row("battery.charge-chain", A, [], CHARGE_2K, out_w(5000, 30, 0.01, 0.02, 5000), f"{STACK}.charge_max_a", 1 / 192),
    Row("backup.ac-pv-absorb", A, [Edit(f"{CHARGER}.absorb_ratio", 1.2)], 5000, 6000, f"{CHARGER}.absorb_ratio", 1 / 5000),
    Row("backup.motor-start", A, [], 23 * 230 + (6605.5 - 5290), 7500, f"{CHARGER}.offgrid_peak_va"),
    *(Row(**{"plan": A, "edits": [], "knob": "", **row}) for rows in HAND for row in rows),  # type: ignore[arg-type]
]  # fmt: skip


def found(quarter, job, row: Row):
    rows = findings(quarter, job, row.plan, row.check)
    mine = [f for f in rows if abs(float(f.value or 0.0) - row.value) <= 1e-6 * max(1.0, abs(row.value))]
    assert mine, (row.check, row.value, [f.value for f in rows])
    return mine[0]


@pytest.mark.parametrize("row", ROWS, ids=lambda row: f"{row.check}-{row.knob.rpartition('.')[2]}")
def test_value_limit_and_both_sides(row: Row, demo, quarter):
    job = apply_edits(demo, row.edits)
    f = found(quarter, job, row)
    assert f.limit == pytest.approx(row.limit, rel=1e-9)
    past = "tight" if row.soft else "over"
    if row.value_knob:
        return
    for side in (1, -1):
        step = 1.0 if row.whole else 0.001 * abs(row.value)
        ahead = step if f.sense == "most" else -step  # a limit this much further lets the value pass
        aim = row.value + side * ahead
        if row.whole and row.turn != 1.0:
            aim += 0.5  # the limit is the whole part of what is turned
        turned: Any = aim * row.turn
        near = found(quarter, apply_edits(job, [Edit(row.knob, round(turned) if row.whole and row.turn == 1.0 else turned)]), row)
        passes = side > 0
        assert (near.verdict in ("within", "tight") and (near.margin or 0) >= 0) == passes, (side, near.arithmetic, near.verdict)
        if not passes:
            assert near.verdict == past, near.arithmetic
            assert near.margin is not None
            assert near.margin < 0


@pytest.mark.parametrize(
    ("age", "verdict"),
    [(12.0, "within"), (12.1, "tight")],
)
def test_old_and_new_by_hand(age, verdict, demo, quarter):
    # The other string is 7 years old; the pack lets 5 years pass, and meeting them is within.
    job = apply_edits(demo, [*PARALLEL, Edit(f"{NE1}.age_years", age)])
    (f,) = findings(quarter, job, B, "tracker.old-and-new")
    assert (f.verdict, f.value) == (verdict, pytest.approx(age - 7))


@pytest.mark.parametrize(("fuse", "verdict", "limit", "sense"), [
    (15.0, "over", 1.5625 * 10.1, "least"), (16.0, "within", 24.24, "most"), (24.0, "within", 24.24, "most"),
    (25.0, "over", 2.4 * 10.1, "most"),
])  # fmt: skip
def test_fuses_by_hand_with_a_module_that_stands_40_a(fuse, verdict, limit, sense, demo, quarter):
    # NEC 690.9 and IEC 62548-1, from memory: at least 1.5625·Isc, at most 2.4·Isc and the module's rating.
    edits = [Edit(f"{OLD_D}.strings[ne].fuse_a", fuse), Edit("library[module-385].series_fuse_max_a", 40.0)]
    (f,) = findings(quarter, apply_edits(demo, edits), D, "string.fuse-size")
    assert (f.verdict, f.sense, f.value) == (verdict, sense, fuse)
    assert f.limit == pytest.approx(limit)


def test_measured_string_by_hand(demo, quarter):
    # 10.1 A × 0.7 × (1 + 0.00048 × 15) × (1 − 7 × 0.005) = 6.872 A expected; 6.39 A is 7.01 % less, 6.40 A 6.87 %.
    expected = 10.1 * 0.7 * (1 + 0.00048 * 15) * (1 - 0.035)
    for amps, verdict in ((expected * 0.9299, "tight"), (expected * 0.9301, "within")):
        job = apply_edits(demo, [Edit(f"{NE1}.measured", {**MEASURED, "isc_a": amps})])
        (f,) = findings(quarter, job, B, "string.measured")
        assert (f.verdict, f.value) == (verdict, pytest.approx(abs(amps / expected - 1), rel=1e-9))


def test_optimizers_hold_volts_and_amps_by_hand(demo, quarter):
    # 8 × 385 W / 380 V = 8.1 A works; short circuit is the optimizers' 15 A, with no factor: they limit it themselves.
    job = apply_edits(demo, WORN)
    assert findings(quarter, job, B, "tracker.working-current")[0].value == pytest.approx(8 * 385 / 380)
    assert findings(quarter, job, B, "tracker.short-circuit")[0].value == pytest.approx(15.0)
    assert not findings(quarter, job, B, "string.cold-voc")


def test_what_runs_beside_a_start_counts(demo, quarter):
    # Definitions D15: 23 LRA × 230 V = 5.29 kVA on top of the other listed loads' running kVA.
    load = {a.id: a for a in demo.house.appliances}
    rest = sum(load[i].running_w / load[i].power_factor for i in demo.plan("A").transfer.listed if i in load and i != "well-pump")
    (f,) = findings(quarter, demo, A, "backup.motor-start")
    assert rest > 1000
    assert f.value == pytest.approx(5290 + rest)


def test_a_start_from_the_battery_by_hand(demo, quarter):
    # 3 modules: 30 A × 192 V = 5.76 kW DC, no peak; the pump's 5.29 kVA × 0.7 = 3.7 kW with the other listed loads' watts.
    load = {a.id: a for a in demo.house.appliances}
    rest = sum(load[i].running_w for i in demo.plan("A").transfer.listed if i in load and i != "well-pump")
    (f,) = findings(quarter, demo, A, "backup.start-from-battery")
    assert f.value == pytest.approx(23 * 230 * 0.7 + rest)
    assert f.limit == pytest.approx(out_w(5760, 30, 0.01, 0.02, 5000))


ON_LINE_3 = [
    Edit("site.supply.kind", "three_phase"), *(Edit(f"house.appliances[{i}].line", "1") for i in ("bilge-pump", "router")),
    Edit("house.appliances[well-pump].line", "3"), Edit("library[battery-inverter-5k].phases", 3),
]  # fmt: skip


def test_a_start_is_set_against_its_own_phase(demo, quarter):
    # Three phases share 7.5 kVA: 2.5 kVA stands behind phase 3, where the pump's 5.29 kVA starts beside what is spread alike.
    job = apply_edits(demo, ON_LINE_3)
    spread = [
        a
        for a in demo.house.appliances
        if a.id in demo.plan("A").transfer.listed and a.id not in ("bilge-pump", "router", "well-pump")
    ]
    (f,) = findings(quarter, job, A, "backup.motor-start")
    assert f.subject.endswith("phase 3")
    assert f.value == pytest.approx(5290 + sum(load.running_w / load.power_factor for load in spread) / 3)
    assert (f.verdict, f.limit) == ("over", 2500)
    own = apply_edits(job, [Edit("house.appliances[well-pump].motor.soft_starter", True),
                            Edit("house.appliances[well-pump].motor.soft_starter_listed", True),
                            Edit("house.appliances[well-pump].motor.soft_start_frac", 0.6)])  # fmt: skip
    (eased,) = findings(quarter, own, A, "backup.motor-start")
    assert eased.value == pytest.approx(f.value - 0.4 * 5290)


def test_the_window_by_hand(demo, quarter):
    # 2 kW × 4 h: 1935.66 W DC × 4 h × √0.95 = 7546 Wh stored; from the reserve of 15 % to 90 % of 9.9 kWh are 7425 Wh.
    (f,) = findings(quarter, demo, A, "battery.window-fill")
    assert f.value == pytest.approx(CHARGE_2K * 4 * math.sqrt(0.95), rel=1e-9)
    assert f.limit == pytest.approx(0.75 * 9900)


def test_a_slot_and_its_price_by_hand(demo, quarter):
    # The cheap window is 1–5 h at 0.19; a slot of 3–7 h buys two of its four hours at 0.36, so at 0.275 on the mean.
    late = [Edit(f"plans[{A}].controls.slots[0].start_h", 3.0), Edit(f"plans[{A}].controls.slots[0].end_h", 7.0)]
    job = apply_edits(demo, late)
    (slot,) = findings(quarter, job, A, "battery.slot-price")
    assert (slot.verdict, slot.value) == ("tight", 2.0)
    trip = out_w(CHARGE_2K * 0.95, 30, 0.01, 0.02, 5000) / 2000
    (trip_found,) = findings(quarter, job, A, "battery.round-trip")
    # wear: three modules of 1630 over what the year's discharge comes to until 60 % are left (definitions D18)
    ageing = battery_ageing(plant_of(job, job.plan(A)), job.rules(), quarter.facts(job, job.plan(A)))[0]
    kept = [1.0, *(y.capacity_frac for y in ageing.ageing.years)]
    delivered = ageing.delivered_wh / 1000 * sum(kept[: next(i for i, share in enumerate(kept) if share < 0.6)])
    assert trip_found.value == pytest.approx(0.36 - 0.275 / trip - 3 * 1630 / delivered, rel=1e-9)
    bare = [*late, Edit(f"plans[{A}].costs", [])]
    (unworn,) = findings(quarter, apply_edits(demo, bare), A, "battery.round-trip")
    assert unworn.value == pytest.approx(0.36 - 0.275 / trip, rel=1e-9)
    assert "wear not counted" in unworn.arithmetic


def test_what_stands_by_and_what_a_short_window_loses_by_hand(demo, quarter):
    bill = quarter.bill(demo, demo.plan(A))
    (share,) = findings(quarter, demo, A, "money.standing")
    assert share.value == pytest.approx(1.1 * 365 / sum(line.amount for line in bill.lines if line.amount > 0))
    job = apply_edits(demo, [Edit(f"plans[{A}].controls.slots[0].power_w", 1000.0)])
    (short,) = findings(quarter, job, A, "money.window")
    into = out_w(1000, 30, 0.01, 0.02, 5000)
    trip = out_w(into * 0.95, 30, 0.01, 0.02, 5000) / 1000
    lacking = 7425 - into * 4 * math.sqrt(0.95)
    # May to September are 153 days; half of the round trip is behind what is stored
    assert short.value == pytest.approx(lacking / 1000 * math.sqrt(trip) * (0.36 - 0.19 / trip) * 153, rel=2e-2)
    (payback,) = findings(quarter, apply_edits(demo, [Edit(f"plans[{A}].costs", [{"text": "All", "amount": 3000.0}]),
                                                     Edit("rebates", [])]), A, "money.payback")  # fmt: skip
    today = quarter.bill(demo, demo.plans[0]).total
    assert (payback.value, payback.limit) == (pytest.approx(3000 / (today - bill.total)), 10)


def test_limits_of_the_year_by_counting_its_steps(demo, quarter):
    """The supply's amps, the hours over it and the device's amps, counted from the flow itself."""
    job = apply_edits(demo, [Edit("site.supply.service_a", 16.0), Edit("library[gateway-63].pass_through_a", 6.0)])
    table = quarter.flow(job, job.plan(A)).flow
    meter = (table.column("import_w") + table.column("export_w")) / 230.0
    (fuse,) = findings(quarter, job, A, "service.main-fuse")
    assert (fuse.verdict, fuse.value) == ("over", pytest.approx(meter.max()))
    assert f"{np.count_nonzero(meter > 16.0) * 0.25:.0f} h over" == fuse.cost
    (device,) = findings(quarter, job, A, "backup.pass-through")
    assert device.verdict == "over"
    assert device.value < fuse.value


def test_the_off_grid_limit_is_the_least_of_unit_and_battery(demo, quarter):
    # 3 modules: 30 A × 192 V = 5.76 kW, the unit's 5.3 kW is less, its AC rating 5 kW still less; 2 modules: 3.84 kW DC.
    assert findings(quarter, demo, A, "backup.offgrid-power")[0].limit == 5000
    two = apply_edits(demo, [Edit(f"plans[{A}].nodes[bat].battery.modules", 2)])
    by_hand = out_w(3840, 30, 0.01, 0.02, 5000)
    assert findings(quarter, two, A, "backup.offgrid-power")[0].limit == pytest.approx(by_hand, rel=1e-9)
    evening = findings(quarter, two, A, "battery.evening-peak")[0]
    assert evening.limit == pytest.approx(by_hand, rel=1e-9)


def test_the_curve_by_hand():
    terms = LossTerms(p_self_w=30.0, a=0.01, b=0.02)
    assert terms.in_w(2000.0, 5000.0) == pytest.approx(2000 + 30 + 20 + 0.02 * 2000**2 / 5000)
    assert terms.out_w(terms.in_w(2000.0, 5000.0), 5000.0) == pytest.approx(2000.0)
    assert terms.in_w(0.0, 5000.0) == 0.0


def test_every_row_of_the_cases_with_a_limit_has_a_hand_value_somewhere():
    """What the year alone gives (a peak, a share) is held to the year elsewhere; all other checks stand above."""
    by_year = {
        "battery.evening-peak", "battery.array-fills", "backup.offgrid-power", "backup.line-power", "array.clipped-share",
        "array.uncatchable", "tracker.parallel-loss", "battery.window-fill", "string.measured", "brief.contract",
        "tracker.strings-alike", "tracker.one-face", "tracker.enough-for-faces", "array.under-used", "network.export-cap",
        "network.import-limit", "service.main-fuse", "backup.pass-through", "backup.start-from-battery", "backup.unit-pass",
        "backup.stays-on", "battery.slot-price", "battery.round-trip", "money.lines", "money.rebate", "money.payback",
        "money.standing", "money.window",
        *match_cases.BY_YEAR,
        *outage_cases.BY_YEAR,
        *wiring_cases.BY_OTHERS,
        *limit_cases.BY_OTHERS,
    }  # fmt: skip
    assert {row.check for row in ROWS} | by_year == set(CASES)
    assert HYB
    assert C


def test_a_window_under_an_import_limit_is_what_its_own_year_says(demo, quarter):
    """A steady house of 1 kW, no sun, 1.5 kW let in: 500 W are left to charge, whatever the slot asks."""
    whole = [Edit(f"plans[{p.id}].transfer.backed_up", "whole_house") for p in demo.plans if p.transfer]
    bare = [*whole, *(Edit(f"plans[{p.id}].transfer.listed", []) for p in demo.plans if p.transfer), Edit("house.appliances", [])]
    steady = [Edit("house.background.shape", "flat"), Edit("house.background.energy_wh_per_day", [24e3] * 12)]
    asks = [Edit(f"plans[{A}].controls.reserve_soc_frac", 0.0), Edit(f"plans[{A}].controls.slots[0].months", [])]
    dark = [Edit(f"plans[{A}].nodes[old].strings", []), Edit("site.import_limit_w", 1500.0)]
    job = apply_edits(demo, [*bare, *steady, *asks, *dark])
    (f,) = findings(quarter, job, A, "battery.window-fill")
    year = quarter.facts(job, job.plan(A)).windows[0].nodes["bat"]
    assert f.value == pytest.approx(year.stored_wh, rel=0.02)
    assert f.verdict == "tight"
    assert "import limit of 1.50 kW leave less" in f.arithmetic
    assert f"stored {year.stored_wh / 1000:.1f} kWh" in f.arithmetic
    assert not any(row.check == "battery.window-fill" for row in quarter.quick_checks(job, job.plan(A)))
    free = apply_edits(job, [Edit("site.import_limit_w", None)])
    (g,) = findings(quarter, free, A, "battery.window-fill")
    assert g.value == pytest.approx(CHARGE_2K * 4 * math.sqrt(0.95), rel=1e-9)
