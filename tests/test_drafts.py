"""Drafted plans: nothing of today's array is lost, and a draft holds by its own checks or says what does not."""

from __future__ import annotations

import pytest

from calm_relay.decision.patterns import PATTERNS, draft_plan
from calm_relay.demo import demo_job, demo_path
from calm_relay.errors import NotFeasible
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.rows import module_count
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks

JOBS = {
    "boat shed": [],
    "no export": [Edit("site.export_limit_w", 0.0)],
    "a network of 8 kW": [Edit("site.network.sum_limit_w", 8000.0)],
    "cold": [Edit("site.record_low_c", -25.0)],
    "two inverters alike": [Edit("plans[today].nodes[old].count", 2)],
    "a large pump": [Edit("house.appliances[well-pump].motor.lra_a", 35.0)],
}


def pottery(*edits: Edit):
    return apply_edits(read_job(demo_path("demo-kvist")).job, edits)


@pytest.mark.parametrize("name", [*JOBS, "pottery"])
@pytest.mark.parametrize("pattern", [key for key, _, _ in PATTERNS])
def test_a_draft_holds_by_its_own_checks_or_says_what_does_not(name, pattern):
    job = pottery() if name == "pottery" else apply_edits(demo_job(), JOBS[name])
    try:
        drafted, plan_id = draft_plan(job, pattern, 20_000.0)
    except NotFeasible as error:
        assert error.args[0]
        return
    plan, cards = drafted.plan(plan_id), drafted.cards()
    for f in run_checks(CheckContext(drafted, plan, cards, None), {"plan"}):
        assert f.verdict != "over" or f.title in plan.note, (f.check, f.arithmetic)
    before = module_count(job.plans[0], job.cards())
    assert module_count(plan, cards) >= before, "no module of today's is lost"
    if pattern not in ("array-only", "timer-bank"):  # what fills by the clock stands on the grid side
        assert plant_of(drafted, plan).forming


def test_module_by_module_inverters_become_whole_strings():
    # 24 modules on two faces, three phases of 35 A: a three-phase hybrid takes them; on one phase a service of 63 A is wanted.
    drafted, plan_id = draft_plan(pottery(), "hybrid-swap", 20_000.0)
    (node,) = drafted.plan(plan_id).nodes
    assert drafted.cards().inverter(node.card).phases == 3
    with pytest.raises(NotFeasible, match="transfer device at hand passes a service of 250 A"):
        draft_plan(pottery(Edit("site.supply.service_a", 250.0)), "hybrid-swap", 20_000.0)
    drafted, plan_id = draft_plan(
        pottery(Edit("site.supply.kind", "single_phase"), Edit("site.supply.service_a", 63.0)), "hybrid-swap", 2e4
    )
    (node,) = drafted.plan(plan_id).nodes
    assert sum(g.modules_per_string * g.parallel_strings for g in node.strings) == 24
    assert {g.face for g in node.strings} == {"south-east", "south-west"}


def test_a_battery_on_three_phases_forms_each_of_them():
    drafted, plan_id = draft_plan(pottery(), "ac-add-on", 20_000.0)
    rows = plant_of(drafted, drafted.plan(plan_id)).forming
    assert [row.station.line for row in rows] == ["1", "2", "3"]
    assert all(row.unit.ac_rated_w / 230 <= 35 for row in rows)


@pytest.mark.parametrize("pattern", ["hybrid-alongside", "array-only"])
def test_no_module_is_drafted_on_a_face_without_room(pattern):
    """Nought typed as the room of the one free face is a figure, not a gap."""
    job = apply_edits(demo_job(), [Edit("faces[north-west].room_modules", 0)])
    with pytest.raises(NotFeasible, match="no roof face without strings has room"):
        draft_plan(job, pattern, 20_000.0)
    few = apply_edits(
        demo_job(), [Edit("faces[north-west].room_modules", 5), Edit("plans[today].nodes[old].strings[ne2].tracker", 1)]
    )
    drafted, plan_id = draft_plan(few, pattern, 20_000.0)
    assert module_count(drafted.plan(plan_id), drafted.cards()) == 16 + 5
