"""Packing: every figure of cards, choice and controls reaches the kernel's arrays as the definitions say."""

from __future__ import annotations

import math

import numpy as np
import pytest

from calm_relay.calendar import year_calendar
from calm_relay.errors import NotFeasible
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.unit import unit_of
from calm_relay.simulation.columns import NODE
from calm_relay.simulation.flow import run_year
from calm_relay.simulation.kernel.records import NODE_DTYPE
from calm_relay.simulation.pack import SLOT_KINDS, SiteLimits, pack_plan, sharing, slot_codes

A, B, C = "ac-add-on", "hybrid-swap", "hybrid-alongside"
BAT, HYB, CHARGER = f"plans[{A}].nodes[bat]", f"plans[{B}].nodes[hyb]", "library[battery-inverter-5k]"
CALENDAR = year_calendar(2025, "Pacific/Auckland", 3600)
NO_LIMITS = SiteLimits()


def made_of(job, plan_id, limits=NO_LIMITS, ac=None, reserves=None, controls=None):
    plant = plant_of(job, job.plan(plan_id))
    inputs = np.zeros((CALENDAR.steps, 9)) if ac is None else ac
    return pack_plan([s.converter for s in plant.stations], controls or plant.controls, CALENDAR, limits, {}, inputs, reserves)


def packed(job, plan_id=A, limits=NO_LIMITS):
    return made_of(job, plan_id, limits)


def node(demo, *edits, plan_id=A):
    return packed(apply_edits(demo, list(edits)), plan_id).nodes[0]


def test_capacity_counts_modules_and_state_of_health(demo):
    # Definitions D3: C·SoH; 3 modules of 3.3 kWh at 80 % are 7.92 kWh.
    assert node(demo)["capacity_wh"] == pytest.approx(9900.0)
    assert node(demo, Edit(f"{BAT}.battery.state_of_health_frac", 0.8))["capacity_wh"] == pytest.approx(7920.0)


def test_one_way_is_the_root_of_the_round_trip(demo):
    for name in ("eta_c", "eta_d"):
        assert node(demo, Edit("library[stack-3k].dc_round_trip_frac", 0.81))[name] == pytest.approx(0.9)


@pytest.mark.parametrize(
    ("edit", "field", "value"),
    [
        # The least of module amps × stack volts (26 A × 192 V = 4992 W), the unit's watts and its amps (30 A × 192 V).
        (("library[stack-3k].charge_max_a", 20.0), "charge_w", 20 * 192),
        ((f"{CHARGER}.charge_max_w", 3100.0), "charge_w", 3100),
        ((f"{CHARGER}.charge_max_a", 12.0), "charge_w", 12 * 192),
        ((f"{CHARGER}.pv_and_ac_charge_max_w", 2500.0), "charge_w", 2500),
        (("library[stack-3k].bank_charge_max_w", 2222.0), "charge_w", 2222),
        (("library[stack-3k].discharge_max_a", 15.0), "discharge_w", 15 * 192),
        ((f"{CHARGER}.discharge_max_w", 4100.0), "discharge_w", 4100),
        ((f"{CHARGER}.discharge_max_a", 11.0), "discharge_w", 11 * 192),
        (("library[stack-3k].bank_discharge_max_w", 3333.0), "discharge_w", 3333),
        ((f"{CHARGER}.ac_in_max_w", 2700.0), "ac_in_w", 2700),
        ((f"{CHARGER}.ac_in_max_w", None), "ac_in_w", 5000),
        ((f"{CHARGER}.grid_port_max_w", 1234.0), "grid_port_w", 1234),
        ((f"{CHARGER}.backup_port_max_w", 2345.0), "backup_port_w", 2345),
        ((f"{CHARGER}.night_w", 7.0), "night_w", 7),
        ((f"{CHARGER}.night_w", None), "night_w", 10),  # a third of p_self
        (("library[stack-3k].auxiliary_w", 11.0), "auxiliary_w", 11),
        (("library[stack-3k].taper_soc_frac", 0.9), "taper_soc", 0.9),
        (("library[stack-3k].taper_end_frac", 0.2), "taper_end", 0.2),
        ((f"{BAT}.battery.soc_min_frac", 0.2), "soc_min", 0.2),
        ((f"{BAT}.battery.soc_min_frac", 0.01), "soc_min", 0.05),  # the card's floor holds
        ((f"{BAT}.battery.soc_max_frac", 0.8), "soc_max", 0.8),
        ((f"plans[{A}].controls.reserve_soc_frac", 0.4), "reserve", 0.4),
    ],
)
def test_each_figure_reaches_its_place(edit, field, value, demo):
    assert node(demo, Edit(*edit))[field] == pytest.approx(value)


