"""Many variants of one plan under the same sun, house and clock: lanes in threads, sums only, each run until it is steady."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import run_year
from calm_relay.simulation.kernel import lane_rows, lanes
from calm_relay.simulation.kernel.records import (
    BANK_CAR,
    BANK_KEEP,
    CHARGE_FROM_GRID,
    DISCHARGE_TO_GRID,
    EACH_NONE,
    MOST_NODES,
    RULE_DTYPE,
    TERMS_DTYPE,
    TIMER,
    most_passes,
    rules_of,
    terms_of,
)
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.walks import MOST_RUNS, Lanes, Walks, block_firsts, first_guess_wh, in_turn, stretches

Array = NDArray[np.float64]
Kinds = tuple[tuple[int, ...] | tuple[tuple[int, ...], ...], ...]
RULE_NAMES = ("kind", "floor", "target", "power")  # as the lanes read them
assert set(RULE_NAMES) == set(RULE_DTYPE.names or ())


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
    """Sums of a variant's last run: `sums` (SYSTEM,), `node_sums` (nodes, NODE) of W over steps; whether and when it was steady.

    `steps_run` are all steps that were run for it: with a spin-up, what was run again, and what only its neighbours needed again.
    """

    sums: Array
    node_sums: Array
    runs: int
    steady: bool
    steps_run: int


def run_variants(packed: Packed, variants: Sequence[Variant], cancelled: Callable[[], bool] = lambda: False) -> list[VariantSums]:
    """Run every variant until it is steady, as `flow.run_year` does, and with the same figures bit for bit.

    They go through the lanes, unless the plan has no node, keeps room for what will be clipped (it hangs on the variant), has cars
    on a DC side or no grid, or its batteries take more than two turns, other ones in other variants: then one by one. All in as
    many threads as there are processors, four at most. Raises Cancelled.
    """
    n, plain = len(packed.nodes), not packed.bank[:, :, [BANK_KEEP, BANK_CAR]].any() and not packed.plant["island"]
    groups = 1 + max((int(turn.max()) for v in variants for turn in (v.take, v.give) if n), default=0)
    with ThreadPoolExecutor(min(4, os.cpu_count() or 1)) as pool:
        if not plain or n == 0 or (groups > 2 and not _turns_alike(variants)):
            return list(pool.map(lambda variant: _alone(packed, variant, cancelled), variants))
        wide = int(lane_rows.LANES_ONE if n == 1 else lane_rows.LANES_TWO if n == 2 else lane_rows.LANES_MORE)
        kinds = _kinds(packed, variants)
        together = [variants[i : i + wide] for i in range(0, len(variants), wide)]
        ran = pool.map(lambda group: _Group(packed, group, kinds, wide).run(cancelled), together)
        return [row for group in ran for row in group]


def _alone(packed: Packed, variant: Variant, cancelled: Callable[[], bool]) -> VariantSums:
    own = replace(
        packed,
        nodes=variant.nodes,
        slots=variant.slots,
        take=variant.take,
        give=variant.give,
        pv_dc=packed.pv_dc * np.array(variant.pv_factor),
    )
    flow = run_year(own, cancelled, series=False, threads=1)
    return VariantSums(flow.sums, flow.node_sums, flow.runs, flow.steady, flow.steps_run)


def _turns_alike(variants: Sequence[Variant]) -> bool:
    """Return whether batteries of all variants take turns alike: the compiler is then told who comes when."""
    return len({(*v.take, *v.give) for v in variants}) == 1


def _kinds(packed: Packed, variants: Sequence[Variant]) -> Kinds:
    """Return which kinds of rule any of the variants needs, in the order of `records.ALL_KINDS`."""
    nodes = range(len(packed.nodes))
    used = [np.unique(packed.codes[:, k]) for k in nodes]
    held = {float(kind) for v in variants for k in nodes for kind in v.slots["kind"][k, used[k]]}
    alike = _turns_alike(variants)
    needed = (
        bool(held & {CHARGE_FROM_GRID, TIMER}), DISCHARGE_TO_GRID in held, bool(np.isfinite(packed.plant["target_w"])),
        bool(np.isfinite(packed.plant["transfer_w"])), False, False, not alike,
    )  # fmt: skip
    sunny = [k in nodes and bool(packed.pv_dc[:, k].any()) for k in range(MOST_NODES)]
    turns = (_before(variants[0].take), _before(variants[0].give)) if alike else (EACH_NONE, EACH_NONE)
    return *_asked(needed), _asked(sunny), *turns, (0,)


def _before(turn: NDArray[np.int64]) -> tuple[tuple[int, ...], ...]:
    """Return for each node how many groups come before its own, as the compiler reads it: by the length of tuples."""
    return tuple((0,) * int(turn[k]) if k < len(turn) else () for k in range(MOST_NODES))


def _asked(needed: Iterable[bool]) -> tuple[tuple[int, ...], ...]:
    """Return what is needed as the compiler reads it: by the length of tuples."""
    return tuple((0,) if need else () for need in needed)


class _Group:
    """As many variants as a block of lanes holds, run together until each is steady; empty places repeat the last one."""

    def __init__(self, packed: Packed, variants: Sequence[Variant], kinds: Kinds, wide: int) -> None:
        self.packed, self.n, self.count = packed, len(packed.nodes), len(variants)
        self.steps, step_h = len(packed.ac), float(packed.plant["step_h"])
        self.size, self.first = block_firsts(self.steps, step_h)
        filled = [*variants, *[variants[-1]] * (-self.count % lane_rows.VECTOR)]
        const, rules = np.zeros((self.n, int(lane_rows.N_OWN), wide)), np.zeros((self.n, filled[0].slots.shape[1], 4, wide))
        for v, variant in enumerate(filled):
            terms, made = terms_of(variant.nodes, step_h, variant.take, variant.give), rules_of(variant.nodes, variant.slots)
            const[:, :-1, v] = np.array([terms[name] for name in TERMS_DTYPE.names or ()]).T
            const[:, -1, v] = variant.pv_factor
            for i, name in enumerate(RULE_NAMES):
                rules[:, :, i, v] = made[name]
        self.table = np.zeros((int(lane_rows.ROW_NODES) + self.n * len(NODE), wide))
        # Places that stay empty are not run: as variants without a battery they are steady.
        self.guess, self.capacity = np.zeros((2, self.n, wide))
        for v, variant in enumerate(filled):
            self.guess[:, v], self.capacity[:, v] = first_guess_wh(packed, variant.nodes), variant.nodes["capacity_wh"]
        nothing = np.zeros((0, 1, 1))
        shape, room = (0,) * self.n, np.zeros(self.n * 4 * wide)
        made_rules = rules.reshape(*rules.shape[:2], -1)
        series = packed.codes, packed.pv_dc, packed.bank, packed.ac.T
        lane_inputs = len(filled), packed.plant, const.ravel(), made_rules, room
        self._given = (shape, kinds, most_passes(self.n), *lane_inputs, *series), nothing

    def run(self, cancelled: Callable[[], bool]) -> list[VariantSums]:
        """Run the group; see `flow.run_year`. Raises Cancelled."""
        walks = Walks(len(self.first), self.guess, self.capacity)
        sums = self.table[int(lane_rows.ROW_SYSTEM) :]
        blocks = np.zeros((len(self.first), *sums.shape))
        energies = self.table[: 2 * self.n].reshape(self.n, 2, -1).transpose(1, 0, 2)

        steps_run = 0

        def run(i: int, now: Array, wanted: Lanes | None) -> None:
            nonlocal steps_run
            if cancelled():
                raise Cancelled("the variants were cancelled")
            energies[:], sums[:] = now, 0.0
            given, nothing = self._given
            first, last = int(self.first[i]), min(int(self.first[i]) + self.size, self.steps)
            lanes.run_lanes(*given, first, last, self.table.ravel(), nothing)
            steps_run += last - first
            now[:] = energies
            if wanted is not None:
                blocks[i][:, wanted] = sums[:, wanted]

        for stretch in stretches(self.packed):
            walks.stretch(run, stretch)
        runs, steady = walks.settle(run, MOST_RUNS)
        total = in_turn(blocks)
        node_sums = total[len(SYSTEM) :].reshape(self.n, len(NODE), -1)
        return [
            VariantSums(total[: len(SYSTEM), v].copy(), node_sums[..., v].copy(), int(runs[v]), bool(steady[v]), steps_run)
            for v in range(self.count)
        ]
