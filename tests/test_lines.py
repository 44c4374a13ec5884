"""Phases and legs: their sum is the meter, a one-phase battery helps or not by netting, each leg against its half."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.site_models import Supply
from calm_relay.plant.lines import background_shares, lines_of, shares_of, unit_shares
from calm_relay.plant.resolve import plant_of
from calm_relay.year.inputs import line_inputs
from calm_relay.year.lines import house_lines_w, net_lines_w

THREE = [Edit("site.supply.kind", "three_phase"), Edit("house.background_lines_frac", [0.2, 0.3, 0.5])]


def on_three(demo, *more):
    loads = [Edit(f"house.appliances[{i}].line", n) for i, n in (("oven", "1"), ("heat-pump", "2"), ("hot-water", "3"))]
    return apply_edits(demo, [*THREE, *loads, *more])


@pytest.mark.parametrize("letter", ["Today", "A", "B", "C"])
def test_the_lines_sum_to_the_meter(demo, study, letter):
    for supply in ("split_phase", "three_phase"):
        job = on_three(demo, Edit("site.supply.kind", supply))
        plan = job.plan(letter)
        made = study.flow(job, plan)
        lines = line_inputs(plant_of(job, plan), job.house, job.site.supply.service_a)
        net = net_lines_w(lines, made)
        meter = made.flow.column("import_w") - made.flow.column("export_w")
        np.testing.assert_allclose(net.sum(axis=1), meter, atol=1e-6 * max(1.0, np.abs(meter).max()))
        house = house_lines_w(lines, made.house)
        np.testing.assert_allclose(house.sum(axis=1), made.house.total_w(), atol=1e-6)


def test_shares_by_hand():
    assert shares_of("all", 3) == pytest.approx((1 / 3,) * 3)
    assert shares_of("2", 3) == (0, 1, 0)
    assert shares_of("3", 2) == (0, 1)  # a supply that became smaller
    assert unit_shares("auto", 1, 1, 3) == (1, 0, 0)
    assert unit_shares("auto", 3, 1, 3) == pytest.approx((1 / 3,) * 3)
    assert unit_shares("auto", 1, 1, 2) == (0.5, 0.5)
    assert unit_shares("auto", 1, 24, 3) == pytest.approx((1 / 3,) * 3)
    assert unit_shares("2", 1, 24, 3) == (0, 1, 0)
    legs = lines_of(Supply(kind="split_phase", voltage_v=240, service_a=200))
    assert (legs.names[1], legs.volts_v, legs.between_v, legs.watts_of(200)) == ("leg 2", 120, 240, 48_000)
    phases = lines_of(Supply(kind="three_phase", service_a=35))
    assert (phases.names[2], phases.volts_v, phases.watts_of(35)) == ("phase 3", 230, 3 * 230 * 35)
    assert phases.between_v == pytest.approx(398.37, abs=0.01)


def test_a_one_phase_battery_helps_only_where_phases_are_summed(demo, study):
    """Netted each by itself, what the battery gives on phase 1 is paid as export while the other phases still import."""
    bills = {}
    for netting in ("summed", "each"):
        job = on_three(demo, Edit("tariff.netting", netting))
        bills[netting] = {letter: study.bill(job, job.plan(letter)) for letter in ("Today", "A")}
        if netting == "each":
            made = study.flow(job, job.plan("A"))
            net = net_lines_w(line_inputs(plant_of(job, job.plan("A")), job.house, job.site.supply.service_a), made)
            by_hand = float(np.maximum(net, 0).sum()) * study.calendar(job).step_h
            assert bills[netting]["A"].import_wh + bills[netting]["A"].import_cheap_wh == pytest.approx(by_hand, rel=1e-9)
        assert study.bill_without_system(job).total == pytest.approx(study.bill_without_system(demo).total)
    saved = {n: rows["Today"].total - rows["A"].total for n, rows in bills.items()}
    assert saved["each"] < 0.5 * saved["summed"]
    everywhere = [Edit(f"plans[ac-add-on].nodes[{n}].line", "all") for n in ("old", "bat")]
    spread = on_three(demo, Edit("tariff.netting", "each"), *everywhere)
    assert study.bill(spread, spread.plan("A")).total < bills["each"]["A"].total


def test_a_leg_carries_half_of_what_is_made_off_grid(demo, study):
    job = on_three(demo, Edit("site.supply.kind", "split_phase"), Edit("plans[ac-add-on].transfer.backed_up", "whole_house"))
    one, two = study.facts(job, job.plan("A")).lines
    assert one.limit_va == two.limit_va == pytest.approx(5000.0 / 2)
    assert (one.name, two.name) == ("leg 1", "leg 2")
    assert one.energy_wh + two.energy_wh == pytest.approx(float(study.house(job).total_w().sum()) / 12, rel=1e-9)
    assert background_shares(job.house, 2) == pytest.approx((0.4, 0.6))
    assert study.facts(demo, demo.plan("A")).lines == ()


def test_a_card_that_says_what_a_leg_carries_is_believed(demo, study):
    legs = [Edit("site.supply.kind", "split_phase"), Edit("plans[ac-add-on].transfer.backed_up", "whole_house")]
    job = on_three(demo, *legs, Edit("library[battery-inverter-5k].leg_max_w", 3600.0))
    one, two = study.facts(job, job.plan("A")).lines
    assert (one.limit_va, two.limit_va) == (3600.0, 3600.0)
