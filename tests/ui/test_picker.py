"""The picker by keys alone: few strokes to a card, why another does not fit, what a year is worth, and the shelf's other card."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from calm_relay.decision.patterns import draft_plan
from calm_relay.demo import demo_path, kvist_job
from calm_relay.equipment.shelf import Shelf, read_shelf, save_shelf
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit
from calm_relay.job.series import SeriesStore
from calm_relay.library.shipped import shipped_card
from calm_relay.ui.ageing_dialog import AgeingDialog
from calm_relay.ui.chains_dialog import ChainsDialog
from calm_relay.ui.commands import make_window
from calm_relay.ui.picker_dialog import PickerDialog
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import wait_for, wait_idle
from tests.match_cases import bank
from tests.ui.conftest import dispose
from tests.ui.picking import take

BATTERY = "plans[ac-add-on].nodes[bat].battery.card"


@pytest.fixture(autouse=True)
def home(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))


def test_a_three_phase_hybrid_of_10_kw_in_three_keystrokes(qapp, answers, tmp_path):
    """The pottery on three phases, its hybrid in question: 1, 0, Enter."""
    assert kvist_job(SeriesStore()).site.supply.kind == "three_phase"
    window = make_window(read_job(demo_path("demo-kvist")), None, dialogs=answers, settings=Settings(tmp_path / "w.ini"))
    window.show()
    try:
        drafted, made = draft_plan(window.session.job, "hybrid-swap", 2e4)
        window.session.document.edit("Draft a hybrid", lambda _: drafted)
        plan = drafted.plan(made)
        node = next(n for n in plan.nodes if n.card.startswith("hybrid"))
        dialog = PickerDialog(window.session, f"plans[{plan.id}].nodes[{node.id}].card", window)
        dialog.show()
        assert dialog.search.hasFocus() or dialog.focusWidget() is dialog.search
        QTest.keyClicks(dialog.search, "10")
        QTest.keyClick(dialog.search, Qt.Key.Key_Return)
        assert dialog.chosen is not None
        assert (dialog.chosen.card.kind, dialog.chosen.card.phases, dialog.chosen.card.ac_rated_w) == ("hybrid", 3, 10_000)
        assert read_shelf().last_used == (dialog.chosen.card.id,)
    finally:
        dispose(qapp, window)


def test_what_fits_stands_first_and_the_rest_says_why(window, qapp):
    window.session.choose("ac-add-on")
    assert wait_idle(qapp, window)
    dialog = PickerDialog(window.session, BATTERY, window)
    dialog.show()
    fits = [offer.fits for offer in dialog.offers]
    assert fits == sorted(fits, reverse=True)
    assert all(offer.why for offer in dialog.offers if not offer.fits)
    assert dialog.offer().now
    QTest.keyClicks(dialog.search, "rack")
    assert not dialog.offer().fits
    assert "the input takes 85 to 460 V" in dialog.text.toPlainText()
    assert dialog.take.text() == "Choose all the same"
    dialog.search.clear()
    row = dialog.table.currentRow()
    QTest.keyClick(dialog.search, Qt.Key.Key_Down)
    assert dialog.table.currentRow() == row + 1
    assert "Against LFP stack module 3.3 kWh" in dialog.text.toPlainText()
    dialog.simulate.click()
    assert wait_for(qapp, lambda: dialog.simulate.text() == "Simulated")
    worth = [offer.worth for offer in dialog.offers if offer.fits]
    assert worth == sorted(worth, reverse=True)
    assert next(offer.worth for offer in dialog.offers if offer.now) == 0.0
    QTest.keyClicks(dialog.search, "toaster")
    QTest.keyClick(dialog.search, Qt.Key.Key_Return)
    assert dialog.chosen is None
    QTest.keyClick(dialog.search, Qt.Key.Key_Escape)
    assert dialog.isHidden()


def test_a_battery_comes_with_its_number_of_modules_and_is_one_undo(window, qapp):
    window.session.choose("ac-add-on")
    assert wait_idle(qapp, window)
    window.plans.relay.focus_station("battery:bat")
    window.plans.open_station()
    before = window.session.job
    take(window.session, "stack-2k5")
    QTest.keyClick(window.plans.sheet.field("battery.card"), Qt.Key.Key_Return)
    choice = window.session.plan.nodes[1].battery
    assert (choice.card, choice.modules) == ("stack-2k5", 4)
    window.undo()
    assert window.session.job == before


def test_a_job_shows_when_the_shelf_has_another_card_and_takes_it(window, qapp):
    window.session.choose("ac-add-on")
    mine = shipped_card("stack-3k").model_copy(update={"charge_max_a": 20.0})
    save_shelf(Shelf((mine,)))
    assert wait_idle(qapp, window)
    window.plans.relay.focus_station("battery:bat")
    window.plans.open_station()
    cell = next(c for p, c in window.plans.sheet.cells.items() if p.endswith("battery.card"))
    cell.refresh()
    assert cell._mark.text() == "shelf differs"
    assert "Maximum charge current: 26.0 A here, 20.0 A there" in cell._mark.toolTip()
    cell._take_from_shelf()
    assert window.session.job.card("stack-3k").charge_max_a == 20.0
    cell.refresh()
    assert cell._mark.text() == ""
    window.session.edit("back", [Edit("library[stack-3k]", shipped_card("stack-3k").model_dump())])


def test_leads_of_parallel_branches_are_typed_one_by_one(window, qapp):
    window.session.choose("ac-add-on")
    window.session.edit("racks", bank("rack-5k", 3))
    assert wait_idle(qapp, window)
    window.plans.relay.focus_station("battery:bat")
    window.plans.open_station()
    sheet = window.plans.sheet
    button = next(b for b in sheet.findChildren(QPushButton) if b.text() == "Leads differ…")
    button.click()
    assert window.session.plan.nodes[1].battery.leads_ohm == (0.001, 0.001, 0.001)
    field = sheet.field("leads_ohm[2]")
    field.selectAll()
    QTest.keyClicks(field, "12")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.session.plan.nodes[1].battery.leads_ohm[2] == pytest.approx(0.012)
    (row,) = [f for f in window.session.quick_findings("ac-add-on") if f.check == "battery.sharing"]
    assert "by resistance and leads" in row.arithmetic
    next(b for b in sheet.findChildren(QPushButton) if b.text() == "Leads alike").click()
    assert window.session.plan.nodes[1].battery.leads_ohm == ()


def test_chains_are_shown_with_their_weakest_link_and_copied(window, qapp):
    window.session.choose("hybrid-alongside")
    assert wait_idle(qapp, window)
    window.plans.relay.focus_station("battery:hyb")
    window.plans.open_station()
    next(b for b in window.plans.sheet.findChildren(QPushButton) if b.text() == "Chains…").click()
    dialog = window.session.dialogs.dialog
    assert isinstance(dialog, ChainsDialog)
    rows = dialog.view.copy_rows()
    assert any("the weakest" in right for _, right in rows)
    assert any(left == "91.8 % arrives" for left, _ in rows)
    before = dialog.view.size()
    dialog.power.selectAll()
    QTest.keyClicks(dialog.power, "5 kW")
    QTest.keyClick(dialog.power, Qt.Key.Key_Return)
    assert any("5.00 kW arriving" in right for _, right in dialog.view.copy_rows())
    assert dialog.view.width() >= before.width() - 40


def test_ageing_is_drawn_and_copied(window, qapp):
    window.session.choose("hybrid-alongside")
    assert wait_idle(qapp, window)
    window.action("ageing").trigger()
    dialog = window.session.dialogs.dialog
    assert isinstance(dialog, AgeingDialog)
    rows = dialog.views[0].copy_rows()
    assert len(rows) == 21
    assert float(rows[1][1].split()[0]) > float(rows[20][1].split()[0])
    window.session.choose("array-only")
    assert wait_idle(qapp, window)
    assert not AgeingDialog(window.session, window.theme, 1.0, window).views
