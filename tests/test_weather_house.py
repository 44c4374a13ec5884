"""The synthetic year and the house: typed totals are met, seeds repeat, energy per run is exact."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.calendar import MONTH_DAYS, year_calendar
from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.house_models import Appliance, ProfileLoad
from calm_relay.load.appliance_year import appliance_w
from calm_relay.load.catalogue import HOUSEHOLDS, car_appliance, catalogue, heat_pump_appliance, household_days, seasonal_months
from calm_relay.load.house import house_year
from calm_relay.load.profile import profile_w, published_months_wh, published_quarters_w
from calm_relay.study import Study


def test_each_month_equals_its_typed_mean_and_the_seed_repeats(demo, study):
    weather, calendar = study.weather(demo), study.calendar(demo)
    typed = np.array(demo.site.weather.ghi_wh_per_m2_day)
    made = np.bincount(calendar.month, weights=weather.ghi_w_per_m2)[1:] / 12 / np.array(MONTH_DAYS)
    np.testing.assert_allclose(made, typed, rtol=0.01)
    mean = np.bincount(calendar.month, weights=weather.air_c)[1:] / np.bincount(calendar.month)[1:]
    np.testing.assert_allclose(mean, demo.site.weather.temperature_mean_c, atol=0.3)
    again = Study(step_s=3600)
    other = apply_edits(demo, [Edit("site.weather.seed", 99)])
    first = again.weather(demo).ghi_w_per_m2
    np.testing.assert_array_equal(Study(step_s=3600).weather(demo).ghi_w_per_m2, first)
    assert np.abs(again.weather(other).ghi_w_per_m2 - first).max() > 50
    assert weather.dni_w_per_m2.min() >= 0
    assert weather.dhi_w_per_m2.min() >= 0


def test_a_mean_the_sky_cannot_give_names_month_and_range(demo):
    months = [15_000.0, *demo.site.weather.ghi_wh_per_m2_day[1:]]
    job = apply_edits(demo, [Edit("site.weather.ghi_wh_per_m2_day", months)])
    with pytest.raises(BadInput, match=r"ghi_wh_per_m2_day\[Jan\]"):
        Study(step_s=3600).weather(job)


def test_daylight_saving_moves_the_clock_not_the_sun():
    calendar = year_calendar(2025, "Pacific/Auckland")
    assert calendar.utc_offset_h == 12.0
    assert calendar.clock_hour[12 * 12] == 13.0, "1 January is daylight saving in Auckland"
    assert calendar.clock_hour[182 * 288 + 12 * 12] == 12.0
    # the repeated autumn hour (6 April 2025) and the missing spring hour (28 September 2025)
    day = 95 * 288
    assert np.count_nonzero((calendar.clock_hour[day : day + 288] >= 2) & (calendar.clock_hour[day : day + 288] < 3)) == 24
    day = 270 * 288
    assert np.count_nonzero((calendar.clock_hour[day : day + 288] >= 2) & (calendar.clock_hour[day : day + 288] < 3)) == 0


@pytest.mark.parametrize("step_s", [60, 300, 900, 3600])
def test_appliance_energy_is_exact_at_any_step(step_s):
    pump = Appliance(id="pump", name="Pump", running_w=1100, run_h=1.0, window_start_h=22, window_end_h=6, cycles_per_day=5)
    calendar = year_calendar(2025, "Europe/Berlin", step_s)
    power = appliance_w(pump, calendar, 1)
    assert power.sum() * calendar.step_h == pytest.approx(365 * 1100 * 1.0, rel=1e-9)
    assert power.max() <= 1100 + 1e-6
    inside = (calendar.clock_hour >= 22) | (calendar.clock_hour < 6)
    assert power[~inside].sum() * calendar.step_h < 0.01 * 365 * 1100, "runs on change-over days may slip past the window"


def test_what_reaches_a_face_holds_its_plain_truths(demo, study):
    """A flat face takes the sun on the flat less the loss at low angles; shade scales; a face to the pole gets least."""
    plain = apply_edits(demo, [Edit("faces[north-east].tilt_deg", 0.0)])
    flat = sum(study.face_months(plain, "north-east"))
    ghi = float(study.weather(demo).ghi_w_per_m2.sum()) * study.calendar(demo).step_h
    assert 0.95 * ghi < flat < ghi
    shaded = apply_edits(plain, [Edit("faces[north-east].shade_loss_frac", 0.25)])
    assert sum(study.face_months(shaded, "north-east")) == pytest.approx(0.75 * flat)
    turned = [
        sum(study.face_months(apply_edits(demo, [Edit("faces[north-east].azimuth_deg", a)]), "north-east")) for a in (0.0, 180.0)
    ]
    assert turned[0] > flat > turned[1]  # south of the equator the sun stands in the north


@pytest.mark.parametrize("shape", ["household_evening", "household_daytime", "flat"])
def test_a_shape_matches_the_typed_bills(shape):
    """The issue's bound: totals of each month within 0.1 % of what was typed; the shapes themselves are ours, invented."""
    calendar = year_calendar(2025, "Europe/Berlin")
    typed = tuple(7000.0 + 350.0 * m for m in range(12))
    made = profile_w(ProfileLoad(shape=shape, energy_wh_per_day=typed), calendar)
    days = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    np.testing.assert_allclose(np.array(calendar.by_month_wh(made)) / days, typed, rtol=1e-3)


