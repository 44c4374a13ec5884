"""Many variants of one plan under the same sun, house and clock: lanes in threads, sums only, each run until it is steady."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import MOST_RUNS, SPIN_UP_DAYS, STEADY_FRAC, run_year
from calm_relay.simulation.kernel import lanes
from calm_relay.simulation.kernel.records import (
    BANK_KEEP,
    CHARGE_FROM_GRID,
    DISCHARGE_TO_GRID,
    RULE_DTYPE,
    TERMS_DTYPE,
    TIMER,
    rules_of,
    terms_of,
)
from calm_relay.simulation.pack import Packed

Array = NDArray[np.float64]
LANES = int(lanes.LANES)
ROWS = int(lanes.ROW_NODES) + len(NODE)
PIECE_DAYS = 73  # between looks at the cancel flag
_KIND_SLOTS = (CHARGE_FROM_GRID, TIMER, DISCHARGE_TO_GRID)


@dataclass(frozen=True, eq=False)
class Variant:
    """One variant: its nodes and slots as in `Packed`, and what its PV is times the plan's, by node."""

    nodes: NDArray[np.void]
    slots: NDArray[np.void]
    take: NDArray[np.int64]
    give: NDArray[np.int64]
    pv_factor: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class VariantSums:
    """Sums of a variant's last run: `sums` (SYSTEM,), `node_sums` (nodes, NODE) of W over steps; whether and when it was steady."""

    sums: Array
    node_sums: Array
    runs: int
    steady: bool


def run_variants(packed: Packed, variants: Sequence[Variant], cancelled: Callable[[], bool] = lambda: False) -> list[VariantSums]:
    """Run every variant until it is steady, as `flow.run_year` does, and with the same figures bit for bit.

    Plans of one node go through the lanes, but for those that keep room for what will be clipped: it hangs on the variant; others
    one by one. All in as many threads as there are processors, four at most. Raises Cancelled.
    """
    workers = min(4, os.cpu_count() or 1)
    in_lanes = len(packed.nodes) == 1 and not packed.bank[:, :, BANK_KEEP].any()
    with ThreadPoolExecutor(workers) as pool:
        if not in_lanes:
            return list(pool.map(lambda variant: _alone(packed, variant, cancelled), variants))
        blocks = [variants[i : i + LANES] for i in range(0, len(variants), LANES)]
        done = list(pool.map(lambda block: list(_block(packed, block, cancelled)), blocks))
    return [row for block in done for row in block]


def _alone(packed: Packed, variant: Variant, cancelled: Callable[[], bool]) -> VariantSums:
    own = replace(
        packed,
        nodes=variant.nodes,
        slots=variant.slots,
        take=variant.take,
        give=variant.give,
        pv_dc=packed.pv_dc * np.array(variant.pv_factor),
    )
    flow = run_year(own, cancelled, series=False)
    return VariantSums(flow.sums, flow.node_sums, flow.runs, flow.steady)


def _block(packed: Packed, block: Sequence[Variant], cancelled: Callable[[], bool]) -> Iterator[VariantSums]:
    """Yield the sums of up to LANES variants; places that stay empty repeat the last one."""
    steps, step_h = len(packed.ac), float(packed.plant["step_h"])
    filled = [*block, *[block[-1]] * (-len(block) % 4)]
    const, rules, kinds = _inputs(packed, filled, step_h)
    capacity = np.array([float(v.nodes["capacity_wh"][0]) for v in filled])
    table = np.zeros((ROWS, LANES))
    table[0, : len(filled)] = table[1, : len(filled)] = [float(v.nodes["soc_min"][0] * v.nodes["capacity_wh"][0]) for v in filled]
    codes, pv, bank = (np.ascontiguousarray(a[:, 0]) for a in (packed.codes, packed.pv_dc, packed.bank))
    rule, nothing = np.zeros(4 * LANES), np.zeros((0, 1, 1))
    per_day = round(24.0 / step_h)

    def run(first: int, count: int) -> None:
        table[2:] = 0.0
        for begin in range(first, steps, PIECE_DAYS * per_day):
            if cancelled():
                raise Cancelled("the variants were cancelled")
            lanes.run_lanes(
                kinds, 6, count, packed.plant, const.ravel(), rules.reshape(len(rules), -1), rule, codes, pv, bank, packed.ac,
                begin, min(begin + PIECE_DAYS * per_day, steps), table.ravel(), nothing,
            )  # fmt: skip

    run(max(0, steps - SPIN_UP_DAYS * per_day), len(filled))
    found: dict[int, VariantSums] = {}
    left = np.arange(len(block))  # which variant each lane is, those after them repeat one
    for runs in range(1, MOST_RUNS + 1):
        start = table[:2, : len(left)].copy()
        run(0, len(left) + -len(left) % 4)
        near = STEADY_FRAC * capacity[left] + 1e-9
        steady = np.all(np.abs(table[:2, : len(left)] - start) <= near, axis=0)
        for lane, v in enumerate(left):
            if steady[lane] or runs == MOST_RUNS:
                sums = table[int(lanes.ROW_SYSTEM) :, lane]
                rows = sums[: len(SYSTEM)].copy(), sums[len(SYSTEM) :][None, :].copy()
                found[int(v)] = VariantSums(*rows, runs, bool(steady[lane]))
        stay = np.flatnonzero(~steady)
        if not stay.size or runs == MOST_RUNS:
            break
        moved = [*stay, *[stay[-1]] * (-len(stay) % 4)]
        for part in (const, rules, table):
            part[..., : len(moved)] = part[..., moved]
        left = left[stay]
    yield from (found[v] for v in range(len(block)))


def _inputs(packed: Packed, filled: Sequence[Variant], step_h: float) -> tuple[Array, Array, tuple[tuple[int, ...], ...]]:
    """Return the lanes' terms, their slots' rules, and which kinds of rule any of them needs."""
    const = np.zeros((lanes.N_TERMS + 1, LANES))
    rules = np.zeros((filled[0].slots.shape[1], 4, LANES))
    slots = False
    for v, variant in enumerate(filled):
        terms = terms_of(variant.nodes, step_h, variant.take, variant.give)
        const[:-1, v] = [terms[name][0] for name in TERMS_DTYPE.names or ()]
        const[-1, v] = variant.pv_factor[0]
        made = rules_of(variant.nodes, variant.slots)
        for i, name in enumerate(RULE_NAMES):
            rules[:, i, v] = made[name][0]
        slots = slots or bool(np.isin(variant.slots["kind"][0, np.unique(packed.codes[:, 0])], _KIND_SLOTS).any())
    plant = packed.plant
    needed = (slots, bool(np.isfinite(plant["target_w"])), bool(np.isfinite(plant["transfer_w"])))
    return const, rules, tuple((0,) if need else () for need in needed)


RULE_NAMES = ("kind", "floor", "target", "power")  # as the lanes read them
assert set(RULE_NAMES) == set(RULE_DTYPE.names or ())
