"""The memory of a year's columns serves one run after the other: nothing of the one before is seen, and nobody's series change."""

from __future__ import annotations

import gc

import numpy as np
import pytest

from calm_relay.simulation import kept
from calm_relay.simulation.columns import KEPT_NODE, KEPT_SYSTEM
from calm_relay.simulation.flow import FlowTable, run_year
from tests.test_variants import family


def dirty(flow: FlowTable) -> None:
    """Hold a block for the next run in which every number is one that nobody could mistake."""
    columns = len(KEPT_SYSTEM) + len(KEPT_NODE) * len(flow.node_ids)
    kept._spare.give(np.full(columns * flow.steps + 5, np.nan))


@pytest.mark.parametrize(("seed", "n", "days"), [(1, 1, 12), (4, 1, 12), (20, 2, 12)])
def test_a_run_in_used_memory_shows_what_was_run_and_nothing_else(seed, n, days):
    packed, _ = family(seed, n, 0, days)
    packed.pv_dc[: 5 * len(packed.pv_dc) // 9] = 0.0  # columns that begin late in the year, some in the midst of a block
    dirty(run_year(packed))
    flow = run_year(packed)
    assert flow.blocks.columns is not None
    assert not kept._spare._held, "the block was taken"
    for name in KEPT_SYSTEM:
        assert np.array_equal(flow.column(name), flow.whole.column(name)), name
    for node in flow.node_ids:
        for name in KEPT_NODE:
            assert np.array_equal(flow.node_column(node, name), flow.whole.node_column(node, name)), name
    assert any(not flow.has(name) for name in KEPT_SYSTEM)


def test_a_series_that_somebody_holds_outlives_its_year():
    packed, _ = family(1, 1, 0, 12)
    flow = run_year(packed)
    held = flow.column("import_w")[5:]
    before = held.copy()
    del flow
    gc.collect()
    packed.ac[:] *= 2.0
    other = run_year(packed)
    assert np.array_equal(held, before)
    assert not np.array_equal(other.column("import_w")[5:], before)
