"""The columns of a run that are kept, and the memory they stand in, which serves one run after the other."""

from __future__ import annotations

import sys
import threading
import weakref
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.columns import NODE, SIGNED, SYSTEM

Array = NDArray[np.float64]
N_NODE = len(NODE)
_OURS_ALONE = 2  # references: the name, and the argument of the call that counts them
_LARGEST_SPARE = 8_500_000  # numbers of a block that is held for the next run: as many as a year of four nodes keeps


class _Spare:
    """The block of memory that was dropped last, held for the next table of a year.

    To fetch a year's table anew from the system takes as long as half of running it: each page is made zero, and in a virtual
    machine looked for twice.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held: list[Array] = []

    def take(self, numbers: int) -> Array:
        """Return room for so many numbers, at least; it holds anything."""
        with self._lock:
            block = self._held.pop() if self._held else None
        # A series that somebody still looks at holds its block, which is then left to it.
        if block is not None and numbers <= len(block) <= 2 * numbers and sys.getrefcount(block) == _OURS_ALONE:
            return block
        return np.empty(numbers)

    def give(self, block: Array) -> None:
        """Hold a block that its table has no more use for, in place of the one before."""
        if len(block) <= _LARGEST_SPARE:
            with self._lock:
                self._held = [block]


_spare = _Spare()


@lru_cache(maxsize=2)
def _nothing(steps: int) -> Array:
    """Return the one series of all columns that are nothing."""
    out = np.zeros(steps)
    out.setflags(write=False)
    return out


class Columns:
    """Columns of a run that are kept, each in one piece for whoever reads it; what is nothing all year is never written.

    The run goes block by block, each of so many steps (`size`). A block tells which columns it has `written` (blocks, columns).
    `names` are those of the plan and of each node. `whole`: the tables are read as they are, and what is nothing is nothing there.
    """

    def __init__(self, steps: int, nodes: int, names: tuple[Sequence[str], Sequence[str]], size: int, *, whole: bool = False):
        system, node = names
        self.system_names, self.node_names, self._steps, self._size = tuple(system), tuple(node), steps, size
        self.which = np.array([SYSTEM.index(name) for name in system], dtype=np.int64)
        within = np.array([NODE.index(name) for name in node], dtype=np.int64)
        self.node_which = (np.arange(nodes)[:, None] * N_NODE + within).ravel()
        plan, count = len(self.which), len(self.which) + len(self.node_which)
        block = np.zeros(count * steps) if whole else _spare.take(count * steps)
        table = block[: count * steps].reshape(count, steps)
        self.table, self.node_table = table[:plan], table[plan:]
        if not whole and len(block):
            weakref.finalize(self, _spare.give, block).atexit = False
        self.written = np.zeros((-(-steps // size), plan), np.bool_)
        self.node_written = np.zeros((len(self.written), count - plan), np.bool_)
        # Sums tell whether a column holds anything, but for what has two signs.
        self._signed = np.array([name in SIGNED for name in self.system_names], dtype=np.bool_)

    def begin(self, i: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Return which columns block `i` has written, of the plan and of its nodes: as it begins, none but signed ones."""
        self.written[i], self.node_written[i] = self._signed, False
        return self.written[i], self.node_written[i]

    def close(self) -> None:
        """Put nothing where a block has not written a column that others have."""
        for table, written in ((self.table, self.written), (self.node_table, self.node_written)):
            for block, column in np.argwhere(~written & written.any(axis=0)).tolist():
                table[column, block * self._size : (block + 1) * self._size] = 0.0

    def column(self, name: str) -> Array:
        """Return a column of the plan. (steps,) [W]"""
        return self._column(self.table, self.written, self.system_names.index(name))

    def node_column(self, k: int, name: str) -> Array:
        """Return a column of node `k`. (steps,) [W or Wh]"""
        place = k * len(self.node_names) + self.node_names.index(name)
        return self._column(self.node_table, self.node_written, place)

    def _column(self, table: Array, written: NDArray[np.bool_], place: int) -> Array:
        found: Array = table[place] if written[:, place].any() else _nothing(self._steps)
        return found

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        used = int(np.count_nonzero(self.written.any(axis=0))) + int(np.count_nonzero(self.node_written.any(axis=0)))
        return used * self._steps * self.table.itemsize
