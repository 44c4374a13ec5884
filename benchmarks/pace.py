"""How fast the machine is at the moment: it may share its processors, and the same work then takes twice as long a minute later."""

from __future__ import annotations

import time

QUICK_S = 0.0128  # the loop below where nobody else is at work, on the machine that the goals were set for
_COUNT = 200_000


def pace() -> float:
    """Return how many times longer than on a quick machine some plain work takes now, the best of three tries. [s/s]"""
    took = []
    for _ in range(3):
        begin, total = time.perf_counter(), 0.0
        for i in range(_COUNT):
            total += i * 0.5
        took.append(time.perf_counter() - begin)
    return min(took) / QUICK_S
