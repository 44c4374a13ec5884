"""Keys alone: every field of every page and every station of the relay line is reached, edited and left."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLabel, QLineEdit, QWidget

from calm_relay.demo import demo_job
from calm_relay.job.edits import read_path
from calm_relay.ui.fields.card_button import CardButton
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.runner import StudyRunner
from calm_relay.ui.start import wait_idle
from tests.ui.picking import take

MOST_TABS = 400


@pytest.fixture
def still(window, qapp, monkeypatch):
    """The window with plan C on it and the study at rest: these tests are about keys and the document, not figures."""
    window.session.choose("hybrid-alongside")
    assert wait_idle(qapp, window)
    monkeypatch.setattr(StudyRunner, "_begin", lambda self: None)
    return window


def tab_round(window) -> list[QWidget]:
    """Press Tab until the focus comes round; returns what had it."""
    seen: list[QWidget] = []
    for _ in range(MOST_TABS):
        focus = QApplication.focusWidget()
        if focus is None or (seen and focus is seen[0]):
            break
        if focus in seen:
            break
        seen.append(focus)
        QTest.keyClick(focus, Qt.Key.Key_Tab)
    return seen


@pytest.mark.parametrize("page", ["site", "site faces", "site strings", "site oversizing", "house", "house carries"])
def test_every_field_of_a_page_is_reached_by_tab(window, qapp, page):
    window.session.choose("hybrid-alongside")
    page, _, part = page.partition(" ")
    window.show_page(page)
    if part:
        window.page(page).show_part(part)
    assert wait_idle(qapp, window)
    window.activateWindow()
    window.order_buttons[page].setFocus()
    seen = tab_round(window)
    fields = window.page(page)
    missed = [path for path, cell in fields.cells.items() if cell.isVisible() and cell.editor not in seen]
    missed += [path for path, row in fields.rows.items() if any(f not in seen for f in row.fields)]
    assert not missed, missed


def nudge(cell: FieldCell) -> None:
    """Change a field by keys alone."""
    editor = cell.editor
    editor.setFocus()
    if isinstance(editor, QuantityField) and read_path(cell.session.job, cell.path) is None:
        QTest.keyClicks(editor, "2031" if cell.info.kind == "year" else "5")
        QTest.keyClick(editor, Qt.Key.Key_Return)
    elif isinstance(editor, QuantityField):
        QTest.keyClick(
            editor,
            Qt.Key.Key_Up
            if (cell.info.most is None or read_path(cell.session.job, cell.path) != cell.info.most)
            else Qt.Key.Key_Down,
        )
    elif isinstance(editor, CardButton):
        take(cell.session, "")
        QTest.keyClick(editor, Qt.Key.Key_Return)
    elif isinstance(editor, QComboBox):
        last, window = editor.currentIndex() == editor.count() - 1, editor.window()
        QTest.keyClick(editor, Qt.Key.Key_Down)  # opens it
        QTest.keyClick(editor.view(), Qt.Key.Key_Up if last else Qt.Key.Key_Down)
        QTest.keyClick(editor.view(), Qt.Key.Key_Return)
        window.activateWindow()  # the list was a window of its own
        QApplication.processEvents()
    elif isinstance(editor, QLineEdit):
        editor.selectAll()
        QTest.keyClicks(editor, "Europe/Oslo" if "time_zone" in cell.path else "X1")
        QTest.keyClick(editor, Qt.Key.Key_Return)
    else:
        QTest.keyClick(editor, Qt.Key.Key_Space)


def edit_and_undo_each(holder, window, answers):
    """Edit every cell of a page or sheet by keys and undo it; returns how many could be edited. Some rebuild what holds them."""
    edited = 0
    for path in list(holder.cells):
        cell = holder.cells[path]
        if isinstance(cell.editor, QComboBox) and cell.editor.count() < 2:
            continue
        nudge(cell)
        assert window.session.job != demo_job() or answers.said or holder.cells[path].why.text(), path
        while window.session.document.undo():
            pass
        assert window.session.job == demo_job(), path
        QApplication.processEvents()
        edited += 1
    return edited


def test_every_station_is_reached_and_every_field_of_its_sheet_edited_and_undone(still, qapp, answers):
    window = still
    relay, sheet = window.plans.relay, window.plans.sheet
    relay.setFocus()
    stations = [s.id for s in relay.picture.stations]
    reached, edited = set(), 0
    for _ in stations:
        reached.add(relay.station.id)
        QTest.keyClick(relay, Qt.Key.Key_Return)
        qapp.processEvents()
        assert sheet.isVisible()
        assert sheet.isAncestorOf(QApplication.focusWidget()), relay.station.id
        edited += edit_and_undo_each(sheet, window, answers)
        QTest.keyClick(sheet, Qt.Key.Key_Escape)
        qapp.processEvents()
        assert not sheet.isVisible()
        assert relay.hasFocus(), (relay.station.id, QApplication.focusWidget(), QApplication.activePopupWidget())
        QTest.keyClick(relay, Qt.Key.Key_Right)
    assert reached == set(stations)
    assert edited > 25


@pytest.mark.parametrize(
    ("name", "months"), [("site", "site.weather.ghi_wh_per_m2_day"), ("house", "house.background.energy_wh_per_day")]
)
def test_every_field_of_a_page_is_edited_and_undone(still, qapp, answers, name, months):
    window = still
    window.show_page(name)
    page = window.page(name)
    if name == "site":
        for part in ("strings", "faces", "place"):
            page.show_part(part)
            qapp.processEvents()
            assert edit_and_undo_each(page, window, answers) > 5
    else:
        edit_and_undo_each(page, window, answers)
    for month, field in enumerate(page.rows[months].fields):
        before = read_path(window.session.job, months)[month]
        field.setFocus()
        QTest.keyClick(field, Qt.Key.Key_Up)
        assert read_path(window.session.job, months)[month] == before + 100.0


def test_the_first_quarter_of_an_hour_of_a_newcomer_by_keys_alone(window, qapp, answers):
    """Plan A is on screen: the nearest limit, one module too many and why, undo, the grid, the arithmetic of a check."""
    assert window.session.plan.letter == "A"
    nearest = window.headroom.rows()[0].accessibleName()
    assert "above" in nearest
    assert "2.7 of 2.0 %" in nearest
    relay = QApplication.focusWidget()
    assert relay is window.plans.relay, "the relay line has the focus at the start"
    assert "tracker 1" in relay.accessibleDescription()
    QTest.keyClick(relay, Qt.Key.Key_Return)
    field = QApplication.focusWidget()
    assert field.accessibleName() == "Modules in series"
    for text, verdict in (("11", "tight"), ("12", "over")):
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        cold = next(r for r in window.headroom.rows() if r.finding.check == "string.cold-voc" and "tracker 1" in r.finding.subject)
        assert f": {verdict}," in cold.accessibleName() or verdict == "tight"
    assert "12 × 48.6 V" in cold.toolTip()
    assert "of 600 V" in cold.toolTip()
    QTest.keyClick(field, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(field, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.session.job == demo_job(), "undo is the document's while nothing is being typed"
    assert field.text() == "8"
    QTest.keyClick(field, Qt.Key.Key_Escape)
    QTest.keyClick(window, Qt.Key.Key_G)
    assert window.plans.grid_down.isChecked()
    assert "Grid down: 5.00 kVA is made" in window.plans.sentence.text()
    QTest.keyClick(window, Qt.Key.Key_G, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(answers.dialog.line, "motor start")
    QTest.keyClick(answers.dialog.line, Qt.Key.Key_Return)
    shown = [w.text() for w in window.headroom.rows_holder.findChildren(QLabel) if not w.isHidden()]
    assert any("23 LRA × 230 V = 5.3 kVA" in text for text in shown)


def test_headroom_rows_open_and_close_by_keys(window, qapp):
    window.session.choose("hybrid-alongside")
    assert wait_idle(qapp, window)
    row = window.headroom.rows()[0]
    row.setFocus()
    QTest.keyClick(row, Qt.Key.Key_Space)
    assert window.headroom.opened_check is not None
    QTest.keyClick(window.headroom.rows()[0], Qt.Key.Key_Space)
    assert window.headroom.opened_check is None
