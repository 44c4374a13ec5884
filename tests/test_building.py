"""Building a plan step by step: what is added can be taken out again, what cannot be wired says why, and what stands runs."""

from __future__ import annotations

import json

import pytest

from calm_relay.cli import main
from calm_relay.decision.building import building_steps, step_of, take_step, wanted_wh
from calm_relay.demo import demo_path
from calm_relay.errors import BadInput
from calm_relay.job.container import read_job, validate_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.parts import add_face
from calm_relay.job.template import new_job
from calm_relay.library.shipped import shipped_book
from calm_relay.rules.picking import ranked
from calm_relay.simulation.flow import open_balances

BACK = {
    "battery": "no-battery", "string": "no-string", "transfer": "no-transfer", "more": "fewer", "fewer": "more",
    "controllers": "no-controllers", "more-controllers": "fewer-controllers", "timer-charger": "no-timer-charger",
    "generator": "no-generator", "optimizers": "no-optimizers",
}  # fmt: skip
KNOWN = shipped_book()


def chosen(job, step):
    """The first card that can be put where one is chosen, with its modules: it need not fit."""
    if not step.path:
        return None, None
    offer = next(o for o in ranked(job, step.path, KNOWN, wanted_wh=8000.0) if o.edits)
    return offer.card, offer.modules


def bare(plan):
    """A plan without what a round trip may leave otherwise: the order of a list."""
    data = plan.model_dump()
    data["nodes"] = sorted(data["nodes"], key=lambda n: n["id"])
    return data


@pytest.mark.parametrize("name", ["demo", "demo-kvist", "demo-hut"])
def test_every_step_makes_a_job_and_its_way_back_an_equal_plan(name):
    job = read_job(demo_path(name)).job
    tried = set()
    for plan in job.plans:
        for step in building_steps(job, plan):
            if step.refused:
                with pytest.raises(BadInput, match="does not go"):
                    take_step(job, plan.id, step.key)
                continue
            made, _ = take_step(job, plan.id, step.key, *chosen(job, step))
            validate_job(made.model_dump(mode="json"), "made")
            assert bare(made.plan(plan.id)) != bare(plan) or made.faces != job.faces
            what, _, where = step.key.partition(":")
            tried.add(what)
            now = {node.id for node in made.plan(plan.id).nodes}
            new = now - {node.id for node in plan.nodes}
            back = f"no-inverter:{new.pop()}" if new else None
            if what in BACK:
                back = f"{BACK[what]}:{where}" if where else BACK[what]
            if what == "string":
                strings = {g.id for n in made.plan(plan.id).nodes for g in n.strings}
                (string_id,) = strings - {g.id for n in plan.nodes for g in n.strings}
                back = f"no-string:{where}/{string_id}"
            if back is not None and not next(s for s in building_steps(made, made.plan(plan.id)) if s.key == back).refused:
                again, _ = take_step(made, plan.id, back)
                assert bare(again.plan(plan.id)) == bare(plan), step.key
    both = {"inverter", "more", "fewer", "again", "no-battery", "no-inverter", "no-string"}
    off_grid = {"on-grid", "no-generator", "more-controllers", "no-controllers"}
    assert tried >= both | (off_grid if name == "demo-hut" else {"no-transfer", "off-grid", "generator", "slot"})


