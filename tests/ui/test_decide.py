"""Decide in a real window: figures come in stages, weights are the brief's, a choice is kept, costs follow their plan."""

from __future__ import annotations

import json

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from calm_relay.job.edits import Edit
from calm_relay.money.costing import plan_costs
from calm_relay.ui.choice_dialog import ChoiceDialog
from calm_relay.ui.costs_dialog import CostsDialog
from calm_relay.ui.start import wait_for, wait_idle


def settled(qapp, window):
    page = window.page("decide")
    window.show_page("decide")
    assert wait_for(qapp, lambda: (standing := page.standing()) is not None and standing.ranges is not None, 60)
    assert wait_idle(qapp, window)
    return page


def cells(table, text):
    row = next(r for r in range(table.rowCount()) if table.item(r, 0).text().strip() == text)
    return [table.item(row, c).text() for c in range(1, table.columnCount())]


def test_the_page_says_who_leads_and_weights_turn_it(window, qapp):
    page = settled(qapp, window)
    assert page.part == "lead"
    assert "Nothing pays back within 20 years" in page.lead.because.text()
    assert cells(page.table, "Gate")[3:] == ["closed", "closed"]
    assert cells(page.table, "Best in money in")[0] == "15 of 15"
    points = cells(page.table, "Points of 100")
    box = page.lead.weights["zero_export"]
    box.setCurrentIndex(4)
    box.activated.emit(4)
    assert window.session.job.brief.weights[-1].purpose == "zero_export"
    page = settled(qapp, window)
    assert cells(page.table, "Points of 100") != points
    assert "Export nothing, 40 %" in [page.table.item(r, 0).text() for r in range(page.table.rowCount())]
    window.session.document.undo()
    assert window.session.job.brief.weights == ()


def test_twenty_years_are_the_chosen_plan_s_and_follow_its_fields(window, qapp):
    page = settled(qapp, window)
    window.session.choose("array-only")
    page.show_part("years")
    settled(qapp, window)
    assert page.years.head.text().startswith("D")
    assert page.table.rowCount() == 20
    worth = page.years.notes.text().splitlines()[0]
    field = page.cells["finance.discount_frac"].editor
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "0")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.session.job.finance.discount_frac == 0
    settled(qapp, window)
    assert page.years.notes.text().splitlines()[0] != worth
    assert page.focus_path("finance.upkeep_per_year")


def test_a_plan_is_chosen_with_its_reason(window, qapp, monkeypatch):
    page = settled(qapp, window)

    def answer(dialog):
        assert isinstance(dialog, ChoiceDialog)
        assert not dialog.take.isEnabled(), "without a reason nothing is chosen"
        dialog.box.setCurrentIndex(dialog.box.findData("hybrid-alongside"))
        assert "closed" in dialog.gate.text()
        dialog.box.setCurrentIndex(dialog.box.findData("hybrid-swap"))
        dialog.line.setText("One box less in the shed")
        assert dialog.take.isEnabled()
        dialog.accept()

    monkeypatch.setattr(window.session.dialogs, "show", answer)
    page.lead.choose_button.click()
    job = window.session.job
    assert (job.choice.plan, job.choice.reason) == ("hybrid-swap", "One box less in the shed")
    assert "saving" in job.log[-1].text
    assert "plan B" in page.lead.chosen.text()
    window.session.document.undo()
    assert window.session.job.choice is None


def test_lines_rebates_and_the_price_list_in_the_dialog(window, qapp, tmp_path, monkeypatch):
    session = window.session
    session.choose("hybrid-alongside")
    session.edit("No costs", [Edit("plans[hybrid-alongside].costs", []), Edit("rebates", [])])
    dialog = CostsDialog(session, 1.0, window)
    QTest.mouseClick(dialog.ready_button, Qt.MouseButton.LeftButton)
    lines = session.plan.costs
    assert {line.kind for line in lines} >= {"battery", "inverter", "modules", "wiring", "labour"}
    assert "No cost is known" in dialog.sum.text()
    path = tmp_path / "autumn.csv"
    path.write_text("card,price,date\nhybrid-6k,3400,2026-10-01\nstack-3k,1600,2026-10-01\n", encoding="utf-8")
    monkeypatch.setattr(session.dialogs, "ask_file", lambda *_: path)
    dialog.keep_button.click()
    dialog.reprice_button.click()
    assert "At least" in dialog.sum.text()
    assert "without a price: " in dialog.sum.text()
    assert any(line.source == "autumn, 2026-10-01" for line in session.plan.costs)
    dialog.rebates.add_button.click()
    base = "rebates[0]"
    for name, text in (("per_kwh", "200"), ("most", "1000")):
        editor = dialog.cells[f"{base}.{name}"].editor
        editor.setFocus()
        editor.selectAll()
        QTest.keyClicks(editor, text)
        QTest.keyClick(editor, Qt.Key.Key_Return)
    assert plan_costs(session.job, session.plan).rebates[0].amount == 1000
    assert json.loads(session.job.model_dump_json())["rebates"][0]["most"] == 1000
    dialog.close()
