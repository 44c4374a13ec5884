"""The study: how often each stage runs after an edit, keys that miss nothing, cancel, balances and known identities."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

import numpy as np
import pytest

from calm_relay.errors import BadInput, Cancelled
from calm_relay.job.edits import Edit, apply_edits, read_path
from calm_relay.job.models import Job
from calm_relay.load.house import house_year
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.graph import plan_graph
from calm_relay.relay.values import notable_steps, peak_values, values_at
from calm_relay.simulation.flow import open_balances
from calm_relay.study import Study
from calm_relay.year.pictures import CARPETS, carpet, day_picture, duration, notable_days

FLOW = ("flow", "facts", "meter", "counted", "bill")


def runs(**count: int) -> dict[str, int]:
    return count


def downstream(n: int, **more: int) -> dict[str, int]:
    return {**dict.fromkeys((*FLOW, "survival"), n), **more}


# What is edited → how often each stage runs again over all five plans.
EDITS: list[tuple[str, Any, dict[str, int]]] = [
    ("plans[hybrid-swap].name", "Another name", runs()),
    ("plans[hybrid-swap].note", "Another note", runs()),
    ("library[hybrid-5k].name", "Another card name", runs()),
    ("plans[ac-add-on].costs[0].amount", 1.0, runs()),
    ("tariff.currency", "€", runs()),
    ("house.appliances[oven].essential", True, runs()),  # behind no device
    ("house.appliances[lights].essential", False, runs(survival=3)),
    ("site.record_low_c", -9.0, runs()),
    ("house.appliances[oven].power_factor", 0.9, runs(facts=5)),
    ("site.network.sum_limit_w", 20_000.0, runs()),
    ("tariff.import_price_per_kwh", 0.5, runs(bill=5)),
    ("tariff.netting", "each", runs(counted=5, bill=5)),
    ("tariff.cheap_start_h", 0.5, runs(counted=5, bill=5)),
    ("tariff.tax_frac", 0.2, runs(bill=5)),
    ("plans[ac-add-on].controls.reserve_soc_frac", 0.3, downstream(1)),
    ("plans[ac-add-on].nodes[bat].battery.modules", 4, downstream(1)),
    ("site.export_limit_w", 4000.0, downstream(5)),
    ("house.appliances[oven].running_w", 2500.0, downstream(5, house=1)),
    ("faces[north-west].tilt_deg", 30.0, downstream(2, light=1, dc=2)),
    ("faces[north-west].shade_loss_frac", 0.1, downstream(2, dc=2)),
    ("plans[hybrid-swap].nodes[hyb].strings[ne1].modules_per_string", 9, downstream(1, dc=1)),
    ("site.weather.seed", 5, downstream(5, weather=1, light=2, dc=4)),
    ("site.place.latitude_deg", -40.0, downstream(5, sun=1, weather=1, light=2, dc=4)),
]


@pytest.fixture(scope="module")
def hourly() -> Study:
    return Study(step_s=3600)


def ask(study: Study, job: Job) -> None:
    for plan in job.plans:
        study.plan_result(job, plan)


@pytest.mark.parametrize(("path", "value", "expected"), EDITS, ids=[e[0] for e in EDITS])
def test_an_edit_runs_just_what_depends_on_it(path, value, expected, demo, hourly):
    ask(hourly, demo)
    before, job = Counter(hourly.runs), apply_edits(demo, [Edit(path, value)])
    stands = hourly.stands(job, job.plans[-1])
    ask(hourly, job)
    assert dict(hourly.runs - before) == expected
    if not expected.keys() - {"bill"} or len(demo.plans) in expected.values():  # of no plan, or of every one
        assert stands == (not expected.keys() - {"bill"}), "what is shown at once"
    assert hourly.stands(job, job.plans[-1])
    before = Counter(hourly.runs)
    ask(hourly, demo)
    assert not hourly.runs - before, "going back runs nothing"


def test_what_an_answer_is_made_of_stays_as_long_as_the_answer_is_asked_for(demo):
    study = Study(step_s=3600)
    plan = demo.plans[-1]
    for crowd in range(150):
        study.plan_result(demo, plan, weighed=())
        study.keep("crowd", [crowd], lambda: 0, 60_000)
    assert study.stands(demo, plan), "a count whose bill is found must not grow old"


def test_houses_hold_the_loads_that_an_edit_left_alone_together(demo):
    """And each is the house made anew, also where bill, seed or weather change what is behind a load."""
    study, warm = Study(step_s=3600), Edit("house.appliances[oven].follows", "heating_degrees")
    steps = [
        [],
        [Edit("house.appliances[oven].running_w", 2500.0)],
        [warm],
        [warm, Edit("site.weather.seed", 5)],
        [Edit("house.background.holds_listed", value=True), Edit("house.background.energy_wh_per_day", [9_000.0] * 12)],
        [Edit("house.background.seed", 8)],
    ]
    made = []
    for edits in steps:
        job = apply_edits(demo, edits)
        made.append(study.house(job))
        anew = house_year(job.house, study.calendar(job), None, study.outside(job))
        np.testing.assert_array_equal(made[-1].background_w, anew.background_w)
        for name, watts in anew.appliance_w.items():
            np.testing.assert_array_equal(made[-1].appliance_w[name], watts, err_msg=f"{edits} {name}")
    first, second = (year.appliance_w for year in made[:2])
    assert [name for name in first if second[name] is not first[name]] == ["oven"]


def leaves(value: Any, path: str) -> list[tuple[str, Any]]:
    if isinstance(value, dict):
        return [row for key, item in value.items() for row in leaves(item, f"{path}.{key}" if path else key)]
    if isinstance(value, list) and value and isinstance(value[0], dict):
        return [row for i, item in enumerate(value) for row in leaves(item, f"{path}[{item.get('id', i)}]")]
    return [(path, value)]


def poisoned(value: Any) -> Any:
    if isinstance(value, bool):
        return not value
    if isinstance(value, int | float):
        return value * 1.07 + 1 if isinstance(value, float) and value > 1 else value + 1
    if isinstance(value, list) and value and isinstance(value[0], int | float):
        return [v * 1.02 for v in value]
    return f"{value} x" if isinstance(value, str) else None


def numbers(study: Study, job: Job) -> dict[str, np.ndarray]:
    """Return a number for every stage of plan C (two nodes, both faces, battery, transfer device) that any input moves."""
    plan = job.plan("C")
    made = study.flow(job, plan)
    bill = study.bill(job, plan)
    house = study.house(job)
    return {
        "house": np.concatenate([house.background_w, *house.appliance_w.values()]),
        "flow": np.concatenate([made.flow.system.ravel(), made.flow.nodes.ravel()]),
        "bill": np.array([bill.total, *bill.by_month]),
    }


def test_a_key_that_stays_equal_means_an_equal_result(demo, hourly, monkeypatch, tmp_path):
    """Poison one field of each kind: wherever a stage's key does not move, the stage computed afresh must give the same."""
    data = demo.model_dump(mode="json")
    kinds: dict[str, tuple[str, Any]] = {}
    for path, value in leaves(data, ""):
        kinds.setdefault(re.sub(r"\[[^\]]*\]", "[]", path), (path, value))
    kept = [p for p in (v for _, v in leaves(data, "")) if p is not None]
    assert len(kept) > 300
    plan = demo.plan("C")
    base = numbers(hourly, demo)
    keys = {"house": hourly.house_key(demo), "flow": hourly.flow_key(demo, plan)}
    tried = 0
    for path, value in kinds.values():
        other = poisoned(value)
        if other is None:
            continue
        try:
            job = apply_edits(demo, [Edit(path, other)])
        except (BadInput, KeyError):
            continue
        fresh = Study(step_s=3600)
        new_keys = {"house": fresh.house_key(job), "flow": fresh.flow_key(job, job.plan("C"))}
        same = [name for name in keys if keys[name] == new_keys[name]]
        if not same:
            continue
        tried += 1
        made = numbers(fresh, job)
        for name in same:
            np.testing.assert_array_equal(made[name], base[name], err_msg=f"{path} moves {name} but not its key")
    assert tried > 60


