"""Batteries over the years from a simulated one: counted from the flow, a later year with its capacity, larger banks last."""

from __future__ import annotations

import json

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.resolve import plant_of
from calm_relay.year.ageing import aged_plan, battery_ageing

STACK = "library[stack-3k]"


def test_the_facts_count_what_the_flow_does(demo, quarter):
    plan = demo.plan("B")
    made, facts = quarter.flow(demo, plan), quarter.facts(demo, plan)
    energy = made.flow.node_column("hyb", "energy_wh") / (3 * 3300.0)
    way = np.abs(np.diff(np.append(energy, energy[0]))).sum()
    assert 2 * sum(c.depth_frac * c.count for c in facts.cycles["hyb"]) == pytest.approx(way, rel=0.03)
    assert sum(c.depth_frac * c.count for c in facts.cycles["hyb"]) < facts.full_cycles * 1.1


def test_a_later_year_runs_with_its_capacity_and_gives_less(demo, quarter):
    plan = demo.plan("B")
    facts = quarter.facts(demo, plan)
    (row,) = battery_ageing(plant_of(demo, plan), demo.rules(), facts)
    assert row.ageing is not None
    late = aged_plan(plan, battery_ageing(plant_of(demo, plan), demo.rules(), facts), 11)
    assert late.nodes[0].battery.state_of_health_frac == pytest.approx(row.ageing.years[9].capacity_frac)
    assert aged_plan(plan, battery_ageing(plant_of(demo, plan), demo.rules(), facts), 1) == plan
    old = quarter.facts(demo, late)
    assert old.system_wh["battery_to_house_w"] < 0.85 * facts.system_wh["battery_to_house_w"]
    assert old.usable_wh == pytest.approx(facts.usable_wh * row.ageing.years[9].capacity_frac)
    with pytest.raises(ValueError, match="year 0"):
        aged_plan(plan, battery_ageing(plant_of(demo, plan), demo.rules(), facts), 0)


def test_a_larger_bank_lasts_no_less_and_a_silent_card_says_so(demo, quarter):
    left = []
    for modules in (2, 3, 5):
        job = apply_edits(demo, [Edit("plans[hybrid-swap].nodes[hyb].battery.modules", modules)])
        (row,) = battery_ageing(plant_of(job, job.plan("B")), job.rules(), quarter.facts(job, job.plan("B")))
        left.append(row.ageing.years[9].capacity_frac)
    assert left == sorted(left)
    silent = apply_edits(demo, [Edit(f"{STACK}.depth_life", [])])
    (row,) = battery_ageing(plant_of(silent, silent.plan("B")), silent.rules(), quarter.facts(silent, silent.plan("B")))
    assert row.ageing is None
    assert "not known" in row.words
    assert aged_plan(silent.plan("B"), (row,), 11) == silent.plan("B")


def test_the_command_line_prints_ageing(capsys):
    assert main(["ageing", "demo", "--plan", "B", "--json"]) == 0
    (row,) = json.loads(capsys.readouterr().out)["plans"]["B"]
    assert len(row["years"]) == 20
    assert row["ends_by"] == "capacity"
    assert main(["simulate", "demo", "--plan", "B", "--battery-year", "40"]) == 2
    assert "use 1 to 21" in capsys.readouterr().err
