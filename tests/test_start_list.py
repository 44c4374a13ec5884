"""The start list: every pair is a whole plan that runs with its balances closed, or says why it does not go."""

from __future__ import annotations

from itertools import product

import pytest

from calm_relay.cli import main
from calm_relay.decision.changing import change_pattern
from calm_relay.decision.patterns import PATTERNS, draft_plan
from calm_relay.decision.second import adds_words, bank_power
from calm_relay.decision.start_list import AS_ENTERED, GUESSED, STANDS, can_become, stands_today, start
from calm_relay.demo import DEMOS, demo_job, demo_path
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.job.container import read_job, validate_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.parts import add_face
from calm_relay.job.template import new_job
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.graph import plan_graph
from calm_relay.relay.layout import lay_out
from calm_relay.simulation.flow import open_balances
from calm_relay.study import Study
from tests.day_reference import compare_day
from tests.test_relay import SIZES, all_values, check_picture, measure

CHEAP = [Edit("tariff.cheap_price_per_kwh", 0.1), Edit("tariff.cheap_end_h", 6.0)]
SUPPLIES = {
    "one phase": [],
    "three phases": [Edit("site.supply.kind", "three_phase"), Edit("site.supply.service_a", 35.0)],
    "split phase": [
        Edit("site.supply.kind", "split_phase"),
        Edit("site.supply.voltage_v", 240.0),
        Edit("site.supply.service_a", 100.0),
    ],
}


DAY = 80  # of March, with sun and a dark evening
LONG = "An inverter whose name is as long as the model allows it 60c"


def look_at(job, plan, what):
    """Lay the plan out with the longest names: nothing touches, at three sizes and with large text."""
    nodes = tuple(n.model_copy(update={"name": LONG[:58] + f"{i:02d}"}) for i, n in enumerate(plan.nodes))
    graph = plan_graph(plant_of(job, plan.model_copy(update={"nodes": nodes})), job.house, job.faces)
    for (width, height), scale in product(SIZES[:3], (1.0, 1.5)):
        picture = lay_out(graph, all_values(graph), width * scale, height * scale, measure(scale))
        check_picture(picture, (what, width, scale))


@pytest.fixture(scope="module")
def hours():
    return Study(step_s=3600)


@pytest.mark.parametrize("supply", SUPPLIES)
@pytest.mark.parametrize("stands", [key for key, *_ in STANDS if key != AS_ENTERED])
def test_every_pair_runs_or_says_why(stands, supply, hours):
    job = apply_edits(add_face(new_job())[0], [*CHEAP, *SUPPLIES[supply]])
    refused, made = can_become(job, stands, 12_000.0), 0
    for becomes, _, _ in PATTERNS:
        if refused[becomes]:
            with pytest.raises(NotFeasible):
                start(job, stands, becomes, 12_000.0)
            continue
        built, plan_id = start(job, stands, becomes, 12_000.0)
        validate_job(built.model_dump(mode="json"), "built")
        plan, made = built.plan(plan_id), made + 1
        assert plan.nodes
        assert plan.off_grid == (becomes == "leave-grid" or stands == "no-grid")
        for each in (built.plans[0], plan):
            flow = hours.flow(built, each)
            assert open_balances(flow.flow, flow.packed).worst < 1e-6, (stands, becomes)
        if supply == "one phase" or stands in ("nothing", "pair-bank"):
            assert compare_day(flow.packed, flow.flow, plan.controls.battery_order, DAY, (stands, becomes, supply)) > 0
            if stands in ("nothing", "no-grid", "hybrid-battery", "pair-bank"):
                look_at(built, plan, (stands, becomes))
        if stands != "nothing":
            assert built.plans[0].note.startswith(GUESSED)
    if (stands, supply) == ("plug-in", "split phase"):
        assert all("no module-level inverter at hand" in why for why in refused.values()), "no plug-in set is made for it"
    elif stands == "pair-bank" and supply != "split phase":
        assert all("no two legs" in why for why in refused.values())
    else:
        assert made >= 2, refused


