"""Loss terms fitted to data sheets: terms come back from their own figures, and from inverters of pvlib's open list.

Weights: IEC 61683 as used for the European efficiency, 3/6/13/10/48/20 %; CEC protocol, 4/5/12/21/53/5 % (both from memory).
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pvlib
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.equipment.efficiency import WEIGHTS, efficiency_at, fit_points, fit_weighted, weighted_efficiency
from calm_relay.errors import NotFeasible
from calm_relay.library.cards import LossTerms

LOADS = (0.05, 0.1, 0.2, 0.3, 0.5, 0.75, 1.0)


def test_weights_are_the_published_ones():
    assert [w for _, w in WEIGHTS["european"]] == [0.03, 0.06, 0.13, 0.10, 0.48, 0.20]
    assert [w for _, w in WEIGHTS["cec"]] == [0.04, 0.05, 0.12, 0.21, 0.53, 0.05]
    flat = LossTerms(p_self_w=0, a=1 / 0.95 - 1, b=0)
    assert weighted_efficiency(flat, 5000, "european") == pytest.approx(0.95)
    assert weighted_efficiency(flat, 5000, "cec") == pytest.approx(0.95)


@given(p=st.floats(0.0, 0.02), a=st.floats(0.0, 0.05), b=st.floats(0.0, 0.05), rated=st.floats(300.0, 50_000.0))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_terms_come_back_from_their_own_points(p, a, b, rated):
    true = LossTerms(p_self_w=p * rated, a=a, b=b)
    points = [(x, efficiency_at(true, rated, x)) for x in LOADS if 0.3 < efficiency_at(true, rated, x) < 1]
    if len(points) < 3:
        return
    made = fit_points(points, rated)
    assert made.worst_frac < 1e-6
    for x in (0.07, 0.4, 0.9):
        assert efficiency_at(made.terms, rated, x) == pytest.approx(efficiency_at(true, rated, x), abs=1e-5)


@given(p=st.floats(0.002, 0.01), a=st.floats(0.0, 0.03), b=st.floats(0.004, 0.04), which=st.sampled_from(["european", "cec"]))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_terms_come_back_from_peak_and_weighted_with_the_idle_draw(p, a, b, which):
    rated = 5000.0
    true = LossTerms(p_self_w=p * rated, a=a, b=b)
    best = min(1.0, np.sqrt(p / b))
    made = fit_weighted(efficiency_at(true, rated, best), weighted_efficiency(true, rated, which), which, rated, p * rated)
    assert made.worst_frac < 2e-4
    # Two figures leave more than one shape: between them half load is off by up to half a percent.
    assert efficiency_at(made.terms, rated, 0.5) == pytest.approx(efficiency_at(true, rated, 0.5), abs=5e-3)


def test_figures_that_are_none_are_refused_with_a_reason():
    steep = [(0.1, 0.9), (0.5, 0.97), (1.0, 0.7)]
    beyond = [(0.1, 0.9), (0.5, 1.04), (1.0, 0.95)]
    twice = [(0.5, 0.96), (0.5, 0.97), (1.0, 0.95)]
    for points, words in (([(0.5, 0.96)], "too few"), (twice, "too few"), (beyond, "no efficiency"), (steep, "no loss")):
        with pytest.raises(NotFeasible, match=words):
            fit_points(points, 5000)
    with pytest.raises(NotFeasible, match="below the weighted"):
        fit_weighted(0.95, 0.97, "cec", 5000)
    with pytest.raises(NotFeasible, match="idle draw"):
        fit_weighted(0.97, 0.96, "cec", 5000, 800)


def test_inverters_of_the_open_list_are_met_by_three_terms():
    """Rows by number of the list that the pvlib package carries: its own model's points at nominal volts."""
    path = Path(pvlib.__file__).parent / "data" / "sam-library-cec-inverters-2019-03-05.csv"
    rows = pd.read_csv(path, skiprows=[1, 2])
    spread, weighted = [], []
    for number in range(0, len(rows), 37):
        row = rows.iloc[number]
        rated, dc = float(row.Paco), np.linspace(0.02, 1.1, 4000) * float(row.Pdco)
        if not 200 < rated < 50_000:
            continue
        made = pvlib.inverter.sandia(np.full_like(dc, float(row.Vdco)), dc, row)
        points = []
        for x in LOADS[1:]:
            at = int(np.abs(made - x * rated).argmin())
            if abs(made[at] / rated - x) < 0.01 and 0.3 < made[at] / dc[at] < 1:
                points.append((made[at] / rated, made[at] / dc[at]))
        if len(points) < 5:
            continue
        try:
            fit = fit_points(points, rated)
        except NotFeasible:
            spread.append(1.0)
            continue
        spread.append(fit.worst_frac)
        theirs = sum(w * float(np.interp(x, *zip(*points, strict=True))) for x, w in WEIGHTS["cec"])
        weighted.append(abs(weighted_efficiency(fit.terms, rated, "cec") - theirs))
    assert len(spread) > 60
    assert np.quantile(spread, 0.95) < 0.003, "nineteen of twenty within 0.3 % at every load"
    assert np.quantile(weighted, 0.95) < 0.001
    assert max(weighted) < 0.004