def test_stacks_in_parallel_add_amps_and_keep_their_volts(demo):
    volts = (Edit("library[stack-3k].voltage_nominal_v", 150.0), Edit("library[stack-3k].voltage_full_v", 170.0))
    edits = (Edit("library[stack-3k].stacking", "parallel"), *volts)
    free = node(demo, *edits, Edit(f"{CHARGER}.charge_max_a", None))
    assert free["charge_w"] == pytest.approx(5000)  # the unit's, below 3 × 26 A × 150 V = 11.7 kW
    assert node(demo, *edits, Edit(f"{CHARGER}.charge_max_a", 20.0))["charge_w"] == pytest.approx(3000)


def test_a_charger_of_its_own_and_the_loss_terms(demo):
    own = {"p_self_w": 12.0, "a": 0.03, "b": 0.04}
    made = node(demo, Edit(f"{CHARGER}.charge_loss", own))
    assert [made[n] for n in ("charge_p_self_w", "charge_a", "charge_b")] == [12.0, 0.03, 0.04]
    assert [node(demo)[n] for n in ("charge_p_self_w", "charge_a", "charge_b")] == [30.0, 0.01, 0.02]
    assert [made[n] for n in ("p_self_w", "a", "b", "rated_w", "ac_out_w")] == [30.0, 0.01, 0.02, 5000.0, 5000.0]


def test_what_no_card_gave_is_named(demo):
    job = apply_edits(demo, [Edit(f"{CHARGER}.night_w", None), Edit(f"{CHARGER}.ac_in_max_w", None)])
    named = packed(job).assumed
    assert any("standby" in text for text in named)
    assert any("AC input" in text for text in named)
    assert any("charger loss" in text for text in named)
    assert not any("discharge" in text for text in named)


def test_slots_by_month_and_clock_and_the_later_line_wins():
    winter = Slot(kind="hold", start_h=22, end_h=6, months=(6, 7))
    late = Slot(kind="surplus_only", start_h=1, end_h=3)
    codes = slot_codes(Controls(slots=(winter, late)), CALENDAR)
    month, hour = CALENDAR.clock_month, CALENDAR.clock_hour
    in_winter = np.isin(month, (6, 7))
    assert set(codes[in_winter & (hour >= 22)]) == {1}
    assert set(codes[in_winter & (hour < 1)]) == {1}
    assert set(codes[(hour >= 1) & (hour < 3)]) == {2}, "the later line wins, in June as in any month"
    assert set(codes[in_winter & (hour >= 3) & (hour < 6)]) == {1}
    assert set(codes[~in_winter & ((hour < 1) | (hour >= 3))]) == {0}
    other_way = slot_codes(Controls(slots=(late, winter)), CALENDAR)
    assert set(other_way[in_winter & (hour >= 1) & (hour < 3)]) == {2}
    assert set(other_way[~in_winter & (hour >= 1) & (hour < 3)]) == {1}


def test_slots_by_kind_of_day_and_by_inverter():
    slots = (
        Slot(kind="hold", start_h=22, end_h=6, days="weekends"),
        Slot(kind="surplus_only", start_h=9, end_h=17, nodes=("bat",)),
    )
    mine, other = (slot_codes(Controls(slots=slots), CALENDAR, node_id) for node_id in ("bat", "hyb"))
    # 2025-01-01 was a Wednesday, so day 3 is the first Saturday; in January the clock is an hour ahead of the year's steps.
    hour, days = CALENDAR.clock_hour, (np.arange(CALENDAR.steps) + 1) // CALENDAR.steps_per_day
    assert set(other[(days == 2) & (hour >= 22)]) == {0}, "Friday evening is not of the weekend"
    assert set(other[(days == 3) & (hour >= 22)]) == {1}
    assert set(other[(days == 4) & ((hour >= 22) | (hour < 6))]) == {1}
    assert set(other[(days == 5) & (hour >= 2) & (hour < 6)]) == {0}, "after midnight it is Monday"
    midday = (hour >= 9) & (hour < 17)
    assert set(mine[midday]) == {2}
    assert set(other[midday]) == {0}