def test_what_stands_stays_and_a_second_battery_adds_what_it_says():
    job = demo_job()
    built, plan_id = start(job, AS_ENTERED, "ac-add-on", 20_000.0)
    assert built.plans[: len(job.plans)] == job.plans, "today's system and all plans stay as they are"
    bank, _ = start(job, "hybrid-battery", "second-module", 20_000.0)
    unit, _ = start(job, "hybrid-battery", "second-unit", 20_000.0)
    assert bank.plans[-1].nodes[0].battery.modules == bank.plans[0].nodes[0].battery.modules + 1
    assert len(unit.plans[-1].nodes) == len(unit.plans[0].nodes) + 1
    assert bank.plans[-1].transfer == bank.plans[0].transfer
    card = bank.cards().battery(bank.plans[0].nodes[0].battery.card)
    energy, power = (
        now - before for now, before in zip(bank_power(bank, bank.plans[-1]), bank_power(bank, bank.plans[0]), strict=True)
    )
    assert energy == pytest.approx((card.soc_max_frac - card.soc_min_frac) * card.capacity_wh), "one module more"
    assert adds_words(bank, bank.plans[-1]).endswith("energy alone." if power < 5.0 else "energy and power.")
    before, after = bank_power(unit, unit.plans[0]), bank_power(unit, unit.plans[-1])
    assert after == pytest.approx((2 * before[0], 2 * before[1])), "a unit brings both again"
    assert adds_words(unit, unit.plans[-1]).endswith("energy and power.")
    assert adds_words(unit, unit.plans[0]) == ""
    assert unit.plans[-1].note.startswith("Transfer device and controls are today's."), "what the brief would set is not set"
    assert bank.plans[-1].controls == bank.plans[0].controls
    with pytest.raises(BadInput, match="use one of"):
        start(job, "a castle", "ac-add-on")
    assert plan_id not in {plan.id for plan in job.plans}


def test_the_command_line_starts_a_job(tmp_path, capsys):
    out = str(tmp_path / "a.json")
    assert main(["start", "demo", "--from", "string", "--to", "hybrid-swap", "--out", out]) == 0
    assert "Hybrid" in capsys.readouterr().out
    assert len(read_job(out).job.plans[0].nodes) == 1
    assert main(["start", "demo", "--from", "nothing", "--to", "second-unit", "--out", out]) != 0
    assert "there is no battery yet" in capsys.readouterr().err


@pytest.mark.parametrize("stands", ["nothing", "string", "modules", "hybrid-battery", "no-grid"])
def test_changing_a_pattern_and_back_gives_an_equal_plan_or_names_each_loss(stands):
    """All pairs on one phase: what differs from the plan as it was, part by part, stands in one of the two lists."""
    job = apply_edits(add_face(new_job())[0], CHEAP)
    job = stands_today(job, stands, 12_000.0)
    equal = tried = 0
    for first, _, _ in PATTERNS:
        try:
            begun, plan_id = draft_plan(job, first, 12_000.0)
        except NotFeasible:
            continue
        bank = next((n for n in begun.plan(plan_id).nodes if n.battery is not None), None)
        if bank is not None:  # something of one's own
            begun = apply_edits(begun, [Edit(f"plans[{plan_id}].nodes[{bank.id}].battery.state_of_health_frac", 0.9)])
        was = begun.plan(plan_id)
        for second, _, _ in PATTERNS:
            try:
                between, lost = change_pattern(begun, plan_id, second, 12_000.0)
            except NotFeasible:
                continue
            validate_job(between.model_dump(mode="json"), "between")
            again, more = change_pattern(between, plan_id, first, 12_000.0)
            now, said, tried = again.plan(plan_id), " ".join((*lost, *more)), tried + 1
            equal += now == was
            here = {n.id: n for n in now.nodes}
            for node in was.nodes:
                assert here.get(node.id) == node or node.name in said, (first, second, node.name, said)
            assert now.transfer == was.transfer or "transfer device" in said, (first, second)
            assert now.controls == was.controls or "controls" in said, (first, second)
            assert now.off_grid == was.off_grid or "grid" in said, (first, second)
            kept = ("id", "letter", "note", "costs", "costs_for", "waived", "later", "generator")
            assert all(getattr(now, name) == getattr(was, name) for name in kept)
    assert tried > 8
    assert equal >= 4, (equal, tried)
    with pytest.raises(NotFeasible, match="what stands"):
        change_pattern(job, job.plans[0].id, "ac-add-on")


@pytest.mark.parametrize("name", DEMOS)
def test_every_pattern_on_every_demo_runs_agrees_and_can_be_read(name):
    opened = read_job(demo_path(name))
    study, made = Study(opened.store, step_s=3600), 0
    for becomes, _, _ in PATTERNS:
        try:
            job, plan_id = draft_plan(opened.job, becomes, 12_000.0)
        except NotFeasible as error:
            assert str(error)
            continue
        plan, made = job.plan(plan_id), made + 1
        flow = study.flow(job, plan)
        assert open_balances(flow.flow, flow.packed).worst < 1e-6, becomes
        assert compare_day(flow.packed, flow.flow, plan.controls.battery_order, DAY, (name, becomes)) > 0
        look_at(job, plan, (name, becomes))
        assert plan.off_grid == (opened.job.plans[0].off_grid or becomes == "leave-grid")
    assert made >= 3
