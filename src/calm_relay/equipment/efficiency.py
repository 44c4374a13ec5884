"""Three-term losses from what data sheets print: efficiency at some loads, or peak and weighted efficiency alone (definitions D4).

P_dc = P_ac + p_self + a·P_ac + b·P_ac²/P_rated. Per rated watt the loss at load x is p + a·x + b·x²: linear in its terms, so that
points are fitted by least squares with no term below zero.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import NotFeasible
from calm_relay.library.cards import AcUnit, LossTerms

Array = NDArray[np.float64]
Weighting = Literal["european", "cec"]
# Load and weight: IEC 61683 as used for the European efficiency; the CEC protocol (both from memory).
WEIGHTS: dict[Weighting, tuple[tuple[float, float], ...]] = {
    "european": ((0.05, 0.03), (0.10, 0.06), (0.20, 0.13), (0.30, 0.10), (0.50, 0.48), (1.00, 0.20)),
    "cec": ((0.10, 0.04), (0.20, 0.05), (0.30, 0.12), (0.50, 0.21), (0.75, 0.53), (1.00, 0.05)),
}
P_SELF_OF_RATED = 0.004  # where the card gives no idle draw (definitions D4)
MOST_OFF_FRAC = 0.01


@dataclass(frozen=True)
class Fit:
    """Fitted terms beside what they were fitted to: (load, efficiency on the sheet, efficiency of the fit), each 0 to 1.

    `weighted` is the weighted efficiency of the fit where one was given, else None.
    """

    terms: LossTerms
    points: tuple[tuple[float, float, float], ...]
    weighted: tuple[float, float] | None = None

    @property
    def worst_frac(self) -> float:
        """The largest difference of an efficiency from its sheet's. [0 to 1]"""
        rows = [abs(fit - sheet) for _, sheet, fit in self.points]
        return max([*rows, *([abs(self.weighted[1] - self.weighted[0])] if self.weighted else [])], default=0.0)


def efficiency_at(terms: LossTerms, rated_w: float, load_frac: float) -> float:
    """Return AC over DC at a share of the rating; 0 at none. [0 to 1]"""
    out = load_frac * rated_w
    return out / terms.in_w(out, rated_w) if out > 0 else 0.0


def weighted_efficiency(terms: LossTerms, rated_w: float, weighting: Weighting) -> float:
    """Return the European or CEC efficiency of loss terms. [0 to 1]"""
    return sum(weight * efficiency_at(terms, rated_w, load) for load, weight in WEIGHTS[weighting])


def _share(efficiency: float) -> float:
    """Return the loss per watt out of an efficiency. [W/W]"""
    return 1.0 / efficiency - 1.0


def _terms_above_zero(columns: Array, shares: Array, weights: Array) -> list[float]:
    """Return the terms, none below 0, whose sum over the columns is nearest to the losses per watt out. (terms,)"""
    from scipy.optimize import nnls

    found, _ = nnls(columns * weights[:, None], shares * weights)
    return [float(v) for v in found]


def fit_points(points: Sequence[tuple[float, float]], rated_w: float, p_self_w: float | None = None) -> Fit:
    """Return terms for efficiencies at some loads, (share of the rating, efficiency); p_self stays as given, if it is.

    Raises
    ------
    NotFeasible
        When there are too few points, a load or an efficiency is none, or no three terms come within a percent of them.
    """
    rows = sorted(points)
    if len(rows) < (2 if p_self_w is not None else 3) or len({load for load, _ in rows}) < len(rows):
        raise NotFeasible("too few points of efficiency", "give three loads or more, each once; two where the idle draw is known")
    for load, efficiency in rows:
        if not (0 < load <= 1.2 and 0.3 < efficiency < 1):
            problem = f"{efficiency * 100:g} % at {load * 100:g} % of the rating is no efficiency"
            raise NotFeasible(problem, "give loads up to 120 % and efficiencies between 30 and 100 %")
    loads, shares = np.array([load for load, _ in rows]), np.array([_share(e) for _, e in rows])
    weights = loads**0.25  # a little more where most energy flows
    columns = np.column_stack((1.0 / loads, np.ones_like(loads), loads))  # of p, a and b
    if p_self_w is None:
        p, a, b = _terms_above_zero(columns, shares, weights)
    else:
        p = p_self_w / rated_w
        a, b = _terms_above_zero(columns[:, 1:], shares - p / loads, weights)
    terms = LossTerms(p_self_w=p * rated_w, a=a, b=b)
    made = Fit(terms, tuple((load, e, efficiency_at(terms, rated_w, load)) for load, e in rows))
    if made.worst_frac > MOST_OFF_FRAC:
        off = f"no loss of three terms comes nearer than {made.worst_frac * 100:.1f} % to these efficiencies"
        raise NotFeasible(off, "check the points against the data sheet")
    return made


