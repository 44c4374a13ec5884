"""Outages: how long an island lasts against runs of its own, overload and trips by hand, and what cannot be drilled."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.cli.outage import start_hour_of
from calm_relay.decision.outages import drill_of, ride_through_of
from calm_relay.decision.reach import reach, season_hours
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.library.cards import GeneratorCard
from calm_relay.library.shipped import shipped_card
from calm_relay.rules.checks_motor import start_rows
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks
from calm_relay.simulation.columns import SYS_UNSERVED
from calm_relay.simulation.flow import open_balances, run_case
from calm_relay.simulation.island import islanded
from calm_relay.study import Study
from calm_relay.year.generator import GeneratorSet, run_with_set
from calm_relay.year.generator_figures import derated_va, litres_per_h
from calm_relay.year.outage import energies_by_hour, outage_inputs, ride_through
from calm_relay.year.overload import Carried, Circuit, serve
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
def test_ride_through_is_the_outage_run_from_that_hour(demo, quarter, letter):
    """Each start run by itself, without what later starts left behind; energy closes in every step of it."""
    plan = demo.plan(letter)
    made = quarter.flow(demo, plan)
    packed, here = outage_inputs(demo, plan, demo.cards(), made, "backed_up")
    energies = energies_by_hour(made, here)
    found = ride_through(packed, energies)
    rng = np.random.default_rng(7)
    rolled = {}
    for hour in rng.choice(8760, 70, replace=False):
        at = (int(hour) * 4 + np.arange(168 * 4)) % len(packed.ac)
        window = {"ac": packed.ac[at], "pv_dc": packed.pv_dc[at], "codes": packed.codes[at]}
        if len(packed.bank) > 1:
            window["bank"] = packed.bank[at]
        case = type(packed)(**{**vars(packed), **window})
        flow = run_case(case, energies[hour], energies[hour])
        dark = np.flatnonzero(flow.system[:, SYS_UNSERVED] > 1e-3)
        rolled[int(hour)] = dark[0] / 4 if len(dark) else 168.0
        if len(rolled) < 4:
            assert open_balances(flow, case).worst < 1e-6
    assert {hour: found.hours_h[hour] for hour in rolled} == rolled
    assert len(set(rolled.values())) > 5, "starts differ"
    shares = [found.survived_frac(h) for h in (1, 4, 12, 48, 168)]
    assert shares == sorted(shares, reverse=True)


def test_a_bigger_battery_never_lasts_less_and_fewer_loads_neither(demo, quarter):
    def hours(job, serving="backed_up"):
        plan = job.plan("B")
        packed, _ = outage_inputs(job, plan, job.cards(), quarter.flow(job, plan), serving)
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
            drill_of(quarter, demo, demo.plan("A"), **{"start_hour": 10, "hours": 5.0, **more})
        assert says in str(bad.value)
    for text in ("02-30", "13-01", "07-11T24", "8760", "soon"):
        with pytest.raises(BadInput):
            start_hour_of(text)
    assert (start_hour_of("01-02T03"), start_hour_of("12-31T23"), start_hour_of("17")) == (27, 8759, 17)


def circuits(minutes, **watts):
    return {
        name: Circuit(name, np.full(minutes, float(w)), sheddable=name == "dryer", returns=name != "oven")
        for name, w in watts.items()
    }


def test_an_overload_trips_tries_again_and_stays_off_by_hand():
    """3 + 3 kW on 5 kVA with 7.5 kVA for 10 s: no minute of it passes. The oven does not return, and then the rest is carried."""
    carried = Carried(5000.0, 7500.0, 10.0)
    none = np.zeros(30)
    made = serve(circuits(30, oven=3000, dryer=3000), none, carried, shedding=False)
    assert [(m, kind) for m, kind, _ in made.events] == [(0, "trip")]
    assert "6.0 kVA, the limit is 5.0 kVA" in made.events[0][2]
    assert list(made.served_w[:4]) == [0, 0, 3000, 3000], "a minute dark, one to restart, then the dryer alone"
    # two dryers' worth that both return: four trips (the first and three retries), then it stays off
    both = serve(circuits(30, pump=3000, dryer=3000), none, carried, shedding=False)
    assert [kind for _, kind, _ in both.events] == ["trip"] * 4 + ["locked"]
    assert [m for m, kind, _ in both.events if kind == "trip"] == [0, 2, 4, 6]
    assert both.served_w.sum() == 0
    shed = serve(circuits(30, oven=3000, dryer=3000), none, carried, shedding=True)
    assert [kind for _, kind, _ in shed.events] == ["shed"]
    assert np.all(shed.served_w == 3000)
    assert np.all(shed.shed_w == 3000)
    sun = serve(circuits(30, oven=3000, dryer=3000), np.full(30, 1500.0), carried, shedding=False)
    assert sun.events == [], "AC-coupled sun gives what the inverters need not"
    long_peak = serve(circuits(30, oven=3000, dryer=3000), none, Carried(5000.0, 7500.0, 60.0), shedding=False)
    assert long_peak.events == [], "a peak that lasts a minute passes a minute"


def test_a_drill_adds_up_and_says_what_happens(demo, quarter):
    made = drill_of(quarter, demo, demo.plan("A"), start_hour=24 * 170 + 2, hours=30)
    kinds = [event.kind for event in made.events]
    assert "empty" in kinds
    assert made.survived_h == next(e.minute for e in made.events if e.kind == "empty") / 60
    assert made.first_words.startswith("After ")
    np.testing.assert_allclose(made.asked_w, made.served_w + made.shed_w + made.flow.system[:, SYS_UNSERVED], atol=1e-6)
    assert made.dark_h > 0
    # all the sun of plan A stands at AC: what is not used finds no use
    per = len(quarter.flow(demo, demo.plan("A")).flow.system) // 8760
    offered = quarter.flow(demo, demo.plan("A")).pv_only["old"].ac_w
    at = (np.arange(30 * per) + (24 * 170 + 2) * per) % len(offered)
    assert (made.pv_used_w + made.pv_throttled_w).sum() / 60 == pytest.approx(offered[at].sum() / per, rel=1e-9)
    woken = drill_of(quarter, demo, demo.plan("B"), start_hour=24 * 170 + 2, hours=48)
    gained = woken.end_wh - woken.start_wh
    assert woken.pv_used_w.sum() / 60 > woken.served_w.sum() / 60 + gained, (
        "what is served and stored came from the sun, and losses"
    )
    kept = drill_of(quarter, demo, demo.plan("A"), start_hour=24 * 170 + 2, hours=30, charge_frac=1.0)
    assert (kept.survived_h or 30) >= made.survived_h


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


def island_minutes(minutes, load_w):
    units = [unit("b", 0, 1500, 3000, out=Terms(0.0, 0.25, 0.0, 2000.0))]
    packed = packed_case(
        units, [[Slot()]], np.zeros((minutes, 1)), np.zeros((minutes, 1)), house(minutes, b=[load_w] * minutes), around()
    )
    island = islanded(packed, np.array([True]))
    plant = island.plant.copy()
    plant["step_h"] = 1 / 60
    return replace(island, plant=plant)


def test_a_generator_starts_and_stops_by_charge_and_burns_what_it_gives():
    """400 W of house draw 555.6 W out of 4000 Wh: from half to a fifth 130 min. 2000 W of set leave 1600 W, which store 1152 W."""
    gives = GeneratorSet(card(), 2000.0, 0.2, 0.8, None, None, locks_pv_out=True)
    window = island_minutes(1440, 400)
    ran = run_with_set(window, np.array([2000.0]), np.array([2000.0]), gives, np.arange(1440) / 60 % 24)
    starts = [m for m, _, words in ran.events if "starts" in words]
    stops = [m for m, _, words in ran.events if "stops" in words]
    assert starts[0] == pytest.approx(0.3 * 4000 / 555.56 * 60, abs=2)
    assert stops[0] - starts[0] == pytest.approx(0.6 * 4000 / 1152 * 60, abs=3)
    assert ran.flow.system[:, SYS_UNSERVED].max() < 1e-6
    on = ran.given_w > 0
    assert np.median(ran.given_w[on]) == pytest.approx(2000)
    by_hand = sum(litres_per_h(card(), w / 2000) / 60 for w in ran.given_w[on])
    assert ran.litres == pytest.approx(by_hand, rel=1e-6)
    quiet = replace(gives, quiet_start_h=0.0, quiet_end_h=12.0)
    late = run_with_set(window, np.array([2000.0]), np.array([2000.0]), quiet, np.arange(1440) / 60 % 24)
    assert not late.given_w[:720].any()
    assert late.flow.system[:720, SYS_UNSERVED].max() > 0, "in quiet hours the bank runs empty"
    dry = run_with_set(
        window, np.array([2000.0]), np.array([2000.0]), replace(gives, card=card(tank_l=0.5)), np.arange(1440) / 60 % 24
    )
    assert any("the tank is empty" in words for _, _, words in dry.events)
    assert dry.litres == pytest.approx(0.5, abs=0.03)


def test_a_plan_s_generator_runs_in_the_drill_or_says_why_not(demo, quarter):
    shipped = shipped_card("generator-6k")
    base = [Edit("library[+]", shipped.model_dump())]
    choice = {"card": "generator-6k", "pv_locked_out": "yes"}
    locked = apply_edits(demo, [*base, Edit("plans[ac-add-on].generator", choice)])
    made = drill_of(quarter, locked, locked.plan("A"), start_hour=24 * 170 + 2, hours=48)
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
        still = drill_of(quarter, job, job.plan("A"), start_hour=24 * 170 + 2, hours=48)
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
