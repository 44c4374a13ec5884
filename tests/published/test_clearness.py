"""Clearness of hours and cloud within them against published statistics; months of the synthetic year, and its seed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pvlib
import pytest

from calm_relay.calendar import MONTH_DAYS, year_calendar
from calm_relay.decision.words import clipped_amount, clipping_words
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.sky_models import MonthlyWeather, WeatherFile
from calm_relay.weather.files import read_weather
from calm_relay.weather.refine import refine_year
from calm_relay.weather.solar import sun_year
from calm_relay.weather.synthetic import synthetic_year

Array = np.ndarray
# Place, and its months' mean clearness (made up, of the order seen in such climates).
PLACES = {
    "cloudy coast, 52° north": (52.0, 5.0, "Europe/Amsterdam", "35 38 42 46 48 48 47 46 44 40 35 32"),
    "dry valley, 40° north": (40.0, -112.0, "America/Denver", "52 55 57 59 61 65 66 65 64 61 54 50"),
    "bay, 41° south": (-41.1, 174.9, "Pacific/Auckland", "53 53 51 48 44 42 43 45 48 50 51 52"),
    "half-hour zone, 29° north": (28.6, 77.2, "Asia/Kolkata", "55 58 60 60 59 52 45 44 53 60 58 55"),
}
# Bendt, Collares-Pereira and Rabl (1981): F(k) between k_min and k_max for a month's mean clearness; k_max by Hollands and Huget
# (1983), gamma by Herzog (1985); as in Duffie and Beckman, equations 2.9.5 to 2.9.9 (from memory). Their section 2.10 uses the
# same curves for hours, after Liu and Jordan (1960) and Whillier (1956).


def published_share(mean: float, k: Array) -> Array:
    """Return the share of hours (or days) with clearness at most k in a month of this mean."""
    low, high = 0.05, 0.6313 + 0.267 * mean - 11.9 * (mean - 0.75) ** 8
    xi = (high - low) / (high - mean)
    gamma = -1.498 + (1.184 * xi - 27.182 * np.exp(-1.5 * xi)) / (high - low)
    inside = np.clip(k, low, high)
    return (np.exp(gamma * low) - np.exp(gamma * inside)) / (np.exp(gamma * low) - np.exp(gamma * high))


@pytest.mark.parametrize("name", list(PLACES))
def test_hours_are_as_clear_and_dull_as_the_published_distribution(name: str):
    latitude, longitude, zone, clearness = PLACES[name]
    calendar = year_calendar(2025, zone)
    sun = sun_year(calendar, latitude, longitude, 20.0)
    outside = np.maximum(0.0, np.cos(np.radians(sun.apparent_zenith_deg))) * sun.dni_extra_w_per_m2
    months = np.array(calendar.by_month_wh(outside)) / np.array(MONTH_DAYS)
    typed = tuple(float(v) for v in months * np.array([int(v) / 100 for v in clearness.split()]))
    means = MonthlyWeather(ghi_wh_per_m2_day=typed, temperature_mean_c=(10.0,) * 12, seed=7)
    made = synthetic_year(means, calendar, sun)

    got = np.array(calendar.by_month_wh(made.ghi_w_per_m2)) / np.array(MONTH_DAYS)
    assert got == pytest.approx(typed, rel=0.01)  # the bound: each month within 1 %
    again = synthetic_year(means, calendar, sun)
    assert np.array_equal(again.ghi_w_per_m2, made.ghi_w_per_m2)
    assert np.array_equal(again.air_c, made.air_c)
    other = synthetic_year(means.model_copy(update={"seed": 8}), calendar, sun)
    assert not np.array_equal(other.ghi_w_per_m2, made.ghi_w_per_m2)

    hourly, top = made.ghi_w_per_m2.reshape(-1, 12).mean(axis=1), outside.reshape(-1, 12).mean(axis=1)
    high = sun.apparent_zenith_deg.reshape(-1, 12).mean(axis=1) < 80.0
    month = np.repeat(np.repeat(np.arange(12), MONTH_DAYS), 24)
    k = np.linspace(0.0, 1.0, 101)
    ours, theirs = np.zeros_like(k), np.zeros_like(k)
    for i in range(12):
        here = high & (month == i)
        index = hourly[here] / top[here]
        ours += np.array([np.count_nonzero(index <= x) for x in k])
        theirs += published_share(float(index.mean()), k) * np.count_nonzero(here)
    # Stations themselves lie up to about a tenth from these curves; that is the tolerance.
    assert np.abs(ours - theirs).max() / theirs[-1] < 0.10


# Skartveit and Olseth (1992), "The probability density and autocorrelation of short-term global and beam irradiance": standard
# deviation of 5-min clear-sky index within an hour, 0.87·r²·(1 − r) + 0.39·√r·s3, s3 from the neighbouring hours (from memory).
@pytest.mark.parametrize(("low", "high", "within"), [(0.2, 0.4, 0.25), (0.4, 0.6, 0.25), (0.6, 0.8, 0.25), (0.8, 0.95, 0.25)])
def test_cloud_within_the_hour_is_as_broken_as_published(low: float, high: float, within: float):
    station = read_weather(Path(pvlib.__file__).parent / "data" / "723170TYA.CSV")  # open data, NREL TMY3
    calendar = year_calendar(2025, "Etc/GMT+5")
    assert station.latitude_deg is not None
    assert station.longitude_deg is not None
    sun = sun_year(calendar, station.latitude_deg, station.longitude_deg, station.altitude_m or 0.0)
    fine = refine_year(station.year, calendar, sun, 1).weather.ghi_w_per_m2.reshape(-1, 12)
    clear = sun.clear_ghi_w_per_m2.reshape(-1, 12)
    bright = clear.min(axis=1) > 50.0
    index = np.where(clear > 0, fine / np.maximum(clear, 1.0), 0.0)
    mean = fine.mean(axis=1) / np.maximum(clear.mean(axis=1), 1.0)
    step = np.zeros_like(mean)
    step[1:-1] = np.sqrt(((mean[1:-1] - mean[:-2]) ** 2 + (mean[1:-1] - mean[2:]) ** 2) / 2)
    whole = bright.copy()
    whole[1:-1] &= bright[:-2] & bright[2:]
    here = whole & (mean >= low) & (mean < high)
    assert np.count_nonzero(here) > 200
    published = 0.87 * mean**2 * (1 - mean) + 0.39 * np.sqrt(mean) * step
    assert index[here].std(axis=1).mean() == pytest.approx(published[here].mean(), rel=within)


def test_made_cloud_is_one_sky_at_every_step_and_as_broken_as_published(demo):
    """Typed means at 5 min against the same curve; an hour and a quarter hold the means of the 5 min, a minute adds to them."""
    place, weather = demo.site.place, demo.site.weather

    def made(step_s: int) -> tuple[np.ndarray, np.ndarray]:
        calendar = year_calendar(2025, place.time_zone, step_s)
        sun = sun_year(calendar, place.latitude_deg, place.longitude_deg, place.altitude_m)
        return synthetic_year(weather, calendar, sun).ghi_w_per_m2, sun.clear_ghi_w_per_m2

    def hours(ghi: np.ndarray, clear: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        g, c = ghi.reshape(8760, -1), clear.reshape(8760, -1)
        return g.mean(axis=1), np.where(c > 1, g / np.maximum(c, 1.0), 0.0).std(axis=1), c.min(axis=1)

    five, spread, clear = hours(*made(300))
    sky = five / np.maximum(made(300)[1].reshape(8760, -1).mean(axis=1), 1.0)
    bright = (clear > 150) & (np.roll(clear, 1) > 150) & (np.roll(clear, -1) > 150)
    step = np.sqrt(((sky - np.roll(sky, 1)) ** 2 + (sky - np.roll(sky, -1)) ** 2) / 2)
    for low, high in ((0.2, 0.4), (0.4, 0.6), (0.6, 0.8), (0.8, 0.95)):
        here = bright & (sky >= low) & (sky < high)
        published = 0.87 * sky[here] ** 2 * (1 - sky[here]) + 0.39 * np.sqrt(sky[here]) * step[here]
        assert spread[here].mean() == pytest.approx(published.mean(), rel=0.25)
    lit = clear > 150
    for step_s, most in ((3600, 0.05), (900, 0.05), (60, 0.05)):
        mean, fine, _ = hours(*made(step_s))
        assert np.abs(mean - five)[lit].mean() < most * five[lit].mean(), "the same hours at every step"
        if step_s == 60:
            assert 1.0 < fine[bright].mean() / spread[bright].mean() < 1.12, "minutes are a little livelier than their 5-min means"


def test_only_a_sky_measured_at_the_step_gives_a_bound(demo):
    assert clipped_amount(demo) == "about"
    assert "estimate" in clipping_words(demo)
    rows = {"rows": 105_120, "step_s": 300, "sha256": "0" * 64}
    series = {"ghi": SeriesRef(**rows, unit="W/m2"), "air": SeriesRef(**rows, unit="°C")}
    file = WeatherFile(name="mast", format="CSV", utc_offset_h=0.0, **series)
    job = demo.model_copy(update={"site": demo.site.model_copy(update={"weather": file})})
    assert clipped_amount(job) == "at least"
    assert "lower bound" in clipping_words(job)
    assert "estimate" in clipping_words(job, 60)
