"""Quick sums against the figures practitioners reckon with (common practice), and peaks of the house."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.decision.house_sums import quick_sums
from calm_relay.load.sums import backup_hours, heat_pump, heat_pump_from_fuel, night_battery, terminals_give, window_draws
from calm_relay.plant.resolve import plant_of
from calm_relay.year.house_pictures import load_curve, season_days


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
    curve = load_curve(plant_of(demo, plan), house, calendar)
    assert (curve.load_w[:-1] >= curve.load_w[1:]).all()
    assert curve.load_w[0] == pytest.approx(house.total_w().max())
    assert [name for _, name, _ in curve.levels] == ["off grid, all day", "off grid, surge", "passes with the grid up"]
    days = dict(season_days(demo.site.place.latitude_deg, house, calendar))
    assert days["winter"].sum() > days["summer"].sum()  # a heat pump, and winter in June
    peaks = study.peaks(demo)
    assert 1.1 < peaks.ratio < 3.0  # the minutes of one year against its own hours
    assert peaks.minute_w >= house.total_w().max(), "the same house, seen closer"


def test_quick_sums_of_a_plan_follow_their_own_arithmetic(demo, study):
    house, calendar, plan = study.house(demo), study.calendar(demo), demo.plan("A")
    sums = {s.name: s for s in quick_sums(demo, plan, house, calendar, study.sun_up(demo), study.facts(demo, plan))}
    assert sums["by night use"].value < sums["80 % of daily use"].value
    # By hand: 2 kW × 4 h = 8 kWh drawn; the battery's 26 A at 3 × 64 V for 4 h = 19.97 kWh at its terminals.
    window = "window 01:00 to 05:00, Battery inverter"
    assert sums[f"{window}, drawn at AC"].value == 8000
    assert sums[f"{window}, most at the terminals"].value == pytest.approx(26 * 192 * 4)
    assert 0.9 * 8000 < sums[f"{window}, stored"].value < 8000
    winter = np.isin(calendar.month, (6, 7, 8))
    mean = float(house.total_w()[winter].mean())
    bare = 9405.0 / mean  # 3 × 3.3 kWh × 95 %
    assert 0.85 * bare < sums["backup time in winter, the whole house"].value < bare
    assert sums["the brief's longest outage, what must stay on"].value > 0
    assert all(s.parts for s in sums.values() if s.name.startswith("backup"))
