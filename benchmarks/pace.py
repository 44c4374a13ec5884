"""How fast the machine is at the moment: it may share its processors, and the same work then takes twice as long a minute later."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

# Seconds of the work below where nobody else is at work, on the machine that the goals were set for.
QUICK_ONE_S, QUICK_TWO_S = 0.0128, 0.0125
_TEXT = bytes(8_000_000)


class Pace(NamedTuple):
    """How many times longer than on a quick machine plain work takes, in one thread and in two at once."""

    one: float
    two: float

    def __str__(self) -> str:
        return f"×{self.one:.1f} ×{self.two:.1f}"


def _count() -> None:
    total = 0.0
    for i in range(200_000):
        total += i * 0.5


def least(work: Callable[[], object], times: int = 3) -> float:
    """Return the least seconds of a few runs of some work. [s]"""
    took = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        took.append(time.perf_counter() - begin)
    return min(took)


def pace() -> Pace:
    """Return how slow the machine is now, the best of three tries each. [s/s]"""
    with ThreadPoolExecutor(2) as pool:
        two = least(lambda: list(pool.map(lambda _: hashlib.blake2b(_TEXT).digest(), range(2))))
    return Pace(least(_count) / QUICK_ONE_S, two / QUICK_TWO_S)


def mean(paces: list[Pace]) -> Pace:
    """Return the mean of some. [s/s]"""
    return Pace(*(sum(each) / len(paces) for each in zip(*paces, strict=True)))
