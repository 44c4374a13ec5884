"""The memory of a year's columns serves one run after the other: nothing of the one before is seen, and nobody's series change."""

from __future__ import annotations

import gc

import numpy as np
import pytest

from calm_relay.simulation.columns import KEPT_NODE, KEPT_SYSTEM
from calm_relay.simulation.flow import FlowTable, run_year
from calm_relay.simulation.kept import Block, spare
from calm_relay.simulation.kernel.loops import put_columns
from tests.test_variants import family


def columns_of(flow: FlowTable) -> dict[str, np.ndarray]:
    made = {name: flow.column(name).copy() for name in KEPT_SYSTEM}
    return made | {f"{node} {name}": flow.node_column(node, name).copy() for node in flow.node_ids for name in KEPT_NODE}


@pytest.mark.parametrize(("seed", "n", "more"), [(1, 1, 0), (4, 1, 14), (20, 2, 3)])
def test_a_run_in_used_memory_shows_what_was_run_and_nothing_else(seed, n, more):
    packed, _ = family(seed, n, 0, 12)
    packed.pv_dc[: 5 * len(packed.pv_dc) // 9] = 0.0  # columns that begin late in the year, some in the midst of a block
    spare.give(Block(np.zeros((1, 1)), np.zeros(1, np.bool_)))
    anew = columns_of(run_year(packed))
    rows = len(KEPT_SYSTEM) + n * len(KEPT_NODE) + more
    table = np.full((rows, len(packed.ac)), np.nan)
    spare.give(Block(table, np.ones(rows, np.bool_)))
    where = table.__array_interface__["data"][0]
    del table
    flow = run_year(packed)
    assert flow.column(KEPT_SYSTEM[0]).__array_interface__["data"][0] == where, "the block was taken"
    for name, values in columns_of(flow).items():
        assert np.array_equal(values, anew[name]), name
    assert flow.nbytes == rows * len(packed.ac) * 8, "all of it is held"


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


def test_a_year_that_is_dropped_leaves_its_memory_to_the_next():
    packed, _ = family(1, 1, 0, 12)
    flow = run_year(packed)
    where = flow.column("import_w").__array_interface__["data"][0]
    del flow
    gc.collect()
    assert run_year(packed).column("import_w").__array_interface__["data"][0] == where


class Marks(list):
    """Remembers what was ever written into it."""

    def __init__(self, values: list[bool]) -> None:
        super().__init__(values)
        self.written: list[bool] = []

    def __setitem__(self, at, value) -> None:
        self.written.append(value)
        super().__setitem__(at, value)


def test_a_thread_never_takes_back_what_the_other_has_found():
    """Two threads run halves of a year into one table: to write 'nothing' over the other's mark left out its figures, seldom."""
    marks = Marks([False, True, False])
    rows, table = np.array([[0.0, 0.0, 3.0], [0.0, 0.0, 4.0]]), np.zeros((3, 4))
    put = getattr(put_columns, "py_func", put_columns)
    put(rows, 2, rows.sum(axis=0), np.arange(3), 2, table, marks)
    assert marks == [False, True, True]
    assert marks.written == [True]
    assert np.array_equal(table, [[0, 0, 0, 0], [0, 0, 0, 0], [0, 0, 3, 4]])