def test_a_reserve_by_season_is_the_floor_of_every_slot(demo):
    controls = Controls(
        reserve_soc_frac=0.2, reserve_winter_soc_frac=0.6, slots=(Slot(kind="hold", start_h=1, end_h=2, floor_soc_frac=0.4),)
    )
    south, north = controls.reserve_by_month(-36.8), controls.reserve_by_month(55.0)
    assert [m for m in range(1, 13) if south[m - 1] == 0.6] == [6, 7, 8]
    assert [m for m in range(1, 13) if north[m - 1] == 0.6] == [1, 2, 12]
    made = made_of(demo, A, reserves=south, controls=controls)
    floor = np.maximum(made.nodes["reserve"][0], made.slots["floor"][0][made.codes[:, 0]])
    winter, slot = np.isin(CALENDAR.clock_month, (6, 7, 8)), made.follows(0, 0)
    assert set(floor[winter]) == {0.6}
    assert set(floor[~winter & slot]) == {0.4}
    assert set(floor[~winter & ~slot]) == {0.2}
    np.testing.assert_array_equal(slot, slot_codes(controls, CALENDAR, "bat") == 1)


def test_slot_figures_reach_the_table(demo):
    slots = [
        {"kind": "charge_from_grid", "start_h": 1, "end_h": 5, "power_w": 1700.0, "target_soc_frac": 0.7, "floor_soc_frac": 0.3}
    ]
    table = packed(apply_edits(demo, [Edit(f"plans[{A}].controls.slots", slots)])).slots
    assert table.shape == (1, 2)
    row = table[0, 1]
    assert (row["kind"], row["power_w"], row["target"], row["floor"]) == (SLOT_KINDS["charge_from_grid"], 1700, 0.7, 0.3)
    assert table[0, 0]["kind"] == 0


def test_limits_bias_and_the_order_of_discharge(demo):
    """By default the best round trip gives first; the plan's order is the priority of the rest."""
    plan = apply_edits(demo, [
        Edit("library[+]", {**demo.card("stack-3k").model_dump(), "id": "worse", "dc_round_trip_frac": 0.8}),
        Edit("library[+]", demo.card("battery-inverter-5k").model_dump()),
        Edit(f"{BAT}.battery.card", "worse"),
        Edit(f"plans[{A}].controls.meter_bias_w", 40.0),
    ])  # fmt: skip
    nodes = [*(n.model_dump() for n in plan.plan(A).nodes), {**plan.plan(A).nodes[1].model_dump(), "id": "second"}]
    nodes[2]["battery"]["card"] = "stack-3k"
    job = apply_edits(plan, [Edit(f"plans[{A}].nodes", nodes)])
    made = packed(job, limits=SiteLimits(1000.0, 2000.0, 3000.0))
    assert made.node_ids == ("bat", "second")
    assert made.give.tolist() == [1, 0], "the second gives first"
    assert made.take.tolist() == [0, 1], "the first charges first"
    assert [made.plant[n] for n in ("export_w", "import_w", "transfer_w", "bias_w", "step_h")] == [1000, 2000, 3000, 40, 1]
    assert [n["side"] for n in made.nodes] == [0, 0]


def test_a_low_voltage_banks_amps_follow_its_volts(demo):
    """Three modules of 48 V side by side: 78 A charge them, at 3 × 26 A; 44.8 V empty and 57.6 V full make their watts."""
    low = {**demo.card("stack-3k").model_dump(), "id": "low", "stacking": "parallel", "voltage_nominal_v": 51.2,
           "cells_in_series": 16, "internal_resistance_ohm": None, "charge_max_a": 26.0, "bank_charge_max_w": 4000.0}  # fmt: skip
    edits = (Edit("library[+]", low), Edit(f"{BAT}.battery.card", "low"), Edit(f"{CHARGER}.battery_voltage_min_v", 40.0))
    made = node(demo, *edits, Edit(f"{CHARGER}.charge_max_a", None), Edit(f"{CHARGER}.charge_max_w", None))
    assert made["charge_empty_w"] == pytest.approx(78 * 16 * 2.8)
    assert made["charge_full_w"] == pytest.approx(78 * 16 * 3.6)
    assert made["charge_w"] == pytest.approx(4000), "the bank's own watts hold as well"
    assert math.isinf(node(demo)["charge_empty_w"]), "at high voltage the nominal volts count"


