"""Site & roof by keys and mouse: the dial, the horizon, the table of shade, towns, losses by name, now or later."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from calm_relay.demo import demo_job
from calm_relay.equipment.shelf import Shelf, save_shelf
from calm_relay.library.shipped import shipped_card
from calm_relay.ui.start import wait_idle
from tests.ui.picking import take

NW = "north-west"


def part(window, qapp, name, letter="B"):
    window.session.choose(window.session.job.plan(letter).id)
    window.show_page("site")
    page = window.page("site")
    page.show_part(name)
    if name == "faces":
        page.faces.choose(NW)
    assert wait_idle(qapp, window)
    return getattr(page, name)


def face(window):
    return window.session.job.face(NW)


def undo_all(window):
    while window.session.document.undo():
        pass
    assert window.session.job == demo_job()


def test_the_dial_turns_by_keys_and_mouse_and_shows_what_is_typed(window, qapp):
    dial = part(window, qapp, "faces").dials[NW]
    dial.setFocus()
    for key, azimuth in ((Qt.Key.Key_Right, 316), (Qt.Key.Key_Up, 321), (Qt.Key.Key_PageUp, 6), (Qt.Key.Key_Left, 5)):
        QTest.keyClick(dial, key)
        assert face(window).azimuth_deg == azimuth
        assert dial.azimuth_deg == azimuth
        assert dial.hasFocus()
    QTest.mouseClick(dial, Qt.MouseButton.LeftButton, pos=QPoint(dial.width() - 6, dial.height() // 2))
    assert face(window).azimuth_deg == 90
    assert "east" in dial.accessibleDescription()
    assert window.session.document.undo_label == "North-west face looks to 90°"
    undo_all(window)
    assert dial.azimuth_deg == 315


def test_a_horizon_is_drawn_by_keys_alone_and_lowers_the_yield(window, qapp):
    faces = part(window, qapp, "faces")
    view = faces.horizon
    before = sum(window.session.face_months()[NW])
    points = len(face(window).horizon)
    view.setFocus()
    first = view.chosen
    QTest.keyClick(view, Qt.Key.Key_Right)
    assert view.chosen != first
    at = view.chosen
    QTest.keyClick(view, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert view.chosen.elevation_deg == at.elevation_deg + 5
    QTest.keyClick(view, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert view.chosen.azimuth_deg == at.azimuth_deg + 1
    QTest.keyClick(view, Qt.Key.Key_Insert)
    assert len(face(window).horizon) == points + 1
    QTest.keyClick(view, Qt.Key.Key_Delete)
    assert len(face(window).horizon) == points
    assert view.hasFocus()
    for _ in range(9):
        QTest.keyClick(view, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert wait_idle(qapp, window)
    assert sum(window.session.face_months()[NW]) < before
    assert "points" in view.accessibleDescription()
    undo_all(window)


def test_a_point_is_set_dragged_and_taken_out_by_mouse(window, qapp):
    view = part(window, qapp, "faces").horizon
    points = len(face(window).horizon)
    at = QPoint(round(view.place_x(60.0)), round(view.place_y(40.0)))
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=at)
    assert len(face(window).horizon) == points + 1
    made = next(p for p in face(window).horizon if abs(p.azimuth_deg - 60) <= 1)
    assert made.elevation_deg == pytest.approx(40, abs=1)
    QTest.mouseClick(view, Qt.MouseButton.RightButton, pos=at)
    assert len(face(window).horizon) == points
    undo_all(window)


def test_a_table_of_shade_is_painted_by_keys(window, qapp):
    view = part(window, qapp, "faces").table
    view.setFocus()
    for _ in range(3):
        QTest.keyClick(view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    QTest.keyClick(view, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    QTest.keyClicks(view, "4")
    table = face(window).shade_table
    assert [table[m][h] for m in (0, 1) for h in (12, 15)] == [0.4] * 4
    assert sum(v > 0 for row in table for v in row) == 8
    QTest.keyClick(view, Qt.Key.Key_Return)
    assert face(window).shade_table[1][15] == 1.0
    QTest.keyClick(view, Qt.Key.Key_Delete)
    assert not any(any(row) for row in face(window).shade_table)
    undo_all(window)


def test_shade_is_read_from_a_file_and_a_bad_one_told(window, qapp, answers, tmp_path):
    faces = part(window, qapp, "faces")
    good, bad = tmp_path / "hill.csv", tmp_path / "bad.csv"
    good.write_text("azimuth;elevation\n0;5\n180;12,5\n")
    bad.write_text("0,5\n400,10\n")
    faces.read_file(good)
    assert [(p.azimuth_deg, p.elevation_deg) for p in face(window).horizon] == [(0, 5), (180, 12.5)]
    answers.path = bad
    faces.page.button("x", faces.read_shade).click()
    assert "azimuth lies between 0 and 360" in answers.said[-1]
    assert len(face(window).horizon) == 2
    undo_all(window)


def test_a_town_is_found_by_keys_and_its_altitude_marked_assumed(window, qapp, answers):
    place = part(window, qapp, "place")
    place.find_town()
    dialog = answers.dialog
    QTest.keyClicks(dialog.line, "nelson")
    dialog.search()
    QTest.keyClick(dialog.line, Qt.Key.Key_Down)
    assert dialog.list.currentRow() == 1
    QTest.keyClick(dialog.line, Qt.Key.Key_Up)
    QTest.keyClick(dialog.line, Qt.Key.Key_Return)
    site = window.session.job.site.place
    assert (site.name, site.time_zone) == ("Nelson", "Pacific/Auckland")
    assert site.latitude_deg == pytest.approx(-41.27, abs=0.01)
    assert window.session.job.mark_of("site.place.altitude_m") == "assumed"
    assert window.session.document.undo_label == "Place: Nelson, New Zealand"
    undo_all(window)


def test_losses_by_name_and_measured_values_come_and_go(window, qapp):
    strings = part(window, qapp, "strings")
    group = window.session.plan.nodes[0].strings[0]
    at = f"plans[{window.session.chosen}].nodes[{window.session.plan.nodes[0].id}].strings[{group.id}]"
    assert "highest open" in strings.years[window.session.plan.nodes[0].id, group.id].text()
    strings.toggle_losses(at, group)
    assert wait_idle(qapp, window)
    assert f"{at}.losses.wiring_frac" in window.page("site").cells
    assert "11.4 %" in strings.years[window.session.plan.nodes[0].id, group.id].text()
    strings.toggle_measured(at, window.session.plan.nodes[0].strings[0])
    assert wait_idle(qapp, window)
    assert any(r.finding.check == "string.measured" for r in window.headroom.rows())
    undo_all(window)


def test_now_or_later_and_the_next_module_follow_the_plan(window, qapp):
    over = part(window, qapp, "oversizing", "D")
    assert "are clipped; worth" in over.next_words.text()
    assert "About" in over.clip_words.text()
    over.plan_later()
    assert wait_idle(qapp, window)
    words = over.later_words.text()
    assert "over 20 years" in words
    path = f"plans[{window.session.chosen}].later.visit_cost"
    cell = window.page("site").cells[path].editor
    cell.setFocus()
    cell.selectAll()
    QTest.keyClicks(cell, "9000")
    QTest.keyClick(cell, Qt.Key.Key_Return)
    assert wait_idle(qapp, window)
    assert over.later_words.text() != words
    assert QApplication.focusWidget() is cell
    undo_all(window)


def test_a_guessed_sky_says_so_where_figures_stand(window, qapp):
    place = part(window, qapp, "place")
    place.guess_sky()
    assert wait_idle(qapp, window)
    assert "a guess: clear sky, mixed" in place.sun_words.text()
    window.show_page("year")
    assert wait_idle(qapp, window)
    assert "a guess" in window.page("year").words_label.text()
    window.show_page("decide")
    assert wait_idle(qapp, window)
    from PySide6.QtWidgets import QLabel

    assert any("a guess" in label.text() for label in window.page("decide").findChildren(QLabel))
    undo_all(window)


def test_own_cards_stand_beside_the_shipped_ones_and_a_broken_shelf_is_said_once(window, qapp, answers, monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    mine = shipped_card("module-430").model_copy(update={"id": "own-module", "name": "Module of our own"})
    path = save_shelf(Shelf((mine,)))
    window.show_page("site")
    window.page("site").show_part("strings")
    assert wait_idle(qapp, window)
    editor = next(c.editor for p, c in window.page("site").cells.items() if p.endswith("].module"))
    window.page("site").refresh()
    take(window.session, "own-module")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    assert "own-module" in window.session.job.cards(), "the job holds a copy of its own"
    path.write_text("{", encoding="utf-8")
    window.page("site").refresh()
    window.page("site").refresh()
    assert sum("own cards are left out" in said for said in answers.said) == 1
