"""Loads on PV surplus: each day draws what it needs, never more than was spare, and by its rank against the battery."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.calendar import year_calendar
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.house_models import Appliance
from calm_relay.load.appliance_year import appliance_w
from calm_relay.load.surplus import need_cycles, on_surplus
from calm_relay.plant.resolve import plant_of
from calm_relay.year.plan_flow import spare_ac_w

CALENDAR = year_calendar(2025, "Pacific/Auckland", 900)
HEATER = Appliance(
    id="heater", name="Heater", running_w=2400, run_h=2.5, window_start_h=1, window_end_h=6, surplus="after_battery"
)  # fmt: skip


@given(st.integers(0, 10_000), st.floats(0, 6000), st.floats(0, 24), st.floats(0.1, 23.5), st.floats(0, 2000), st.booleans())
@settings(max_examples=40, deadline=None, derandomize=True)
def test_every_day_draws_its_need_and_no_more_than_was_spare(seed, sun_w, start, length, least, long):
    load = HEATER.model_copy(
        update={"window_start_h": start, "window_end_h": (start + length) % 24, "run_h": length if long else min(2.5, length)}
    )
    load = load.model_copy(update={"surplus_least_w": least, "surplus_start_h": 7.0, "surplus_end_h": 20.0})
    rng = np.random.default_rng(seed)
    spare = np.maximum(0.0, sun_w * np.sin(np.pi * (CALENDAR.clock_hour - 6) / 12)) * rng.random(CALENDAR.steps)
    need = appliance_w(load, CALENDAR, seed)
    made = on_surplus(load, need, spare, CALENDAR)
    starts = need_cycles(load, CALENDAR)
    np.testing.assert_allclose(np.add.reduceat(made, starts), np.add.reduceat(need, starts), atol=1e-6)
    assert 364 <= len(starts) <= 367
    extra = made - need  # above its own window's runs only surplus can be
    assert (extra <= np.minimum(spare, load.running_w) + 1e-6).all()
    assert (made <= need + np.where(spare >= least, spare, 0.0) + 1e-6).all()
    assert made.min() >= 0.0
    assert made.max() <= load.running_w * (1 + 1e-9)


def with_rank(demo, rank):
    return apply_edits(demo, [Edit("house.appliances[hot-water].surplus", rank)])


@pytest.mark.parametrize("letter", ["A", "B", "C"])
def test_after_the_battery_takes_only_what_was_exported(demo, study, letter):
    """The batteries do what they do with a load that never draws; export falls by what the load took; all balances close."""
    job, gone = with_rank(demo, "after_battery"), apply_edits(demo, [Edit("house.appliances[hot-water].from_year", 2090)])
    made, bare = study.flow(job, job.plan(letter)), study.flow(gone, gone.plan(letter))
    np.testing.assert_allclose(made.flow.nodes[:, :, 21], bare.flow.nodes[:, :, 21], atol=1.0)  # energy in the cells, in Wh
    took = made.house.appliance_w["hot-water"]
    step_h = study.calendar(job).step_h
    assert float(took.sum()) == pytest.approx(float(study.house(demo).appliance_w["hot-water"].sum()), rel=1e-9)
    converters = [station.converter for station in plant_of(job, job.plan(letter)).stations]
    spare = spare_ac_w(bare, converters)
    from_sun = np.minimum(took, spare).sum() * step_h
    assert from_sun > 100_000.0, "the demo has surplus on most days"
    fewer = (spare - spare_ac_w(made, converters)).sum() * step_h
    assert fewer == pytest.approx(from_sun, rel=0.02)
    assert study.worst_open_balance(job, job.plan(letter)) < 1e-6
    assert study.bill(job, job.plan(letter)).import_cheap_wh < study.bill(demo, demo.plan(letter)).import_cheap_wh - 100_000.0


def test_before_the_battery_the_battery_gets_what_is_left(demo, study):
    taken = {}
    for rank in ("before_battery", "after_battery"):
        job = with_rank(demo, rank)
        facts = study.facts(job, job.plan("A"))
        heater = study.flow(job, job.plan("A")).house.appliance_w["hot-water"]
        by_day = float(heater[study.sun_up(job)].sum())
        taken[rank] = by_day, facts.system_wh["pv_to_battery_w"]
    plain = study.facts(demo, demo.plan("A")).fill["bat"]["winter"]
    after = study.facts(with_rank(demo, "after_battery"), demo.plan("A")).fill["bat"]["winter"]
    assert after.median_ratio >= plain.median_ratio - 1e-6, "what comes after the battery takes nothing the battery could have"
    assert taken["before_battery"][0] > taken["after_battery"][0]
    assert taken["before_battery"][1] < taken["after_battery"][1]


def test_without_sun_all_of_it_is_drawn_in_its_window():
    need = appliance_w(HEATER, CALENDAR, 1)
    np.testing.assert_allclose(on_surplus(HEATER, need, np.zeros(CALENDAR.steps), CALENDAR), need, atol=1e-9)
