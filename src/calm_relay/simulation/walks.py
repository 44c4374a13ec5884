"""A year in blocks of a few days, joined to a ring that ends as it began (definitions D11).

A battery forgets within days how it began, so stretches of the year are run side by side, each from a first guess and a spin-up.
Then the year is walked through: a block is run again where the one before it ends otherwise than it began with. When nothing is
left to run, the year is one, whoever ran it first. One plan and lanes of variants walk by the same lines.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.columns import AC_PV_B, AC_PV_B_FIXED, AC_PV_G, AC_PV_G_FIXED
from calm_relay.simulation.pack import Packed

Array = NDArray[np.float64]
Lanes = NDArray[np.bool_]
# Runs a block from energies and their PV parts (2, nodes, lanes), changed in place; notes sums of the lanes named, of none for a
# spin-up. Raises Cancelled.
Run = Callable[[int, Array, Lanes | None], None]

BLOCK_DAYS = 5
SPIN_UP_BLOCKS = 3
LEAST_BLOCKS = 12  # a year of fewer is one stretch
MOST_RUNS = 50
STEADY_FRAC = 0.001
MIX_FRAC = STEADY_FRAC / 10  # PV parts that are nearer than this join; energies join where they are the very same
_DARKEST = {"in mid-year": 172 / 365, "at its turn": 355 / 365}  # the shortest days, by hemisphere
_HALF_DARK = 85 / 365  # stretches begin so much of a year before and after: batteries are low then, and forget fastest


class Walks:
    """How blocks of a year began and ended, for lanes of variants or for one plan as the only lane.

    Attributes
    ----------
    begins, ends : ndarray (blocks, 2, nodes, lanes)
        Energies and their PV parts; NaN before the first run. [Wh]
    """

    def __init__(self, blocks: int, guess_wh: Array, capacity_wh: Array) -> None:
        """Of so many blocks; the first guess and the capacity are (nodes, lanes). [Wh]"""
        self._guess, self._capacity = guess_wh, capacity_wh
        self.begins = np.full((blocks, 2, *guess_wh.shape), np.nan)
        self.ends = self.begins.copy()
        self._all = np.ones(guess_wh.shape[-1], np.bool_)

    def stretch(self, run: Run, stretch: Sequence[int]) -> None:
        """Run the blocks of a stretch one after the other from the first guess, PV origin, after a spin-up of those before it."""
        energies = np.array((self._guess, self._guess))
        if self._capacity.any():
            for i in range(stretch[0] - SPIN_UP_BLOCKS, stretch[0]):
                run(i % len(self.begins), energies, None)
        self.chain(run, stretch, energies)

    def chain(self, run: Run, blocks: Iterable[int], energies: Array) -> None:
        """Run blocks one after the other from energies, changed in place."""
        for i in blocks:
            self._block(run, i, energies, self._all)

    def _block(self, run: Run, i: int, energies: Array, lanes: Lanes) -> None:
        self.begins[i][..., lanes] = energies[..., lanes]
        run(i, energies, lanes)
        self.ends[i][..., lanes] = energies[..., lanes]

    def _apart(self, before: Array, begins: Array, lanes: Lanes) -> Lanes:
        """Return where a block, (…, 2, nodes, lanes), begins otherwise than the one before it ended. (…, lanes) [bool]"""
        same = before[..., 0, :, :] == begins[..., 0, :, :]
        same &= np.abs(before[..., 1, :, :] - begins[..., 1, :, :]) <= MIX_FRAC * self._capacity
        apart: Lanes = lanes & ~same.all(axis=-2)
        return apart

    def walk(self, run: Run, lanes: Lanes) -> None:
        """Go through the year from how it ended, and run what does not join, in the lanes named."""
        before = np.roll(self.ends, 1, axis=0)
        apart = self._apart(before, self.begins, lanes)
        i = 0
        while apart[i:].any():
            i += int(np.argmax(apart[i:].any(axis=1)))
            # Lanes that join here are run on from how the block began, which changes nothing of them.
            energies = np.where(apart[i], before[i], self.begins[i])
            self._block(run, i, energies, apart[i])
            i += 1
            if i < len(self.begins):
                before[i] = self.ends[i - 1]
                apart[i] = self._apart(before[i], self.begins[i], lanes)

    def settle(self, run: Run, most: int) -> tuple[NDArray[np.int64], Lanes]:
        """Walk until each lane ends as it began, at most so many times; returns walks and whether it is steady.

        (lanes,) each [number], [bool]
        """
        runs, steady = np.zeros(len(self._all), np.int64), ~self._all
        while not steady.all() and runs.max() < most:
            runs += ~steady
            self.walk(run, ~steady)
            steady |= self.steady()
        return runs, steady

    def steady(self) -> Lanes:
        """Return whether each lane ended as it began, energies and PV parts within 0.1 % of capacity (D11). (lanes,) [bool]"""
        near = np.abs(self.ends[-1] - self.begins[0]) <= STEADY_FRAC * self._capacity + 1e-9
        steady: Lanes = near.all(axis=(0, 1))
        return steady


def block_firsts(steps: int, step_h: float) -> tuple[int, NDArray[np.int64]]:
    """Return how many steps a block has, and the first step of each."""
    size = BLOCK_DAYS * round(24.0 / step_h)
    return size, np.arange(0, max(1, steps), size)


def in_turn(blocks: Array) -> Array:
    """Return blocks (blocks, …) added up one after the other: the same bits wherever a year is added up. (…,) [any]"""
    total: Array = np.zeros(blocks.shape[1:])
    for block in blocks:
        total += block
    return total


def first_guess_wh(packed: Packed, nodes: NDArray[np.void]) -> Array:
    """Return the energy that a year's runs begin with (D11): SoC_min; without a grid SoC_max, for nothing may wake an empty bank.

    (nodes,) [Wh]
    """
    level = nodes["soc_max" if packed.plant["island"] else "soc_min"]
    guess: Array = level.astype(float) * nodes["capacity_wh"].astype(float)
    return guess


def stretches(packed: Packed) -> tuple[list[int], ...]:
    """Return the blocks of each stretch that is run by itself: of the bright months, and of the dark ones; an island has one."""
    _, first = block_firsts(len(packed.ac), float(packed.plant["step_h"]))
    count = len(first)
    if packed.plant["island"] or count < LEAST_BLOCKS:  # what an island has lost by some day hangs on all days before
        return (list(range(count)),)
    sampled = slice(None, None, max(1, round(2.0 / float(packed.plant["step_h"]))))
    sun: Lanes = np.any(packed.pv_dc[sampled] > 0.0, axis=1)
    for column in (AC_PV_B, AC_PV_G, AC_PV_B_FIXED, AC_PV_G_FIXED):
        sun |= packed.ac[sampled, column] > 0.0
    mid_year = sun[len(sun) // 4 : 3 * len(sun) // 4]
    darkest = _DARKEST["in mid-year" if mid_year.mean() < sun.mean() else "at its turn"]
    begin, end = (int((darkest + part) % 1.0 * count) for part in (-_HALF_DARK, _HALF_DARK))
    dark = [i % count for i in range(begin, end if end > begin else end + count)]
    bright = [i % count for i in range(end, begin if begin > end else begin + count)]
    return bright, dark
