"""Steps of a plan run block by block: sums of each block, the energies it begins with, and the columns that are kept.

A year that is run once more stops at the first block that begins with the very energies of the run before: all goes alike then.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import NODE, SIGNED, SYSTEM
from calm_relay.simulation.kernel.loops import run_steps
from calm_relay.simulation.kernel.records import most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed

Array = NDArray[np.float64]
N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)
BLOCK_DAYS = 5
ROWS = 32  # rows that are added up and put into columns together: they must stay in the processor's cache
_NO_SUMS = np.zeros(0), np.zeros(0)


class Steps:
    """Runs steps of a plan, with the kernel's inputs worked out once."""

    def __init__(self, packed: Packed) -> None:
        self.packed, self.count = packed, len(packed.ac)
        self.n, self.shape = len(packed.nodes), (0,) * len(packed.nodes)
        terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
        series = packed.codes, packed.pv_dc, packed.bank, packed.ac
        self._given = self.shape, most_passes(self.n), terms, rules_of(packed.nodes, packed.slots), packed.plant, *series

    def run(
        self,
        first: int,
        last: int,
        energies: tuple[Array, Array],
        rows: Array,
        node_rows: Array,
        sums: tuple[Array, Array] = _NO_SUMS,
        columns: Columns | None = None,
        ac: Array | None = None,
    ) -> None:
        """Run steps from energies, changed in place, through `rows` (rows, SYSTEM) and `node_rows` (rows, nodes, NODE).

        `ac` stands in for what enters at AC.
        """
        kept = _NO_COLUMNS if columns is None else columns
        given = self._given if ac is None else (*self._given[:-1], ac)
        flat = node_rows.reshape(len(node_rows), self.n * N_NODE)
        run_steps(
            *given, first, last, *energies, rows, node_rows, flat, sums, kept.which, kept.node_which, kept.table, kept.node_table,
            kept.touched, kept.node_touched,
        )  # fmt: skip


class Columns:
    """Columns of a run that are kept, each in one piece for whoever reads it; what is nothing all year takes no memory."""

    def __init__(self, steps: int, nodes: int, system: Sequence[str], node: Sequence[str]) -> None:
        self.system_names, self.node_names = tuple(system), tuple(node)
        self.which = np.array([SYSTEM.index(name) for name in system], dtype=np.int64)
        within = np.array([NODE.index(name) for name in node], dtype=np.int64)
        self.node_which = (np.arange(nodes)[:, None] * N_NODE + within).ravel()
        self.table, self.node_table = np.zeros((len(self.which), steps)), np.zeros((len(self.node_which), steps))
        # Sums tell whether a column holds anything, but for what has two signs.
        self.touched = np.array([name in SIGNED for name in self.system_names], dtype=np.bool_)
        self.node_touched = np.zeros(len(self.node_which), np.bool_)

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        used = int(np.count_nonzero(self.touched)) + int(np.count_nonzero(self.node_touched))
        return used * self.table.shape[1] * self.table.itemsize


_NO_COLUMNS = Columns(0, 0, (), ())


class Blocks:
    """A year of a plan in blocks of a few days.

    Attributes
    ----------
    begins : ndarray (blocks + 1, 2, nodes)
        Energies and their PV parts as each block begins, and at the end; NaN before the first run. [Wh]
    """

    def __init__(self, packed: Packed, columns: Columns | None) -> None:
        self.steps, self.columns = Steps(packed), columns
        self.size, self.first = block_firsts(self.steps.count, float(packed.plant["step_h"]))
        n = self.steps.n
        self.begins, self._ran = np.full((len(self.first) + 1, 2, n), np.nan), False
        self._sums = np.zeros((len(self.first), N_SYSTEM)), np.zeros((len(self.first), n * N_NODE))
        rows = min(ROWS, self.size)
        self._rows, self._node_rows = np.empty((rows, N_SYSTEM)), np.empty((rows, n, N_NODE))

    def spin_up(self, first: int, energies: tuple[Array, Array]) -> None:
        """Run the steps from `first` to the end for their energies alone."""
        self.steps.run(first, self.steps.count, energies, self._rows, self._node_rows)

    def run(self, energies: tuple[Array, Array], cancelled: Callable[[], bool]) -> int:
        """Run the year from energies, changed in place; returns the steps really run. Raises Cancelled."""
        ran = 0
        for i, first in enumerate(self.first.tolist()):
            now = np.array(energies)
            if self._ran and np.array_equal(now, self.begins[i]):
                energies[0][:], energies[1][:] = self.begins[-1]
                return ran
            if cancelled():
                raise Cancelled("the year was cancelled")
            self.begins[i] = now
            last = min(first + self.size, self.steps.count)
            sums = self._sums[0][i], self._sums[1][i]
            sums[0][:], sums[1][:] = 0.0, 0.0
            self.steps.run(first, last, energies, self._rows, self._node_rows, sums, self.columns)
            ran += last - first
        self.begins[-1], self._ran = energies, True
        return ran

    def rows(self, steps: slice) -> tuple[Array, Array]:
        """Return the rows of some steps, (steps, SYSTEM) and (steps, nodes, NODE), run from where their block began. [W], [Wh]"""
        first, last, _ = steps.indices(self.steps.count)
        block = int(np.searchsorted(self.first, first, side="right")) - 1
        begin = int(self.first[block])
        rows = np.zeros((max(last - begin, 1), N_SYSTEM)), np.zeros((max(last - begin, 1), self.steps.n, N_NODE))
        energies = self.begins[block, 0].copy(), self.begins[block, 1].copy()
        self.steps.run(begin, last, energies, *rows)
        return rows[0][first - begin : last - begin], rows[1][first - begin : last - begin]

    def sums(self) -> tuple[Array, Array]:
        """Return the year's sums, (SYSTEM,) and (nodes, NODE), of W over steps; of energies they mean nothing. [W]"""
        return in_turn(self._sums[0]), in_turn(self._sums[1]).reshape(self.steps.n, N_NODE)


def block_firsts(steps: int, step_h: float) -> tuple[int, NDArray[np.int64]]:
    """Return how many steps a block has, and the first step of each."""
    size = BLOCK_DAYS * round(24.0 / step_h)
    return size, np.arange(0, max(1, steps), size)


def in_turn(blocks: Array) -> Array:
    """Return blocks (blocks, …) added up one after the other: the same bits wherever a year is added up. (…,) [any]"""
    total: Array = np.zeros(blocks.shape[1:])
    for block in blocks:
        total += block
    return total