def fit_weighted(
    peak_frac: float, weighted_frac: float, weighting: Weighting, rated_w: float, p_self_w: float | None = None
) -> Fit:
    """Return terms for a peak and a weighted efficiency alone; p_self is the card's idle draw, else 0.4 % of the rating.

    Two figures leave three terms open, so p_self is fixed first (definitions D4); then a and b meet peak and weighted figure, both
    at least 0. Where no such terms meet both, the nearest do, and the fit says how far they are.

    Raises
    ------
    NotFeasible
        When a figure is no efficiency, the peak lies below the weighted one, or the idle draw alone passes what the peak leaves.
    """
    from scipy.optimize import least_squares

    if not (0.3 < weighted_frac < 1 and 0.3 < peak_frac < 1):
        raise NotFeasible("an efficiency lies between 30 and 100 %", "give both as the data sheet prints them")
    if peak_frac < weighted_frac:
        raise NotFeasible(
            f"the peak of {peak_frac * 100:g} % lies below the weighted {weighted_frac * 100:g} %", "check which figure is which"
        )
    p = P_SELF_OF_RATED if p_self_w is None else p_self_w / rated_w

    def best_of(b: float) -> float:
        """Load of the peak: where p/x = b·x, inside the rating."""
        return min(1.0, float(np.sqrt(p / b))) if b > 0 else 1.0

    def peak_of(a: float, b: float) -> float:
        best = best_of(b)
        return 1.0 / (1.0 + p / best + a + b * best)

    def off(terms: Array) -> Array:
        a, b = float(terms[0]), float(terms[1])
        made = LossTerms(p_self_w=p * rated_w, a=min(a, 1.0), b=min(b, 1.0))
        return np.array([peak_of(a, b) - peak_frac, weighted_efficiency(made, rated_w, weighting) - weighted_frac])

    starts = ((0.005, 0.01), (0.001, 0.03), (0.03, 0.001))
    runs = [least_squares(off, start, bounds=([0.0, 0.0], [1.0, 1.0]), xtol=1e-14, ftol=1e-14, gtol=1e-14) for start in starts]
    a, b = (float(v) for v in min(runs, key=lambda run: run.cost).x)
    terms = LossTerms(p_self_w=p * rated_w, a=a, b=b)
    made = Fit(terms, ((best_of(b), peak_frac, peak_of(a, b)),), (weighted_frac, weighted_efficiency(terms, rated_w, weighting)))
    if made.worst_frac > MOST_OFF_FRAC:
        problem = f"an idle draw of {p * rated_w:.0f} W leaves no loss that meets both figures within a percent"
        raise NotFeasible(problem, "type the idle draw of the data sheet")
    return made


def fit_of(data: Mapping[str, Any], rated_w: float) -> Fit | None:
    """Return the fit to the efficiencies a card's data hold, points before peak and weighted figure; None where they are too few.

    Raises
    ------
    NotFeasible
        Where no three terms come near them.
    """
    points = [(row["load_frac"], row["efficiency_frac"]) for row in _rows(data.get("efficiency_points"))]
    if len(points) >= 3:
        return fit_points(points, rated_w)
    peak = data.get("peak_efficiency_frac")
    weightings: tuple[tuple[str, Weighting], ...] = (("european_efficiency_frac", "european"), ("cec_efficiency_frac", "cec"))
    for name, weighting in weightings:
        weighted = data.get(name)
        if isinstance(peak, float) and isinstance(weighted, float) and 0.3 < weighted <= peak < 1:
            return fit_weighted(peak, weighted, weighting, rated_w)
    return None


def _rows(given: Any) -> list[Mapping[str, float]]:
    """Return rows of points that hold two numbers each; none where one does not, for the models to refuse."""
    rows = list(given) if isinstance(given, list | tuple) else []
    good = all(
        isinstance(row, Mapping) and all(isinstance(row.get(n), float | int) for n in ("load_frac", "efficiency_frac"))
        for row in rows
    )
    return rows if good else []


def card_fit(card: AcUnit) -> Fit | None:
    """Return a card's own terms beside the efficiencies on its sheet; None where it has none to show."""
    terms, rated = card.loss, card.ac_rated_w
    points = [(p.load_frac, p.efficiency_frac, efficiency_at(terms, rated, p.load_frac)) for p in card.efficiency_points]
    if card.peak_efficiency_frac is not None:
        best = min(1.0, math.sqrt(terms.p_self_w / rated / terms.b)) if terms.b > 0 else 1.0
        points.append((best, card.peak_efficiency_frac, efficiency_at(terms, rated, best)))
    weighted = None
    if card.european_efficiency_frac is not None:
        weighted = (card.european_efficiency_frac, weighted_efficiency(terms, rated, "european"))
    elif card.cec_efficiency_frac is not None:
        weighted = (card.cec_efficiency_frac, weighted_efficiency(terms, rated, "cec"))
    return Fit(terms, tuple(points), weighted) if points or weighted else None