def test_a_plan_is_built_from_nothing_and_runs(study):
    """A newcomer's way: a face, a hybrid on the backup side of a transfer device, strings, a battery, a second one like it."""
    job, _ = add_face(new_job())
    plan_id = job.plans[0].id
    refused = {step.key: step.refused for step in building_steps(job, job.plan(plan_id)) if step.refused}
    assert set(refused) == {"inverter:backup", "slot"}, "without a device there is one side, without a battery nothing to steer"
    hybrid = next(c for c in KNOWN.values() if c.id == "hybrid-5k")
    for key, card in (("transfer", KNOWN["gateway-63"]), ("inverter:backup", hybrid)):
        job, _ = take_step(job, plan_id, key, card)
    (node,) = job.plan(plan_id).nodes
    assert node.side == "backup"
    assert not step_of(job, job.plan(plan_id), f"string:{node.id}").path
    job, station = take_step(job, plan_id, f"string:{node.id}")
    assert station == f"tracker:{node.id}/1"
    battery = step_of(job, job.plan(plan_id), f"battery:{node.id}")
    offers = ranked(job, battery.path, KNOWN, wanted_wh=wanted_wh(job, 10_000.0))
    best = next(o for o in offers if o.fits)
    assert best.modules is not None
    usable = best.modules * best.card.capacity_wh * (best.card.soc_max_frac - best.card.soc_min_frac)
    assert usable == pytest.approx(6000.0, abs=0.6 * best.card.capacity_wh), "60 % of a day's use, as near as its modules come"
    job, _ = take_step(job, plan_id, battery.key, best.card, best.modules)
    job, _ = take_step(job, plan_id, f"again:{node.id}")
    job, _ = take_step(job, plan_id, "slot")
    made = study.flow(job, job.plan(plan_id))
    assert len(made.flow.node_ids) == 2
    assert open_balances(made.flow, made.packed).worst < 1e-6
    assert made.flow.sums[:].max() > 0
    job, _ = take_step(job, plan_id, "no-transfer")
    assert {n.side for n in job.plan(plan_id).nodes} == {"grid"}


def test_a_fifth_battery_inverter_is_refused_with_the_reason():
    job = read_job(demo_path("demo")).job
    for _ in range(3):
        job, _ = take_step(job, "hybrid-swap", "again:hyb")
    plan = job.plan("hybrid-swap")
    assert "at most 4" in next(s for s in building_steps(job, plan) if s.key == "again:hyb").refused
    with pytest.raises(BadInput, match="at most 4"):
        take_step(job, plan.id, "inverter:grid", KNOWN["battery-inverter-5k"])
    with pytest.raises(BadInput, match="there is no such step"):
        take_step(job, plan.id, "battery:nowhere")


def test_the_command_line_builds_as_the_window_does(tmp_path, capsys):
    first, second = str(tmp_path / "a.json"), str(tmp_path / "b.json")
    assert main(["plan", "demo", "--plan", "today", "--json"]) == 0
    (data,) = json.loads(capsys.readouterr().out)["plans"]
    steps = {row["key"]: row for row in data["steps"]}
    assert "tracker" in steps["string:old"]["refused"]
    assert steps["transfer"]["choose_card_for"] == "plans[today].transfer.card"
    assert main(["add", "demo", "inverter:grid", "--plan", "today", "--card", "battery-inverter-5k", "--out", first]) == 0
    assert (
        main(["add", first, "battery:inverter-1", "--plan", "today", "--card", "stack-3k", "--modules", "3", "--out", second]) == 0
    )
    (node,) = [n for n in read_job(second).job.plans[0].nodes if n.battery is not None]
    assert (node.battery.card, node.battery.modules) == ("stack-3k", 3)
    assert main(["remove", second, "no-battery:inverter-1", "--plan", "today", "--out", first]) == 0
    assert all(n.battery is None for n in read_job(first).job.plans[0].nodes)
    capsys.readouterr()
    assert main(["add", "demo", "inverter:grid", "--plan", "today", "--card", "no-such", "--out", first]) != 0
    assert "use one of: " in capsys.readouterr().err


def test_another_unit_of_a_long_name_has_a_name_that_can_be_saved():
    job = read_job(demo_path("demo")).job
    job = apply_edits(job, [Edit("plans[hybrid-swap].nodes[hyb].name", "H" * 60)])
    for _ in range(2):
        job, _ = take_step(job, "hybrid-swap", "again:hyb")
    validate_job(job.model_dump(mode="json"), "made")
    names = [node.name for node in job.plan("hybrid-swap").nodes]
    assert len(set(names)) == 3
    assert max(len(name) for name in names) == 60
