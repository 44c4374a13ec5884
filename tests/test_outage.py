"""Outages: how long an island lasts against runs of its own, overload and trips by hand, and what cannot be drilled."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.decision.outage_starts import named_case, start_of
from calm_relay.decision.outages import alone_at, around_of, drill_of, helped_ride, ride_through_of, school_drills
from calm_relay.decision.reach import reach, season_hours
from calm_relay.decision.schools import with_backed_up
from calm_relay.decision.staying import staying
from calm_relay.demo import clinic_job
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.library.base import FrequencyRecord
from calm_relay.library.cards import GeneratorCard
from calm_relay.library.shipped import shipped_card
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.checks_motor import start_rows
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks
from calm_relay.simulation.flow import open_balances, run_case
from calm_relay.simulation.island import islanded
from calm_relay.study import Study
from calm_relay.year.circuits import Circuit, Lines, Start
from calm_relay.year.course import Setup, run_course
from calm_relay.year.drill import Case, DrillSite
from calm_relay.year.frequency import follower
from calm_relay.year.generator import GeneratorSet
from calm_relay.year.generator_figures import derated_va, litres_per_h
from calm_relay.year.outage import energies_by_hour, island_ride, outage_inputs, ride_through
from tests.cases import packed_case
from tests.hand import around, unit
from tests.published.test_hand_modes import house
from tests.reference_step import Slot, Terms


@pytest.fixture(scope="module")
def quarter() -> Study:
    return Study(step_s=900)


def test_a_constant_load_by_hand():
    """400 W take 500 W DC and 556 W out of the cells: 1000 Wh last 1.8 h, 2000 Wh 3.6 h, a full bank of 4000 Wh 7.2 h."""
    units = [unit("b", 0, 1500, 3000, out=Terms(0.0, 0.25, 0.0, 2000.0))]
    packed = packed_case(units, [[Slot()]], np.zeros((8760, 1)), np.zeros((8760, 1)), house(8760, b=[400] * 8760), around())
    island = islanded(packed, np.array([True]))
    for begins, hours in ((1000.0, 1), (2000.0, 3), (4000.0, 7), (9000.0, 7), (0.0, 0)):
        found = ride_through(island, np.full((8760, 1), begins), 24)
        assert set(found.hours_h) == {float(hours)}
        assert found.survived_frac(hours) == 1.0
        assert found.survived_frac(hours + 1) == 0.0


@pytest.mark.parametrize("letter", ["A", "B", "C"])
def test_ride_through_is_the_drill_started_at_that_hour(demo, quarter, letter):
    """200 starts each drilled by itself by means, without what later starts left behind; energy closes in every step."""
    plan = demo.plan(letter)
    made = quarter.flow(demo, plan)
    island = outage_inputs(demo.house, plant_of(demo, plan), made, "backed_up")
    found = island_ride(island, made)
    site = DrillSite(around_of(demo), plant_of(demo, plan), made, made.house, quarter.calendar(demo), "backed_up")
    rng = np.random.default_rng(7)
    rolled = {}
    for hour in rng.choice(8760, 200, replace=False).tolist():
        drilled = site.run(Case(hour, 168.0), 25.0, by_means=True, until_dark=True)
        rolled[hour] = 168.0 if drilled.survived_h is None else drilled.survived_h
    assert {hour: found.hours_h[hour] for hour in rolled} == rolled
    assert len(set(rolled.values())) > 5, "starts differ"
    shares = [found.survived_frac(h) for h in (1, 4, 12, 48, 168)]
    assert shares == sorted(shares, reverse=True)
    start = 24 * 170
    at = (start * 4 + np.arange(96 * 4)) % len(island.packed.ac)
    bank = {"bank": island.packed.bank[at]} if len(island.packed.bank) > 1 else {}
    case = replace(island.packed, ac=island.packed.ac[at], pv_dc=island.packed.pv_dc[at], codes=island.packed.codes[at], **bank)
    energies = energies_by_hour(made, island.here)[start]
    assert open_balances(run_case(case, energies, energies), case).worst < 1e-6


def test_a_bigger_battery_never_lasts_less_and_fewer_loads_neither(demo, quarter):
    def hours(job, serving="backed_up"):
        plan = job.plan("B")
        packed = outage_inputs(job.house, plant_of(job, plan), quarter.flow(job, plan), serving).packed
        full = packed.nodes["soc_max"] * packed.nodes["capacity_wh"]
        return ride_through(packed, np.tile(0.3 * full, (8760, 1)), 72).hours_h

    small = hours(demo)
    large = hours(apply_edits(demo, [Edit("plans[hybrid-swap].nodes[hyb].battery.modules", 5)]))
    assert np.all(large >= small)
    assert large.mean() > small.mean() + 1
    fewer = hours(apply_edits(demo, [Edit("house.appliances[workbench].essential", value=False)]), "essential")
    assert np.all(fewer >= small)


def test_what_cannot_fail_or_is_dark_at_once_is_said(demo, quarter):
    for edits, plan, says in (
        ([], "D", "no transfer device"),
        ([Edit("library[hybrid-5k].grid_forming", value=False)], "B", "forms no grid"),
        (
            [Edit("plans[hybrid-swap].transfer", None), Edit("plans[hybrid-swap].off_grid", value=True)],
            "B",
            "no grid that could fail",
        ),
    ):
        job = apply_edits(demo, edits)
        with pytest.raises(NotFeasible) as error:
            ride_through_of(quarter, job, job.plan(plan))
        assert says in str(error.value)
    for more, says in (
        ({"start_hour": 9000}, "outside the year"),
        ({"hours": 0.0}, "no length"),
        ({"charge_frac": 1.5}, "no charge"),
    ):
        with pytest.raises(BadInput) as bad:
            drill_of(quarter, demo, demo.plan("A"), Case(**{"start_hour": 10, "hours": 5.0, **more}))
        assert says in str(bad.value)
    for text in ("02-30", "13-01", "07-11T24", "8760", "soon"):
        with pytest.raises(BadInput):
            start_of(quarter, demo, text)
    assert [start_of(quarter, demo, text) for text in ("01-02T03", "12-31T23", "17")] == [27, 8759, 17]
    with pytest.raises(BadInput, match="names no outage 'flood'; use brief, Winter storm"):
        named_case(quarter, demo, "flood")


def lines(continuous=5000.0, peak=7500.0, peak_s=10.0, bank=None, names=("",)):
    each = [np.full(len(names), float(v)) if np.isscalar(v) else np.array(v, dtype=float) for v in (continuous, peak)]
    given = None if bank is None else np.full(len(names), float(bank))
    return Lines(
        names=names, volts_v=230.0, continuous_va=each[0], peak_va=each[1], peak_s=peak_s, bank_w=given, lra_a=None,
        start_power_factor=0.7,
    )  # fmt: skip


def island_minutes(minutes, sun=(), capacity=4000.0, dc=0.0):
    """A bank of 4 kWh behind an inverter that loses a quarter of what it gives and nothing else; AC-coupled sun beside it."""
    units = [unit("b", 0, 1500, 3000, out=Terms(0.0, 0.25, 0.0, 2000.0))]
    pv = np.zeros((minutes, 1)) + dc
    load = house(minutes, b=[0.0] * minutes)
    packed = packed_case(units, [[Slot()]], pv, pv, load, around())
    island = islanded(packed, np.array([True]))
    plant, nodes, ac = island.plant.copy(), island.nodes.copy(), island.ac.copy()
    plant["step_h"] = 1 / 60
    nodes["capacity_wh"] = nodes["capacity_wh"] * capacity / 4000.0
    nodes["ac_out_w"] = nodes["rated_w"] = 20_000.0
    nodes["discharge_w"] = 20_000.0
    return replace(island, plant=plant, nodes=nodes, ac=ac)


def circuit(name, watts, minutes=30, share=(1.0,), **more):
    values = np.zeros(minutes) + watts
    on = values > 1
    starts = np.flatnonzero(on[1:] & ~on[:-1]) + 1
    return Circuit(id=name, name=name, watts=values, shares=np.array(share), starts_at=starts, **more)


def run(circuits, carried=None, minutes=30, energy=4000.0, sun=0.0, **more):
    window = island_minutes(minutes, capacity=more.pop("capacity", 1e6), dc=more.pop("dc", 0.0))
    count = 1 if carried is None else len(carried.names)
    setup = Setup(
        window=window, circuits=circuits, sun_w=np.zeros(minutes) + sun, pv_shares=np.full(count, 1 / count), lines=carried,
        clock_hour=np.arange(minutes) / 60 % 24, **more,
    )  # fmt: skip
    return run_course(setup, np.array([energy]), np.array([energy]))


def kinds(course):
    return [kind for _, kind, _ in course.events]


def test_an_overload_trips_tries_again_and_stays_off_by_hand():
    """3 + 3 kW on 5 kVA with 7.5 kVA for 10 s: no minute of it passes. The oven does not return, and then the rest is carried."""
    full = {"energy": 5e5}
    made = run([circuit("oven", 3000, returns=False), circuit("dryer", 3000)], lines(), **full)
    assert [(m, kind) for m, kind, _ in made.events] == [(0, "trip"), (0, "waits")]
    assert "6.0 kVA, the limit is 5.0 kVA, more for 10 s" in made.events[0][2]
    served = made.asked_w - made.off_w - made.shed_w - made.waiting_w
    assert list(served[:4]) == [0, 0, 3000, 3000], "a minute dark, one to restart, then the dryer alone"
    assert list(made.waiting_w[1:4]) == [0, 3000, 3000]
    # two loads that both return: four trips (the first and three retries), then it stays off
    both = run([circuit("pump", 3000), circuit("dryer", 3000)], lines(), **full)
    assert kinds(both) == ["trip"] * 4 + ["locked"]
    assert [m for m, kind, _ in both.events if kind == "trip"] == [0, 2, 4, 6]
    assert both.off_w.sum() == both.asked_w.sum()
    shed = run([circuit("oven", 3000), circuit("dryer", 3000, sheddable=True)], lines(), shedding=True, **full)
    assert kinds(shed) == ["shed"], "after ten minutes it still does not fit, so it stays off"
    assert np.all(shed.shed_w == 3000)
    third = circuit("boiler", 2500, sheddable=True, order=1)
    ordered = run([circuit("oven", 3000), circuit("dryer", 3000, sheddable=True), third], lines(), shedding=True, **full)
    assert [words for _, kind, words in ordered.events][:2] == ["boiler is shed, 2.5 kW", "dryer is shed, 3.0 kW"]
    sun = run([circuit("oven", 3000), circuit("dryer", 3000)], lines(), sun=1500.0, **full)
    assert sun.events == [], "AC-coupled sun gives what the inverters need not"
    long_peak = run([circuit("oven", 3000, 1), circuit("dryer", 3000, 1)], lines(peak_s=60.0), minutes=1, **full)
    assert long_peak.events == [], "a peak that lasts a minute passes a minute"
    assert "trip" in kinds(run([circuit("oven", 3000), circuit("dryer", 3000)], lines(peak_s=60.0), **full)), "and no second one"


def test_motors_start_staggered_and_together_by_hand():
    """Two pumps of 5 kVA for 1.5 s on a peak of 7.5: each starts on top of 1 kW; after an interruption both start at once."""
    start = Start(5000.0, 1.5)
    early, late = np.zeros(60), np.zeros(60)
    early[10:], late[20:] = 1000.0, 1000.0
    pumps = [circuit("one", early, 60, start=start), circuit("two", late, 60, start=start)]
    made = run(pumps, lines(), 60, energy=5e5)
    assert made.events == []
    assert [m.step for m in made.moments] == [10, 20]
    assert made.moments[1].value[2] == pytest.approx(6000), "5 kVA on top of the 1 kVA that runs"
    assert made.moments[1].value[5] == pytest.approx(2000), "then both run"
    burst = np.zeros(60)
    burst[30] = 8000.0
    fails = run([*pumps, circuit("kettle", burst, 60)], lines(), 60, energy=5e5)
    assert kinds(fails) == ["trip"] * 4 + ["locked"]
    assert "one and two start at once: 10.0 kVA for 1.5 s, the limit is 7.5 kVA" in fails.events[1][2]
    weak = run(pumps, lines(bank=3600.0), 60, energy=5e5)
    assert "two starts: 4.5 kW for 1.5 s, the battery gives 3.6 kW" in weak.events[0][2], "5 kVA × 0.7 + 1 kW"


def test_only_the_phase_with_an_inverter_lives():
    """4 kVA on phase 1 alone: what stands on 2 and a three-phase motor are dark from the begin, 5 kW on phase 1 trip it."""
    names = ("phase 1", "phase 2", "phase 3")
    carried = lines(continuous=[4000, 0, 0], peak=[6000, 0, 0], names=names)
    each = (1 / 3, 1 / 3, 1 / 3)
    loads = [
        circuit("fridge", 500, share=(1, 0, 0)), circuit("kiln", 3000, share=(0, 1, 0)), circuit("lathe", 900, share=each),
    ]  # fmt: skip
    made = run(loads, carried, energy=5e5)
    assert made.events == [(0, "dead", "nothing forms a grid on phase 2 and phase 3: kiln, lathe are dark")]
    assert np.all(made.off_w == 3900)
    more = run([circuit("oven", 5000, share=(1, 0, 0))], carried, energy=5e5)
    assert "on phase 1, the limit is 4.0 kVA" in more.events[1][2] if kinds(more)[0] == "dead" else more.events[0][2]


def test_charge_switches_loads_off_and_on_and_surplus_is_soaked_up():
    """400 W draw 555.6 W from 4 kWh: half of it is reached after 216 min; a heater of 1 kW takes what is left over near full."""
    loads = [circuit("fridge", 200, 600), circuit("heat", 200, 600, charge=(0.5, 0.7))]
    made = run(loads, lines(), 600, capacity=4000.0, shedding=True, restart_frac=0.05)
    (off,) = [m for m, kind, words in made.events if kind == "shed"]
    assert off == pytest.approx(0.5 * 4000 / 555.56 * 60, abs=2)
    assert np.all(made.shed_w[off:] == 200)
    assert run(loads, lines(), 600, capacity=4000.0, restart_frac=0.05).shed_w.sum() == 0, (
        "without shedding charge has no part in it"
    )
    heater = circuit("water", 1000, 600, charge=(0.9, 0.98), day_wh=2500.0, sheddable=True)
    sunny = run([circuit("fridge", 200, 600), heater], lines(), 600, capacity=4000.0, energy=3000.0, sun=2500.0)
    taken = sunny.asked_w - 200
    assert taken.sum() / 60 == pytest.approx(2500, abs=40), "its day's energy and no more"
    assert taken[:10].sum() == 0, "not before the bank is near full"


def test_a_bank_at_its_floor_is_woken_by_strings_alone():
    """Empty at once; 600 W of DC sun bring it back at 5 %, AC-coupled sun never; and what does not return by itself waits."""
    loads = [circuit("fridge", 300, 300), circuit("press", 100, 300, returns=False)]
    common = {"capacity": 4000.0, "energy": 5.0, "restart_frac": 0.05}
    woken = run(loads, lines(), 300, dc=600.0, **common)
    assert kinds(woken)[:2] == ["empty", "waits"] or "lit" not in kinds(woken)
    dead = run(loads, lines(), 300, sun=2000.0, follower=follower(OLD, 5000.0), **common)
    assert "lit" not in kinds(dead)
    assert np.all(dead.off_w[10:] == 400)
    waking = run([circuit("fridge", 900, 300)], lines(), 300, dc=600.0, **common)
    assert "lit" in kinds(waking)
    lit = next(m for m, kind, _ in waking.events if kind == "lit")
    empty = next(m for m, kind, _ in waking.events if kind == "empty")
    assert lit > empty


OLD = FrequencyRecord.model_validate({"trips": [{"frequency_hz": 50.5, "after_s": 0.2}], "return_delay_s": 60.0})
HELD = FrequencyRecord.model_validate({
    "start_hz": 50.2, "droop_frac": 0.036, "base": "power_at_start", "response_s": 1.0, "return_delay_s": 60.0,
    "trips": [{"frequency_hz": 53.0, "after_s": 0.2}],
})  # fmt: skip


def test_ac_coupled_sun_in_the_drill_is_a_saw_tooth_or_held_by_its_curve():
    """A full bank, 300 W of house, 3 kW of sun: an older inverter trips each minute, one that goes to nothing is held."""

    def sunny(record):
        return run(
            [circuit("fridge", 300, 60)], lines(), 60, capacity=4000.0, energy=4000.0, sun=3000.0, follower=follower(record, 5000.0)
        )

    saw, held = sunny(OLD), sunny(HELD)
    assert len(saw.pv_trips) > 20
    assert held.pv_trips == []
    assert held.pv_w[10:].mean() == pytest.approx(300, rel=0.05), "the loads' and no more"
    assert saw.pv_w.sum() < held.pv_w.sum()
    assert saw.over_w > 2000, "each return pushes what the house does not take"
    assert saw.moments[0].hz.max() >= 50.5
    assert saw.off_w.sum() == held.off_w.sum() == 0


def test_thresholds_swapped_chatter():
    def run_at(stop, again):
        load = [circuit("fridge", np.where(np.arange(600) % 60 < 30, 100.0, 2500.0), 600)]
        made = run(load, lines(), 600, capacity=4000.0, energy=3500.0, sun=2000.0, stop_frac=stop, again_frac=again)
        return np.count_nonzero(np.diff(made.pv_w > 1500))

    assert run_at(0.9, 0.95) > 3 * max(1, run_at(0.95, 0.7))


def test_a_drill_adds_up_and_says_what_happens(demo, quarter):
    made = drill_of(quarter, demo, demo.plan("A"), Case(24 * 170 + 2, 30.0))
    found = [event.kind for event in made.events]
    assert "empty" in found
    assert made.survived_h == made.vital_h == next(e.minute for e in made.events if e.kind == "empty") / 60
    assert made.first_words.startswith("After ")
    lacking = made.asked_w - made.served_w - made.shed_w - made.waiting_w
    np.testing.assert_allclose(lacking, made.course.off_w, atol=1e-9)
    assert made.dark_h > 0
    assert sum(made.course.lacked_wh.values()) == pytest.approx(made.course.off_w.sum() / 60, rel=1e-6)
    assert "Not served: Bait freezer" in made.load_words
    # all the sun of plan A stands at AC: what is not used finds no use
    per = len(quarter.flow(demo, demo.plan("A")).flow.system) // 8760
    offered = quarter.flow(demo, demo.plan("A")).pv_only["old"].ac_w
    at = (np.arange(30 * per) + (24 * 170 + 2) * per) % len(offered)
    assert (made.pv_used_w + made.pv_throttled_w).sum() / 60 == pytest.approx(offered[at].sum() / per, rel=1e-9)
    woken = drill_of(quarter, demo, demo.plan("B"), Case(24 * 170 + 2, 48.0))
    gained = woken.end_wh - woken.start_wh
    assert woken.wh("pv_used") > woken.wh("served") + gained, "what is served and stored came from the sun, and losses"
    kept = drill_of(quarter, demo, demo.plan("A"), Case(24 * 170 + 2, 30.0, charge_frac=1.0))
    assert (kept.survived_h or 30) >= made.survived_h
    half = drill_of(quarter, demo, demo.plan("B"), Case(24 * 170 + 2, 48.0, sun_frac=0.5))
    assert half.wh("pv_used") + half.wh("pv_throttled") == pytest.approx(
        0.5 * (woken.wh("pv_used") + woken.wh("pv_throttled")), rel=1e-6
    )


def test_schools_of_the_same_outage_stand_side_by_side(demo, quarter):
    case = named_case(quarter, demo, "Winter storm")
    assert (case.start_hour, case.hours, case.sun_frac) == (start_of(quarter, demo, "07-11T16"), 18.0, 0.4)
    found = {s.name: s.drill for s in school_drills(quarter, demo, demo.plan("B"), case)}
    assert list(found) == ["as planned", "whole house", "essential panel", "whole house, shedding"]
    assert found["as planned"].wh("asked") == pytest.approx(found["essential panel"].wh("asked"))
    assert found["whole house"].wh("asked") > 2 * found["as planned"].wh("asked")
    assert any(e.kind == "trip" for e in found["whole house"].events)
    assert found["whole house, shedding"].wh("shed") > 0
    picked = replace(case, picked=("fridge", "well-pump"), diversity=0.5)
    hand = drill_of(quarter, demo, demo.plan("B"), picked)
    background = 0.0
    assert hand.asked_w[:60] == pytest.approx(np.full(60, 0.5 * (110 + 1100) + background))


def test_what_a_generator_and_shedding_add_stands_beside_what_lasts_without(quarter, monkeypatch):
    monkeypatch.setattr("calm_relay.decision.outages.HELPED_EVERY_H", 120)
    job = clinic_job()
    plan = job.plan("A")
    alone, helped = ride_through_of(quarter, job, plan)["backed_up"], helped_ride(quarter, job, plan)
    asked = ~np.isnan(helped.hours_h)
    assert np.count_nonzero(asked) == 8760 // 120
    assert np.all(helped.hours_h[asked] >= np.where(alone.hours_h[asked] >= 168, 168, 0))
    assert helped.survived_frac(48) >= alone_at(alone, helped).survived_frac(48)


def test_ticks_of_what_stays_on_and_their_sums(demo, quarter):
    plan = demo.plan("A")
    found = staying(quarter, demo, plan, 0.5)
    essential = [a for a in demo.house.appliances if a.essential]
    assert found.running_va() == pytest.approx(sum(load.running_w / load.power_factor for load in essential))
    assert found.to_move == len(essential) == 7
    assert list(found.running_sums_va.values())[6] == pytest.approx(found.running_va())
    year = sum(found.day_wh(essential=True).values()) / 4
    assert year == pytest.approx(sum(a.mean_day_wh * (5 / 7 if a.days == "weekdays" else 1) for a in essential), rel=0.05)
    assert "are left" in found.words[0]
    every = plan
    for load in (*[a.id for a in demo.house.appliances], "background"):
        every = every.model_copy(update={"transfer": with_backed_up(demo, every, load, on=True)})
    assert every.transfer.backed_up == "whole_house"
    fewer = with_backed_up(demo, every, "oven", on=False)
    assert fewer.backed_up == "listed"
    assert len(fewer.listed) == len(demo.house.appliances)


def test_the_command_line_prints_outages(capsys, tmp_path):
    assert (
        main(["drill", "demo", "--plan", "A", "--start", "06-20T02", "--hours", "24", "--csv", str(tmp_path / "a.csv"), "--json"])
        == 0
    )
    (plan,) = json.loads(capsys.readouterr().out)["plans"]
    assert plan["survived_h"] > 12
    assert len((tmp_path / "a.csv").read_text(encoding="utf-8").splitlines()) == 24 * 60 + 1
    assert main(["drill", "demo-hut", "--plan", "A"]) == 2
    assert "no grid that could fail" in capsys.readouterr().err
    assert main(["starts", "demo-clinic", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["plans"][0]["starts"]
    assert main(["drill", "demo", "--plan", "B", "--outage", "winter storm", "--schools", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["plans"][0]["schools"]) == 4
    assert main(["stays", "demo", "--plan", "A", "--diversity", "0.7", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["plans"][0]["circuits_to_move"] == 7
    assert main(["drill", "demo", "--together", "sauna"]) == 2
    assert "'sauna' is no load of this house" in capsys.readouterr().err


def card(**more):
    figures = {"kind": "generator", "id": "g", "name": "Set", "rated_va": 2500.0, "power_factor_frac": 0.8, "auto_start": True}
    return GeneratorCard.model_validate(figures | {"fuel_full_l_per_h": 1.2, "fuel_half_l_per_h": 0.8, "tank_l": 20.0} | more)


def test_a_generator_s_figures_by_hand():
    """Common practice: 3.5 % less per 300 m above 300 m, 1 % per 5.5 °C above 25 °C; fuel straight through half and full load."""
    assert derated_va(card(), 1200.0, 36.0) == pytest.approx(2500 * (1 - 0.105 - 0.02))
    assert derated_va(card(), 100.0, 10.0) == 2500
    assert litres_per_h(card(), 1.0) == pytest.approx(1.2)
    assert litres_per_h(card(), 0.5) == pytest.approx(0.8)
    assert litres_per_h(card(), 0.0) == pytest.approx(0.4)
    assert litres_per_h(card(fuel_full_l_per_h=None), 0.5) is None


def test_a_generator_starts_and_stops_by_charge_and_burns_what_it_gives():
    """400 W of house draw 555.6 W out of 4000 Wh: from half to a fifth 130 min. 2000 W of set leave 1600 W, which store 1152 W."""
    gives = GeneratorSet(card(), 2000.0, 0.2, 0.8, None, None, locks_pv_out=True)

    def ran(unit):
        return run([circuit("house", 400, 1440)], lines(), 1440, capacity=4000.0, energy=2000.0, unit=unit, restart_frac=0.05)

    made = ran(gives)
    starts = [m for m, _, words in made.events if "generator starts" in words]
    stops = [m for m, _, words in made.events if "generator stops" in words]
    assert starts[0] == pytest.approx(0.3 * 4000 / 555.56 * 60, abs=2)
    assert stops[0] - starts[0] == pytest.approx(0.6 * 4000 / 1152 * 60, abs=3)
    assert made.off_w.max() < 1e-6
    on = made.given_w > 0
    assert np.median(made.given_w[on]) == pytest.approx(2000)
    by_hand = sum(litres_per_h(card(), w / 2000) / 60 for w in made.given_w[on])
    assert made.litres == pytest.approx(by_hand, rel=1e-6)
    late = ran(replace(gives, quiet_start_h=0.0, quiet_end_h=12.0))
    assert not late.given_w[:720].any()
    assert late.off_w[:720].max() > 0, "in quiet hours the bank runs empty"
    assert any("the generator brings it back" in words for _, _, words in late.events)
    dry = ran(replace(gives, card=card(tank_l=0.5)))
    assert any("the tank is empty" in words for _, _, words in dry.events)
    assert dry.litres == pytest.approx(0.5, abs=0.03)


def test_a_plan_s_generator_runs_in_the_drill_or_says_why_not(demo, quarter):
    shipped = shipped_card("generator-6k")
    base = [Edit("library[+]", shipped.model_dump())]
    choice = {"card": "generator-6k", "pv_locked_out": "yes"}
    locked = apply_edits(demo, [*base, Edit("plans[ac-add-on].generator", choice)])
    made = drill_of(quarter, locked, locked.plan("A"), Case(24 * 170 + 2, 48.0))
    assert made.survived_h is None
    assert made.generator_h > 1
    assert made.litres > 1
    assert any("the generator starts" in e.words for e in made.events)
    for edit, says in (
        (Edit("plans[ac-add-on].generator.pv_locked_out", "not_known"), "reverse power"),
        (Edit("plans[ac-add-on].generator.stop_soc_frac", 0.1), "below its start"),
        (Edit("library[generator-6k].auto_start", value=False), "no automatic start"),
    ):
        job = apply_edits(locked, [edit])
        still = drill_of(quarter, job, job.plan("A"), Case(24 * 170 + 2, 48.0))
        assert still.generator_h == 0
        assert says in still.events[0].words


def test_more_modules_survive_more_and_what_they_reach_is_told(demo, quarter):
    found = reach(quarter, demo, demo.plan("B"))
    shares = [share for _, share in found.rows]
    assert shares == sorted(shares)
    assert found.rows[0][0] == found.modules_now == 3
    hours = season_hours(quarter, demo)
    assert len(hours) == 24 * (30 + 31 + 31), "June to August are winter in the south"
    whole = ride_through_of(quarter, demo, demo.plan("B"))["essential"]
    assert shares[0] == pytest.approx(np.mean(whole.hours_h[hours] >= 18.0))
    held = [share for _, share in found.by_reserve]
    assert held == sorted(held), "more held back survives more"
    assert held[-1] > shares[0]
    for share in (0.5, 0.9, 0.99):
        needed = found.modules_for(share)
        assert needed is None or dict(found.rows)[needed] >= share
    assert any("% is " in line for line in found.words)
    more, fewer = [share for _, share in found.by_more_wp], [share for _, share in found.by_left_out]
    assert more == sorted(more)
    assert fewer == sorted(fewer)
    assert more[-1] > shares[0] < fewer[-1]
    assert found.by_more_wp[0][0] == pytest.approx(0.2 * 16 * 385)
    assert found.by_left_out[0][0] == ("Bait freezer",)
    with pytest.raises(NotFeasible, match="0 banks"):
        reach(quarter, demo, demo.plan("D"))


def test_starts_alone_staggered_and_at_once_by_hand(demo):
    """Bilge pump: letter J, 7.99 kVA/hp × 0.33 hp; well pump: 23 LRA × 230 V. Both on what else of the list runs."""
    plan = demo.plan("A")
    context = CheckContext(demo, plan, demo.cards(), None)
    rows = {(row.name, row.way): row for row in start_rows(context) if row.quantity == "apparent_va"}
    bilge, well = 7990 * 0.33, 23 * 230.0
    running = {load.id: load.running_w / load.power_factor for load in demo.house.appliances if load.essential}
    rest = sum(va for name, va in running.items() if name not in ("bilge-pump", "well-pump"))
    assert rows["Bilge pump", "alone"].value == pytest.approx(bilge)
    assert rows["Well pump", "alone"].value == pytest.approx(well)
    assert rows["Well pump", "with the rest running"].value == pytest.approx(well + rest + running["bilge-pump"])
    assert rows["2 motors", "all at once"].value == pytest.approx(bilge + well + rest)
    assert not rows["2 motors", "all at once"].within
    (worst,) = [f for f in run_checks(context, {"plan"}) if f.check == "backup.motor-start"]
    assert worst.value == pytest.approx(max(row.value for row in rows.values() if row.way == "with the rest running"))
    assert start_rows(CheckContext(demo, demo.plan("D"), demo.cards(), None)) == ()
