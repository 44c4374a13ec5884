"""A newcomer's whole way in the real window: from an empty job to three plans compared, in few keys and clicks, no dead end."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit, QPushButton

from calm_relay.job.container import OpenedJob
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.ui.commands import make_window
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import wait_idle
from tests.ui.conftest import dispose

MOST = 90


class Newcomer:
    """Works by clicks and keys, and counts them; what is typed into a field is not counted."""

    def __init__(self, window, qapp) -> None:
        self.window, self.qapp, self.count = window, qapp, 0

    def settle(self):
        assert wait_idle(self.qapp, self.window)

    def key(self, key, where, times=1):
        for _ in range(times):
            QTest.keyClick(where, key)
            self.count += 1
        self.qapp.processEvents()

    def click(self, button):
        assert button.isVisible(), button.text()
        assert button.isEnabled(), button.text()
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        self.count += 1
        self.qapp.processEvents()

    def command(self, name):
        """A menu entry by its key."""
        self.window.menus[name].trigger()
        self.count += 1
        self.qapp.processEvents()

    def type(self, page, path, text):
        """Click a field, type over it, Enter."""
        field = self.window.page(page).cells[path].editor
        field.setFocus()
        if isinstance(field, QLineEdit):
            field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.count += 2
        self.qapp.processEvents()

    def button(self, holder, text):
        return next(b for b in holder.findChildren(QPushButton) if b.text().replace("&", "") == text and b.isVisible())

    def go(self, name):
        self.click(self.window.order_buttons[name])
        self.settle()


def test_from_an_empty_job_to_three_plans_compared(qapp, answers, tmp_path, qtbot):
    job = new_job()
    window = make_window(
        OpenedJob(job, SeriesStore(), job.schema_version), None, dialogs=answers, settings=Settings(tmp_path / "window.ini")
    )
    window.show()
    qtbot.waitExposed(window)
    me, session = Newcomer(window, qapp), window.session
    me.settle()
    me.go("site")
    site = window.page("site")
    me.click(site.tabs["place"])
    me.click(me.button(site, "Find a town…"))
    QTest.keyClicks(answers.dialog.line, "graz")
    answers.dialog.search()
    me.key(Qt.Key.Key_Return, answers.dialog.line)
    me.type("site", "site.record_low_c", "-15")
    me.type("site", "site.design_high_c", "34")
    assert session.job.site.place.time_zone == "Europe/Vienna"
    # the roof: seven modules to the east, seven to the west
    me.click(site.tabs["faces"])
    me.click(me.button(site, "Add a face"))
    first, second = (face.id for face in session.job.faces)
    for face, azimuth in ((first, "90"), (second, "270")):
        site.faces.choose(face)
        me.count += 1
        me.type("site", f"faces[{face}].azimuth_deg", azimuth)
        me.type("site", f"faces[{face}].room_modules", "7")
    # the house from a yearly bill, prices of day and night
    me.go("house")
    fields = window.page("house").findChildren(QLineEdit)
    total = next(f for f in fields if f.accessibleName() == "Everything else, the year")
    total.setFocus()
    total.selectAll()
    QTest.keyClicks(total, "4200")
    me.key(Qt.Key.Key_Return, total)
    me.count += 1
    me.settle()
    me.go("tariff")
    for field, text in (("cheap_price_per_kwh", "0.14"), ("cheap_start_h", "0"), ("cheap_end_h", "6")):
        me.type("tariff", f"tariff.{field}", text)
    # what stands, and what it should become: two plans from the start list, a third with a second unit
    for becomes in ("hybrid-new", "modules-new"):
        session.choose("today")
        me.count += 1
        me.command("start-list")
        dialog = answers.dialog
        rows = [dialog.right.item(i).data(Qt.ItemDataRole.UserRole) for i in range(dialog.right.count())]
        me.key(Qt.Key.Key_Right, dialog.left)
        me.key(Qt.Key.Key_Down, dialog.right, rows.index(becomes))
        stands, wanted = dialog.stands, str(dialog.right.currentItem().data(Qt.ItemDataRole.UserRole))
        me.key(Qt.Key.Key_Return, dialog.right)
        window.plan_actions.make_start(stands, wanted)  # the stand-in does not wait for the dialog
        me.settle()
    hybrid = next(p for p in session.job.plans if p.id == "hybrid-new")
    session.choose("hybrid-new")
    me.count += 1
    me.settle()
    for group in hybrid.nodes[0].strings:  # the roof is to be full: seven on each face
        station = next(s for s in window.plans.relay.picture.stations if s.id.endswith(f"/{group.tracker}"))
        window.plans.relay.opened.emit(station)
        field = window.plans.sheet.field(f"strings[{group.id}].modules_per_string")
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "7")
        me.key(Qt.Key.Key_Return, field)
        me.count += 2
        me.settle()
    strings = [g for n in session.plan.nodes for g in n.strings]
    assert sum(g.modules_per_string * g.parallel_strings for g in strings) == 14
    assert {session.job.face(g.face).azimuth_deg for g in strings} == {90.0, 270.0}
    me.command("duplicate")
    me.settle()
    window.show_page("plans")
    node = session.plan.nodes[0]
    again = next(s for s in window.plans.building.steps() if s.key == f"again:{node.id}")
    menu = window.plans.build_button.menu()
    menu.aboutToShow.emit()
    entry = next(a for a in menu.actions() if a.text() == again.text)
    entry.trigger()
    me.count += 2
    me.settle()
    assert len(session.plan.nodes) == 2
    me.go("decide")
    assert session.all_fresh()
    assert len(session.job.plans) == 4
    bills = {p.id: session.fresh(p.id).bill.total for p in session.job.plans}
    assert min(bills.values()) < bills["today"], "a plan saves something"
    assert not answers.said, answers.said
    assert me.count < MOST
    dispose(qapp, window)
