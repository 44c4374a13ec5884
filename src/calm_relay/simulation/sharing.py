"""How batteries in parallel share a current (definitions D20): each branch by its resistance; the first to its limit ends it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def branch_currents(open_v: Sequence[float], ohms: Sequence[float], total_a: float) -> Array:
    """Return each branch's current when the bank gives `total_a` (negative: takes). (branches,) [A]

    V_t = (Σ V_oc,i/r_i − I)/Σ(1/r_i); I_i = (V_oc,i − V_t)/r_i. Resistances are above 0; a branch without one would take all.
    """
    volts, r = np.asarray(open_v, dtype=np.float64), np.asarray(ohms, dtype=np.float64)
    conductance = 1.0 / r
    terminal = (float((volts * conductance).sum()) - total_a) / float(conductance.sum())
    shares: Array = (volts - terminal) * conductance
    return shares


def bank_limit_a(ohms: Sequence[float], branch_limit_a: float) -> float:
    """Return the bank's current at which the first of branches of like open volts reaches its own limit. [A]"""
    conductance = 1.0 / np.asarray(ohms, dtype=np.float64)
    return branch_limit_a * float(conductance.sum() / conductance.max())
