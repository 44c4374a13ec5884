"""A plan's year run block by block: sums of each block, the energies it began with, and the columns that are kept."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.kept import Columns
from calm_relay.simulation.kernel.loops import run_steps
from calm_relay.simulation.kernel.records import most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.walks import MOST_RUNS, Lanes, Walks, block_firsts, first_guess_wh, in_turn, stretches

Array = NDArray[np.float64]
N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)
ROWS = 32  # rows that are added up and put into columns together: they must stay in the processor's cache
_NO_SUMS = np.zeros(0), np.zeros(0)
_NO_COLUMNS = Columns(0, 0, (), (), anew=True)


class Steps:
    """Runs steps of a plan, with the kernel's inputs worked out once."""

    def __init__(self, packed: Packed) -> None:
        self.packed, self.count = packed, len(packed.ac)
        self.n, self.shape = len(packed.nodes), (0,) * len(packed.nodes)
        terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
        series = packed.codes, packed.pv_dc, packed.bank, packed.ac.T
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

        `ac` (steps, AC), column by column in memory, stands in for what enters at AC.
        """
        kept = _NO_COLUMNS if columns is None else columns
        given = self._given if ac is None else (*self._given[:-1], ac.T)
        flat = node_rows.reshape(len(node_rows), self.n * N_NODE)
        run_steps(
            *given, first, last, *energies, rows, node_rows, flat, sums, kept.which, kept.node_which, kept.table, kept.node_table,
            kept.touched, kept.node_touched,
        )  # fmt: skip


class Blocks:
    """A year of a plan in blocks of a few days, and the energies that each of them was run from: any can be run again."""

    def __init__(self, packed: Packed, columns: Columns | None) -> None:
        self.steps, self.columns = Steps(packed), columns
        self.size, self.first = block_firsts(self.steps.count, float(packed.plant["step_h"]))
        capacity = packed.nodes["capacity_wh"].astype(float)
        self.walks = Walks(len(self.first), first_guess_wh(packed, packed.nodes)[:, None], capacity[:, None])
        self._sums = np.zeros((len(self.first), N_SYSTEM)), np.zeros((len(self.first), self.steps.n * N_NODE))

    @property
    def begins(self) -> Array:
        """Energies and their PV parts as each block begins. (blocks, 2, nodes) [Wh]"""
        return self.walks.begins[..., 0]

    @property
    def end(self) -> Array:
        """Energies and their PV parts at the end. (2, nodes) [Wh]"""
        return self.walks.ends[-1, ..., 0]

    def year(self, cancelled: Callable[[], bool], threads: int = 2) -> tuple[int, bool, int]:
        """Run the year until it is steady; returns runs, whether it is, and the steps really run. Raises Cancelled."""
        packed = self.steps.packed
        runner, beside = _Runner(self, cancelled), _Runner(self, cancelled)
        first, *others = stretches(packed)
        if threads > 1 and others:
            with ThreadPoolExecutor(1) as pool:
                rest = [pool.submit(self.walks.stretch, beside, other) for other in others]
                self.walks.stretch(runner, first)
                for done in rest:
                    done.result()
        else:
            for stretch in (first, *others):
                self.walks.stretch(runner, stretch)
        if packed.plant["island"]:  # what goes dark in its first winter says more than what stays dark
            runs, steady = 1, bool(self.walks.steady()[0])
        else:
            made = self.walks.settle(runner, MOST_RUNS)
            runs, steady = int(made[0][0]), bool(made[1][0])
        return runs, steady, runner.steps_run + beside.steps_run

    def case(self, energies: tuple[Array, Array]) -> None:
        """Run the blocks once, from energies and their PV parts (nodes,). [Wh]"""
        self.walks.chain(_Runner(self), range(len(self.first)), np.array(energies)[..., None])

    def repeat(self, columns: Columns) -> None:
        """Run the blocks once more as they were run, bit for bit, for other columns."""
        again = Blocks(self.steps.packed, columns)

        def part(blocks: range) -> None:
            runner = _Runner(again)
            for i in blocks:
                again.walks.chain(runner, (i,), self.walks.begins[i].copy())

        half = len(self.first) // 2
        with ThreadPoolExecutor(1) as pool:
            rest = pool.submit(part, range(half, len(self.first)))
            part(range(half))
            rest.result()

    def note(self, i: int, energies: Array, rows: tuple[Array, Array], lanes: Lanes | None) -> int:
        """Run block `i`, for its energies alone where no lanes are named; returns its steps."""
        first, last = int(self.first[i]), min(int(self.first[i]) + self.size, self.steps.count)
        now = energies[0, :, 0], energies[1, :, 0]
        if lanes is None:
            self.steps.run(first, last, now, *rows)
        else:
            sums = self._sums[0][i], self._sums[1][i]
            sums[0][:], sums[1][:] = 0.0, 0.0
            self.steps.run(first, last, now, *rows, sums, self.columns)
        return last - first

    def rows(self, steps: slice) -> tuple[Array, Array]:
        """Return the rows of some steps, (steps, SYSTEM) and (steps, nodes, NODE), run from where their blocks began. [W], [Wh]"""
        first, last, _ = steps.indices(self.steps.count)
        rows = np.zeros((max(last - first, 0), N_SYSTEM)), np.zeros((max(last - first, 0), self.steps.n, N_NODE))
        while first < last:
            block = first // self.size
            begin, until = block * self.size, min(last, (block + 1) * self.size)
            made = np.zeros((until - begin, N_SYSTEM)), np.zeros((until - begin, self.steps.n, N_NODE))
            energies = self.begins[block].copy()
            self.steps.run(begin, until, (energies[0], energies[1]), *made)
            for whole, part in zip(rows, made, strict=True):
                whole[-(last - first) :][: until - first] = part[first - begin :]
            first = until
        return rows

    def sums(self) -> tuple[Array, Array]:
        """Return the year's sums, (SYSTEM,) and (nodes, NODE), of W over steps; of energies they mean nothing. [W]"""
        return in_turn(self._sums[0]), in_turn(self._sums[1]).reshape(self.steps.n, N_NODE)


class _Runner:
    """Runs blocks of a year in one thread, and counts their steps."""

    def __init__(self, blocks: Blocks, cancelled: Callable[[], bool] = lambda: False) -> None:
        self._blocks, self._cancelled, self.steps_run = blocks, cancelled, 0
        rows = min(ROWS, blocks.size)
        self._rows = np.empty((rows, N_SYSTEM)), np.empty((rows, blocks.steps.n, N_NODE))

    def __call__(self, i: int, energies: Array, lanes: Lanes | None) -> None:
        if self._cancelled():
            raise Cancelled("the year was cancelled")
        self.steps_run += self._blocks.note(i, energies, self._rows, lanes)
