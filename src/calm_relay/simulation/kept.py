"""The columns of a run that are kept, and the memory they stand in, which serves one run after the other."""

from __future__ import annotations

import sys
import threading
import weakref
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.columns import NODE, SIGNED, SYSTEM

Array = NDArray[np.float64]
N_NODE = len(NODE)
_OURS_ALONE = 2  # references to a table of the block at hand: the block's own, and the argument of the call that counts them
_MOST_ROWS = 80  # of a block that is held for the next run: as many as a year of four nodes keeps


class Block(NamedTuple):
    """Memory for columns, (columns, steps), and which of them were ever `touched`, (columns,): the others are nothing still."""

    table: Array
    touched: NDArray[np.bool_]

    @classmethod
    def anew(cls, columns: int, steps: int) -> Block:
        """Return memory that holds nothing, and takes none before it is written. [Block]"""
        return cls(np.zeros((columns, steps)), np.zeros(columns, np.bool_))


class Spare:
    """The block that was dropped last, held for the next year.

    To fetch a year's columns anew from the system takes a fifth of the time of the year's run: each page is made zero, and looked
    for twice in a virtual machine.
    """

    def __init__(self) -> None:
        self._lock = threading.RLock()  # a year may be dropped in whatever thread and line, also in one of these
        self._held: Block | None = None

    def take(self, columns: int, steps: int) -> Block:
        """Return room for so many columns. What is not `touched` of it is nothing; the rest holds anything till it is written."""
        with self._lock:
            held, self._held = self._held, None
        # A series that somebody still looks at keeps the block to itself.
        fits = held is not None and held.table.shape[1] == steps and columns <= len(held.table) <= 2 * columns
        if held is not None and fits and sys.getrefcount(held.table) <= _OURS_ALONE:
            return held
        return Block.anew(columns, steps)

    def give(self, block: Block) -> None:
        """Hold a block that its year has no more use for, in place of the one before."""
        if len(block.table) <= _MOST_ROWS:
            with self._lock:
                self._held = block


spare = Spare()


class Columns:
    """Columns of a run that are kept, each in one piece for whoever reads it; what is nothing all year takes no memory.

    Once a column is touched, each block of days writes it: the memory may hold what a year before left there.
    """

    def __init__(self, steps: int, nodes: int, system: Sequence[str], node: Sequence[str], *, anew: bool = False) -> None:
        self.system_names, self.node_names = tuple(system), tuple(node)
        self.which = np.array([SYSTEM.index(name) for name in system], dtype=np.int64)
        within = np.array([NODE.index(name) for name in node], dtype=np.int64)
        self.node_which = (np.arange(nodes)[:, None] * N_NODE + within).ravel()
        plan, count = len(self.which), len(self.which) + len(self.node_which)
        block = Block.anew(count, steps) if anew else spare.take(count, steps)
        self.table, self.node_table = block.table[:plan], block.table[plan:count]
        self.touched, self.node_touched = block.touched[:plan], block.touched[plan:count]
        # Sums tell whether a column holds anything, but for what has two signs.
        self.touched |= np.array([name in SIGNED for name in self.system_names], dtype=np.bool_)
        self._touched, self._steps = block.touched, steps
        if count and not anew:
            weakref.finalize(self, spare.give, block).atexit = False

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        used = int(np.count_nonzero(self._touched))
        return used * self._steps * 8