def test_sun_weather_and_light_keys_hold_all_they_read(demo, monkeypatch, tmp_path):
    """The stages kept on disk: every field of site, faces and calendar, computed with an empty cache."""
    paths = [row for row in leaves(demo.model_dump(mode="json"), "") if re.match(r"site|faces\[north-west\]|calendar", row[0])]
    base_study = Study(step_s=3600)
    face = "north-west"
    base, key = base_study.light(demo, face), base_study.light_key(demo, face)
    tried = 0
    for path, value in paths:
        other = poisoned(value)
        try:
            job = apply_edits(demo, [Edit(path, other)])
        except BadInput:
            continue
        if other is None or Study(step_s=3600).light_key(job, face) != key:
            continue
        monkeypatch.setenv("CALM_RELAY_CACHE", str(tmp_path / str(tried)))
        np.testing.assert_array_equal(Study(step_s=3600).light(job, face).beam_w_per_m2, base.beam_w_per_m2, err_msg=path)
        tried += 1
    assert tried > 8


def test_cancel_stops_the_year_and_keeps_nothing_half_made(demo):
    study = Study(step_s=3600)
    with pytest.raises(Cancelled):
        study.plan_result(demo, demo.plan("A"), cancelled=lambda: True)
    said: list[str] = []
    study.plan_result(demo, demo.plan("A"), progress=said.append)
    assert said[0] == "A: sun"
    assert study.runs["flow"] == 2, "the plan, and today's system that it is held against"


