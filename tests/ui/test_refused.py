"""What cannot be is refused where it is typed: no box a plan, no crash handler, no list that edits as the wheel passes over it."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from calm_relay.calendar import MONTH_DAYS


def wheel(widget) -> None:
    at = QPointF(widget.rect().center())
    event = QWheelEvent(
        at, widget.mapToGlobal(at), QPoint(0, -120), QPoint(0, -120), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def first_list(window) -> QComboBox:
    window.show_page("tariff")
    return window.page("tariff").cells["site.supply.kind"].editor


def test_a_wheel_over_a_closed_list_edits_nothing_and_a_key_opens_it(window, qapp):
    box = first_list(window)
    box.setFocus()
    before = window.session.job
    wheel(box)
    QTest.keyClick(box, Qt.Key.Key_Down)
    assert window.session.job is before
    assert box.view().isVisible(), "a key opens the list"
    QTest.keyClick(box.view(), Qt.Key.Key_Down)
    QTest.keyClick(box.view(), Qt.Key.Key_Return)
    assert window.session.job != before


def test_a_mistyped_month_is_refused_in_its_field_with_the_likely_cause(window, qapp, answers):
    window.show_page("site")
    row = window.page("site").rows["site.weather.ghi_wh_per_m2_day"]
    field = row.fields[0]
    field.setFocus()
    before = window.session.job
    field.selectAll()
    QTest.keyClicks(field, "195")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.session.job == before
    assert field.text() == "195", "what was typed stays, to be mended"
    assert not row.why.isHidden()
    assert "195 kWh/m² a day is outside what the sky gives there (it looks like the month's total); use" in row.why.text()
    assert not answers.said, "no box"
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert row.why.isHidden()


def test_one_inverter_too_many_is_said_and_is_no_crash(window, answers):
    page = window.page("site")
    for _ in range(30):
        page.strings.add_node("string-inverter-5k")
    assert len(window.session.plan.nodes) == 24
    assert "it has 25 entries; use at most 24" in answers.said[-1]


def give(field, text: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_a_figure_that_is_hardly_meant_asks_back_and_is_taken_when_given_again(window, qapp, answers):
    window.show_page("tariff")
    cell = window.page("tariff").cells["site.supply.voltage_v"]
    give(cell.editor, "23")
    assert window.session.job.site.supply.voltage_v == 230.0
    assert "23 V is hardly meant here; usual is 100 V to 500 V; Enter again takes it" in cell.why.text()
    QTest.keyClick(cell.editor, Qt.Key.Key_Return)
    assert window.session.job.site.supply.voltage_v == 23.0
    limit = window.page("tariff").cells["site.export_limit_w"]
    give(limit.editor, "1e9")
    assert "hardly meant" in limit.why.text()
    QTest.keyClick(limit.editor, Qt.Key.Key_Escape)
    give(limit.editor, "1e9")
    assert "hardly meant" in limit.why.text(), "put back and given anew it is asked about anew"
    QTest.keyClick(limit.editor, Qt.Key.Key_Escape)
    assert window.session.job.site.export_limit_w != 1e12
    assert not answers.said


def test_a_copied_column_fills_the_months_and_one_typed_month_leaves_the_others_assumed(window, qapp):
    window.show_page("house")
    house, path = window.page("house"), "house.background.energy_wh_per_day"
    house.draws.background.take_household("three", 9000.0)
    row = window.page("house").rows[path]
    april = window.session.job.house.background.energy_wh_per_day
    give(row.fields[2], "11")
    assert row._mark.text() == "assumed, but Mar"
    assert window.session.job.mark_of(f"{path}[2]") == "typed"
    assert window.session.job.mark_of(f"{path}[3]") == "assumed"
    clipboard = QApplication.clipboard()
    clipboard.setText("4,5\n6.1\n7")
    row.fields[10].setFocus()
    QTest.keyClick(row.fields[10], Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    assert "3 values were copied; from here on there are 2 months" in row.why.text()
    row.fields[0].setFocus()
    QTest.keyClick(row.fields[0], Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    now = window.session.job.house.background.energy_wh_per_day
    assert (now[:3], now[3:]) == ((4500.0, 6100.0, 7000.0), april[3:])
    assert row._mark.text() == "assumed, but Jan, Feb, Mar"
    clipboard.setText("\t".join(["5"] * 11 + ["five"]))
    before = window.session.job
    QTest.keyClick(row.fields[0], Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    assert window.session.job is before, "one that is no number: nothing is taken"
    assert "Dec: 'five' is not a number" in row.why.text()
    total = window.page("house").draws.background.year_total
    give(total, "3650")
    days = window.session.job.house.background.energy_wh_per_day
    assert sum(wh * d for wh, d in zip(days, MONTH_DAYS, strict=True)) == pytest.approx(3.65e6)
    assert days[1] / days[0] == pytest.approx(61 / 45), "the shape over the year stays"
    assert row._mark.text() == ""


def test_the_job_is_named_in_the_window(window):
    window.show_page("brief")
    cell = window.page("brief").cells["name"]
    cell.editor.setFocus()
    cell.editor.selectAll()
    QTest.keyClicks(cell.editor, "Mill house")
    QTest.keyClick(cell.editor, Qt.Key.Key_Return)
    assert window.session.job.name == "Mill house"
    assert "Mill house" in window.windowTitle()


def test_one_plan_too_many_is_said_and_the_chosen_one_stays(window, answers):
    for _ in range(40):
        window.plan_actions.duplicate()
        if answers.said:
            break
    assert "entries; use at most" in answers.said[-1]
    assert window.session.chosen in {plan.id for plan in window.session.job.plans}
    assert window.session.plan.id == window.session.chosen
