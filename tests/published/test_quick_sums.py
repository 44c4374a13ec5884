"""Quick sums against the figures practitioners reckon with (common practice), and peaks of the house."""

from __future__ import annotations

import pytest

from calm_relay.decision.house_pictures import house_peaks, load_curve, quick_sums, season_days
from calm_relay.load.sums import backup_hours, heat_pump, heat_pump_from_fuel, night_battery, terminals_give, window_draws


def test_windows_and_terminals():
    # Common practice: 3 kW × 4 h; 5 kW × 4 h at AC; 80 A × 59 V × 4 h at the terminals: 12; 20; 18.88 kWh.
    assert window_draws(3000, 4, 0.94)[0].value == 12_000
    assert window_draws(5000, 4, 0.94)[0].value == 20_000
    assert window_draws(3000, 4, 0.94)[1].value == pytest.approx(11_280)
    assert terminals_give(80, 59, 4).value == pytest.approx(18_880)
    assert terminals_give(80, 59, 4).arithmetic == "80 A × 59 V × 4 h = 18.88 kWh"


def test_backup_time():
    # Common practice: 13.5 kWh at 40 kWh a day is 8.1 h; 250 W is 54 h bare, about 40 h with η 0.94 and 70 W idle.
    assert backup_hours(13_500, 40_000 / 24).value == pytest.approx(8.1)
    assert backup_hours(13_500, 250).value == pytest.approx(54.0)
    assert backup_hours(13_500, 250, 0.94, 70).value == pytest.approx(40.2, abs=0.1)


def test_heat_pump_and_night_use():
    # Common practice: 60 kWh of heat at COP 4 is 15 kWh; 60 kWh of gas at 90 % likewise 13.5 kWh.
    assert heat_pump(60_000, 4).value == 15_000
    assert heat_pump_from_fuel(60_000, 0.9, 4).value == pytest.approx(13_500)
    # 20 kWh a day of which 8 after sunset: an 8 to 10 kWh battery; 60 to 80 % of daily use says 12 to 16.
    assert [s.value for s in night_battery(20_000, 8_000)] == pytest.approx([8_000, 12_000, 16_000])


def test_pictures_of_the_house_hold_their_plain_truths(demo, study):
    house, calendar, plan = study.house(demo), study.calendar(demo), demo.plan("B")
    curve = load_curve(demo, plan, house, calendar)
    assert (curve.load_w[:-1] >= curve.load_w[1:]).all()
    assert curve.load_w[0] == pytest.approx(house.total_w().max())
    assert [name for _, name, _ in curve.levels] == ["off grid, all day", "off grid, surge", "passes with the grid up"]
    days = dict(season_days(demo, house, calendar))
    assert days["winter"].sum() > days["summer"].sum()  # a heat pump, and winter in June
    peaks = house_peaks(demo, None)
    assert 1.1 < peaks.ratio < 3.0  # the minutes of one year against its own hours
    sums = quick_sums(demo, plan, house, calendar, study.sun(demo).apparent_zenith_deg < 90)
    assert sums[0].value < sums[2].value
    assert sums[3].value == pytest.approx(9405 / (house.total_w().mean()), rel=1e-6)
