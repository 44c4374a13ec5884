"""Tariff & network and House: painting a week, ready tariffs and files, a meter file looked at before it becomes the house."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel

from calm_relay.demo import demo_job
from calm_relay.job.edits import Edit
from calm_relay.job.tariff_models import Tier
from calm_relay.load.catalogue import catalogue
from calm_relay.tariff import paint
from calm_relay.tariff.templates import tariff_json, templates
from calm_relay.ui.pages.house import WEEK_MS
from calm_relay.ui.start import wait_idle


def page(window, qapp, name, letter="B"):
    window.session.choose(window.session.job.plan(letter).id)
    window.show_page(name)
    assert wait_idle(qapp, window)
    return window.page(name)


def undo_all(window):
    while window.session.document.undo():
        pass
    assert window.session.job == demo_job()


def test_a_week_is_painted_by_keys_and_mouse_and_the_bill_follows(window, qapp):
    tariff = page(window, qapp, "tariff")
    before = window.session.fresh(window.session.chosen).bill.total
    tariff.take_change("Paint a week of prices", paint.with_week)
    assert wait_idle(qapp, window)
    assert window.session.fresh(window.session.chosen).bill.total == pytest.approx(before), "the same prices in another form"
    grid = tariff.week
    grid.setFocus()
    for _ in range(12):
        QTest.keyClick(grid, Qt.Key.Key_Left)
    for _ in range(6):
        QTest.keyClick(grid, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    QTest.keyClicks(grid, "2")
    week = window.session.job.tariff.seasons[0].week
    assert [day[0] for day in week] == ["period-2"] * 7
    assert wait_idle(qapp, window)
    bill = window.session.fresh(window.session.chosen).bill
    assert bill.total < before
    bars = [item for item in tariff.bars.getPlotItem().items if hasattr(item, "opts") and "height" in item.opts]
    names = [tariff.bars_legend.layout().itemAt(i).widget().accessibleName() for i in range(len(bars))]
    assert names == ["no system at all", "today's system", "plan B"]
    np.testing.assert_allclose(bars[2].opts["height"], bill.by_month)
    np.testing.assert_allclose(bars[1].opts["height"], window.session.fresh(window.session.job.plans[0].id).bill.by_month)
    assert grid.hasFocus()
    tariff.choose_brush(1)
    cell = grid.cell(2, 20).center()
    QTest.mouseClick(grid, Qt.MouseButton.LeftButton, pos=QPoint(round(cell.x()), round(cell.y())))
    assert window.session.job.tariff.seasons[0].week[2][20] == "period-2"
    assert "Wed 20 h" in grid.accessibleDescription()
    undo_all(window)


def test_seasons_are_split_and_months_moved(window, qapp):
    tariff = page(window, qapp, "tariff")
    tariff.take_ready(templates()[2])
    tariff.take_change("Add a season", paint.add_season)
    assert wait_idle(qapp, window)
    assert [len(s.months) for s in window.session.job.tariff.seasons] == [6, 6]
    months = tariff.months
    months.setFocus()
    for _ in range(11):
        QTest.keyClick(months, Qt.Key.Key_Left)
    QTest.keyClicks(months, "2")
    assert 1 in window.session.job.tariff.seasons[1].months
    assert 1 not in window.session.job.tariff.seasons[0].months
    undo_all(window)


def test_tiers_and_holidays_are_typed(window, qapp, answers):
    tariff = page(window, qapp, "tariff")
    before = window.session.fresh(window.session.chosen).bill.total
    tariff.put("Add a tier", {"tiers": (Tier(add_per_kwh=0.05),)})
    assert wait_idle(qapp, window)
    assert "tariff.tiers[0].add_per_kwh" in window.page("tariff").cells
    assert window.session.fresh(window.session.chosen).bill.total > before + 100
    tariff.take_holidays("12-25, 01-01")
    assert window.session.job.tariff.holidays == ("12-25", "01-01")
    tariff.take_holidays("Christmas")
    assert "tariff.holidays" in answers.said[-1]
    assert window.session.job.tariff.holidays == ("12-25", "01-01")
    undo_all(window)


def test_a_tariff_is_read_saved_and_a_bad_one_told(window, qapp, answers, tmp_path):
    tariff = page(window, qapp, "tariff")
    answers.path = tmp_path / "t.json"
    answers.path.write_text(tariff_json(templates()[4]), encoding="utf-8")
    tariff.ask_tariff()
    assert window.session.job.tariff == templates()[4]
    answers.path = tmp_path / "out.json"
    tariff.save_tariff()
    assert (tmp_path / "out.json").read_text(encoding="utf-8") == tariff_json(templates()[4])
    (tmp_path / "t.json").write_text("{}")
    answers.path = tmp_path / "t.json"
    tariff.button("x", tariff.ask_tariff).click()
    assert "import_price_per_kwh" in answers.said[-1]
    assert window.session.job.tariff == templates()[4]
    prices = tmp_path / "p.csv"
    prices.write_text("price\n" + "0.25\n" * 8760)
    answers.path = prices
    tariff.ask_prices()
    assert wait_idle(qapp, window)
    found = answers.dialog.table
    assert "0.250 per kWh on average" in found.item(found.rowCount() - 1, 1).text()
    assert window.session.job.tariff.hourly_import is None, "nothing is taken before it is looked at"
    answers.dialog.answers["import"].click()
    assert wait_idle(qapp, window)
    assert tariff.table.item(0, 0).text() == "import, by the hour"
    undo_all(window)


def test_a_dropped_meter_file_tariff_and_prices_go_to_their_pages(window, qapp, answers, tmp_path):
    meter, tariff, prices = (tmp_path / name for name in ("m.csv", "t.json", "p.csv"))
    stamps = pd.date_range("2025-01-01", periods=8760, freq="h", tz="Etc/GMT-12").tz_convert("Pacific/Auckland")
    meter.write_text("time,import kWh\n" + "".join(f"{t.isoformat()},0.5\n" for t in stamps))
    prices.write_text("time,price per MWh\n" + "".join(f"{t.isoformat()},250\n" for t in stamps))
    tariff.write_text(tariff_json(templates()[4]), encoding="utf-8")
    assert window.files.take_file(meter)
    assert wait_idle(qapp, window)
    assert window.shown == "house"
    answers.dialog.use.click()
    assert wait_idle(qapp, window)
    assert window.session.job.house.background.kind == "series"
    window.files.take_file(tariff)
    assert wait_idle(qapp, window)
    assert (window.shown, window.session.job.tariff) == ("tariff", templates()[4])
    window.files.take_file(prices)
    assert wait_idle(qapp, window)
    answers.dialog.answers["export"].click()
    assert wait_idle(qapp, window)
    assert window.session.job.tariff.hourly_export is not None
    tariff.write_text("{}")
    window.files.take_file(tariff)
    assert "import_price_per_kwh" in answers.said[-1]
    undo_all(window)


def test_a_meter_file_is_looked_at_then_becomes_the_house(window, qapp, answers, tmp_path):
    house = page(window, qapp, "house")
    stamps = pd.date_range("2024-07-01", periods=365 * 24, freq="h")
    watts = 400 + 300 * np.sin(np.arange(8760) / 24 * 2 * np.pi) ** 2
    path = tmp_path / "meter.csv"
    path.write_text(
        "time,import kWh\n" + "".join(f"{t:%Y-%m-%d %H:%M},{w / 1000:.4f}\n" for t, w in zip(stamps, watts, strict=True))
    )
    house.draws.background.read_meter(path)
    assert wait_idle(qapp, window)
    dialog = answers.dialog
    said = "\n".join(dialog.table.item(r, c).text() for r in range(dialog.table.rowCount()) for c in (0, 1))
    assert "year-month-day" in said
    assert "label begins the interval" in said
    assert window.session.job == demo_job(), "nothing is taken before it is looked at"
    dialog.use.click()
    assert wait_idle(qapp, window)
    job = window.session.job
    assert job.house.background.kind == "series"
    assert job.calendar_year in (2024, 2025)
    assert window.session.house_year().total_w().sum() / 12 == pytest.approx(watts.sum(), rel=1e-6)
    assert "meter.csv" in job.house.background.source
    house.draws.background.type_totals()
    assert wait_idle(qapp, window)
    assert window.session.job.house.background.kind == "profile"
    answers.dialog = None
    house.draws.background.read_meter(path)
    stop = window.reading.stop
    assert stop.isVisible()
    stop.click()
    assert not stop.isVisible()
    window.session.runner.files_pool.waitForDone()
    qapp.processEvents()
    assert answers.dialog is None, "what was stopped is not offered"
    assert window.session.job.house.background.kind == "profile"
    path.write_text("time,import kWh\nyesterday,1\n")
    house.draws.background.read_meter(path)
    assert wait_idle(qapp, window)
    assert "'yesterday' is no time" in answers.said[-1]
    undo_all(window)


def test_the_house_shows_its_curve_its_seasons_and_its_sums(window, qapp):
    house = page(window, qapp, "house")
    house.show_part("year")
    year = window.session.house_year()
    quarters = year.total_w().reshape(-1, 3).mean(axis=1)
    assert 0.3 * quarters.max() < house.year.carpet.top < quarters.max(), "a few peaks do not pale the year"
    window.session.clock.move_day(200)
    QTest.qWait(2 * WEEK_MS)
    before = house.year.week_words.text()
    assert "20 Jul" in before
    QTest.keyClick(house.year.carpet, Qt.Key.Key_Right)
    QTest.qWait(2 * WEEK_MS)
    assert window.session.clock.day == 201
    assert "21 Jul" in house.year.week_words.text()
    house.show_part("carries")
    assert "off grid, all day" in house.carries.curve_words.text()
    assert "up to" in house.carries.evening_words.text()
    house.show_part("sums")
    assert wait_idle(qapp, window)
    words = "\n".join(w.text() for w in house.findChildren(QLabel) if w.isVisible())
    assert "Backup time in winter, the whole house" in words
    assert "Beside the year: " in words
    assert "times the highest hour" in house.sums.peaks.text()
    house.show_part("draws")


def test_the_brief_is_weighed_by_keys_and_sets_what_it_says(window, qapp):
    brief = page(window, qapp, "brief")
    slider, said = brief.sliders["ride_through"]
    slider.setFocus()
    QTest.keyClick(slider, Qt.Key.Key_Right)
    QTest.keyClick(slider, Qt.Key.Key_Right)
    assert said.text() == "above all"
    assert "50 %" in brief.set_words.text()
    assert window.session.document.undo_label == "Ride through outages: above all"
    brief.ticks["oven"].click()
    assert next(a for a in window.session.job.house.appliances if a.id == "oven").essential
    brief.add_contract()
    assert wait_idle(qapp, window)
    assert "brief.contracts[0].ended_by" in window.page("brief").cells
    window.plan_actions.draft("ac-add-on")
    assert window.session.job.plans[-1].controls.reserve_soc_frac == 0.5
    assert "from the brief" in window.session.job.plans[-1].note
    undo_all(window)


def test_usual_appliances_and_households_are_begun_with(window, qapp):
    house = page(window, qapp, "house")
    load = next(a for a in catalogue() if a.id == "heat-pump")
    house.draws.add_usual(load)
    assert wait_idle(qapp, window)
    made = window.session.job.house.appliances[-1]
    assert made.id == "heat-pump-1", "the demo has a heat pump of its own"
    assert 7 in made.months, "winter is in July here"
    window.session.edit("Comes in 2031", [Edit("house.appliances[heat-pump-1].from_year", 2031)])
    assert wait_idle(qapp, window)
    assert house.draws.load_words.text() == "It comes in 2031: the house of today is shown, without it."
    window.undo()
    assert wait_idle(qapp, window)
    house.draws.background.take_household("four people", 21_400.0)
    assert wait_idle(qapp, window)
    assert window.session.job.mark_of("house.background.energy_wh_per_day") == "assumed"
    assert sum(window.session.job.house.background.energy_wh_per_day) / 12 == pytest.approx(21_400.0, abs=2.0)
    house.draws.background.type_months(True)
    january = house.rows["house.background.energy_wh_per_day"].fields[0]
    january.selectAll()
    QTest.keyClicks(january, "620")
    QTest.keyClick(january, Qt.Key.Key_Return)
    assert window.session.job.house.background.energy_wh_per_day[0] == pytest.approx(20_000.0), "31 days of 20 kWh"
    house.draws.background.type_months(False)
    undo_all(window)


def test_a_heat_pump_is_made_from_its_fuel_and_a_car_from_its_day(window, qapp, answers):
    house = page(window, qapp, "house")
    house.draws.ask_need("heat pump")
    dialog = answers.dialog
    assert "12000 kWh of fuel × 0.9 / COP 3.2 = 3375 kWh" in dialog.words.text()
    power = dialog.fields["power_w"]
    power.setFocus()
    power.selectAll()
    QTest.keyClicks(power, "0.3 kW")
    QTest.keyClick(power, Qt.Key.Key_Return)
    assert "it would run" in dialog.words.text()
    assert not dialog.use.isEnabled()
    power.selectAll()
    QTest.keyClicks(power, "3")
    QTest.keyClick(power, Qt.Key.Key_Return)
    dialog.use.click()
    made = window.session.job.house.appliances[-1]
    assert made.run_h * made.running_w * 365 == pytest.approx(3_375_000.0)
    assert made.follows == "heating_degrees"
    house.draws.ask_need("car")
    answers.dialog.on_surplus.setChecked(True)
    answers.dialog.coupling.setCurrentIndex(1)
    assert "/ 0.94 = 8.511 kWh" in answers.dialog.words.text()
    answers.dialog.use.click()
    car = window.session.job.house.appliances[-1]
    assert car.never_from_battery
    assert (car.surplus, car.surplus_least_w) == ("after_battery", 1380.0)
    assert wait_idle(qapp, window)
    house.refresh()
    assert "comes from surplus outside its window" in house.draws.load_words.text()
    undo_all(window)
