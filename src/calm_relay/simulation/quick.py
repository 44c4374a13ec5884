"""Quick sums: the trade's own arithmetic, shown beside the simulation. Each says which end its watts are measured at."""

from __future__ import annotations

import math


def window_draws_wh(power_w: float, hours_h: float) -> float:
    """Return what a charge window of constant power moves at the end where the watts are measured. [Wh]"""
    return power_w * hours_h


def window_stores_wh(terminals_w: float, hours_h: float, dc_round_trip_frac: float) -> float:
    """Return what a window puts into the cells from DC watts at the terminals: one way is the root of the round trip. [Wh]"""
    return window_draws_wh(terminals_w, hours_h) * math.sqrt(dc_round_trip_frac)
