"""Roof and sky through the study: horizons and shade tables, guessed weather, far north, other tilts, strings anew and rewired."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from calm_relay.decision import roofs
from calm_relay.decision.gains import clip_rows, ratio_rows
from calm_relay.decision.oversizing import more_modules, now_or_later, with_more_modules
from calm_relay.decision.roofs import direction_map, face_yield, string_years
from calm_relay.decision.words import guess_words
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job, LaterModules, MeasuredString, StringGroup
from calm_relay.job.parts import put_strings
from calm_relay.job.sky_models import ClearSkyWeather, Face, HorizonPoint
from calm_relay.library.cards import ModuleCard
from calm_relay.library.shipped import shipped_card
from calm_relay.places import find_towns
from calm_relay.pv.fit import face_room, fit_modules
from calm_relay.pv.ladder import tracker_amps
from calm_relay.pv.measured import compare_measured
from calm_relay.pv.roof import modules_by_face
from calm_relay.pv.voltage import cell_rise_k, cold_voc_v, hot_vmp_v
from calm_relay.study import Study

NW = "faces[north-west]"
B, C, D = "hybrid-swap", "hybrid-alongside", "array-only"


def horizon(height: float) -> Edit:
    return Edit(f"{NW}.horizon", [{"azimuth_deg": a, "elevation_deg": height} for a in (0.0, 90.0, 180.0, 270.0)])


def year(study: Study, job: Job, face: str = "north-west") -> float:
    return sum(study.face_months(job, face)) / 1000


def test_a_horizon_takes_the_sun_below_it_and_its_part_of_the_sky(demo, quarter):
    demo = apply_edits(demo, [Edit(f"{NW}.horizon", [])])
    clear = year(quarter, demo)
    lower = [year(quarter, apply_edits(demo, [horizon(h)])) for h in (0.0, 10.0, 25.0, 80.0)]
    assert lower[0] == pytest.approx(clear, rel=1e-6)
    assert lower[0] > lower[1] > lower[2] > lower[3] > 0
    hill = apply_edits(demo, [horizon(25.0)])
    light, sun = quarter.light(hill, "north-west"), quarter.sun(hill)
    assert np.all(light.beam_w_per_m2[90 - sun.apparent_zenith_deg < 25] == 0)
    over = 90 - sun.apparent_zenith_deg > 26
    np.testing.assert_allclose(light.beam_w_per_m2[over], quarter.light(demo, "north-west").beam_w_per_m2[over])


def test_a_table_of_shade_costs_a_string_more_than_its_part_and_less_with_optimizers(demo, quarter):
    table = [[0.5 if 9 <= hour < 15 else 0.0 for hour in range(24)] for _ in range(12)]
    shaded = apply_edits(demo, [Edit(f"{NW}.shade_table", table)])
    light_lost = 1 - year(quarter, shaded) / year(quarter, demo)

    def dc(job: Job) -> float:
        return float(quarter.dc(job, job.plan(C))["hyb"].offered_w.sum())

    string_lost = 1 - dc(shaded) / dc(demo)
    optimizer = {
        "kind": "optimizer", "id": "opt", "name": "Optimizer", "input_voltage_max_v": 80.0, "input_current_max_a": 20.0,
        "power_max_w": 700.0, "output_current_max_a": 15.0, "loss_frac": 0.0,
    }  # fmt: skip
    edits = [Edit("library[+]", optimizer)]
    edits += [Edit(f"plans[{C}].nodes[hyb].strings[{g.id}].optimizer", "opt") for g in demo.plan(C).nodes[1].strings]
    with_them = apply_edits(shaded, edits)
    bare = apply_edits(demo, edits)
    own_lost = 1 - dc(with_them) / dc(bare)
    assert 0 < own_lost < string_lost
    assert own_lost == pytest.approx(light_lost, abs=0.02)


def test_nothing_known_is_a_guess_that_says_so_everywhere(demo, quarter):
    totals = []
    for cloudiness in ("very_clear", "mixed", "mostly_cloudy"):
        job = apply_edits(demo, [Edit("site.weather", ClearSkyWeather(cloudiness=cloudiness).model_dump())])
        totals.append(quarter.sky_facts(job).of_clear_frac)
        assert "a guess" in guess_words(job)
        assert "site.weather" in quarter.facts(job, job.plan(B)).assumed
    assert totals == pytest.approx([0.9, 0.7, 0.5], abs=0.01)
    assert guess_words(demo) == ""


@pytest.mark.parametrize(("latitude", "longitude", "zone"), [(69.6, 19.0, "Europe/Oslo"), (-77.8, 166.7, "Antarctica/McMurdo")])
def test_far_north_and_south_have_their_dark_months(latitude, longitude, zone, demo, quarter):
    place = {"latitude_deg": latitude, "longitude_deg": longitude, "time_zone": zone}
    edits = [Edit(f"site.place.{name}", value) for name, value in place.items()]
    job = apply_edits(demo, [*edits, Edit("site.weather", ClearSkyWeather().model_dump())])
    months = quarter.sky_facts(job).ghi_monthly_kwh_per_m2
    dark = 11 if latitude > 0 else 5
    assert months[dark] < 0.5
    assert months[(dark + 6) % 12] > 100
    assert quarter.plan_result(job, job.plan(B)).facts.steady


def test_other_tilts_agree_with_the_face_itself(demo, quarter, monkeypatch):
    """The quick map of directions and the full pipeline give the same yield where they meet, and the best looks at the equator."""
    face = demo.face("north-east").model_copy(update={"tilt_deg": 30.0, "azimuth_deg": 330.0})
    job = demo.model_copy(update={"faces": (face, demo.faces[1])})
    found = direction_map(quarter, job, "north-east")
    there = found.kwh_per_kwp[found.tilts_deg.index(30.0)][found.azimuths_deg.index(330.0)]
    assert there == pytest.approx(face_yield(quarter, job, "north-east").year_kwh_per_kwp, rel=0.01)
    tilt, azimuth, _ = found.best
    assert azimuth in (0.0, 30.0, 330.0)
    assert 20 <= tilt <= 50
    again = Study(step_s=900)
    monkeypatch.setattr(roofs, "plane_of_array", None)
    assert direction_map(again, job, "north-east") == found, "kept on disk"
    assert not again.runs["light"]
    with pytest.raises(TypeError):
        direction_map(again, apply_edits(job, [Edit("site.weather.seed", 77)]), "north-east")


def test_strings_reach_their_limits_when_it_is_cold_and_when_it_is_bright(demo, quarter):
    (one, *_) = string_years(quarter, demo, demo.plan(B))
    air = quarter.weather(demo).air_c
    assert one.highest_open_v is not None
    assert one.lowest_working_v is not None
    assert air[one.highest_open_v.step] < np.quantile(air, 0.05)
    assert air[one.lowest_working_v.step] > np.quantile(air, 0.5)
    assert one.lowest_working_v.value < one.highest_open_v.value
    light = quarter.light(demo, "north-east")
    assert (light.beam_w_per_m2 + light.diffuse_w_per_m2).argmax() == pytest.approx(one.most_a.step, abs=400)


# --- oversizing


def test_the_next_module_gives_less_the_more_there_are(demo, quarter):
    plan = demo.plan(B)
    first, many = more_modules(quarter, demo, plan, "hyb", 1), more_modules(quarter, demo, plan, "hyb", 8)
    assert (first.modules, many.modules) == (1, 8)
    assert first.used_wh < first.offered_wh
    assert many.used_wh_per_module < first.used_wh_per_module
    assert many.offered_wh == pytest.approx(8 * first.offered_wh, rel=0.01)
    changed, added = with_more_modules(demo, plan, "hyb", 3)
    assert added == 3
    assert modules_by_face(changed.plan(B), changed.cards())["north-east"] == 19


def test_clipping_by_tracker_and_inverter_sums_to_the_years(demo, quarter):
    plan, facts = demo.plan(D), quarter.facts(demo, demo.plan(D))
    rows = clip_rows(facts, plan)
    assert sum(r.year_wh for r in rows if r.kind == "tracker") == pytest.approx(facts.tracker_lost_wh)
    assert sum(r.year_wh for r in rows if r.kind == "AC limit") == pytest.approx(facts.clipped_wh)
    assert {(r.subject, r.limit) for r in ratio_rows(demo, plan)} == {("Shed inverter", 1.5), ("the plan", None)}


def test_now_or_later_by_hand(demo, quarter):
    later = LaterModules(modules=4, after_years=3.0, module_cost=200.0, visit_cost=900.0)
    found = now_or_later(quarter, demo, demo.plan(B), "hyb", later)
    saving = found.more.saving
    assert found.now_net == pytest.approx(20 * saving - 800)
    assert found.later_net == pytest.approx(17 * saving - 800 - 900)
    assert ("now" in found.words) == (3 * saving + 900 >= 0)


# --- measured, places, the planner's three ways


def test_a_measured_string_by_hand():
    card = shipped_card("module-385")
    assert isinstance(card, ModuleCard)
    group = StringGroup(id="s", face="f", module=card.id, tracker=1, modules_per_string=8, age_years=10)
    at_stc = MeasuredString(voc_v=8 * 48.6, isc_a=10.1 * 0.95, irradiance_w_per_m2=1000, module_c=25)
    found = compare_measured(at_stc, group, card)
    assert (found.expected_voc_v, found.expected_isc_a) == pytest.approx((388.8, 10.1 * 0.95))
    assert (found.voc_deviation_frac, found.isc_deviation_frac) == pytest.approx((0.0, 0.0))
    # By hand at 600 W/m² and 45 °C: Voc 8·(48.6·(1 − 0.0028·20) + 0.04·48.6·ln 0.6) = 8·(45.878 − 0.993) = 359.1 V;
    # Isc 10.1·0.6·(1 + 0.00048·20)·0.95 = 5.812 A.
    warm = at_stc.model_copy(update={"irradiance_w_per_m2": 600.0, "module_c": 45.0, "voc_v": 359.1 * 7 / 8, "isc_a": 5.812})
    found = compare_measured(warm, group, card)
    assert (found.expected_voc_v, found.expected_isc_a) == pytest.approx((359.1, 5.812), rel=1e-3)
    assert found.voc_deviation_frac == pytest.approx(-1 / 8, abs=1e-3), "one module of eight is missing"


@pytest.mark.parametrize(
    ("text", "first"),
    [("nelson, new", "New Zealand"), ("sao paulo", "Brazil"), ("ZÜRICH", "Switzerland"), ("x", None), ("no such place", None)],
)
def test_towns_are_found_as_people_type_them(text, first):
    found = find_towns(text)
    assert (found[0].country if found else None) == first
    assert all(found[0].time_zone for _ in found[:1])


def test_rewiring_takes_exactly_the_modules_that_stand(demo, quarter):
    """Strings of three on a low-voltage unit become one or two long ones on a tracker for high voltage."""
    short = [
        {"id": f"s{i}", "face": "north-east", "module": "module-385", "tracker": 1, "modules_per_string": 3, "age_years": 9.0}
        for i in range(4)
    ]
    edits = [Edit("plans[today].nodes[old].strings", short), Edit("faces[north-east].room_modules", 30)]
    job = apply_edits(demo, edits)
    module = job.card("module-385")
    assert isinstance(module, ModuleCard)
    found = quarter.propose_strings(job, job.plan(B), "hyb", module, mode="rewire")
    best = found.layouts[0]
    assert best.modules == 12
    assert all(o.modules > 3 for o in best.options)
    assert {o.face for lay in found.layouts for o in lay.options} == {"north-east"}
    # Six of the twelve stay where they are on the hybrid: only the other six are rewired, on trackers that are free.
    stays = {**short[0], "id": "stays", "modules_per_string": 6}
    half = apply_edits(job, [Edit(f"plans[{B}].nodes[hyb].strings", [stays])])
    rest = quarter.propose_strings(half, half.plan(B), "hyb", module, mode="rewire", keep=("stays",)).layouts[0]
    assert [(o.tracker, o.modules * o.strings) for o in rest.options] == [(2, 6)]
    rows = [(o.tracker, o.face, o.modules, o.strings, o.fuse_a) for o in rest.options]
    done = put_strings(half, B, "hyb", module, rows, mode="rewire", keep=("stays",)).plan(B).nodes[0].strings
    assert done[0].id == "stays"
    assert sum(g.modules_per_string * g.parallel_strings for g in done) == 12
    other = shipped_card("module-620")
    assert isinstance(other, ModuleCard)
    with pytest.raises(NotFeasible, match="stands in today's system"):
        quarter.propose_strings(job, job.plan(B), "hyb", other, mode="rewire")


def test_keeping_strings_leaves_their_trackers_and_their_room_alone(demo, quarter):
    plan = demo.plan(C)
    kept = next(n for n in plan.nodes if n.id == "hyb").strings
    module = demo.card("module-430")
    assert isinstance(module, ModuleCard)
    roomy = apply_edits(demo, [Edit(f"{NW}.room_modules", 24)])
    found = quarter.propose_strings(roomy, roomy.plan(C), "hyb", module, mode="keep")
    taken = {g.tracker for g in kept}
    here = sum(g.modules_per_string * g.parallel_strings for g in kept)
    assert found.layouts
    for lay in found.layouts:
        assert not {o.tracker for o in lay.options} & taken
        assert sum(o.total for o in lay.options if o.face == "north-west") <= 24 - here


def test_a_horizon_has_each_azimuth_once(demo):
    with pytest.raises(BadInput, match="2 points at 90"):
        apply_edits(demo, [Edit(f"{NW}.horizon", [HorizonPoint(azimuth_deg=90, elevation_deg=e).model_dump() for e in (1, 2)])])


def test_modules_that_fit_by_hand():
    # By hand: 10 × 6 m less 0.3 m all round is 9.4 × 5.4 m. Upright 1.134 × 1.722 m with 20 mm between: 8 across, 3 up, 24;
    # lying: (9.4 + 0.02)/1.742 = 5 across, (5.4 + 0.02)/1.154 = 4 up, 20.
    module = shipped_card("module-430")
    assert isinstance(module, ModuleCard)
    face = Face(id="f", name="F", tilt_deg=30, azimuth_deg=0, eave_m=10, slope_m=6, setback_m=0.3)
    fit = fit_modules(face, module)
    assert fit is not None
    assert (fit.modules, fit.across, fit.up, fit.upright) == (24, 8, 3, True)
    assert fit.power_stc_w == 24 * 430
    assert face_room(face, module) == 24
    assert face_room(face.model_copy(update={"room_modules": 20}), module) == 20
    assert face_room(face.model_copy(update={"eave_m": None}), module) is None
    assert fit_modules(face.model_copy(update={"setback_m": 3.0}), module).modules == 0


def test_two_sided_modules_give_more_power_and_more_current(demo, quarter):
    on_rack = [Edit(f"{NW}.mounting", "rack"), Edit("library[module-430].bifaciality_frac", 0.8)]
    plain, both = apply_edits(demo, on_rack[:1]), apply_edits(demo, on_rack)
    one, two = (float(quarter.dc(job, job.plan(C))["hyb"].offered_w.sum()) for job in (plain, both))
    # Common practice: rear ratio 0.12 on a rack times bifaciality 0.8.
    assert two / one == pytest.approx(1.096, abs=1e-6)
    amps = [next(a for a in tracker_amps(job, job.plan(C)) if a.node_id == "hyb") for job in (plain, both)]
    assert amps[1].short_circuit_a / amps[0].short_circuit_a == pytest.approx(1.096)
    typed = apply_edits(both, [Edit(f"{NW}.rear_ratio_frac", 0.0)])
    assert float(quarter.dc(typed, typed.plan(C))["hyb"].offered_w.sum()) == pytest.approx(one)


def test_the_rewiring_worked_in_the_user_guide_is_what_the_core_computes(demo, quarter):
    """Every figure of the guide's table, from the core; the hand sums stand in the guide itself."""
    guide = (Path(__file__).parents[1] / "docs" / "user-guide.md").read_text(encoding="utf-8")
    short = [
        {"id": f"s{i}", "face": "north-east", "module": "module-385", "tracker": 1, "modules_per_string": 3, "age_years": 7.0}
        for i in range(4)
    ]
    job = apply_edits(demo, [Edit("plans[today].nodes[old].strings", short)])
    module, hybrid = job.card("module-385"), job.card("hybrid-5k")
    assert isinstance(module, ModuleCard)
    cold = cold_voc_v(module, 1, -4.0, ())
    assert cold is not None
    assert f"= {cold:.1f} V" in guide
    assert f"600 / {cold:.1f} = {600 / cold:.1f}" in guide
    cell = 30 + cell_rise_k(1000, module.efficiency_frac, "ventilated")
    hot = hot_vmp_v(module, 1, cell)
    assert f"= {cell:.0f} °C" in guide
    assert f"= {hot:.1f} V" in guide
    assert f"3 × {hot:.1f} = {3 * hot:.0f} V" in guide
    assert 3 * hot > 1.05 * hybrid.trackers[0].mppt_min_v
    on_hybrid = apply_edits(job, [Edit(f"plans[{B}].nodes[hyb].strings", short)])
    found = {f.check: f for f in quarter.plan_result(on_hybrid, on_hybrid.plan(B)).findings}
    assert found["tracker.working-current"].value == pytest.approx(38.7, abs=0.05)
    assert "= 38.7 A of 16 A" in guide
    assert found["tracker.short-circuit"].value == pytest.approx(50.5)
    assert found["tracker.short-circuit"].verdict == "over"
    assert found["tracker.reverse-current"].value == pytest.approx(37.9, abs=0.05)
    assert found["tracker.reverse-current"].verdict == "over"
    best = quarter.propose_strings(job, job.plan(B), "hyb", module, mode="rewire").layouts[0]
    assert sorted((o.tracker, o.modules, o.strings) for o in best.options) == [(1, 6, 1), (2, 6, 1)]
    rows = [(o.tracker, o.face, o.modules, o.strings, o.fuse_a) for o in best.options]
    done = put_strings(job, B, "hyb", module, rows, mode="rewire")
    assert {g.age_years for g in done.plan(B).nodes[0].strings} == {7.0}
    after = {f.check: f for f in quarter.plan_result(done, done.plan(B)).findings if f.check.startswith(("string.", "tracker."))}
    assert all(f.verdict == "within" for f in after.values()), {k: f.verdict for k, f in after.items()}
    assert after["tracker.short-circuit"].value == pytest.approx(12.6, abs=0.05)
