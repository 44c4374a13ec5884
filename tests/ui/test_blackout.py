"""Blackout in a real window: the sentence on top, the picture walked by arrows, ticks of what stays on, the map by month."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from calm_relay.ui.pages.stays_part import BACKED, ESSENTIAL, TOGETHER
from calm_relay.ui.start import wait_for, wait_idle


def shown(qapp, window, part, ready):
    window.show_page("blackout")
    page = window.page("blackout")
    page.show_part(part)
    assert wait_for(qapp, lambda: ready(page), 60)
    assert wait_idle(qapp, window)
    return page


def drilled(page):
    return page.drill.view._drill is not None


def test_an_outage_is_told_walked_and_compared(window, qapp):
    window.session.choose("ac-add-on")
    page = shown(qapp, window, "drill", drilled)
    assert "the battery is at its floor: everything goes dark" in page.drill.first.text()
    assert "nothing forms a grid" in page.drill.events.text()
    QTest.keyClick(page.drill.view, Qt.Key.Key_Right)
    assert page.drill.under.text().startswith("0 h 10 min")
    QTest.keyClick(page.drill.view, Qt.Key.Key_Down)
    assert page.drill.view.minute == page.drill.view._drill.events[0].minute
    assert page.drill.table.item(0, 1).text() == f"{page.drill.view._drill.survived_h:.1f} h"
    QTest.keyClick(page.drill.view, Qt.Key.Key_Right)
    assert page.drill.relay._values.dark
    assert "grid is down" in {station.said for station in page.drill.relay.picture.stations}
    page.drill._set("charge", 1)
    page = shown(qapp, window, "drill", lambda p: drilled(p) and p.drill.view._drill.charge_frac[0] > 0.9)
    assert page.drill.view._drill.survived_h is None or page.drill.view._drill.survived_h > 10


def test_schools_by_one_key_seconds_of_a_trip_and_its_flows_on_the_relay_line(window, qapp):
    window.session.choose("hybrid-swap")
    page = shown(qapp, window, "drill", drilled)
    page.drill._set("start", "named:Winter storm")
    page = shown(qapp, window, "drill", lambda p: drilled(p) and "to stay on does so for 18 h" in p.drill.first.text())
    QTest.keyClick(page.drill.view, Qt.Key.Key_2)
    assert wait_idle(qapp, window)
    assert "(whole house)" in page.drill.first.text()
    assert "the inverters trip" in page.drill.first.text()
    trip = next(e.minute for e in page.drill.view._drill.events if e.kind == "trip")
    page.drill.view._walk(trip)
    assert page.drill.seconds.moment is not None
    assert page.drill.seconds.moment.step == trip
    assert page.drill.seconds.copy_rows()[0][0] == "second"
    page.drill.view._walk(trip - 3)
    window.show_page("plans")
    window.plans.grid_down.setChecked(True)
    assert wait_idle(qapp, window)
    assert window.plans.clock_label.text().endswith("into the outage, whole house")
    assert window.plans.relay._values.backup_load_w > 0
    window.plans.grid_up.setChecked(True)


def test_ticks_of_what_stays_on_change_the_job_by_keys_and_back(window, qapp):
    session = window.session
    session.choose("ac-add-on")
    page = shown(qapp, window, "stays", lambda p: p.stays.table.rowCount() > 0)
    table = page.stays.table
    names = [table.item(i, 0).text() for i in range(table.rowCount())]
    oven = names.index("Oven")
    table.setCurrentCell(oven, BACKED)
    QTest.keyClick(table, Qt.Key.Key_Space)
    assert wait_idle(qapp, window)
    assert "oven" in session.plan.transfer.listed
    assert "8 loads together" in page.stays.said.text()
    table.setCurrentCell(oven, ESSENTIAL)
    QTest.keyClick(table, Qt.Key.Key_Space)
    assert wait_idle(qapp, window)
    assert next(a for a in session.job.house.appliances if a.id == "oven").essential
    table.setCurrentCell(oven, TOGETHER)
    QTest.keyClick(table, Qt.Key.Key_Space)
    assert page.stays.together == {"oven"}
    page.drill._set("house", 1)
    page = shown(qapp, window, "drill", lambda p: drilled(p) and p.drill.view._drill.asked_w[5] > 1600)
    assert abs(page.drill.view._drill.asked_w[5] - 0.8 * 2100) < 1
    page.drill._set("house", 0)
    session.document.undo()
    session.document.undo()
    assert wait_idle(qapp, window)
    assert "oven" not in session.plan.transfer.listed


def test_the_map_by_month_and_a_plan_that_is_dark_at_once(window, qapp):
    window.session.choose("hybrid-swap")
    page = shown(qapp, window, "ride", lambda p: p.ride.table.isVisible())
    assert page.ride.table.rowCount() == 13
    assert "of all starts in winter" in page.ride.said.text()
    january, june = (float(page.ride.table.item(row, 3).text().split()[0]) for row in (0, 5))
    assert january > june, "the site is in the south"
    page.ride._ask()
    page = shown(qapp, window, "ride", lambda p: "With more PV" in p.ride.reached.text())
    page = shown(qapp, window, "starts", lambda p: "Well pump" in p.starts.words.text())
    window.session.choose("array-only")
    page = shown(qapp, window, "drill", lambda p: "no transfer device" in p.drill.first.text())
    assert not page.drill.view.isVisible()
