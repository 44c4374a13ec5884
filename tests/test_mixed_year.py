"""Batteries on both sides of the bus in one plan: a day by hand, and a year in which both cycle."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.job.edits import Edit, apply_edits
from calm_relay.simulation.columns import NODE
from calm_relay.simulation.flow import open_balances, run_case
from tests.cases import packed_case
from tests.reference_step import Around, Slot, Terms, Unit

PLAN = "hybrid-alongside"


def test_a_mixed_day_by_hand():
    """A hybrid of 4 kWh with 0.9 one way, an AC battery of 4 kWh without loss; both inverters at 80 %, cap 0."""
    eighty = Terms(0.0, 0.25, 0.0, 3000.0)
    base = {
        "side": "g", "out": eighty, "charger": eighty, "ac_out": 3000, "ac_in": 3000, "night": 0, "capacity": 4000, "soc_min": 0,
        "soc_max": 1, "reserve": 0, "charge": 1500, "discharge": 1500,
    }  # fmt: skip
    hybrid, other = Unit(**base, eta_c=0.9, eta_d=0.9), Unit(**base, eta_c=1.0, eta_d=1.0)
    ac = np.zeros((3, 9))
    ac[:, 1] = [400, 0, 2000]
    pv = np.array([[4000.0, 0], [2000.0, 0], [0.0, 0]])
    packed = packed_case([hybrid, other], [[Slot()]] * 2, np.zeros((3, 2), int), pv, ac, Around(0, 0, 0, cap=0))
    flow = run_case(packed, np.array([2650.0, 0.0]), np.zeros(2))
    one, two = flow.nodes[:, 0], flow.nodes[:, 1]
    names = {name: i for i, name in enumerate(NODE)}

    def at(rows, t, name):
        return rows[t, names[name]]

    # 1: 400 W of load take 500 W DC; 1500 W charge the own battery (1350 Wh stored); 2000 W DC are left, 1600 W at AC,
    # of which the other's charger makes 1280 W DC.
    assert at(one, 0, "pv_to_battery_w") == pytest.approx(1500)
    assert at(one, 0, "ac_out_w") == pytest.approx(2000)
    assert at(two, 0, "ac_in_w") == pytest.approx(1600)
    assert at(two, 0, "energy_wh") == pytest.approx(1280)
    assert at(one, 0, "energy_wh") == pytest.approx(4000)
    # 2: the hybrid is full; 2000 W DC are 1600 W AC, the other takes 1280 W DC again: 2560 Wh; nothing is held.
    assert at(one, 1, "lost_cap_w") == pytest.approx(0)
    assert at(two, 1, "energy_wh") == pytest.approx(2560)
    # 3: 2000 W asked. The other has the better round trip and gives 1500 W DC, 1200 W at AC; the hybrid gives the rest, 800 W.
    assert at(two, 2, "ac_out_w") == pytest.approx(1200)
    assert at(one, 2, "ac_out_w") == pytest.approx(800)
    assert at(one, 2, "energy_wh") == pytest.approx(4000 - 1000 / 0.9)
    assert flow.column("import_w")[2] == pytest.approx(0)
    assert flow.column("battery_pv_to_house_w")[2] == pytest.approx(1200 + 800 * 1350 / 4000)


def test_in_a_year_both_cycle_though_nothing_may_be_exported(demo, quarter):
    """The AC battery of a mixed plan once charged nothing while the hybrid's surplus was held."""
    hybrid = demo.plan(PLAN).nodes[1].model_dump()
    battery = {**demo.plan("ac-add-on").nodes[1].model_dump(), "id": "ac-bat", "side": "backup"}
    edits = [Edit(f"plans[{PLAN}].nodes", [hybrid, battery]), Edit("site.export_limit_w", 0.0)]
    job = apply_edits(demo, edits)
    plan = job.plan(PLAN)
    made = quarter.flow(job, plan)
    facts = quarter.facts(job, plan)
    assert open_balances(made.flow, made.packed).worst < 1e-6
    cycles = {i: row["discharge_w"] / 9000 for i, row in facts.nodes_wh.items()}
    assert min(cycles.values()) > 50, cycles
    alone = apply_edits(demo, [Edit(f"plans[{PLAN}].nodes", [hybrid]), Edit("site.export_limit_w", 0.0)])
    before = quarter.facts(alone, alone.plan(PLAN))
    assert facts.held_by_cap_wh < before.held_by_cap_wh - 200_000
    assert facts.system_wh["import_w"] < before.system_wh["import_w"]
