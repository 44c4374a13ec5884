"""What is typed at Controls reaches the year: reserve by season, slots by day and by inverter, and what removing one leaves."""

from __future__ import annotations

import json

import numpy as np
import pytest

from calm_relay.calendar import season_of_months
from calm_relay.cli import main
from calm_relay.decision.compare import compare_plans
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.parts import remove_inverter
from calm_relay.report.slot_day import slot_day

A, C = "plans[ac-add-on].controls", "plans[hybrid-alongside].controls"
NIGHT = {"kind": "charge_from_grid", "start_h": 0, "end_h": 6, "power_w": 2000.0, "target_soc_frac": 0.9}


def energy_frac(study, job, plan_id="ac-add-on"):
    made = study.flow(job, job.plan(plan_id))
    return made.flow.node_column(made.packed.node_ids[0], "energy_wh") / float(made.packed.nodes["capacity_wh"][0])


def test_a_winter_reserve_keeps_energy_in_winter_and_leaves_summer_alone(demo, quarter):
    job = apply_edits(demo, [Edit(f"{A}.reserve_winter_soc_frac", 0.6), Edit(f"{A}.slots", [])])
    months = quarter.calendar(job).clock_month
    before, after = energy_frac(quarter, apply_edits(demo, [Edit(f"{A}.slots", [])])), energy_frac(quarter, job)
    winter = season_of_months(demo.site.place.latitude_deg)["winter"]
    # Once a winter's day has filled it to the reserve, nothing takes it below but what the battery itself draws.
    first = np.flatnonzero(np.isin(months, winter) & (after >= 0.6))[0]
    held = after[first:][np.isin(months[first:], winter)]
    assert held.min() > 0.57
    assert before[np.isin(months, winter)].min() < 0.2
    summer = np.isin(months, season_of_months(demo.site.place.latitude_deg)["summer"])
    assert after[summer].min() == pytest.approx(before[summer].min(), abs=1e-9)


def test_a_slot_at_weekends_buys_then_only_and_its_facts_count_those_days(demo, quarter):
    job = apply_edits(demo, [Edit(f"{A}.slots", [{**NIGHT, "days": "weekends"}])])
    made, calendar = quarter.flow(job, job.plan("ac-add-on")), quarter.calendar(job)
    bought = made.flow.node_column("bat", "charge_from_ac_w") * (calendar.clock_hour < 6)
    winter = bought * np.isin(calendar.clock_month, (6, 7))
    assert winter[calendar.clock_weekend].sum() > 0
    assert winter[~calendar.clock_weekend].sum() == 0
    put_in = (bought + made.flow.node_column("bat", "pv_to_battery_w") * (calendar.clock_hour < 6))[
        calendar.clock_weekend
    ].sum() / 4
    facts = quarter.facts(job, job.plan("ac-add-on")).windows[0].nodes["bat"]
    # 2025 has 52 Saturdays and 52 Sundays.
    assert facts.stored_wh * 104 == pytest.approx(put_in * float(made.packed.nodes["eta_c"][0]), rel=1e-9)


def test_a_slot_for_one_inverter_leaves_the_others_to_themselves(demo, quarter):
    def grid_kwh(nodes):
        job = apply_edits(demo, [Edit(f"{C}.slots", [{**NIGHT, "nodes": nodes}])])
        flow = quarter.flow(job, job.plan("hybrid-alongside")).flow
        return {i: float(flow.node_column(i, "charge_from_ac_w").sum()) / 1000 for i in flow.node_ids}

    ids = [n.id for n in demo.plan("hybrid-alongside").nodes if n.battery is not None]
    assert grid_kwh(ids)[ids[0]] == pytest.approx(grid_kwh([])[ids[0]])
    with pytest.raises(BadInput, match="no inverter 'hib' in this plan"):
        apply_edits(demo, [Edit(f"{C}.slots", [{**NIGHT, "nodes": ["hib"]}])])


def test_an_inverter_removed_takes_its_own_slots_along(demo):
    ids = [n.id for n in demo.plan("hybrid-alongside").nodes]
    slots = [{**NIGHT, "nodes": [ids[0]]}, {**NIGHT, "nodes": ids[:2]}, NIGHT]
    job = remove_inverter(apply_edits(demo, [Edit(f"{C}.slots", slots)]), "hybrid-alongside", ids[0])
    assert [slot.nodes for slot in job.plan("hybrid-alongside").controls.slots] == [(ids[1],), ()]


def test_a_slot_is_added_from_the_command_line_and_said_in_words(demo, tmp_path, capsys):
    out = tmp_path / "slots.calmrelay"
    words = ["add-slot", "demo", "discharge_to_grid", "18:00", "20:30", "--plan", "B", "--power", "2.5kW", "--floor", "20 %"]
    assert main([*words, "--out", str(out)]) == 0
    assert "Gives 2.50 kW at AC" in capsys.readouterr().out
    assert main(["controls", str(out), "--plan", "B", "--json"]) == 0
    (plan,) = json.loads(capsys.readouterr().out)["plans"]
    last = plan["controls"]["slots"][-1]
    assert (last["kind"], last["start_h"], last["end_h"], last["power_w"]) == ("discharge_to_grid", 18.0, 20.5, 2500.0)
    assert last["floor_soc_frac"] == 0.2
    assert plan["sentences"][-1].startswith("18 to 20.5 h: Gives")
    assert main([*words[:2], "hold", "25:00", "3", "--plan", "B", "--out", str(out)]) == 2


