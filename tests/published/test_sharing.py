"""Batteries in parallel and the ways through a plan: against a nodal solution, and by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.demo import demo_job
from calm_relay.job.models import BatteryChoice
from calm_relay.library.shipped import shipped_book
from calm_relay.plant import chain
from calm_relay.plant.bank import Bank, bank_of
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.sharing import bank_limit_a, branch_currents
from calm_relay.plant.unit import unit_of
from calm_relay.simulation.paths import Path, Step, storage_paths
from tests.test_check_values import out_w

BRANCHES = st.lists(st.tuples(st.floats(40, 60), st.floats(0.002, 0.2)), min_size=2, max_size=8)


def nodal(open_v: list[float], ohms: list[float], total_a: float) -> np.ndarray:
    """Currents of the circuit as it stands: each branch a source behind a resistor, one bus, one sink."""
    n = len(open_v)
    matrix, right = np.zeros((n + 1, n + 1)), np.zeros(n + 1)
    for i, (v, r) in enumerate(zip(open_v, ohms, strict=True)):
        matrix[i, i], matrix[i, n], right[i] = r, 1.0, v  # r·I + V = V_oc
    matrix[n, :n], right[n] = 1.0, total_a  # Kirchhoff at the bus
    return np.linalg.solve(matrix, right)[:n]


@given(branches=BRANCHES, total=st.floats(-300, 300))
@settings(max_examples=80, deadline=None, derandomize=True)
def test_branches_share_as_the_nodal_solution_says(branches, total):
    """Definitions D20."""
    volts, ohms = [b[0] for b in branches], [b[1] for b in branches]
    ours = branch_currents(volts, ohms, total)
    np.testing.assert_allclose(ours, nodal(volts, ohms, total), rtol=1e-8, atol=1e-8)
    assert sum(ours) == pytest.approx(total, abs=1e-6)


@given(ohms=st.lists(st.floats(0.002, 0.2), min_size=2, max_size=8), limit=st.floats(10, 200))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_at_the_banks_limit_the_first_branch_is_at_its_own(ohms, limit):
    bank = bank_limit_a(ohms, limit)
    assert max(branch_currents([50.0] * len(ohms), ohms, bank)) == pytest.approx(limit)
    assert limit <= bank * (1 + 1e-12) <= limit * len(ohms) * (1 + 1e-9)


def rack(modules: int, **more: object) -> Bank:
    card = shipped_book().battery("rack-5k")
    return bank_of(card, BatteryChoice(card=card.id, modules=modules, **more))  # type: ignore[arg-type]


def test_uneven_leads_lower_the_banks_current_and_with_it_the_chain():
    # 16 cells of 0.75 mΩ and 3 mΩ of terminals: 15 mΩ; one branch of four behind 15 mΩ more carries half as much: 3.5 × 80 A.
    unit, even = unit_of(shipped_book().inverter("charger-8k-48v")), rack(4)
    assert even.cells.internal_resistance_ohm == pytest.approx(16 * 0.075 / 100 + 0.003)
    assert chain.bank_amps(even, even.cells.discharge_max_a) == pytest.approx(4 * 80)
    uneven = rack(4, leads_ohm=(0.0, 0.0, 0.0, 0.015))
    assert chain.bank_amps(uneven, uneven.cells.discharge_max_a) == pytest.approx(3.5 * 80)
    first = chain.battery_links(uneven, charging=False)[0]
    assert first.dc_w == pytest.approx(3.5 * 80 * 51.2)
    links = chain.discharge_chain(unit, even)
    assert chain.weakest(links).name == "inverter AC rating"
    known = sorted(link.dc_w for link in links if link.dc_w is not None)
    assert chain.raised_w(links) == pytest.approx(known[1] - known[0])


def test_blocks_in_series_by_hand():
    # 24 gel cells of 2 V, 600 Ah: 48 V, 28.8 kWh; charged at 0.15 C: 90 A × 48 V; 24 × 0.633 mΩ of resistance.
    card = shipped_book().battery("gel-cell-600")
    bank = bank_of(card, BatteryChoice(card=card.id, modules=24))
    volts = chain.stack_volts(bank, 0.5)
    assert (volts.empty_v, volts.full_v) == pytest.approx((24 * 1.75, 24 * 2.35))
    assert volts.floor_v == pytest.approx(24 * (1.75 + 0.5 * 0.6))
    assert chain.battery_links(bank, charging=True)[0].dc_w == pytest.approx(90 * 48)
    assert chain.bank_ohms(bank) == pytest.approx(24 * (0.20 / 600 + 0.0003), rel=1e-2)
    assert chain.usable_wh(bank) == pytest.approx(0.5 * 24 * 1200)
    unit = unit_of(shipped_book().inverter("charger-5k-48v"))
    loaded = chain.under_load_v(unit, bank)
    assert loaded is not None
    v, amps = loaded
    assert v == pytest.approx(volts.floor_v - amps * (chain.bank_ohms(bank) or 0.0))
    assert v * amps == pytest.approx(unit.dc_w(4000.0), rel=1e-9)  # 95 A, below the unit's 110 A and the bank's 180 A


def test_handbook_paths_by_hand():
    """Handbook 4: a DC-coupled kWh passes 0.98·0.97·0.98·0.97 = 0.904, an AC-coupled one 0.97·0.95·0.97·0.95 = 0.849."""
    dc = Path(node="", name="", start="", end="", end_w=1.0, steps=tuple(Step("", f) for f in (0.98, 0.97, 0.98, 0.97)))
    ac = Path(node="", name="", start="", end="", end_w=1.0, steps=tuple(Step("", f) for f in (0.97, 0.95, 0.97, 0.95)))
    assert (round(dc.passes_frac, 3), round(ac.passes_frac, 3)) == (0.904, 0.849)


def test_paths_of_the_demo_plans_by_hand():
    # Plan B, 2 kW arriving: the hybrid takes 2000 + 35 + 20 + 0.018·2000²/5000 = 2069.4 W, the cells 2069.4/0.95 of it.
    job = demo_job()
    (own, grid) = storage_paths(plant_of(job, job.plan("B")), 2000.0)
    assert own.passes_frac == pytest.approx(0.95 * 2000 / 2069.4)
    assert (own.start, own.end, own.end_w) == ("DC at the trackers", "AC at the load", 2000.0)
    into = 2069.4 / 0.95
    drawn = into + 35 + 0.01 * into + 0.018 * into * into / 5000
    assert grid.passes_frac == pytest.approx(2000 / drawn)
    # Plan A by AC: the PV inverter makes what the charger draws; the battery inverter takes 2000 + 30 + 20 + 16 W.
    through_ac = storage_paths(plant_of(job, job.plan("A")), 2000.0)[0]
    into = 2066.0 / 0.95
    drawn = into + 30 + 0.01 * into + 0.02 * into * into / 5000
    from_pv = drawn + 18 + 0.009 * drawn + 0.017 * drawn * drawn / 5000
    assert through_ac.passes_frac == pytest.approx(2000 / from_pv)
    assert own.passes_frac > through_ac.passes_frac
    assert out_w(2066.0, 30, 0.01, 0.02, 5000) == pytest.approx(2000.0)
