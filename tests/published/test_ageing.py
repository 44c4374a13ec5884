"""Cycles against the published example, life by depth against the trade's pair, and twenty years by hand."""

from __future__ import annotations

import math

import numpy as np
import pytest
import rainflow
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from calm_relay.library.cards import BatteryCard
from calm_relay.library.shipped import shipped_book
from calm_relay.plant.bank import cells_of
from calm_relay.plant.resolve import battery_box
from calm_relay.simulation.ageing import CycleCount, age, count_cycles, cycles_at, damage_per_year, year_cycles
from calm_relay.simulation.counting import turning_points

CARD = shipped_book().battery("stack-3k")


def lives(card, depth: float) -> float:
    """Cycles to the end of life at one depth."""
    return float(cycles_at(battery_box(card).life.depth_life, np.array([depth]))[0])


def test_rainflow_on_the_published_history():
    """ASTM E1049-85, example of rainflow counting: ranges 3 ×0.5, 4 ×1.5, 6 ×0.5, 8 ×1, 9 ×0.5."""
    history = np.array([-2.0, 1, -3, 5, -1, 3, -4, 4, -2])
    assert count_cycles(history) == [(3.0, 0.5), (4.0, 1.5), (6.0, 0.5), (8.0, 1.0), (9.0, 0.5)]
    busy = np.repeat(np.interp(np.linspace(0, 8, 401), np.arange(9), history), 3)
    np.testing.assert_allclose(turning_points(busy), history)


def test_gel_by_the_trades_pair():
    """Common practice: 650 cycles at 80 % depth, 3,000 to 3,500 at 15 %."""
    gel = shipped_book().battery("gel-cell-600")
    assert lives(gel, 0.8) == pytest.approx(650)
    assert 3000 <= lives(gel, 0.15) <= 3500
    assert lives(gel, 0.4) == pytest.approx(math.exp(np.interp(
        math.log(0.4), np.log([0.15, 0.5, 0.8]), np.log([3250, 1030, 650]))))  # fmt: skip
    assert lives(CARD, 0.25) == pytest.approx(9500 * 0.5 / 0.25), "shallower than the card's points: the same energy in all"


def test_a_steady_year_of_one_cycle_a_day():
    day = np.concatenate((np.linspace(0.1, 0.9, 144), np.linspace(0.9, 0.1, 144)))
    rows = year_cycles(np.tile(day, 365) * 10_000.0, 10_000.0)
    assert rows == (CycleCount(0.8, 365.0),)
    assert damage_per_year(battery_box(CARD).life, rows) == pytest.approx(365 / 5500)
    assert year_cycles(np.full(1000, 5.0), 10.0) == ()


@given(st.lists(st.floats(0, 1), min_size=3, max_size=60))
@settings(max_examples=80, deadline=None, derandomize=True)
def test_counted_cycles_hold_the_energy_that_went_through(values):
    """Twice the sum of depth × count is the way the year's charge goes up and down (small turns apart)."""
    series = np.array(values)
    rows = year_cycles(series, 1.0)
    way = float(np.abs(np.diff(np.append(series, series[0]))).sum())
    assert 2 * sum(row.depth_frac * row.count for row in rows) == pytest.approx(way, abs=0.012 * len(values) + 1e-9)


def test_twenty_years_by_hand():
    # 365 cycles of 80 % use 365/5500 of the life; down to 70 % that is 1.991 % a year, the calendar takes 1 % more.
    rows = (CycleCount(0.8, 365.0),)
    made = age(battery_box(CARD).life, rows, 1_000_000.0, 0.01, 0.7)
    assert made is not None
    first = made.years[0]
    assert first.by_cycles_frac == pytest.approx(365 / 5500 * 0.3)
    assert first.capacity_frac == pytest.approx(1 - 365 / 5500 * 0.3 - 0.01)
    deeper = lives(CARD, 0.8 / first.capacity_frac)
    assert made.years[1].by_cycles_frac == pytest.approx(365 / deeper * 0.3), "the same energy is a deeper cycle of less"
    assert all(a.capacity_frac >= b.capacity_frac for a, b in zip(made.years, made.years[1:], strict=False))
    assert 0.6 <= made.capacity_at(11) <= 0.8, "common practice: 60 to 80 % left after ten to fifteen years"
    assert made.capacity_at(1) == 1.0


@pytest.mark.parametrize(("more", "by", "years"), [
    ({}, "years", 10.0),
    ({"warranty_throughput_wh": 3.5e6}, "throughput", None),
    ({"warranty_end_frac": 0.95}, "capacity", None),
    ({"warranty_years": None, "warranty_throughput_wh": None, "warranty_end_frac": None}, "", None),
])  # fmt: skip
def test_what_ends_the_warranty_first(more, by, years):
    card = BatteryCard.model_validate({**CARD.model_dump(), "warranty_throughput_wh": 5e7, "warranty_end_frac": 0.6, **more})
    made = age(battery_box(card).life, (CycleCount(0.8, 365.0),), 1_000_000.0, 0.01, 0.7)
    assert made is not None
    assert made.ends_by == by
    if by == "throughput":  # 1 MWh in the first year, a little less in each later one
        assert 3.5 < (made.ends_in_years or 0) < 3.8
    if by == "capacity":  # 2.991 % in the first year, a little more in the second
        assert 1.5 < (made.ends_in_years or 0) < 1.75
    assert made.ends_in_years == years or years is None
    assert made.warranted in (True, False, None)


def test_without_life_by_depth_nothing_is_said():
    card = CARD.model_copy(update={"depth_life": ()})
    assert age(battery_box(card).life, (CycleCount(0.8, 365.0),), 1e6, 0.01, 0.7) is None


@pytest.mark.parametrize(
    ("celsius", "share"), [(-30, 0.0), (-0.1, 0.0), (0, 0.0), (5, 0.5), (10, 1.0), (45, 1.0), (50, 0.75), (60, 0.0)]
)
def test_lfp_charges_by_temperature_as_the_trade_has_it(celsius, share):
    """Common practice: no charge below 0 °C, reduced to 10 °C, reduced above 45 °C; a card's own table stands before it."""
    plain = CARD.model_copy(update={"charge_over_temperature": ()})
    assert cells_of(plain).charge_share_at(celsius) == pytest.approx(share)
    assert cells_of(CARD).charge_share_at(4.0) == pytest.approx(0.4)
    assert cells_of(CARD).charge_share_at(-5.0) == 0.0, "outside what the card says nothing is allowed"
    nmc = plain.model_copy(update={"chemistry": "NMC"})
    assert cells_of(nmc).charge_share_at(celsius) is None, "nothing is made up for another chemistry"
    assert cells_of(CARD).discharge_share_at(-10) == pytest.approx(0.5)


@settings(max_examples=300, deadline=None, derandomize=True)
@given(st.lists(st.floats(0.0, 1.0, width=32), min_size=2, max_size=60))
def test_cycles_are_those_of_the_package_rainflow(history):
    """The package rainflow counts alike, by another's code; a history that never turns it leaves out."""
    assume(len(turning_points(np.array(history))) > 2)
    expected = [(size, count) for size, count in rainflow.count_cycles(history) if size > 0]
    got = [(size, count) for size, count in count_cycles(np.array(history)) if size > 0]
    assert len(got) == len(expected)
    np.testing.assert_allclose(np.array(got).reshape(-1, 2), np.array(expected).reshape(-1, 2), atol=1e-12)
