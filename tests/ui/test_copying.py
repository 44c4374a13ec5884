"""Copying by keys and by menu, and the keys that go into a page, along it and out of what is open."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from calm_relay.job.edits import Edit
from calm_relay.ui.copying import SVG_TYPE, copyables, rows_of, svg_of
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.start import wait_idle

PAGES = ("brief", "site", "house", "tariff", "plans", "year", "blackout", "decide")
LEAST = {"site": 1, "house": 1, "tariff": 1, "plans": 1, "year": 2, "blackout": 1, "decide": 1}


def test_every_table_and_picture_of_every_page_has_its_figures_and_is_drawn_as_lines(window, qapp):
    window.session.choose("hybrid-alongside")
    for page in PAGES:
        window.show_page(page)
        shown = window.page(page)
        parts = [key for key, _ in getattr(shown, "PARTS", ())] or [""]
        for part in parts:
            if part:
                shown.show_part(part)
            assert wait_idle(qapp, window)
            found = copyables(shown)
            for widget in found:
                rows = rows_of(widget)
                assert rows and (len(rows) > 1 or type(widget).__name__ == "HorizonView"), (page, part, type(widget).__name__)
                assert len({len(row) for row in rows}) == 1, (page, part, type(widget).__name__)
                assert widget.accessibleName(), type(widget).__name__
        assert len(found) >= LEAST.get(page, 0), page
    assert b"<svg" in svg_of(window.page("year").ribbon)
    window.show_page("plans")
    qapp.processEvents()
    assert len(copyables(window.strip)) == 2


def test_ctrl_c_copies_what_has_the_focus_or_the_only_table(window, qapp):
    window.show_page("decide")
    assert wait_idle(qapp, window)
    window.activateWindow()
    window.order_buttons["decide"].setFocus()
    QTest.keyClick(window.order_buttons["decide"], Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    data = QApplication.clipboard().mimeData()
    assert data.text().splitlines()[0].split("\t")[1].startswith("Today")
    assert any(line.startswith("Gate\t") for line in data.text().splitlines())
    assert data.hasFormat(SVG_TYPE)
    assert isinstance(data.imageData(), QImage)
    window.strip.carpet.setFocus()
    window.action("copy").trigger()
    assert len(QApplication.clipboard().text().splitlines()) == 366, "a row a day, and the heads"
    QApplication.clipboard().setText("untouched")
    window.show_page("year")
    window.order_buttons["year"].setFocus()
    window.action("copy").trigger()
    assert QApplication.clipboard().text() == "untouched"
    assert "lists them" in window.statusBar().currentMessage()
    menu = window.menus.menu("&Edit/Copy from this &page")
    menu.aboutToShow.emit()
    assert {"Flows of the year", "Energy by month"} <= {action.text() for action in menu.actions()}
    first = next(a for a in menu.actions() if a.text() == "Energy by month").menu().actions()[0]
    first.trigger()
    assert QApplication.clipboard().text().splitlines()[1].startswith("Jan\t")


def test_a_picture_is_saved_by_its_ending(window, qapp, answers, tmp_path):
    window.show_page("year")
    assert wait_idle(qapp, window)
    for ending, begins in ((".png", b"\x89PNG"), (".svg", b"<?xml"), (".tsv", b"from\tto")):
        answers.path = tmp_path / f"ribbon{ending}"
        window.files.save_picture(window.page("year").ribbon)
        assert answers.path.read_bytes().startswith(begins)
    answers.path = tmp_path / "nowhere" / "ribbon.png"
    window.files.save_picture(window.page("year").ribbon)
    assert "could not be written" in answers.said[-1]


@pytest.mark.parametrize("page", ["site", "house", "tariff", "brief"])
def test_one_key_goes_from_the_work_order_to_the_first_field(window, qapp, page):
    window.show_page("plans")
    window.activateWindow()
    button = window.order_buttons[page]
    button.setFocus()
    QTest.keyClick(button, Qt.Key.Key_Right)
    qapp.processEvents()
    focus = QApplication.focusWidget()
    assert window.shown == page
    assert window.page(page).isAncestorOf(focus)
    if page in ("site", "house", "tariff"):
        assert isinstance(focus, QuantityField | QComboBox) or focus in [cell.editor for cell in window.page(page).cells.values()]


def test_a_page_scrolls_by_keys_and_follows_the_focus(window, qapp):
    window.resize(1024, 700)
    window.show_page("year")
    assert wait_idle(qapp, window)
    window.activateWindow()
    button, bar = window.order_buttons["year"], window.holder().verticalScrollBar()
    button.setFocus()
    QTest.keyClick(button, Qt.Key.Key_PageDown)
    assert bar.value() > 0
    QTest.keyClick(button, Qt.Key.Key_Home)
    assert bar.value() == 0
    window.show_page("tariff")
    qapp.processEvents()
    last = [w for w in window.page("tariff").cells.values() if w.isVisible()][-1].editor
    last.setFocus()
    qapp.processEvents()
    top = last.mapTo(window.holder().viewport(), QPoint(0, 0)).y()
    assert 0 <= top <= window.holder().viewport().height() - last.height()


def test_escape_closes_an_open_check_and_ctrl_y_does_again_what_was_undone(window, qapp):
    window.activateWindow()
    row = window.headroom.rows()[0]
    row.setFocus()
    QTest.keyClick(row, Qt.Key.Key_Space)
    assert window.headroom.opened_check is not None
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Escape)
    assert window.headroom.opened_check is None
    assert QApplication.focusWidget() in window.headroom.rows()
    window.plan_actions.duplicate()
    count = len(window.session.job.plans)
    window.undo()
    QTest.keyClick(window, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier)
    assert len(window.session.job.plans) == count


def test_a_plan_tab_has_the_plans_menu(window, qapp):
    asked = []
    window.tabs.menu_asked.disconnect()
    window.tabs.menu_asked.connect(asked.append)
    tab = window.tabs.tab("hybrid-alongside")
    tab.customContextMenuRequested.emit(QPoint(5, 5))
    assert window.session.chosen == "hybrid-alongside"
    assert len(asked) == 1


def test_bars_of_the_year_follow_what_it_is_divided_by(window, qapp):
    window.session.choose("ac-add-on")
    window.show_page("year")
    assert wait_idle(qapp, window)
    page = window.page("year")
    heads = {}
    for i in range(page.pictures.parts.count()):
        page.pictures.parts.setCurrentIndex(i)
        rows = rows_of(page.pictures.months)
        heads[page.pictures.parts.itemText(i)] = (rows[0][0], len(rows) - 1)
        if rows[0][1] == "house":
            assert sum(float(row[1]) for row in rows[1:]) == pytest.approx(9534.7, abs=0.3), "every division is of the same year"
    assert heads["By hour of the day"] == ("hour", 24)
    assert heads["By price period"] == ("period", 2)
    assert heads["By box, for itself"] == ("box", 2)
    assert heads["Days of the battery, Battery inverter"] == ("month", 12)
    page.pictures.parts.setCurrentIndex(page.pictures.parts.findText("Days of the battery, Battery inverter"))
    window.session.choose(window.session.job.plans[0].id)
    assert wait_idle(qapp, window)
    assert page.pictures.parts.currentText() == "By month", "a plan without that battery falls back"
    assert page.pictures.parts.count() == 6


def test_bars_of_the_year_follow_an_edit_that_runs_no_year(window, qapp):
    window.session.choose("ac-add-on")
    window.show_page("year")
    assert wait_idle(qapp, window)
    page = window.page("year")
    page.pictures.parts.setCurrentIndex(page.pictures.parts.findText("By price period"))
    cheap = float(rows_of(page.pictures.months)[2][3])
    window.session.edit("Cheaper for longer", [Edit("tariff.cheap_end_h", 9.0)])
    assert wait_idle(qapp, window)
    assert float(rows_of(page.pictures.months)[2][3]) > cheap + 50
    page.pictures.parts.setCurrentIndex(page.pictures.parts.findText("By box, for itself"))
    window.session.edit("Rename", [Edit("plans[ac-add-on].nodes[bat].name", "Cellar box")])
    assert wait_idle(qapp, window)
    assert "Cellar box" in [row[0] for row in rows_of(page.pictures.months)]
    assert page.pictures.parts.findText("Days of the battery, Cellar box") >= 0


def test_what_is_looked_at_stays_when_pages_are_made_anew(window, qapp):
    window.session.choose("hybrid-swap")
    window.show_page("year")
    assert wait_idle(qapp, window)
    first = window.page("year")
    first.pictures.parts.setCurrentIndex(first.pictures.parts.findData("clipping"))
    first.pictures.against.setCurrentIndex(first.pictures.against.findData("ac-add-on"))
    window.show_page("blackout")
    window.page("blackout").show_part("stays")
    for change in ("theme:dark", "text:1.25"):  # the year page is not seen between the two
        window.action(change).trigger()
    assert window.page("blackout").part == "stays"
    window.show_page("year")
    assert wait_idle(qapp, window)
    year = window.page("year")
    assert year is not first
    assert year.look == ("clipping", "ac-add-on")
    assert year.pictures.duration.isVisible()


def test_pictures_of_the_year_one_by_one_and_against_another_plan(window, qapp):
    window.session.choose("hybrid-swap")
    window.show_page("year")
    assert wait_idle(qapp, window)
    pictures = window.page("year").pictures
    titles = [pictures.parts.itemText(i) for i in range(pictures.parts.count())]

    def pick(start):
        pictures.parts.setCurrentIndex(next(i for i, text in enumerate(titles) if text.startswith(start)))
        qapp.processEvents()

    pick("Charge by month")
    bands = rows_of(pictures.charge)
    assert len(bands) == 13
    assert pictures.charge.isVisible()
    assert not pictures.months.isVisible()
    pick("Slot 1")
    assert len(rows_of(pictures.charge)) == 154, "May to September"
    assert "of 153 days" in pictures.words.text()
    pick("By box")
    assert not pictures.against.isEnabled()
    pick("Clipping")
    assert pictures.duration.isVisible()
    pick("By month")
    alone = rows_of(pictures.months)
    pictures.against.setCurrentIndex(pictures.against.findData("ac-add-on"))
    assert wait_idle(qapp, window)
    less = rows_of(pictures.months)
    study, job = window.session.runner.study(), window.session.job
    other = study.year_parts(job, job.plan("ac-add-on"), "month")
    assert float(less[1][2]) == pytest.approx(float(alone[1][2]) - other[0].energy_wh["pv_ac_w"] / 1000.0, abs=0.02)
    pick("Charge by month")
    assert wait_idle(qapp, window)
    assert len(rows_of(pictures.charge)[0]) == 7, "the other plan's median beside this one's"
    for start, says in (("Clipping", "A: "), ("Slot 1", "A, slot "), ("Days", "the other plan's first battery")):
        pick(start)
        assert wait_idle(qapp, window)
        assert says in pictures.words.text()
    ribbon = window.page("year").ribbon
    ribbon.setFocus()
    QTest.keyClick(ribbon, Qt.Key.Key_Right)
    QTest.keyClick(ribbon, Qt.Key.Key_Return)
    assert wait_idle(qapp, window)
    name = list(ribbon.bars())[1]
    assert rows_of(pictures.figures)[0] == ["", "B", "A", "more by"]
    assert pictures.figures.item(pictures.figures.currentRow(), 0).text() == name
    assert pictures.words.text().startswith(f"B: {name} ")
    assert f"A: {name} " in pictures.words.text()