def test_balances_close_in_every_step_of_every_demo_plan(demo, study, results):
    for letter, result in results.items():
        made = study.flow(demo, demo.plan(letter))
        assert open_balances(made.flow, made.packed).worst < 1e-6, letter
        assert result.facts.steady
        for k, record in enumerate(made.packed.nodes):
            energy = made.flow.nodes[:, k, -2] / max(1.0, float(record["capacity_wh"]))
            assert energy.max() <= record["soc_max"] + 1e-9
            assert energy.min() >= -1e-9
        # the year ends as it began (definitions D11): within 0.1 % of capacity
        for node in result.facts.nodes_wh.values():
            assert abs(node["energy_wh"]) <= 0.001 * 14_000


def test_caught_equals_what_the_battery_spares_from_clipping(demo, study):
    # Definitions D7: for the same inverter, Σ caught = Σ clipped without battery − Σ clipped with.
    big = [Edit(f"plans[hybrid-swap].nodes[hyb].strings[{s}].modules_per_string", 12) for s in ("ne1", "ne2")]
    with_battery = apply_edits(demo, big)
    without = apply_edits(with_battery, [Edit("plans[hybrid-swap].nodes[hyb].battery", None)])
    one, other = (study.facts(job, job.plan("B")).nodes_wh["hyb"] for job in (with_battery, without))
    assert one["caught_w"] > 10_000
    assert one["caught_w"] == pytest.approx(other["lost_ac_limit_w"] - one["lost_ac_limit_w"], rel=1e-9)


def test_flat_tariff_no_losses_own_use_is_the_overlap(demo, study, results):
    # Arithmetic: without a battery own use is Σ min(house, PV), exactly.
    made = study.flow(demo, demo.plan("Today"))
    pv = made.packed.ac[:, 4]
    house = study.house(demo).total_w()
    overlap = float(np.minimum(house, pv).sum()) / 12
    assert results["Today"].facts.system_wh["pv_to_house_w"] == pytest.approx(overlap, rel=1e-9)


def test_bill_by_hand_and_months_sum_to_the_year(demo, study, results):
    plan = demo.plan("A")
    flow, calendar = study.flow(demo, plan).flow, study.calendar(demo)
    cheap = (calendar.clock_hour >= 1) & (calendar.clock_hour < 5)
    kwh = flow.column("import_w") / 12 / 1000
    by_hand = kwh[cheap].sum() * 0.19 + kwh[~cheap].sum() * 0.36 + 365 * 1.1 - flow.column("export_w").sum() / 12e3 * 0.12
    bill = results["A"].bill
    assert bill.total == pytest.approx(by_hand, rel=1e-9)
    assert sum(bill.by_month) == pytest.approx(bill.total, rel=1e-9)


def test_the_demo_shows_an_instructive_over_and_several_tight(results):
    over = [f.check for r in results.values() for f in r.findings if f.verdict == "over"]
    tight = {f.check for r in results.values() for f in r.findings if f.verdict == "tight"}
    assert "network.inverter-sum" in over
    assert len(tight) >= 3


def test_read_path_and_apply_edits_are_inverse(demo):
    path = "plans[hybrid-swap].nodes[hyb].strings[ne1].modules_per_string"
    assert read_path(apply_edits(demo, [Edit(path, 9)]), path) == 9
    with pytest.raises(BadInput, match="no field"):
        apply_edits(demo, [Edit("site.nothing", 1)])
    with pytest.raises(BadInput, match="outside its range"):
        apply_edits(demo, [Edit("faces[north-west].tilt_deg", -3)])


LOOKED_AT = ("load_w", "import_w", "export_w", "transfer_w")


def test_figures_checks_and_first_looks_never_run_the_year_again(demo, monkeypatch):
    """What is read at every edit is kept; a whole table would be run in the window's thread."""

    def whole(_self: object, _flow: object) -> None:
        raise AssertionError("a column that is not kept was asked for")

    monkeypatch.setattr("calm_relay.simulation.flow._Recent.get", whole)
    study = Study(step_s=3600)
    calendar = study.calendar(demo)
    for plan in demo.plans:
        study.plan_result(demo, plan)
        made, graph = study.flow(demo, plan), plan_graph(plant_of(demo, plan), demo.house, demo.faces)
        assert notable_days(made, calendar)
        day = day_picture(made, calendar, 12)
        assert day.load_w.max() > 0
        for series in (*vars(day).values(), study.line_flows(demo, plan).device_w):
            assert not any(np.may_share_memory(series, made.flow.column(name)) for name in LOOKED_AT), "the year would stay with it"
        assert values_at(graph, made, 4000, "then").moment == "then"
        assert peak_values(graph, made).import_w > 0
        assert notable_steps(made, 24, calendar.clock_hour > 16)
        assert all(len(carpet(made, key)[0]) == 8760 for key, _, _ in CARPETS if key != "discharge" or made.flow.node_ids)
        for by in ("month", "hour", "period"):
            assert study.year_parts(demo, plan, by)
        for node in made.flow.node_ids:
            assert duration(made, node, 5000.0).caught_w.max() >= 0
