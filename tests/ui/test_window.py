"""The real window: edits reach the document and come back as painted figures; undo, remedies, plans, files, keys."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt, QThread
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from calm_relay.demo import demo_job
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit
from calm_relay.job.pages import PAGES
from calm_relay.study import Study
from calm_relay.ui.fields.card_button import CardButton
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.pages import make
from calm_relay.ui.start import wait_for, wait_idle
from calm_relay.ui.views.headroom import HeadroomRow
from calm_relay.ui.window import MainWindow
from tests.ui.picking import take

PATH = "strings[ne1].modules_per_string"


def choose(window: MainWindow, qapp, letter: str) -> None:
    window.session.choose(window.session.job.plan(letter).id)
    assert wait_idle(qapp, window)


def row(window: MainWindow, check: str, subject: str = "") -> HeadroomRow:
    return next(r for r in window.headroom.rows() if r.finding.check == check and subject in r.finding.subject)


def open_station(window: MainWindow, station: str) -> None:
    relay = window.plans.relay
    relay.setFocus()
    for _ in range(40):
        if relay.station is not None and relay.station.id == station:
            break
        QTest.keyClick(relay, Qt.Key.Key_Right)
    assert relay.station is not None
    assert relay.station.id == station
    QTest.keyClick(relay, Qt.Key.Key_Return)


def typed(field: QuantityField, text: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_pages_are_loaded_ahead_once_nobody_waits(window, qapp, monkeypatch):
    loaded: list[tuple[str, bool]] = []
    runner = window.session.runner
    monkeypatch.setattr(make, "resolve_name", lambda name: loaded.append((name, QThread.currentThread() is qapp.thread())))
    ahead = make.PagesAhead(runner)
    ahead._quiet.setInterval(50)
    runner.raising = True
    runner.idle.emit(runner.generation)
    QTest.qWait(200)
    assert not loaded, "limits are still being raised"
    runner.raising = False
    assert wait_for(qapp, lambda: ahead.loaded, 10.0)
    assert loaded == [(spec.make, False) for spec in PAGES]
    runner.idle.emit(runner.generation)
    QTest.qWait(100)
    assert len(loaded) == len(PAGES), "once"


def test_an_edit_reaches_document_checks_and_year_and_undo_takes_it_back(window, qapp):
    choose(window, qapp, "B")
    before = window.tabs.tab("hybrid-swap").face
    cold = row(window, "string.cold-voc", "tracker 1").finding.figure
    open_station(window, "tracker:hyb/1")
    field = window.plans.sheet.field(PATH)
    assert isinstance(field, QuantityField)
    typed(field, "13")
    group = window.session.job.plan("B").nodes[0].strings[0]
    assert group.modules_per_string == 13
    # the checks that need no year are on screen at once, before the event loop ran again
    assert row(window, "string.cold-voc", "tracker 1").finding.verdict == "over"
    assert window.tabs.tab("hybrid-swap").face.stale
    assert wait_idle(qapp, window)
    after = window.tabs.tab("hybrid-swap").face
    assert after.figure != before.figure
    assert after.verdict == "2 over"  # the cold volts, and 21 modules on a face with room for 16
    assert window.action("undo").text() == "&Undo: Modules in series: 8 to 13"
    window.action("undo").trigger()
    assert wait_idle(qapp, window)
    assert window.tabs.tab("hybrid-swap").face == before
    assert row(window, "string.cold-voc", "tracker 1").finding.figure == cold
    assert field.text() == "8"
    window.action("redo").trigger()
    assert window.session.job.plan("B").nodes[0].strings[0].modules_per_string == 13


def test_a_remedy_is_applied_with_one_click_and_undone(window, qapp):
    choose(window, qapp, "C")
    over = row(window, "network.inverter-sum")
    assert over.finding.verdict == "over"
    QTest.mouseClick(over, Qt.MouseButton.LeftButton)
    button = window.headroom.findChild(QPushButton, "apply")
    assert button is not None
    button.click()
    assert wait_idle(qapp, window)
    assert row(window, "network.inverter-sum").finding.verdict in ("within", "tight")
    window.undo()
    assert window.session.job == demo_job()


def test_what_does_not_fit_stays_marked_and_changes_nothing(window, qapp):
    choose(window, qapp, "B")
    open_station(window, "tracker:hyb/1")
    field = window.plans.sheet.field(PATH)
    assert isinstance(field, QuantityField)
    for text, why in (("0", "at least 1"), ("8.5", "whole number"), ("8 km", "does not fit"), ("99", "at most 60")):
        typed(field, text)
        assert field.property("bad"), text
        assert why in field.toolTip(), text
        assert window.session.document.undo_label is None
        QTest.keyClick(field, Qt.Key.Key_Escape)
        assert field.text() == "8"
        assert not field.property("bad")
    QTest.keyClick(field, Qt.Key.Key_Up)
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert field.text() == "10"
    window.undo()
    assert window.session.job == demo_job(), "two nudges in one field are one entry"


def test_equipment_is_changed_in_place_and_a_shipped_card_comes_along(window, qapp):
    choose(window, qapp, "A")
    open_station(window, "node:bat")
    button = window.plans.sheet.field("nodes[bat].card")
    assert isinstance(button, CardButton)
    take(window.session, "battery-inverter-8k")
    QTest.keyClick(button, Qt.Key.Key_Return)
    assert window.session.plan.nodes[1].card == "battery-inverter-8k"
    assert "battery-inverter-8k" in window.session.job.cards()
    window.undo()
    assert window.session.job == demo_job()


def test_the_grid_is_opened_by_key_and_says_what_is_left(window, qapp):
    choose(window, qapp, "A")
    assert window.plans.grid_up.isChecked()
    QTest.keyClick(window, Qt.Key.Key_G)
    assert window.plans.grid_down.isChecked()
    picture = window.plans.relay.picture
    assert picture is not None
    assert next(g for g in picture.gates if g.station == "transfer").state == "open"
    assert any(label.text == "dark" for label in picture.labels)
    QTest.keyClick(window, Qt.Key.Key_G)
    assert window.plans.grid_up.isChecked()


def test_decide_shows_one_state_only(window, qapp):
    QTest.keyClick(window, Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
    window.show_page("decide")
    window.page("decide").show_part("figures")
    assert wait_idle(qapp, window)
    table = window.page("decide").table
    assert table.isEnabled()
    shown = [table.item(2, c).text() for c in range(1, 6)]
    assert shown[0] == f"{window.session.fresh('today').bill.total:,.0f}"
    window.session.edit("Export limit", [Edit("site.export_limit_w", 1500.0)])
    assert not table.isEnabled(), "the old table is dimmed as a whole"
    assert [table.item(2, c).text() for c in range(1, 6)] == shown
    assert wait_idle(qapp, window)
    assert table.isEnabled()
    assert [table.item(2, c).text() for c in range(1, 6)] != shown
    window.page("decide").table.setFocus()
    window.keys.copy()
    assert qapp.clipboard().text().startswith("\tToday As it stands\tA ")


def test_an_edit_that_leaves_the_year_is_answered_at_once_and_by_the_same_figures(window, qapp):
    choose(window, qapp, "B")
    assert wait_idle(qapp, window)
    years = window.session.made()
    for path, value in (
        ("tariff.import_price_per_kwh", 0.41),
        ("plans[hybrid-swap].note", "by the wall"),
        ("tariff.tax_frac", 0.1),
    ):
        window.session.edit(path, [Edit(path, value)])
        result = window.session.fresh("hybrid-swap")
        assert result is not None, path
        assert window.session.made() is years
        assert window.session.fresh("today") is None, "other plans come later"
        assert "being run" not in window.headroom.tally.text()
        assert wait_idle(qapp, window)
        later = window.session.fresh("hybrid-swap")
        assert (later.bill, later.facts) == (result.bill, result.facts)
        assert [replace(f, remedies=()) for f in later.findings] == [replace(f, remedies=()) for f in result.findings]
        alone = Study(window.session.store).plan_result(window.session.job, window.session.plan)
        assert [f.arithmetic for f in alone.findings] == [f.arithmetic for f in result.findings]
        assert alone.bill == result.bill
    window.session.edit("Export limit", [Edit("site.export_limit_w", 1500.0)])
    assert window.session.fresh("hybrid-swap") is None
    assert "being run" in window.headroom.tally.text()


def test_plans_are_duplicated_renamed_and_removed_as_named_entries(window, qapp, answers):
    choose(window, qapp, "B")
    window.action("duplicate").trigger()
    assert wait_idle(qapp, window)
    assert window.session.plan.letter == "E"
    assert window.session.plan.nodes == window.session.job.plan("B").nodes
    answers.text = "Hybrid swap, larger"
    window.action("rename").trigger()
    assert window.tabs.tab("hybrid-swap-2").face.name == "Hybrid swap, larger"
    window.action("remove").trigger()
    assert [p.letter for p in window.session.job.plans] == ["Today", "A", "B", "C", "D"]
    for label in ("Remove plan E", "Rename plan E", "Duplicate plan B"):
        assert window.session.document.undo_label == label
        window.undo()
    assert window.session.job == demo_job()
    choose(window, qapp, "Today")
    assert not window.action("remove").isEnabled()


def test_arrows_move_along_the_plan_tabs(window, qapp):
    choose(window, qapp, "A")
    tab = window.tabs.tab("ac-add-on")
    tab.setFocus()
    QTest.keyClick(tab, Qt.Key.Key_Right)
    assert window.session.plan.letter == "B"
    QTest.keyClick(window, Qt.Key.Key_PageUp, Qt.KeyboardModifier.ControlModifier)
    assert window.session.plan.letter == "A"


def test_save_open_and_faults(window, qapp, answers, tmp_path):
    answers.path = tmp_path / "mine.crjob"
    window.session.document.edit("Name", lambda job: job.model_copy(update={"name": "Mine"}))
    assert window.isWindowModified()
    assert window.files.save()
    assert not window.isWindowModified()
    assert read_job(answers.path).job.name == "Mine"
    bad = tmp_path / "bad.json"
    bad.write_text("{")
    assert not window.files.load(bad)
    assert "it is not JSON" in answers.said[-1]
    assert window.session.job.name == "Mine"
    assert window.files.load(answers.path)
    assert wait_idle(qapp, window)
    assert window.session.path == answers.path
    answers.path.write_bytes(answers.path.read_bytes() + b"")
    import os

    os.utime(answers.path, ns=(1, 1))
    answers.sure = False
    assert not window.files.save(), "the file changed on disk: it is asked first"
    answers.path = tmp_path / "nowhere" / "x.json"
    assert not window.files.save_as()
    assert "could not be saved" in answers.said[-1]


def test_unsaved_changes_are_asked_about(window, answers):
    window.session.document.edit("Name", lambda job: job.model_copy(update={"name": "Mine"}))
    answers.leave = "stay"
    assert not window.close()
    assert window.isVisible()


@pytest.mark.parametrize("entry", ["keys", "about"])
def test_help_says_something(window, answers, entry):
    window.action(entry).trigger()
    assert len(answers.said[-1]) > 60
