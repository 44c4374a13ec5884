"""Lanes against the year's own loop: bit for bit, on a thousand random variants in every mode, of one to four nodes."""

from __future__ import annotations

import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import KEPT_NODE, KEPT_SYSTEM
from calm_relay.simulation.flow import FlowTable, run_case, run_year
from calm_relay.simulation.kernel.records import ALL_KINDS, LANE, PV
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.variants import Variant, run_variants
from tests.cases import packed_case
from tests.reference_step import INF
from tests.test_kernel_reference import STEPS, random_case

ROOT = Path(__file__).parent.parent
PLAIN = Path(__file__).parent / "plain_lanes.py"


def family(seed: int, n: int, count: int, days: int = 3, *, alike: bool = False):
    """Return a short year of random days, and random variants that share its clock, house and limits.

    `alike`: their batteries take turns alike, and the second node has no array.
    """
    units, table, pv, ac, a = random_case(seed, n)
    r = np.random.default_rng(seed + 7)
    # Three kinds of rules are enough, since each is compiled by itself: all of them, slots alone, none.
    peak, device = (1500.0, 3000.0) if seed % 4 in (1, 2) else (INF, INF)
    a = replace(a, target=peak, device=device, hours=0.5, at_device=False)
    codes = np.repeat(r.choice([0, 0, *range(8)], (STEPS // 8, n)), 8, axis=0)
    if seed % 4 == 0:
        codes[:] = 0
    pv, ac, codes = (
        np.tile(pv, (days, 1)),
        np.tile(ac, (days, 1)) * r.uniform(0.5, 1.5, (days * STEPS, 1)),
        np.tile(codes, (days, 1)),
    )
    warmth = np.tile(np.array([0.0, 1.0, 1.0, 0.0]), (days * STEPS, n, 1))
    warmth[:, :, 1:3] = r.choice([0.3, 1.0], (days * STEPS, n, 2))
    if alike:
        pv[:, 1] = 0.0
    packed = packed_case(units, table, codes, pv, ac, a, warmth if seed % 2 else None)
    variants = []
    for i in range(count):
        others, slots, _, _, _ = random_case(seed * 1000 + i, n)
        own = packed_case(others, slots, codes, pv, ac, a)
        turns = (np.minimum(turn, 1) for turn in (own.take, own.give))  # of more than two groups lanes are not made,
        if alike:  # unless all take them alike
            turns = np.roll(np.arange(n), 1), np.arange(n)
        variants.append(Variant(own.nodes, own.slots, *turns, tuple(r.uniform(0.3, 1.7, n))))
    return packed, variants


def own_year(packed: Packed, variant: Variant) -> FlowTable:
    """Run a variant as a plan of its own."""
    own = replace(packed, nodes=variant.nodes, slots=variant.slots, take=variant.take, give=variant.give)
    return run_year(replace(own, pv_dc=packed.pv_dc * np.array(variant.pv_factor)), series=False)


LANE_KINDS = (*[(0,)] * 4, (), (), (0,), *ALL_KINDS[PV:LANE], (0,))  # all, but for an island and cars, which take no lanes
SHORT = [*((s, 1, 110, 3) for s in range(8)), (20, 2, 50, 3)]
JOINED = [(0, 1, 30, 75), (1, 1, 30, 75), (20, 2, 20, 75)]  # long enough for stretches that are run by themselves


@pytest.mark.parametrize(("seed", "n", "count", "days"), [*SHORT, *JOINED])
def test_lanes_are_the_years_sums_bit_for_bit(seed, n, count, days, monkeypatch):
    packed, variants = family(seed, n, count, days, alike=n > 1)
    if n == 1 and seed % 4 and seed != 1:  # each set of kinds takes its time to compile: none, all, and one as it comes
        monkeypatch.setattr("calm_relay.simulation.variants._kinds", lambda *_: LANE_KINDS)
    found = run_variants(packed, variants)
    assert len(found) == count
    moved = 0.0
    for variant, got in zip(variants, found, strict=True):
        flow = own_year(packed, variant)
        assert (got.runs, got.steady) == (flow.runs, flow.steady)
        assert got.steps_run >= flow.steps_run, "what it needs, and what its neighbours do"
        assert np.array_equal(got.sums, flow.sums)
        assert np.array_equal(got.node_sums, flow.node_sums)
        moved += float(np.abs(got.node_sums).sum())
    assert moved > 0


@pytest.mark.parametrize(("seed", "n", "alike"), [(21, 2, 0), (27, 3, 0), (22, 4, 0), (26, 3, 1), (25, 4, 1)])
def test_lanes_of_more_nodes_are_the_years_sums_too(seed, n, alike):
    """By the kernel's own source undecorated: compiled, these lanes take a minute to make (they are in `./run bench`)."""
    env = {**os.environ, "NUMBA_DISABLE_JIT": "1", "PYTHONPATH": str(ROOT)}
    done = subprocess.run(
        [sys.executable, PLAIN, str(seed), str(n), str(alike)], capture_output=True, text=True, check=True, env=env, cwd=ROOT
    )
    equal, again, alone = (int(word) for word in done.stdout.split())
    assert equal == 2
    assert again > 0, "some passes in lanes went on from a first one"
    assert alone > 0, "some steps were left open and settled one by one"


@pytest.mark.parametrize(
    ("seed", "n", "times"), [(3, 1, 1), (4, 1, 1), (20, 2, 1), (21, 3, 1), (22, 4, 1), (3, 1, 25), (20, 2, 25)]
)
def test_a_year_run_in_stretches_is_the_one_that_its_start_gives(seed, n, times):
    """Joined from stretches, by one thread or two, it is one run from its start: energies to the bit, PV parts within a tenth of
    what D11 allows; parts and unkept columns are the same bits.
    """
    packed, _ = family(seed, n, 0, 75)
    packed.nodes["capacity_wh"] *= times  # large batteries remember for months
    flow, alone = run_year(packed), run_year(packed, threads=1)
    assert np.array_equal(flow.sums, alone.sums)
    assert np.array_equal(flow.node_sums, alone.node_sums)
    assert np.array_equal(flow.blocks.begins, alone.blocks.begins)
    again = run_case(packed, flow.start_energy_wh, flow.start_energy_pv_wh)
    assert np.array_equal(flow.blocks.begins[:, 0], again.blocks.begins[:, 0])
    capacity = packed.nodes["capacity_wh"]
    assert np.all(np.abs(flow.blocks.begins[:, 1] - again.blocks.begins[:, 1]) <= 1e-4 * capacity + 1e-9)
    np.testing.assert_allclose(flow.sums, again.sums, rtol=1e-4, atol=1.0)
    assert flow.steps_run < 2 * flow.steps or times > 1, "only what does not join is run again"
    for name in KEPT_SYSTEM:
        assert np.array_equal(flow.column(name), flow.whole.column(name)), name
    for name in KEPT_NODE:
        assert np.array_equal(flow.node_column(flow.node_ids[-1], name), flow.whole.node_column(flow.node_ids[-1], name)), name
    for steps in (slice(0, 1), slice(300, 350), slice(flow.steps - 1, flow.steps)):
        part = flow.part(steps)
        assert np.array_equal(part.system, flow.system[steps])
        assert np.array_equal(part.nodes, flow.nodes[steps])
    np.testing.assert_allclose(flow.system.sum(axis=0), flow.sums, rtol=1e-9, atol=1e-6)


def test_variants_can_be_stopped():
    packed, variants = family(1, 1, 5)
    with pytest.raises(Cancelled):
        run_variants(packed, variants, lambda: True)
