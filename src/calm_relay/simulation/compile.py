"""Compile the kernel into numba's disk cache: the last step of set-up. Run as a module."""

from __future__ import annotations

import subprocess
import sys
import time

import numpy as np

from calm_relay.simulation.columns import AC, NODE, SYSTEM
from calm_relay.simulation.counting import rainflow, turning_points
from calm_relay.simulation.flow import run_case
from calm_relay.simulation.following import FIXED, ROWS, follow, fresh_state
from calm_relay.simulation.kernel.loops import ENDLESS, outlast_many
from calm_relay.simulation.kernel.records import MOST_NODES, NODE_DTYPE, PLANT_DTYPE, SLOT_DTYPE, most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed, usual_bank
from calm_relay.simulation.tallies import add_by, offered_by_day, steps_at_limit

# So that two processes are done at about the same time.
SHARES = ((4, 1), (3, 2, 0))


def warm_kernel(nodes: int = 1) -> None:
    """Run two empty steps of a plan with so many nodes, so that compiled code is loaded (or made)."""
    records = np.zeros(nodes, NODE_DTYPE)
    records["rated_w"] = records["ac_out_w"] = records["eta_c"] = records["eta_d"] = 1.0
    plant = np.zeros(1, PLANT_DTYPE)[0]
    plant["step_h"] = plant["export_w"] = plant["import_w"] = plant["transfer_w"] = plant["target_w"] = 1.0
    packed = Packed(
        node_ids=tuple(f"warm{k}" for k in range(nodes)),
        nodes=records,
        slots=np.zeros((nodes, 1), SLOT_DTYPE),
        plant=plant,
        take=np.zeros(nodes, np.int64),
        give=np.zeros(nodes, np.int64),
        codes=np.zeros((2, nodes), np.int8),
        pv_dc=np.zeros((2, nodes)),
        bank=usual_bank(nodes),
        ac=np.zeros((2, len(AC))),
        assumed=frozenset(),
    )
    run_case(packed, np.zeros(nodes), np.zeros(nodes))
    if nodes in (1, 2):
        _warm_outages(packed, nodes)
    if nodes == 1:
        _warm_tallies(packed)


def _warm_tallies(packed: Packed) -> None:
    """Count and add up a year of two steps."""
    watts, which = np.array([1.0, 0.0]), np.zeros(2, np.int64)
    rainflow(turning_points(watts))
    for more in (watts, np.zeros(0)):
        steps_at_limit(watts, more, watts, 0.0, 1.0, (1.0, 1.0, 0.0), packed.bank[:, 0, 0], 1.0)
    add_by(which, watts, watts > 0.0, np.zeros(1), np.zeros(1, np.int64))
    for more in (watts, np.zeros(0)):
        offered_by_day(watts, watts, watts, watts, watts, 1.0, more, 1.0, (1.0, 0.0, 0.0), np.zeros(1))


def _warm_outages(packed: Packed, nodes: int) -> None:
    """Run one step of an outage, and one second of an inverter under its frequency, likewise."""
    plant = packed.plant.copy()
    plant["island"] = 1.0
    one, none = np.zeros(1), np.zeros(1, dtype=np.int64)
    terms = terms_of(packed.nodes, 1.0, packed.take, packed.give)
    outlast_many(
        (0,) * nodes, most_passes(nodes), terms, rules_of(packed.nodes, packed.slots), plant, packed.codes, packed.pv_dc,
        packed.bank, packed.ac.T, none, 1, 1, np.zeros((1, nodes)), np.ones(nodes), np.full(1, ENDLESS), np.full(1, -1), one.copy(),
        np.full(1, -1), none.copy(), np.zeros((1, len(SYSTEM))), np.zeros((1, nodes, len(NODE))),
    )  # fmt: skip
    fixed = np.ones(FIXED)
    state = fresh_state(50.0, 0.0, 1.0, 0.5, charging=True, connected=True)
    follow(fixed, np.ones((1, 2)), one.copy(), state, one.copy(), one.copy(), one.copy(), np.zeros((ROWS, 1)))


def main(given: list[str]) -> int:
    """Compile for plans of so many nodes, by default all of them in two processes; say how long it took."""
    begin = time.perf_counter()
    if given:
        for nodes in given:
            warm_kernel(int(nodes))
        return 0
    assert sorted(n for share in SHARES for n in share) == list(range(MOST_NODES + 1))
    workers = [
        subprocess.Popen([sys.executable, "-m", "calm_relay.simulation.compile", *(str(n) for n in share)]) for share in SHARES
    ]
    done = [worker.wait() for worker in workers]
    if any(done):
        print("set-up: the kernel could not be compiled; see the lines above", file=sys.stderr)
        return 1
    print(f"set-up: kernel ready in {time.perf_counter() - begin:.1f} s", file=sys.stderr)
    return 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
