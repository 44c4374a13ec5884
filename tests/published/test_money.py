"""Money against numpy-financial, against sums by hand, and against the textbook annuity (definitions D19)."""

from __future__ import annotations

import json
import math

import numpy as np
import numpy_financial as npf
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.job.brief_models import Contract
from calm_relay.library.shipped import shipped_cards
from calm_relay.money.cash import internal_rate, net_present_value, payback, worth_of
from calm_relay.money.contracts import end_of, lost, present_value, years_left
from calm_relay.plant.resolve import battery_box
from calm_relay.simulation.ageing import CycleCount, age

FLOWS = st.lists(st.floats(-5000, 5000), min_size=3, max_size=21)


@settings(max_examples=120, deadline=None, derandomize=True)
@given(FLOWS, st.floats(0.0, 0.2))
def test_present_value_and_rate_are_the_package_s(flows, rate):
    """numpy-financial 1.0.0: the first flow is not discounted; no rate where no sign changes."""
    assert net_present_value(rate, flows) == pytest.approx(npf.npv(rate, flows), rel=1e-12, abs=1e-9)
    assert net_present_value(rate, flows) == pytest.approx(
        sum(f / (1 + rate) ** i for i, f in enumerate(flows)), rel=1e-9, abs=1e-6
    )
    found = internal_rate(flows)
    if found is None:
        return
    assert any(f > 0 for f in flows) and any(f < 0 for f in flows), "no rate where the sign never changes"
    assert npf.npv(found, flows) == pytest.approx(0.0, abs=1e-5 * sum(abs(f) / (1 + found) ** i for i, f in enumerate(flows)))
    discounted = [f / (1 + found) ** i for i, f in enumerate(flows)]
    assert abs(sum(discounted)) <= 1e-6 * sum(map(abs, discounted))


def test_payback_by_hand():
    # 1000 spent, 300 a year: 900 after three years, a third of the fourth.
    assert payback([-1000, 300, 300, 300, 300]) == pytest.approx(3 + 100 / 300)
    # at 10 %: 272.73 + 247.93 + 225.39 + 204.90 = 950.96, and 186.28 in the fifth year
    five = [-1000, *[300] * 5]
    back = sum(300 / 1.1**y for y in range(1, 5))
    assert payback(five, 0.1) == pytest.approx(4 + (1000 - back) / (300 / 1.1**5))
    assert payback([-1000, 300, 300]) is None
    assert payback([500, 100]) == 0.0
    # a battery replaced in year 5 takes back what was there: the last crossing holds
    again = [-1000, 600, 600, 0, 0, -700, 400, 400]
    assert payback(again) == pytest.approx(6 + 100 / 400)
    worth = worth_of(five, 0.1)
    assert worth.npv == pytest.approx(300 * (1 - 1.1**-5) / 0.1 - 1000), "the annuity of any textbook"
    assert worth.irr_frac == pytest.approx(0.15238, abs=1e-5)


@given(st.floats(10, 5000), st.integers(0, 25), st.floats(0.001, 0.2))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_a_contract_of_whole_years_is_an_annuity(per_year, years, rate):
    annuity = per_year * (1 - (1 + rate) ** -years) / rate
    assert present_value(per_year, years, rate) == pytest.approx(annuity, rel=1e-9)
    assert present_value(per_year, years, 0.0) == pytest.approx(per_year * years)
    assert present_value(per_year, years + 0.5, rate) == pytest.approx(annuity + per_year * 0.5 / (1 + rate) ** (years + 0.5))


@pytest.mark.parametrize(
    ("text", "years"),
    [("2031", 7.0), ("2031-06", 6.496), ("2025-12-31", 1.0), ("2024", 0.0), ("June 2031", None), ("2031-13", None)],
)
def test_when_a_contract_ends(text, years):
    """From the first of January 2025 to the last day named; what cannot be read is not known, not nothing."""
    contract = Contract(name="Old tariff", ends=text, ends_with=("battery_added",), pays_per_year=400)
    left = years_left(contract, 2025)
    assert (left is None) == (years is None)
    if years is None:
        assert end_of(text) is None
        assert lost(contract, 2025, 0.04).amount is None
    else:
        assert left == pytest.approx(years, abs=0.003)
        assert lost(contract, 2025, 0.04).amount == pytest.approx(present_value(400, left, 0.04))
    silent = contract.model_copy(update={"pays_per_year": 0.0})
    assert lost(silent, 2025, 0.04).amount in (None, 0.0)


def test_shipped_cells_under_common_use_hold_60_to_80_percent_after_10_and_15_years():
    """Common practice: 60 to 80 % left after ten to fifteen years; common use is 250 cycles a year, 70 % deep."""
    seen = set()
    for card in shipped_cards():
        if card.kind != "battery" or card.is_lead or not card.depth_life or (card.warranty_years or 0) < 7:
            continue
        made = age(battery_box(card).life, (CycleCount(0.7, 250.0),), 0.7 * 250 * card.capacity_wh, 0.035, 0.7, by_root=True)
        for year in (10, 15):
            assert 0.6 <= made.capacity_at(year + 1) <= 0.8, (card.id, year)
        seen.add(card.chemistry)
    assert seen == {"LFP", "NMC"}


def test_the_calendar_takes_by_the_root_of_time():
    """By hand: without cycles 3.5 % in the first year leave 1 − 0.035·√15 after fifteen; a like part each year where not."""
    card = next(c for c in shipped_cards() if c.id == "stack-3k")
    still = age(battery_box(card).life, (), 0.0, 0.035, 0.7, by_root=True)
    assert still.capacity_at(16) == pytest.approx(1 - 0.035 * math.sqrt(15))
    plain = age(battery_box(card).life, (), 0.0, 0.03, 0.7)
    assert plain.capacity_at(11) == pytest.approx(0.7)


def test_the_package_has_no_word_of_the_file_format():
    """Figures are plain numbers that JSON takes."""
    assert json.loads(json.dumps(vars(worth_of([-10.0, 6.0, 6.0], 0.05))))["npv"] == pytest.approx(
        float(np.dot([-10.0, 6.0, 6.0], [1, 1 / 1.05, 1 / 1.05**2]))
    )
