"""Blackout in a real window: the sentence on top, the picture walked by arrows, the map by month, plans dark at once."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from calm_relay.ui.start import wait_for, wait_idle


def shown(qapp, window, part, ready):
    window.show_page("blackout")
    page = window.page("blackout")
    page.show_part(part)
    assert wait_for(qapp, lambda: ready(page), 60_000)
    assert wait_idle(qapp, window)
    return page


def test_an_outage_is_told_walked_and_compared(window, qapp):
    window.session.choose("ac-add-on")
    page = shown(qapp, window, "drill", lambda p: p.drill.view._drill is not None)
    assert "the battery is at its floor: everything goes dark" in page.drill.first.text()
    assert "nothing forms a grid" in page.drill.events.text()
    QTest.keyClick(page.drill.view, Qt.Key.Key_Right)
    assert page.drill.under.text().startswith("0 h 10 min")
    QTest.keyClick(page.drill.view, Qt.Key.Key_Down)
    assert page.drill.view.minute == page.drill.view._drill.events[0].minute
    assert page.drill.table.item(0, 1).text() == f"{page.drill.view._drill.survived_h:.1f} h"
    page.drill._set("charge", 1)
    page = shown(qapp, window, "drill", lambda p: p.drill.view._drill is not None and p.drill.view._drill.charge_frac[0] > 0.9)
    assert page.drill.view._drill.survived_h is None or page.drill.view._drill.survived_h > 10


def test_the_map_by_month_and_a_plan_that_is_dark_at_once(window, qapp):
    window.session.choose("hybrid-swap")
    page = shown(qapp, window, "ride", lambda p: p.ride.table.isVisible())
    assert page.ride.table.rowCount() == 13
    assert "of all starts in winter" in page.ride.said.text()
    january, june = (float(page.ride.table.item(row, 3).text().split()[0]) for row in (0, 5))
    assert january > june, "the site is in the south"
    page = shown(qapp, window, "starts", lambda p: "Well pump" in p.starts.words.text())
    window.session.choose("array-only")
    page = shown(qapp, window, "drill", lambda p: "no transfer device" in p.drill.first.text())
    assert not page.drill.view.isVisible()