def test_like_units_on_one_bank_are_one_larger_unit(demo):
    """Two of 5 kW share a load: each idles, so 2 × p_self; the quadratic part is that of half the load, twice."""
    one, two = node(demo), node(demo, Edit(f"{BAT}.count", 2))
    for name in ("ac_out_w", "ac_in_w", "rated_w", "p_self_w", "charge_p_self_w", "night_w"):
        assert two[name] == pytest.approx(2 * one[name]), name
    for name in ("a", "b", "capacity_wh", "eta_c", "auxiliary_w"):
        assert two[name] == one[name], name
    unit = unit_of(demo.card(demo.plan(A).nodes[1].card))
    assert unit.together(2).dc_w(6000.0) == pytest.approx(2 * unit.dc_w(3000.0))
    # The bank's own amps, 26 A × 192 V, do not grow with the inverters.
    assert two["charge_w"] == pytest.approx(26 * 192)


@pytest.mark.parametrize(
    ("order", "give", "take"),
    [
        # Units 0 and 2 are alike (but for side and reserve), 1 has the best round trip.
        ("like_units", [1, 0, 1], [0, 1, 0]),
        ("priority", [0, 1, 2], [0, 1, 2]),
        ("best_round_trip", [1, 0, 2], [1, 0, 2]),
        ("in_proportion", [0, 0, 0], [0, 0, 0]),
    ],
)
def test_who_shares_with_whom(order, give, take, demo):
    records = np.zeros(3, NODE_DTYPE)
    records[:] = node(demo)
    records["eta_c"][1] = 1.0
    records["side"][2], records["reserve"][2] = 1.0, 0.5
    made_take, made_give = sharing(records, order)
    assert made_give.tolist() == give
    assert made_take.tolist() == take


def test_pass_through_is_volts_times_amps_times_phases(demo):
    assert plant_of(demo, demo.plan(A)).transfer.limit_w == pytest.approx(63 * 230)
    three = apply_edits(demo, [Edit("site.supply.kind", "three_phase")])
    assert plant_of(three, three.plan(A)).transfer.limit_w == pytest.approx(3 * 63 * 230)
    split = apply_edits(demo, [Edit("site.supply.kind", "split_phase"), Edit("site.supply.voltage_v", 240.0)])
    assert plant_of(split, split.plan(A)).transfer.limit_w == pytest.approx(63 * 240)
    assert plant_of(demo, demo.plan("Today")).transfer is None


def test_arrays_that_do_not_fit_are_refused(demo):
    with pytest.raises(NotFeasible, match="one row a step, 9 columns"):
        made_of(demo, A, ac=np.zeros((24, 9)))


def test_pv_only_inverters_enter_on_their_side_and_by_whether_they_can_be_throttled(demo, quarter):
    def sums(job, plan_id):
        made = quarter.flow(job, job.plan(plan_id)).packed
        return {name: float(made.ac_column(name).sum()) > 0 for name in ("pv_b_w", "pv_g_w", "pv_b_fixed_w", "pv_g_fixed_w")}

    assert sums(demo, A) == {"pv_b_w": True, "pv_g_w": False, "pv_b_fixed_w": False, "pv_g_fixed_w": False}
    assert sums(demo, "today") == {"pv_b_w": False, "pv_g_w": True, "pv_b_fixed_w": False, "pv_g_fixed_w": False}
    fixed = apply_edits(demo, [Edit("library[string-inverter-5k].controllable", False)])
    assert sums(fixed, A) == {"pv_b_w": False, "pv_g_w": False, "pv_b_fixed_w": True, "pv_g_fixed_w": False}
    assert sums(fixed, "today") == {"pv_b_w": False, "pv_g_w": False, "pv_b_fixed_w": False, "pv_g_fixed_w": True}
    night = quarter.flow(demo, demo.plan(A)).packed
    assert float(night.ac_column("own_b_w").max()) == pytest.approx(1.0), "the card's night draw"
    assert float(night.ac_column("own_g_w").max()) == 0.0


def test_a_year_is_run_until_it_ends_as_it_began(demo):
    """Definitions D11: a store that carries summer into winter is not steady after one year."""
    job = apply_edits(demo, [Edit("library[stack-3k].capacity_wh", 200_000.0), Edit("library[stack-3k].auxiliary_w", 0.0)])
    ac = np.zeros((CALENDAR.steps, 9))
    ac[:, 0] = 150.0
    ac[24 * 200 : 24 * 260, 3] = 4000.0
    made = run_year(made_of(job, A, ac=ac))
    assert made.steady
    assert made.runs > 1
    end = made.nodes[-1, 0, NODE.index("energy_wh")]
    assert end == pytest.approx(made.start_energy_wh[0], abs=0.001 * 600_000)
    assert end > 50_000, "it carries something over"
