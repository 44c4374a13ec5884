"""Compile the kernel into numba's disk cache: the last step of set-up. Run as a module."""

from __future__ import annotations

import sys
import time

import numpy as np

from calm_relay.simulation.columns import AC
from calm_relay.simulation.flow import run_case
from calm_relay.simulation.kernel import NODE_DTYPE, PLANT_DTYPE, SLOT_DTYPE
from calm_relay.simulation.pack import Packed


def warm_kernel() -> None:
    """Run one empty step, so that compiled code is loaded (or made)."""
    nodes = np.zeros(1, NODE_DTYPE)
    nodes["rated_w"] = nodes["ac_out_w"] = nodes["eta_c"] = nodes["eta_d"] = 1.0
    plant = np.zeros(1, PLANT_DTYPE)[0]
    plant["step_h"] = plant["export_w"] = plant["import_w"] = plant["transfer_w"] = 1.0
    packed = Packed(
        node_ids=("warm",),
        nodes=nodes,
        slots=np.zeros((1, 1), SLOT_DTYPE),
        plant=plant,
        take=np.zeros((2, 1), np.int64),
        give=np.zeros((2, 1), np.int64),
        codes=np.zeros((1, 1), np.int8),
        pv_dc=np.zeros((1, 1)),
        ac=np.zeros((1, len(AC))),
        assumed=frozenset(),
    )
    run_case(packed, np.zeros(1), np.zeros(1))


def main() -> int:
    """Compile and say how long it took."""
    begin = time.perf_counter()
    warm_kernel()
    print(f"set-up: kernel ready in {time.perf_counter() - begin:.1f} s", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
