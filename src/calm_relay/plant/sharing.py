"""How batteries in parallel share a current (definitions D20): each branch by its resistance; the first to its limit ends it."""

from __future__ import annotations

from collections.abc import Sequence


def branch_currents(open_v: Sequence[float], ohms: Sequence[float], total_a: float) -> tuple[float, ...]:
    """Return each branch's current when the bank gives `total_a` (negative: takes). (branches,) [A]

    V_t = (Σ V_oc,i/r_i − I)/Σ(1/r_i); I_i = (V_oc,i − V_t)/r_i. Resistances are above 0; a branch without one would take all.
    """
    terminal = (sum(v / r for v, r in zip(open_v, ohms, strict=True)) - total_a) / sum(1.0 / r for r in ohms)
    return tuple((v - terminal) / r for v, r in zip(open_v, ohms, strict=True))


def bank_limit_a(ohms: Sequence[float], branch_limit_a: float) -> float:
    """Return the bank's current at which the first of branches of like open volts reaches its own limit. [A]"""
    conductance = [1.0 / r for r in ohms]
    return branch_limit_a * sum(conductance) / max(conductance)
