"""Runs the kernel's own source undecorated on packed inputs; started by bench.py with NUMBA_DISABLE_JIT=1."""

from __future__ import annotations

import pickle
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from calm_relay.simulation import kernel


class Records:
    """A structured array whose rows are plain objects with plain floats: as quick as Python gets."""

    def __init__(self, table: np.ndarray) -> None:
        self.shape = table.shape
        names = table.dtype.names or ()
        self._rows = {
            index if table.ndim > 1 else index[0]: SimpleNamespace(**{name: float(table[index][name]) for name in names})
            for index in np.ndindex(table.shape)
        }

    def __getitem__(self, index: object) -> SimpleNamespace:
        return self._rows[index if not isinstance(index, tuple) else tuple(int(i) for i in index)]


def main() -> None:
    given, answer = Path(sys.argv[1]), Path(sys.argv[2])
    packed, steps = pickle.loads(given.read_bytes())
    n = len(packed["nodes"])
    system, rows = np.empty((steps, kernel.N_SYSTEM)), np.empty((steps, n, kernel.N_NODE))
    energy = packed["nodes"]["soc_min"] * packed["nodes"]["capacity_wh"]
    begin = time.perf_counter()
    kernel.run_steps(
        Records(packed["nodes"]), Records(packed["slots"]), Records(packed["plant"])[0],
        packed["take"], packed["give"], packed["codes"], packed["pv_dc"], packed["ac"],
        0, steps, energy.copy(), energy.copy(), system, rows,
        np.zeros(kernel.N_SYSTEM), np.zeros((n, kernel.N_NODE)),
    )  # fmt: skip
    answer.write_bytes(pickle.dumps((time.perf_counter() - begin, system, rows)))


if __name__ == "__main__":
    main()
