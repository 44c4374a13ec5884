"""What practitioners say of whole systems, as signs and orders of size; each statement is common practice, without a source."""

from __future__ import annotations

import pytest

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.library.shipped import shipped_card
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.paths import storage_paths
from tests.match_cases import BAT, bank
from tests.test_check_cases import MODULE_INVERTERS, TODAY, A, B

NO_CAP = [Edit("site.export_limit_w", None)]
ONE_STRING = [{"id": "s", "face": "north-east", "module": "module-385", "tracker": 1, "modules_per_string": 13}]  # 5 kWp


def clipped_frac(study, job, watts: float) -> float:
    """Share of what 5 kWp offer that an inverter of so many watts clips in the year."""
    small = [Edit(f"plans[{TODAY}].nodes[old].strings", ONE_STRING), Edit("library[string-inverter-5k].ac_rated_w", watts), *NO_CAP]
    changed = apply_edits(job, small)
    facts = study.facts(changed, changed.plan(TODAY))
    return facts.clipped_wh / facts.pv_only_wh["old"]["dc_available_w"]


def test_mild_undersizing_clips_little_and_strong_undersizing_much(demo, quarter):
    """5 kWp on 4 kW is minor, on 3 kW pronounced."""
    mild, strong = clipped_frac(quarter, demo, 4000.0), clipped_frac(quarter, demo, 3000.0)
    assert mild < 0.03
    assert strong > 3 * mild
    assert strong > 0.04


def test_what_module_level_inverters_clip_no_battery_catches(demo, quarter):
    plan = f"plans[{A}].nodes[old]"
    one_each = [Edit(edit.path.replace(f"plans[{TODAY}].nodes[old]", plan), edit.value) for edit in MODULE_INVERTERS]
    job = apply_edits(demo, [*one_each, Edit("library[module-inverter-380].ac_rated_w", 280.0), *NO_CAP])
    with_battery = quarter.facts(job, job.plan("A"))
    without = apply_edits(job, [Edit(f"plans[{A}].nodes", [n.model_dump() for n in job.plan("A").nodes if n.id == "old"])])
    alone = quarter.facts(without, without.plan("A"))
    assert with_battery.clipped_wh > 50_000
    assert with_battery.caught_wh == 0.0
    assert with_battery.clipped_wh == pytest.approx(alone.clipped_wh)


def test_a_second_unit_raises_evening_cover_and_a_module_does_not(demo, quarter):
    more = [Edit("house.appliances[heat-pump].running_w", 3500.0), Edit("site.network.sum_limit_w", 30_000.0)]
    job = apply_edits(demo, more)
    now = quarter.facts(job, job.plan("A")).evening
    module = apply_edits(job, [Edit(f"{BAT}.battery.modules", 4)])
    other = job.plan("A").nodes[1].model_copy(update={"id": "bat-2", "name": "Second battery"})
    unit = apply_edits(job, [Edit(f"plans[{A}].nodes[+]", other.model_dump())])
    one_more, two = (quarter.facts(j, j.plan("A")).evening for j in (module, unit))
    assert one_more.limit_w == now.limit_w
    assert two.limit_w == pytest.approx(2 * now.limit_w)
    assert two.hours_over_h < 0.2 * now.hours_over_h


def test_a_small_array_leaves_a_big_battery_idle(demo, quarter):
    """3 kW of array, about 10 kWh a day, do not fill 20 kWh."""
    small = [{**ONE_STRING[0], "modules_per_string": 8}]
    job = apply_edits(demo, [
        Edit(f"plans[{B}].nodes[hyb].strings", small), Edit(f"plans[{B}].nodes[hyb].battery.modules", 6),
        Edit(f"plans[{B}].controls.slots", []),
    ])  # fmt: skip
    facts = quarter.facts(job, job.plan("B"))
    offered = sum(row["pv_available_w"] for row in facts.nodes_wh.values()) / 365
    assert 7_000 < offered < 14_000
    assert all(season.median_ratio < 1.0 for season in facts.fill["hyb"].values()), "no season's median day fills it"
    assert min(season.days_full_frac for season in facts.fill["hyb"].values()) < 0.05
    fitting = apply_edits(job, [Edit(f"plans[{B}].nodes[hyb].battery.modules", 2)])
    assert facts.full_cycles < 0.6 * quarter.facts(fitting, fitting.plan("B")).full_cycles


def test_a_lightly_loaded_large_inverter_loses_more(demo, quarter):
    other = [Edit("library[+]", shipped_card("hybrid-10k").model_dump()), Edit(f"plans[{B}].nodes[hyb].card", "hybrid-10k")]
    large = apply_edits(demo, [*other, *NO_CAP])
    plain = apply_edits(demo, NO_CAP)
    losses = [quarter.facts(job, job.plan("B")).nodes_wh["hyb"] for job in (plain, large)]
    assert losses[1]["inverter_loss_w"] > 1.1 * losses[0]["inverter_loss_w"]
    assert losses[1]["ac_out_w"] > 0.9 * losses[0]["ac_out_w"]


def test_the_dc_coupled_way_beats_the_ac_coupled_one_by_a_few_percent(demo):
    for watts in (1000.0, 2500.0, 5000.0):
        dc = storage_paths(plant_of(demo, demo.plan("B")), watts)[0]
        ac = storage_paths(plant_of(demo, demo.plan("A")), watts)[0]
        assert 0.02 < dc.passes_frac - ac.passes_frac < 0.12, (watts, dc.passes_frac, ac.passes_frac)


def test_lead_takes_more_in_than_lithium_for_the_same_given(demo, quarter):
    """Less arrives of what goes in: a round trip of lead against one of LFP behind the same charger."""
    trips = []
    for battery, modules in (("gel-cell-600", 24), ("rack-5k", 3)):
        job = apply_edits(demo, bank(battery, modules))
        row = quarter.facts(job, job.plan("A")).nodes_wh["bat"]
        trips.append(row["discharge_w"] / (row["charge_from_ac_w"] + row["pv_to_battery_w"]))
    assert trips[0] < trips[1] - 0.08
