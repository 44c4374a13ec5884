"""Cash over the years and what it comes to: payback, present value, internal rate (definitions D19).

Cost stands at time 0, a year's cash at its end; the first flow is not discounted, as numpy-financial has it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Worth:
    """What flows come to. Paybacks are None where they never pay back within their years, `irr_frac` where no sign changes."""

    npv: float
    irr_frac: float | None
    payback_years: float | None
    discounted_payback_years: float | None


def net_present_value(rate_frac: float, flows: Sequence[float]) -> float:
    """Return the present value of flows, the first at time 0 and not discounted (by the package numpy-financial). [money]"""
    import numpy_financial as npf

    return float(npf.npv(rate_frac, list(flows)))


def internal_rate(flows: Sequence[float]) -> float | None:
    """Return the rate at which the present value is nothing (numpy-financial); None where no sign changes. [1/year]"""
    import numpy as np
    import numpy_financial as npf

    largest = max((abs(flow) for flow in flows), default=0.0)
    plain = [0.0 if abs(flow) <= 1e-9 * largest else flow for flow in flows]  # what is nothing beside the rest changes no sign
    if not (any(flow > 0 for flow in plain) and any(flow < 0 for flow in plain)):
        return None
    with np.errstate(all="ignore"):
        rate = float(npf.irr(plain))
    if not np.isfinite(rate) or rate <= -1.0:
        return None
    try:
        parts = [flow / (1.0 + rate) ** year for year, flow in enumerate(plain)]
    except (OverflowError, ZeroDivisionError):
        return None
    return rate if abs(sum(parts)) <= 1e-6 * sum(abs(part) for part in parts) else None  # a root that is none is not told


def payback(flows: Sequence[float], discount_frac: float = 0.0) -> float | None:
    """Return when the sum of flows is no longer below 0 and stays so, straight within a year; None where that never comes. [years]

    What a later year takes away again, a replacement say, is counted: the last crossing holds.
    """
    total, sums = 0.0, []
    for year, flow in enumerate(flows):
        total += flow / (1.0 + discount_frac) ** year
        sums.append(total)
    if not sums or sums[-1] < 0:
        return None
    below = [year for year, value in enumerate(sums) if value < 0]
    if not below:
        return 0.0
    last = below[-1]
    return last + -sums[last] / (sums[last + 1] - sums[last])


def worth_of(flows: Sequence[float], discount_frac: float) -> Worth:
    """Return what flows come to."""
    return Worth(net_present_value(discount_frac, flows), internal_rate(flows), payback(flows), payback(flows, discount_frac))
