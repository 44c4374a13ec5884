"""What cannot be is refused where it is typed: no box a plan, no crash handler, no list that edits as the wheel passes over it."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox


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