def test_households_and_the_catalogue_are_whole():
    # Common practice of one temperate country: 18.7, 21.4 and 25 kWh a day for 3, 4 and 5 people.
    assert [day for _, day in HOUSEHOLDS][2:] == [18_700.0, 21_400.0, 25_000.0]
    for latitude in (52.0, -41.0):
        plain = household_days(10_000.0, latitude)
        assert plain == (10_000.0,) * 12
        heated = household_days(10_000.0, latitude, heated=True)
        assert sum(heated) / 12 == pytest.approx(10_000.0, abs=1.0)
        assert (heated[0] > heated[6]) == (latitude > 0)
    loads = catalogue()
    assert len({load.id for load in loads}) == len(loads) > 15
    calendar = year_calendar(2025, "UTC", 900)
    for load in loads:  # a year of each holds the energy its list says, within 1 % (the bound), by seeded starts
        made = float(appliance_w(load, calendar, 1).sum()) * 0.25
        per_day = load.running_w * load.run_h * load.share_of_days_frac * (261 / 365 if load.days == "weekdays" else 1.0)
        assert made == pytest.approx(365 * per_day, rel=0.01), load.id
        if load.days == "every":
            by_month = np.array(calendar.by_month_wh(appliance_w(load, calendar, 1)))
            days = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
            np.testing.assert_allclose(by_month, days * per_day, rtol=0.01, err_msg=load.id)


