"""Checks that read the year, held to sums made here from its own steps; what a cap by the array and cos φ do to it."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.kernel.records import BANK_CHARGE
from tests.limit_cases import EACH, LATE, SLOTS, TIMER, A, B
from tests.test_check_cases import findings
from tests.wiring_cases import THREE


def test_night_peaks_and_standby_by_counting_steps(demo, quarter):
    made = quarter.flow(demo, demo.plan(A))
    flow, h = made.flow, 0.25
    offered = sum(d.offered_w for d in made.dc.values())
    load = flow.column("load_w")
    (night,) = findings(quarter, demo, A, "energy.night-use")
    assert night.limit == pytest.approx(0.8 * load[offered <= 0].sum() * h / 365)
    assert night.value == pytest.approx(0.95 * 9900)
    (kva,) = [f for f in findings(quarter, demo, A, "service.kva") if f.value is not None]
    house = made.house
    factor = {load.id: load.power_factor for load in demo.house.appliances}
    apparent = house.background_w + sum(watts / factor[name] for name, watts in house.appliance_w.items())
    assert kva.value == pytest.approx(apparent.max())
    assert kva.limit == 63 * 230
    (own,) = findings(quarter, demo, A, "energy.standby")
    node = [flow.node_column("bat", name) for name in ("battery_standby_w", "auxiliary_w", "pv_standby_w")]
    drawn = flow.column("own_draw_w") + sum(node) + made.pv_only["old"].standby_from_pv_w
    assert own.value == pytest.approx(drawn.sum() / load.sum())
    # 1.25 × the house's peak and 2 kW of charging on 230 V
    (existing,) = findings(quarter, demo, A, "service.existing-load")
    assert existing.value == pytest.approx((1.25 * load.max() + 2000) / 230)
    (charging,) = findings(quarter, demo, A, "service.charging")
    assert charging.value == pytest.approx((load.max() + 2000) / 230)


def test_an_import_limit_holds_the_service_while_charging(demo, quarter):
    tight = [Edit("site.supply.service_a", 32.0)]
    (over,) = findings(quarter, apply_edits(demo, tight), A, "service.charging")
    assert over.verdict == "tight"
    assert over.margin < 0
    (held,) = findings(quarter, apply_edits(demo, [*tight, Edit("site.import_limit_w", 32 * 230.0)]), A, "service.charging")
    assert held.value == pytest.approx(32)
    assert held.margin >= 0


def test_a_timed_charger_against_the_sun_of_its_hours(demo, quarter):
    job = apply_edits(demo, [*TIMER, Edit(f"{SLOTS}[0].power_w", 4000.0)])
    made, (f,) = quarter.flow(job, job.plan(A)), findings(quarter, job, A, "energy.timed-charger")
    spare = np.maximum(0.0, made.flow.column("pv_only_w") - made.flow.column("load_w"))
    hour = np.tile(np.arange(96) / 4.0, 365)
    months = np.repeat(np.arange(1, 13), [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    inside = np.isin(np.repeat(months, 96), demo.plan(A).controls.slots[0].months) & (hour >= 10) & (hour < 14)
    # clock hours, and New Zealand's clock moves an hour in April and September: a few days of the slot lie an hour off
    assert f.limit == pytest.approx(spare[inside].mean(), rel=0.03)
    assert f.value == 4000


def test_phases_counted_by_themselves_buy_what_the_sum_does_not(demo, quarter):
    job = apply_edits(demo, EACH)
    facts = quarter.facts(job, job.plan(A))
    (f,) = findings(quarter, job, A, "network.netting")
    assert f.value == pytest.approx(sum(line.import_wh for line in facts.lines) - facts.system_wh["import_w"])
    assert f.value > 100_000
    (share,) = findings(quarter, job, A, "service.one-phase-battery")
    assert share.value == pytest.approx(facts.lines[0].energy_wh / sum(line.energy_wh for line in facts.lines))
    crooked = apply_edits(demo, [*THREE, Edit("house.background_lines_frac", [1.0, 0.0, 0.0])])
    energies = [line.energy_wh for line in quarter.facts(crooked, crooked.plan(A)).lines]
    (even,) = findings(quarter, crooked, A, "service.balance")
    assert even.value == pytest.approx(max(energies) / np.mean(energies))


def test_a_slot_at_dear_hours_says_what_it_begins_with(demo, quarter):
    job = apply_edits(demo, [LATE])
    (f,) = findings(quarter, job, A, "settings.target")
    assert f.limit == pytest.approx(quarter.facts(job, job.plan(A)).windows[0].nodes["bat"].begins_frac)
    assert (f.value, f.verdict) == (0.9, "tight")


def test_a_share_of_the_array_caps_the_export_of_the_year(demo, quarter):
    """0.5 × 6.16 kWp = 3.08 kW, less than the 5 kW typed."""
    job = apply_edits(demo, [Edit("site.network.export_share_frac", 0.5)])
    assert plant_of(job, job.plan(A)).caps.export_w == pytest.approx(3080)
    for plan in (A, B):
        made = quarter.flow(job, job.plan(plan)).flow
        assert made.column("export_w").max() <= 3080 + 1e-6
        assert made.lost_w("cap").sum() > quarter.flow(demo, demo.plan(plan)).flow.lost_w("cap").sum()
    untyped = apply_edits(job, [Edit("site.export_limit_w", None)])
    assert plant_of(untyped, untyped.plan(A)).caps.export_w == pytest.approx(3080)


def test_a_fixed_power_factor_takes_watts_from_every_inverter(demo, quarter):
    """Definitions D14: 5 kVA at 0.9 give 4.5 kW, PV-only and from the battery alike."""
    job = apply_edits(demo, [Edit("site.network.power_factor", 0.9)])
    made = quarter.flow(job, job.plan(A))
    assert made.pv_only["old"].ac_w.max() == pytest.approx(4500)
    assert made.pv_only["old"].clipped_ac_w.sum() > quarter.flow(demo, demo.plan(A)).pv_only["old"].clipped_ac_w.sum()
    assert made.flow.node_column("bat", "ac_out_w").max() <= 4500 + 1e-6
    hybrid = quarter.flow(job, job.plan(B)).flow.node_column("hyb", "ac_out_w")
    assert hybrid.max() == pytest.approx(4500)
    notes = [f for f in findings(quarter, job, A, "service.kva") if f.verdict == "note"]
    assert "10.00 kVA of inverters give 9.00 kW and 4.36 kvar" in notes[0].arithmetic  # 10·√(1 − 0.81)


def test_what_was_measured_at_a_place_goes_before_the_site(demo, quarter):
    cold = apply_edits(demo, [Edit("site.spots[0].low_c", 2.0), Edit("site.spots[0].high_c", 4.0)])
    (low, high) = findings(quarter, cold, A, "battery.temperature")
    assert {low.value, high.value} == {2.0, 4.0}
    # 4 °C at the most: an LFP bank of this card charges at 40 % of its current at the most, all year
    most = quarter.flow(cold, cold.plan(A)).packed.bank[:, 0, BANK_CHARGE]
    assert most.max() <= 0.4 + 1e-9
    assert quarter.flow(demo, demo.plan(A)).packed.bank[:, 0, BANK_CHARGE].max() == 1.0


def test_an_old_circuit_is_kept_or_replaced_and_why(demo, quarter):
    said = {}
    for size, breaker in (("6 mm²", 32.0), ("6 mm²", 20.0), ("6 mm²", 63.0), ("1.5 mm²", 16.0)):
        at = "site.circuits[shed-circuit].run"
        edits = [
            Edit(f"plans[{B}].nodes[hyb].reuses", "shed-circuit"),
            Edit(f"{at}.size", size),
            Edit(f"{at}.protected_a", breaker),
        ]
        (f,) = findings(quarter, apply_edits(demo, edits), B, "service.reuse")
        said[size, breaker] = (f.verdict, f.arithmetic.rpartition(": ")[2])
    assert said["6 mm²", 32.0][0] in ("within", "tight")
    assert said["6 mm²", 32.0][1].startswith("keep")
    assert said["6 mm²", 20.0] == ("over", "replace, its breaker trips below what flows")
    assert said["6 mm²", 63.0] == ("over", "replace, its cable is protected by at most 40 A")
    assert said["1.5 mm²", 16.0][1] == "replace, its cable carries too little"


def test_one_of_a_kind_more_than_today_is_what_a_plan_adds(demo):
    from calm_relay.rules.checks_board import added_nodes
    from calm_relay.rules.registry import CheckContext

    added = {plan.letter: [node.id for node in added_nodes(CheckContext(demo, plan, demo.cards(), None))] for plan in demo.plans}
    assert added == {"Today": [], "A": ["bat"], "B": ["hyb"], "C": ["hyb"], "D": []}
    twice = apply_edits(demo, [Edit(f"plans[{A}].nodes[+]", {**demo.plan(A).node("old").model_dump(), "id": "second"})])
    assert [n.id for n in added_nodes(CheckContext(twice, twice.plan(A), twice.cards(), None))] == ["bat", "second"]


def test_like_units_take_a_way_each_and_an_old_bank_keeps_its_warranted_part(demo, quarter):
    twice = apply_edits(demo, [Edit(f"plans[{A}].nodes[bat].count", 2), Edit("site.network.sum_limit_w", 30_000.0)])
    (ways,) = findings(quarter, twice, A, "service.free-ways")
    assert (ways.value, ways.limit) == (2, 4)
    assert "2 × a breaker of 25 A" in ways.arithmetic, ways.arithmetic  # 5 kVA on 230 V each
    old = apply_edits(demo, [Edit(f"plans[{A}].nodes[bat].battery.state_of_health_frac", 0.8)])
    (new,), (aged,) = findings(quarter, demo, A, "energy.end-of-life"), findings(quarter, old, A, "energy.end-of-life")
    assert aged.value == pytest.approx(new.value)  # 70 % of the new capacity, however old the bank is


def test_an_electrode_of_the_house_stays_with_the_grid_gone(demo, quarter):
    unsaid = [Edit(f"plans[{A}].transfer.earth_electrode", "not_known")]
    (before,) = findings(quarter, apply_edits(demo, unsaid), A, "backup.earth-electrode")
    (own,) = findings(quarter, apply_edits(demo, [*unsaid, Edit("site.board.earthing", "tt")]), A, "backup.earth-electrode")
    assert (before.verdict, own.verdict) == ("not known", "within")


def test_the_evening_limit_knows_the_power_factor(demo, quarter):
    (evening,) = findings(quarter, apply_edits(demo, [Edit("site.network.power_factor", 0.9)]), A, "battery.evening-peak")
    assert evening.limit == pytest.approx(4500)
