"""Runs the kernel's own source undecorated on packed inputs; started with NUMBA_DISABLE_JIT=1 by bench.py and a test."""

from __future__ import annotations

import pickle
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.kernel.loops import run_steps
from calm_relay.simulation.kernel.records import most_passes


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
    data, start_wh = pickle.loads(given.read_bytes())
    n, steps = len(data["terms"]), len(data["ac"])
    system, rows = np.empty((steps, len(SYSTEM))), np.empty((steps, n, len(NODE)))
    nothing = np.zeros(0)
    begin = time.perf_counter()
    run_steps(
        (0,) * n, most_passes(n), Records(data["terms"]), Records(data["rules"]), Records(data["plant"])[0],
        data["codes"], data["pv_dc"], data["bank"], data["ac"].T, 0, steps, start_wh.copy(), start_wh.copy(), system, rows,
        rows.reshape(steps, n * len(NODE)), (nothing, nothing), (), (), *[nothing] * 4,
    )  # fmt: skip
    answer.write_bytes(pickle.dumps((time.perf_counter() - begin, system, rows)))


if __name__ == "__main__":
    main()
