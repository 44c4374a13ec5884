"""The relay line's layout, without Qt: nothing touches, nothing is lost, every plan has a way through by keys."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from calm_relay.demo import hut_job
from calm_relay.job.bank_parts import without_grid
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, StringGroup, Transfer
from calm_relay.library.shipped import shipped_cards
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.fold import folded
from calm_relay.relay.graph import plan_graph, summary
from calm_relay.relay.layout import lay_out
from calm_relay.relay.picture import Rect, RelayPicture, total_of
from calm_relay.relay.stations import assumed_by_station, how_words, station_names, worst_moment
from calm_relay.relay.values import NodeValues, RelayValues, grid_down_values, lost_by_station, peak_values, values_at

SIZES = [(830.0, 540.0), (600.0, 420.0), (530.0, 280.0), (1500.0, 900.0)]


def measure(scale: float):  # a plain stand-in for font metrics
    def size(text: str, role: str) -> tuple[float, float]:
        each = {"label": 6.2, "value": 7.2, "head": 6.6, "small": 6.0}[role]
        return len(text) * each * scale + 1, {"label": 14.0, "value": 15.5, "head": 12.5, "small": 13.5}[role] * scale

    return size


def strings(prefix: str, trackers: int, name: str = "north-east") -> tuple[StringGroup, ...]:
    return tuple(
        StringGroup(id=f"{prefix}{n}", face=name, module="module-430", tracker=n, modules_per_string=8)
        for n in range(1, trackers + 1)
    )


@pytest.fixture(scope="module")
def crowd(demo) -> tuple[Job, list[Plan]]:
    """Plans beyond the demo: four battery-side nodes, many module-level inverters, nothing at all, the longest names."""
    long = "An inverter whose name is as long as the model allows it 60c"
    battery = BatteryChoice(card="stack-3k", modules=3)
    four = Plan(
        id="four", letter="X", name="Four", transfer=Transfer(card="gateway-63", listed=("fridge",)),
        generator=GeneratorChoice(card="generator-10k-diesel"),
        nodes=(
            Node(id="a", name=long, card="hybrid-6k", side="backup", strings=strings("a", 2), battery=battery),
            Node(id="b", name="Second hybrid", card="hybrid-5k", side="backup", strings=strings("b", 2), battery=battery),
            Node(id="c", name="Battery one", card="battery-inverter-5k", side="backup", battery=battery),
            Node(id="d", name="Battery two", card="battery-inverter-3k", side="grid", battery=battery),
        ),
    )  # fmt: skip
    like = Plan(
        id="like",
        letter="Y",
        name="Like",
        nodes=(Node(id="m", name="Module inverters", card="module-inverter-380", count=24, strings=strings("m", 1)),),
    )
    none = Plan(id="none", letter="Z", name="None")
    job = demo.model_copy(update={"library": tuple({c.id: c for c in (*demo.library, *shipped_cards())}.values())})
    faces = tuple(f for f in hut_job().faces)
    alone = without_grid(four).model_copy(update={"id": "alone", "letter": "W"})
    return job.model_copy(update={"faces": (*job.faces, *faces)}), [*demo.plans, four, like, none, alone, *hut_job().plans]


def all_values(graph) -> RelayValues:
    nodes = {
        n.id: NodeValues(
            n.ac_rated_w, tuple(t.stc_w for t in n.trackers), (("sun", n.ac_rated_w * 0.6), ("battery", n.ac_rated_w * 0.4)), (),
            (("sun", 3000.0),), 0.0, 0.6, 5000.0, 800.0,
        )
        for n in graph.nodes
    }  # fmt: skip
    return RelayValues("now", nodes, 3000.0, 4000.0, (("sun", 7000.0),), -4000.0, 0.0, (("sun", 5000.0),), 500.0, unserved_w=900.0)


def check_picture(picture: RelayPicture, what: object) -> None:
    ground = [(label.text, label.rect) for label in picture.labels]
    for (text, rect), (other, second) in itertools.combinations(ground, 2):
        assert not rect.overlaps(second), (what, text, other)
    for text, rect in ground:
        assert rect.x >= 0, (what, text)
        assert rect.y >= 0, (what, text)
        assert rect.x + rect.w <= picture.width + 0.5, (what, text)
        assert rect.y + rect.h <= picture.height + 0.5, (what, text)
        inside = [b for b in picture.boxes if rect.overlaps(b.rect)]
        assert all(rect.x >= b.rect.x for b in inside), (what, text, "crosses a battery's edge")


@pytest.mark.parametrize("scale", [1.0, 1.5])
@pytest.mark.parametrize("size", SIZES)
def test_no_label_touches_another_in_any_plan(crowd, size, scale):
    job, plans = crowd
    for plan in plans:
        graph = plan_graph(plant_of(job, plan), job.house, job.faces)
        lost = {f"inverter:{n.id}": 412_000.0 for n in graph.nodes} | {"grid": 51_000.0, "transfer": 9_000.0, "panel": 7e6}
        for grid_up, values in ((True, all_values(graph)), (False, grid_down_values(graph, 4000.0))):
            picture = lay_out(graph, values, size[0] * scale, size[1] * scale, measure(scale), grid_up=grid_up, lost_wh=lost)
            check_picture(picture, (plan.letter, size, scale, grid_up))


@pytest.mark.parametrize("scale", [1.0, 1.5])
def test_many_like_inverters_stand_in_one_row_that_adds_up(crowd, scale):
    job, plans = crowd
    four = next(p for p in plans if p.id == "four")
    many = tuple(
        Node(
            id=f"m{n}", name=f"Modules {n}", card="string-inverter-5k", side=("grid", "backup")[n % 2], strings=strings(f"m{n}", 2)
        )
        for n in range(20)
    )
    graph = plan_graph(plant_of(job, four.model_copy(update={"nodes": (*four.nodes, *many)})), job.house, job.faces)
    values, lost = all_values(graph), {f"inverter:{n.id}": 10_000.0 for n in graph.nodes}
    one, flows, added, rows = folded(graph, values, lost)
    assert sorted(rows.values()) == [10, 10]
    assert len(one.nodes) == 6
    for name in ("ac_rated_w", "count"):
        assert sum(getattr(n, name) for n in one.nodes) == sum(getattr(n, name) for n in graph.nodes)
    for side in ("grid", "backup"):
        assert sum(total_of(flows.nodes[n.id].out) for n in one.nodes if n.side == side) == pytest.approx(
            sum(total_of(values.nodes[n.id].out) for n in graph.nodes if n.side == side)
        )
    assert sum(added[f"inverter:{n.id}"] for n in one.nodes) == sum(lost.values())
    for width, height in SIZES:
        check_picture(lay_out(one, flows, width * scale, height * scale, measure(scale), lost_wh=added), (width, scale))
    few = plan_graph(plant_of(job, four), job.house, job.faces)
    assert folded(few, values, lost)[0] is few, "what can be read stands by itself"


def test_the_overlap_check_sees_a_planted_fault(demo):
    graph = plan_graph(plant_of(demo, demo.plan("B")), demo.house, demo.faces)
    picture = lay_out(graph, all_values(graph), 830, 540, measure(1.0))
    label = picture.labels[4]
    object.__setattr__(label, "rect", Rect(picture.labels[5].rect.x, picture.labels[5].rect.y, 30, 14))
    with pytest.raises(AssertionError):
        check_picture(picture, "planted")


def test_labels_stay_put_while_the_clock_moves(demo, study):
    plan = demo.plan("C")
    made, graph = study.flow(demo, plan), plan_graph(plant_of(demo, plan), demo.house, demo.faces)
    places = set()
    for step in (10_000, 10_144, 50_050, 90_200):
        picture = lay_out(graph, values_at(graph, made, step, ""), 830, 540, measure(1.0), lost_wh=lost_by_station(graph, made))
        places.add(tuple((x.rect.x, x.rect.y) for x in picture.labels if x.text.startswith(("tracker", "inverter AC", "North"))))
    assert len(places) == 1


def test_every_station_is_reached_and_says_its_flow_and_limit(crowd):
    job, plans = crowd
    for plan in plans:
        graph = plan_graph(plant_of(job, plan), job.house, job.faces)
        picture = lay_out(graph, all_values(graph), 830, 540, measure(1.0))
        ids = [s.id for s in picture.stations]
        assert len(set(ids)) == len(ids)
        assert {"panel", "grid"} <= set(ids)
        assert {f"node:{n.id}" for n in graph.nodes} <= set(ids)
        assert ("transfer" in ids) == graph.has_transfer
        assert all(station.said and station.title for station in picture.stations)
        assert summary(graph)


def test_grid_down_kills_what_it_kills(demo):
    graph = plan_graph(plant_of(demo, demo.plan("C")), demo.house, demo.faces)
    picture = lay_out(graph, grid_down_values(graph, 2200.0), 830, 540, measure(1.0), grid_up=False)
    gates = {g.station: g for g in picture.gates}
    assert gates["transfer"].state == "open"
    assert gates["inverter:old"].dead
    assert not gates["inverter:hyb"].dead
    today = plan_graph(plant_of(demo, demo.plan("Today")), demo.house, demo.faces)
    dark = lay_out(today, grid_down_values(today, 0.0), 830, 540, measure(1.0), grid_up=False)
    assert all(g.dead for g in dark.gates if g.station != "grid")


def test_relay_flows_are_those_of_the_flow_table(demo, study):
    plan = demo.plan("B")
    made, graph = study.flow(demo, plan), plan_graph(plant_of(demo, plan), demo.house, demo.faces)
    step = int(made.flow.column("export_w").argmax())
    v = values_at(graph, made, step, "")
    assert v.export_w == pytest.approx(made.flow.column("export_w")[step], abs=1.0)
    assert sum(w for _, w in v.nodes["hyb"].out) == pytest.approx(made.flow.node_column("hyb", "ac_out_w")[step], abs=1.0)
    assert v.backup_load_w + v.other_load_w == pytest.approx(made.flow.column("load_w")[step])
    peak = peak_values(graph, made)
    assert peak.export_w == pytest.approx(made.flow.column("export_w").max(), abs=1.0)


def test_what_a_cap_cut_is_drawn_cut_and_peaks_show_both_ways(demo, study):
    """The grid side is cut first: nodes' output at AC equals the table's total, step by step, and none goes below zero."""
    job = apply_edits(demo, [Edit("plans[hybrid-alongside].nodes[old].side", "grid"), Edit("site.export_limit_w", 1500.0)])
    plan = job.plan("C")
    made = study.flow(job, plan)
    assert made.flow.column("pv_only_lost_cap_w").sum() > 0
    given = sum(made.pv_only_ac_w(node_id) for node_id in made.pv_only)
    np.testing.assert_allclose(given, made.flow.column("pv_only_w"), atol=1e-6)
    assert given.min() >= -1e-9
    peaks = peak_values(plan_graph(plant_of(job, plan), job.house, job.faces), made)
    assert peaks.import_w == made.flow.column("import_w").max()
    assert peaks.export_w == pytest.approx(made.flow.column("export_w").max())
    assert peaks.held_w == made.flow.lost_w("cap").max()


def test_a_gate_is_full_where_one_phase_is_though_the_sum_is_not(demo, study):
    """The house on phase 2: 25 A on each of three phases are 17.3 kW together, 5.75 kW on that one."""
    on_two = [Edit(f"house.appliances[{name}].line", "2") for name in ("oven", "heat-pump", "hot-water")]
    three = [Edit("site.supply.kind", "three_phase"), Edit("site.supply.service_a", 25.0), *on_two]
    job = apply_edits(demo, [*three, Edit("house.background_lines_frac", [0.0, 1.0, 0.0])])
    plan = job.plan("C")
    made, graph, lines = study.flow(job, plan), plan_graph(plant_of(job, plan), job.house, job.faces), study.line_flows(job, plan)
    step = int(np.argmax(lines.meter_w[:, 1]))
    values = values_at(graph, made, step, "", lines)
    amps = lines.meter_w[step, 1] / 230.0
    assert amps > 25.0
    assert values.import_w < graph.service_w
    top = f"phase {int(np.argmax(np.abs(lines.meter_w).max(axis=0))) + 1}"
    for v, name in ((values, "phase 2"), (peak_values(graph, made, lines), top)):
        picture = lay_out(graph, v, 1230, 540, measure(1.0))
        assert {g.station: g.state for g in picture.gates}["grid"] == "full"
        assert any(name in label.text and label.tone == "over" for label in picture.labels)
        assert name in next(s.said for s in picture.stations if s.id == "grid")
    plain = lay_out(graph, values_at(graph, made, step, ""), 1230, 540, measure(1.0))
    assert {g.station: g.state for g in plain.gates}["grid"] == "free"


def test_a_station_says_how_its_limit_comes_about_and_its_worst_moment_is_the_years(demo, study):
    plan = demo.plan("C")
    made, graph = study.flow(demo, plan), plan_graph(plant_of(demo, plan), demo.house, demo.faces)
    flow = made.flow
    names, plant, typed = dict(station_names(graph)), plant_of(demo, plan), demo.site.export_limit_w
    assert how_words(plant, typed, "transfer") == "63 A × 230 V = 14.49 kW"
    assert how_words(plant, typed, "tracker:old/1").startswith("12.5 A × 323 V of the strings at work = 4.04 kW")
    for node in graph.nodes:
        if node.battery:  # the gate's own figure stands in the words
            said = how_words(plant, typed, f"battery:{node.id}")
            assert said.startswith("in: ")
            assert f"= {node.battery.charge_w / 1000:.2f} kW" in said
            assert f"= {node.battery.discharge_w / 1000:.2f} kW" in said
    for station in names:
        worst = worst_moment(made, station)
        assert worst is not None, station
        assert 0 <= worst.step < len(flow.system)
    assert worst_moment(made, "grid").step == int(np.argmax(flow.lost_w("cap")))
    assert worst_moment(made, "panel").step == int(np.argmax(flow.column("load_w")))
    assert worst_moment(made, "generator") is None
    found = assumed_by_station(
        ["nodes[hyb]: charger loss as the inverter's", "nodes[hyb]: battery charge limit, the AC rating", "site.weather"]
    )
    assert set(found) == {"inverter:hyb", "battery:hyb"}
