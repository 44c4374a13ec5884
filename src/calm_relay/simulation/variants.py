"""Many variants of one plan under the same sun, house and clock: lanes in threads, sums only, each run until it is steady."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import MOST_RUNS, SPIN_UP_DAYS, first_guess_wh, is_steady, run_year
from calm_relay.simulation.kernel import lanes
from calm_relay.simulation.kernel.records import (
    BANK_CAR,
    BANK_KEEP,
    CHARGE_FROM_GRID,
    DISCHARGE_TO_GRID,
    RULE_DTYPE,
    TERMS_DTYPE,
    TIMER,
    most_passes,
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

    Plans of one node go through the lanes, unless they keep room for what will be clipped (it hangs on the variant) or have no
    grid; others one by one. All in as many threads as there are processors, four at most. Raises Cancelled.
    """
    workers = min(4, os.cpu_count() or 1)
    in_lanes = len(packed.nodes) == 1 and not packed.bank[:, :, [BANK_KEEP, BANK_CAR]].any() and not packed.plant["island"]
    with ThreadPoolExecutor(workers) as pool:
        if not in_lanes:
            return list(pool.map(lambda variant: _alone(packed, variant, cancelled), variants))
        found: list[VariantSums | None] = [None] * len(variants)
        begin_wh = np.array([float(first_guess_wh(packed, v.nodes)[0]) for v in variants])
        energies = np.array([begin_wh, begin_wh])
        capacity = np.array([float(v.nodes["capacity_wh"][0]) for v in variants])
        left = np.arange(len(variants))
        for runs in range(1, MOST_RUNS + 1):
            # Those that are not steady yet fill blocks of their own: a block takes about as long with few lanes as with all.
            blocks = [left[i : i + LANES] for i in range(0, len(left), LANES)]
            ran = list(pool.map(lambda ids, n=runs: _block(packed, variants, ids, energies[:, ids], cancelled, n == 1), blocks))
            for ids, (start, end, sums) in zip(blocks, ran, strict=True):
                steady = is_steady(start, end, capacity[ids])
                energies[:, ids] = end
                for lane in np.flatnonzero(steady | (runs == MOST_RUNS)):
                    rows = sums[: len(SYSTEM), lane].copy(), sums[len(SYSTEM) :, lane][None, :].copy()
                    found[ids[lane]] = VariantSums(*rows, runs, bool(steady[lane]))
            left = np.array([v for v in left if found[v] is None], dtype=int)
            if not left.size:
                break
    return [row for row in found if row is not None]


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


def _block(
    packed: Packed, variants: Sequence[Variant], ids: NDArray[np.int64], energies: Array, cancelled: Callable[[], bool], spin: bool
) -> tuple[Array, Array, Array]:
    """Run up to LANES variants once from their energies, after a spin-up if asked; places that stay empty repeat the last one.

    Returns the energies and their PV parts before and after (2, lanes), and the sums (SYSTEM + NODE, lanes). [Wh], [W]
    """
    steps, step_h = len(packed.ac), float(packed.plant["step_h"])
    filled = [variants[v] for v in ids]
    filled += [filled[-1]] * (-len(filled) % 4)
    const, rules, kinds = _inputs(packed, filled, step_h)
    table = np.zeros((ROWS, LANES))
    table[:2, : len(ids)] = energies
    table[:2, len(ids) : len(filled)] = energies[:, -1:]
    codes, pv, bank = (np.ascontiguousarray(a[:, 0]) for a in (packed.codes, packed.pv_dc, packed.bank))
    rule, nothing = np.zeros(4 * LANES), np.zeros((0, 1, 1))
    per_day = round(24.0 / step_h)
    passes = most_passes(1)
    for first in (max(0, steps - SPIN_UP_DAYS * per_day), 0) if spin else (0,):
        start = table[:2, : len(ids)].copy()
        table[2:] = 0.0
        for begin in range(first, steps, PIECE_DAYS * per_day):
            if cancelled():
                raise Cancelled("the variants were cancelled")
            lanes.run_lanes(
                kinds, passes, len(filled), packed.plant, const.ravel(), rules.reshape(len(rules), -1), rule, codes, pv, bank,
                packed.ac, begin, min(begin + PIECE_DAYS * per_day, steps), table.ravel(), nothing,
            )  # fmt: skip
    return start, table[:2, : len(ids)].copy(), table[int(lanes.ROW_SYSTEM) :, : len(ids)]


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
    needed = (slots, bool(np.isfinite(plant["target_w"])), bool(np.isfinite(plant["transfer_w"])), False, False)
    return const, rules, tuple((0,) if need else () for need in needed)


RULE_NAMES = ("kind", "floor", "target", "power")  # as the lanes read them
assert set(RULE_NAMES) == set(RULE_DTYPE.names or ())