@given(
    start=st.integers(0, 23), long=st.integers(1, 24), run=st.floats(0.2, 24), cycles=st.integers(1, 40),
    share=st.sampled_from((0.3, 0.5, 1.0)), days=st.sampled_from(("every", "weekdays", "weekends")),
    months=st.sampled_from(((), (1, 3, 12), (6, 7, 8))), zone=st.sampled_from(("UTC", "Europe/Berlin", "Pacific/Auckland")),
)  # fmt: skip
@settings(max_examples=60, deadline=None, derandomize=True)
def test_every_month_of_any_appliance_holds_what_its_list_says(start, long, run, cycles, share, days, months, zone):
    """The issue's bound is 1 %; windows past midnight and past a month's end are among them."""
    load = Appliance(
        id="x", name="x", running_w=2000.0, run_h=run, window_start_h=start, window_end_h=(start + long) % 24, months=months,
        cycles_per_day=cycles, share_of_days_frac=share, days=days,
    )  # fmt: skip
    calendar = year_calendar(2025, zone, 300)
    watts = appliance_w(load, calendar, 5)
    month = np.repeat(np.arange(1, 13), [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    weekend = calendar.clock_weekend.reshape(365, -1)[:, 144]
    may = np.isin(month, months or range(1, 13)) & (days == "every" if days == "every" else weekend == (days == "weekends"))
    wanted = np.bincount(month[may], minlength=13)[1:] * min(run, long) * 2000.0 * share
    np.testing.assert_allclose(calendar.by_month_wh(watts), wanted, rtol=0.01, atol=1e-6)
    assert watts.max(initial=0.0) <= 2000.0 * (1 + 1e-9)
    late = (calendar.clock_hour - start) % 24.0 >= long
    clocks = 6 if zone != "UTC" else 0  # where the clock changes a run may lie an hour beside its window
    assert run > 20 or float(watts[late].sum()) / 12 <= clocks * 2000.0 + 1e-6


def test_a_car_gets_its_kilowatt_hours_in_its_window():
    car = car_appliance(11_200.0 * 0.9, 7000.0, 23.0, 6.0)  # its own charger keeps nine tenths
    calendar = year_calendar(2025, "Europe/Berlin", 300)
    made = appliance_w(car, calendar, 3)
    assert float(made.sum()) / 12 == pytest.approx(365 * 11_200.0, rel=1e-3)
    outside = made[(calendar.clock_hour >= 6.0) & (calendar.clock_hour < 23.0)]
    assert float(outside.sum()) < 0.005 * float(made.sum()), "only the two nights on which the clock changes"
    assert car.never_from_battery
    assert car_appliance(11_200.0, 7000.0, 23.0, 6.0, coupling="dc").run_h == pytest.approx(1.6 / 0.94)
    with pytest.raises(BadInput, match=r"take 10.0 h, the window has 7 h.*at least 10.00 kW"):
        car_appliance(63_000.0, 7000.0, 23.0, 6.0)
    with pytest.raises(BadInput, match="25 is no hour of the day"):
        car_appliance(7_000.0, 7000.0, 25.0, 6.0)


def test_a_heat_pump_draws_the_electricity_of_the_fuel_by_degree_days():
    """60 kWh of fuel × 0.9 / COP 4 = 13.5 kWh (reference-values.md, heat pumps), here of a hundred thousand such days."""
    pump = heat_pump_appliance(6_000_000.0, 0.9, 4.0, 2000.0)
    calendar = year_calendar(2025, "Australia/Melbourne", 300)
    air = 14.0 - 8.0 * np.cos(2 * np.pi * (np.arange(365) - 196) / 365)  # coldest in the middle of July
    made = appliance_w(pump, calendar, 3, air)
    assert float(made.sum()) / 12 == pytest.approx(1_350_000.0, rel=0.001)
    days = np.bincount(calendar.day, weights=made) / 12
    weights = np.maximum(0, 15 - air) * (1 + 0.025 * np.maximum(0, 15 - air))
    months = np.repeat(np.arange(12), (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31))
    expected = np.bincount(months, weights=weights) / weights.sum() * 1_350_000.0
    np.testing.assert_allclose(np.bincount(months, weights=days), expected, rtol=0.01, atol=3000.0)
    assert days[air > 16].sum() == 0.0
    half = appliance_w(pump.model_copy(update={"running_w": 330.0, "run_h": pump.run_h * 2000 / 330}), calendar, 3, air)
    assert float(half.sum()) / 12 == pytest.approx(1_350_000.0, rel=0.002), "full days hand their rest to the others"
    with pytest.raises(BadInput, match=r"h on each of 153 days.*at least 0.37 kW"):
        heat_pump_appliance(6_000_000.0, 0.9, 4.0, 300.0, seasonal_months("winter", -38.0))
    with pytest.raises(BadInput) as caught:
        heat_pump_appliance(0.0, 0.9, float("nan"), 300.0)
    assert len(caught.value.faults) == 2


def test_the_published_household_stands_as_published():
    """BDEW H25 (2025), Saturday in January, 00:00-00:15: 22.152 kWh of 1,000,000 kWh; times the day's factor of 4 January."""
    days = published_quarters_w(2025)
    factor = -3.92e-10 * 4**4 + 3.2e-7 * 4**3 - 7.02e-5 * 4**2 + 2.1e-3 * 4 + 1.24
    assert days[3, 0] == pytest.approx(22.152 * factor * 4, rel=1e-9)
    assert days.sum() / 4000 == pytest.approx(1000.0, rel=0.006), "a normed year; its factors leave 0.5 %"
    months = np.array(published_months_wh(2025, 3_500_000.0))
    assert months.sum() == pytest.approx(3_500_000.0)
    assert months[0] / months[6] > 1.2  # winter over summer
    south = published_quarters_w(2025, south=True)
    np.testing.assert_array_equal(south[182:364].mean(axis=0), days[:182].mean(axis=0))


def test_a_year_of_the_published_shape_holds_typed_totals_and_the_published_day():
    typed = (9000, 9500, 8000, 7000, 6500, 6000, 6000, 6200, 6800, 7600, 8400, 9100)
    calendar = year_calendar(2025, "Europe/Berlin", 900)
    profile = ProfileLoad(shape="published_household", energy_wh_per_day=typed, seed=3)
    made = profile_w(profile, calendar)
    days = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    np.testing.assert_allclose(calendar.by_month_wh(made), typed * days, rtol=1e-9)
    july = made.reshape(365, 96)[181:212].mean(axis=0)
    clock = np.roll(july, 4)  # summer time: the clock is an hour on
    published = published_quarters_w(2025)[181:212].mean(axis=0)
    hourly, wanted = (v.reshape(24, 4).mean(axis=1) for v in (clock, published / published.mean() * july.mean()))
    np.testing.assert_allclose(hourly, wanted, rtol=0.25)  # one house is lively, the published one a mean of many
    assert np.corrcoef(hourly, wanted)[0, 1] > 0.95


def test_a_bill_that_holds_the_listed_loads_keeps_its_totals(demo):
    """Totals typed from the bill stay within 0.1 % whatever is listed; a list above a month's total is scaled to it."""
    calendar = year_calendar(2025, demo.site.place.time_zone, 300)
    days = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    for day_wh in (30_000.0, 9_000.0):
        background = ProfileLoad(energy_wh_per_day=(day_wh,) * 12, holds_listed=True)
        year = house_year(demo.house.model_copy(update={"background": background}), calendar, None)
        np.testing.assert_allclose(calendar.by_month_wh(year.total_w()), day_wh * days, rtol=1e-3)
        assert year.background_w.min() >= 0.0
    assert year.background_w.sum() == pytest.approx(0.0, abs=1e-6)
    assert sum(w.sum() for w in year.appliance_w.values()) > 0.0


def test_the_same_seed_is_the_same_house_at_every_step():
    profile = ProfileLoad(energy_wh_per_day=(8000.0,) * 12, seed=9)
    minute, five, quarter = (profile_w(profile, year_calendar(2025, "UTC", s)) for s in (60, 300, 900))
    np.testing.assert_allclose(minute.reshape(-1, 5).mean(axis=1), five, rtol=1e-9)
    np.testing.assert_allclose(five.reshape(-1, 3).mean(axis=1), quarter, rtol=1e-9)
    assert minute.max() > 1.2 * five.max()


def test_loads_to_come_are_there_from_their_year_on(demo):
    calendar = year_calendar(2025, demo.site.place.time_zone, 900)
    later = tuple(a.model_copy(update={"from_year": 2028}) if a.id == "oven" else a for a in demo.house.appliances)
    house = demo.house.model_copy(update={"appliances": later})
    for shown, there in ((None, False), (2027, False), (2028, True), (2031, True)):
        year = house_year(house.model_copy(update={"shown_year": shown}), calendar, None)
        assert (year.appliance_w["oven"].sum() > 0) == there
        assert set(year.appliance_w) == {a.id for a in demo.house.appliances}