def test_a_sensor_at_the_device_refuses_nodes_beyond_it_and_serves_the_backup_side_alone(demo, quarter):
    at = "plans[hybrid-swap]"
    with pytest.raises(NotFeasible, match="grid side"):
        wrong = apply_edits(demo, [Edit(f"{at}.controls.sensor", "device"), Edit(f"{at}.nodes[hyb].side", "grid")])
        quarter.flow(wrong, wrong.plan("hybrid-swap"))
    right = apply_edits(demo, [Edit(f"{at}.controls.sensor", "device")])
    flow = quarter.flow(right, right.plan("hybrid-swap")).flow
    assert float(flow.column("transfer_w").min()) >= -1e-6, "nothing goes out past it"
    assert float(flow.column("export_w").max()) < 1e-6


def test_room_for_what_is_clipped_lessens_clipping_and_foresight_does_best(demo, quarter):
    at = "plans[hybrid-swap].controls"
    lost = {}
    for room in ("no", "yesterday", "foresight"):
        job = apply_edits(demo, [Edit(f"{at}.slots", []), Edit(f"{at}.leave_room", room)])
        lost[room] = quarter.flow(job, job.plan("hybrid-swap")).flow.lost_wh("ac_limit")
    assert lost["foresight"] < lost["yesterday"] < lost["no"]


def test_a_bank_in_the_cold_charges_less_and_a_heater_helps(demo, quarter):
    at = "plans[hybrid-swap]"
    cold = [Edit("site.weather.temperature_mean_c", [v - 12.0 for v in demo.site.weather.temperature_mean_c])]
    taken = {}
    for name, edits in {
        "inside": [Edit(f"{at}.nodes[hyb].battery.place", "indoors")],
        "outside": [Edit(f"{at}.nodes[hyb].battery.place", "outdoors")],
        "heated": [
            Edit(f"{at}.nodes[hyb].battery.place", "outdoors"),
            Edit("library[stack-3k].heating_w", 80.0),
            Edit("library[stack-3k].heating_below_c", 10.0),
        ],
    }.items():
        job = apply_edits(demo, [*cold, *edits])
        row = quarter.facts(job, job.plan("hybrid-swap")).nodes_wh["hyb"]
        taken[name] = (row["pv_to_battery_w"] + row["charge_from_ac_w"], row["auxiliary_w"] + row["ac_own_w"])
    assert taken["outside"][0] < taken["inside"][0] - 100_000
    assert taken["heated"][0] > taken["outside"][0]
    assert taken["heated"][1] > taken["outside"][1] + 10_000, "the heater's own draw is in the books"


def test_hours_at_the_battery_limits_follow_volts_and_warmth_and_peaks_are_counted(demo, quarter):
    """A low-voltage bank is at its limit where its amps are; a target is recorded where nothing could hold it, and bars no plan."""
    low = {
        **demo.card("stack-3k").model_dump(), "id": "low", "stacking": "parallel", "voltage_nominal_v": 51.2, "cells_in_series": 16,
        "charge_max_a": 12.0, "discharge_max_a": 8.0, "bank_charge_max_w": None, "bank_discharge_max_w": None,
    }  # fmt: skip
    at = "plans[ac-add-on]"
    edits = [
        Edit("library[+]", low),
        Edit(f"{at}.nodes[bat].battery.card", "low"),
        Edit("library[battery-inverter-5k].battery_voltage_min_v", 40.0),
        Edit(f"{at}.controls.peak_target_w", 500.0),
    ]
    job = apply_edits(demo, edits)
    plan = job.plan("ac-add-on")
    made, facts = quarter.flow(job, plan), quarter.facts(job, plan)
    record = made.packed.nodes[0]
    assert np.isfinite(record["charge_empty_w"])
    drawn = made.flow.node_column("bat", "discharge_w")
    most = float(record["discharge_full_w"])
    assert drawn.max() <= most + 1e-6
    assert 0 < facts.limits["discharge:bat"].hours_h < 8760
    assert facts.evening is not None
    assert facts.evening.limit_w < most
    assert facts.exceeded["peak"].hours_h > 100
    passed = compare_plans(job, [(plan, facts, quarter.bill(job, plan), ())])[0].exceeded_hours_h
    assert passed < facts.exceeded["peak"].hours_h


def test_a_day_of_slots_by_hand(demo):
    """A later slot takes its hours, past midnight too; what is drawn is power × hours, at the price of those hours."""
    hold = {"kind": "hold", "start_h": 23.0, "end_h": 2.5}
    weekend = {"kind": "surplus_only", "start_h": 9.0, "end_h": 15.0, "days": "weekends"}
    job = apply_edits(demo, [Edit("plans[hybrid-swap].controls.slots[+]", row) for row in (hold, weekend)])
    day = slot_day(job, job.plan("hybrid-swap"), 6, weekend=False)
    charge, held, surplus = day.rows
    assert charge.holds == ((2.5, 5.0),)
    assert charge.taken == ((1.0, 2.5),)
    assert held.holds == ((0.0, 2.5), (23.0, 24.0))
    assert (surplus.holds, surplus.words) == ((), "not on such a day")
    assert slot_day(job, job.plan("hybrid-swap"), 6, weekend=True).rows[2].holds == ((9.0, 15.0),)
    assert slot_day(job, job.plan("hybrid-swap"), 12, weekend=False).rows[0].words == "not on such a day", "May to September only"
    # 2 kW for 2.5 h are 5 kWh at 0.19: 0.95; all other hours cost more
    cheap = demo.tariff.cheap_price_per_kwh
    assert f"draws up to 5.0 kWh, fills 50 % of what is usable, for $ {5.0 * cheap:.2f}" in charge.words
    assert float(day.price[8]) == cheap
    assert float(day.price[24]) == demo.tariff.import_price_per_kwh
