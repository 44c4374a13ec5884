"""Cost lines typed in their dialog: each one named undo; without any nothing is said of what pays, of other equipment neither."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from calm_relay.decision.priced import cost_words
from calm_relay.job.edits import Edit
from calm_relay.money.costing import plan_costs
from calm_relay.ui.costs_dialog import CostsDialog


def typed(dialog, path, text):
    editor = dialog.cells[path].editor
    editor.setFocus()
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)


def test_a_plan_is_priced_line_by_line_and_stale_costs_are_said(window):
    session = window.session
    session.choose("array-only")
    session.edit("No costs", [Edit("plans[array-only].costs", []), Edit("rebates", [])])
    before = session.job
    dialog = CostsDialog(session, 1.0, window)
    assert dialog.sum.text().startswith("No cost is known.")
    QTest.mouseClick(dialog.add_button, Qt.MouseButton.LeftButton)
    typed(dialog, "plans[array-only].costs[0].text", "Seven modules")
    typed(dialog, "plans[array-only].costs[0].amount", "2600")
    plan = session.plan
    assert [(line.text, line.amount) for line in plan.costs] == [("Seven modules", 2600.0)]
    assert plan_costs(session.job, plan).total == 2600.0
    assert "2,600" in dialog.sum.text()
    session.edit("One module less", [Edit("plans[array-only].nodes[old].strings[nw].modules_per_string", 6)])
    assert plan_costs(session.job, session.plan).total is None
    assert "other equipment" in dialog.sum.text()
    assert dialog.hold.isVisibleTo(dialog)
    QTest.mouseClick(dialog.hold, Qt.MouseButton.LeftButton)
    assert plan_costs(session.job, session.plan).total == 2600.0
    QTest.mouseClick(dialog.add_button, Qt.MouseButton.LeftButton)
    assert "without a price: Line 2" in cost_words(session.job, session.plan)
    for _ in range(6):
        session.document.undo()
    assert session.job == before
