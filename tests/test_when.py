"""The year in parts: they add up, each step lies in the part of its own clock, and days full and empty are counted by hand."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.calendar import MONTH_DAYS, dates
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.bank import cells_of
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.unit import unit_of
from calm_relay.report.when import when_data, when_text
from calm_relay.simulation.failures import failures
from calm_relay.year.boxes import box_uses, path_trips
from calm_relay.year.charge import charge_bands, window_year

PLAN = "ac-add-on"


@pytest.mark.parametrize("by", ["month", "hour", "period"])
def test_parts_add_up_to_the_year(by, demo, quarter):
    plan = demo.plan(PLAN)
    parts, facts = quarter.year_parts(demo, plan, by), quarter.facts(demo, plan)
    assert sum(p.hours_h for p in parts) == pytest.approx(8760)
    for column in parts[0].energy_wh:
        assert sum(p.energy_wh[column] for p in parts) == pytest.approx(facts.system_wh[column], abs=1e-3), column
    if by == "month":
        for name, months in facts.by_month_wh.items():
            if name in parts[0].energy_wh:
                assert [p.energy_wh[name] for p in parts] == pytest.approx(months, abs=1e-3)


def test_a_period_holds_what_its_line_of_the_bill_counts(demo, quarter):
    plan = demo.plan(PLAN)
    parts = {p.name: p for p in quarter.year_parts(demo, plan, "period")}
    lines = {line.name: line.energy_wh for line in quarter.bill(demo, plan).lines if line.name in parts}
    assert set(lines) == set(parts)
    for name, energy in lines.items():
        assert parts[name].energy_wh["import_w"] == pytest.approx(energy, rel=1e-9), name


def test_a_night_slot_stands_in_its_own_hours_summer_and_winter(demo, quarter):
    slot = {"kind": "charge_from_grid", "start_h": 1, "end_h": 5, "power_w": 2000.0, "target_soc_frac": 0.9}
    job = apply_edits(demo, [Edit(f"plans[{PLAN}].controls.slots", [slot])])
    parts = quarter.year_parts(job, job.plan(PLAN), "hour")
    bought = [p.energy_wh["grid_to_battery_w"] for p in parts]
    assert min(bought[1:5]) > 1000
    assert sum(bought[:1] + bought[5:]) < 1, "daylight saving moves no hour of it into 0 or 5 h"


def test_days_full_and_empty_are_those_of_the_series(demo, quarter):
    job = apply_edits(demo, [Edit(f"plans[{PLAN}].controls.reserve_winter_soc_frac", 0.5)])
    made = quarter.flow(job, job.plan(PLAN))
    record, energy = made.packed.nodes[0], made.flow.node_column("bat", "energy_wh")
    per_day = len(energy) // 365
    clock_month = quarter.calendar(job).clock_month
    low, high, size = float(record["soc_min"]), float(record["soc_max"]), float(record["capacity_wh"])
    near = 0.02 * (high - low) * size
    rows, all_days = quarter.facts(job, job.plan(PLAN)).battery_months["bat"], dates(job.calendar_year)
    for month in (1, 6, 7, 10):
        full = empty = 0
        for day in (i for i, d in enumerate(all_days) if d.month == month):
            steps = range(day * per_day, (day + 1) * per_day)
            kept = [(0.5 if clock_month[i] in (6, 7, 8) else 0.15) * size for i in steps]
            full += max(energy[i] for i in steps) >= high * size - near
            empty += any(energy[i] <= k + near for i, k in zip(steps, kept, strict=True))
        row = rows[month - 1]
        assert (row.days, row.filled_days, row.emptied_days) == (MONTH_DAYS[month - 1], full, empty), month
    assert rows[6].lowest_frac > 0.4 > rows[2].lowest_frac
    assert all(row.lowest_frac <= row.mean_frac <= row.highest_frac for row in rows)


def test_the_table_says_no_less_than_nothing(demo, quarter):
    plan = demo.plan(PLAN)
    lines = when_text(when_data(quarter, demo, plan, "month"), {"bat": "Battery inverter"})
    assert lines[0].endswith("kWh by month")
    assert lines[14].startswith("year ")
    assert not any("-0.0" in line for line in lines)
    assert sum("of 31" in line for line in lines) == 7
    assert float(lines[14].split()[2]) == pytest.approx(np.round(quarter.facts(demo, plan).system_wh["load_w"] / 1000, 1), abs=0.11)


@pytest.mark.parametrize("plan_id", [PLAN, "hybrid-alongside"])
def test_what_boxes_take_is_what_balances_leave_over(plan_id, demo, quarter):
    plan = demo.plan(plan_id)
    facts, uses = quarter.facts(demo, plan), {use.node_id: use for use in box_uses(quarter.facts(demo, plan))}
    assert set(uses) == {node.id for node in plan.nodes}
    assert sum(use.standby_from_ac_wh for use in uses.values()) == pytest.approx(facts.system_wh["own_draw_w"], abs=1.0)
    made = quarter.flow(demo, plan)
    for node_id, row in facts.nodes_wh.items():
        # All that went in, less all that came out and what stayed in the cells: no column of a loss is read.
        gone_in = row["pv_available_w"] + row["ac_in_w"] + row["ac_own_w"]
        lost = sum(row[f"lost_{name}_w"] for name in ("ac_limit", "below_start", "device", "cap", "island"))
        k = made.flow.node_ids.index(node_id)
        stayed = made.flow.node_column(node_id, "energy_wh")[-1] - made.flow.start_energy_wh[k]
        assert uses[node_id].total_wh == pytest.approx(gone_in - row["ac_out_w"] - lost - stayed, rel=1e-6), node_id
    for node_id, row in facts.pv_only_wh.items():
        out = row["ac_w"] + row["clipped_ac_w"] + row["lost_below_start_w"]
        assert uses[node_id].total_wh == pytest.approx(row["dc_available_w"] + row["own_draw_w"] - out, rel=1e-6)
    night = demo.cards().inverter(next(n for n in plan.nodes if n.id == "old").card).night_w
    hours = uses["old"].standby_wh / night
    assert 3900 < hours < 5200, "it stands by when the sun is down or too low to start: about half the year"


def test_bands_of_charge_lie_in_order_and_between_what_the_months_say(demo, quarter):
    plan = demo.plan(PLAN)
    made, facts = quarter.flow(demo, plan), quarter.facts(demo, plan)
    bands = charge_bands(made.flow, made.packed, "bat")
    for band, month in zip(bands, facts.battery_months["bat"], strict=True):
        shares = list(vars(band).values())
        assert shares == sorted(shares)
        assert (band.lowest_frac, band.highest_frac) == (month.lowest_frac, month.highest_frac)
    # By hand: in January a tenth of all quarters of an hour lie at or below the second line.
    january = made.flow.node_column("bat", "energy_wh")[: 31 * 96] / 9900.0
    assert np.mean(january <= bands[0].tenth_frac + 1e-12) == pytest.approx(0.1, abs=0.002)


def test_a_window_says_how_long_it_takes_and_on_how_many_days_it_was_enough(demo, quarter):
    """1 to 5 h at 2 kW against 1 to 2 h: an hour is too short, and the hours needed do not hang on the hours that are open."""
    found = []
    for end in (5.0, 2.0):
        slot = {"kind": "charge_from_grid", "start_h": 1.0, "end_h": end, "power_w": 2000.0, "target_soc_frac": 0.9}
        job = apply_edits(demo, [Edit(f"plans[{PLAN}].controls.slots", [slot])])
        plan = job.plan(PLAN)
        found.append(window_year(plant_of(job, plan), quarter.calendar(job), quarter.flow(job, plan), 0, "bat"))
    long, short = found
    assert (long.open_h, short.open_h) == (pytest.approx(4, abs=0.02), pytest.approx(1, abs=0.02))
    assert long.filled_days > 300 > 150 > short.filled_days
    assert np.all(long.ends_frac >= long.begins_frac - 0.01)
    unit = unit_of(demo.cards().inverter("battery-inverter-5k"))
    eta = cells_of(demo.cards().battery("stack-3k")).one_way_frac
    room = (0.9 - float(long.begins_frac.mean())) * 9900.0
    assert long.needed_h == pytest.approx(room / (unit.charger_dc_w(2000.0) * eta))


def test_what_comes_back_and_what_stops_with_a_box(demo, quarter):
    """The trips by the card's own figures as bounds; and the one hybrid of a plan takes PV, battery and backup with it."""
    plan = demo.plan("hybrid-swap")
    (trips,) = path_trips(quarter.facts(demo, plan))
    card, unit = demo.cards().battery("stack-3k"), unit_of(demo.cards().inverter("hybrid-5k"))
    assert trips.cells == pytest.approx(card.dc_round_trip_frac, abs=1e-3)
    best = max(unit.ac_w(dc) / dc for dc in range(200, 5200, 50))
    assert 0.85 < trips.from_ac < trips.from_own_pv < trips.cells * best
    (stops, device) = failures(plant_of(demo, plan))
    assert (stops.node_id, stops.backup) == ("hyb", "all")
    assert stops.battery_wh == pytest.approx(0.95 * 9900)
    assert "nothing is backed up" in stops.words
    assert "nothing is backed up" in device.words
    both = failures(plant_of(demo, demo.plan("hybrid-alongside")))
    assert [f.backup for f in both[:2]] == ["", "all"]
    assert both[0].pv_stc_w > 0
