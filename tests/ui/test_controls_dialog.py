"""The controls of a plan in their dialog: slots of every kind, each field the document's own, one undo a step."""

from __future__ import annotations

from calm_relay.job.control_models import SLOT_DEFAULTS, Slot
from calm_relay.ui.controls_dialog import USES, ControlsDialog


def opened(window, qapp):
    window.session.choose("hybrid-swap")
    dialog = ControlsDialog(window.session, window.theme, 1.0, window)
    dialog.show()
    qapp.processEvents()
    return dialog


def test_a_slot_is_added_turned_into_each_kind_and_removed(window, qapp):
    dialog, session = opened(window, qapp), window.session
    before = session.plan.controls
    dialog.add_button.click()
    assert session.plan.controls.slots[-1] == Slot(**SLOT_DEFAULTS)
    at = f"plans[hybrid-swap].controls.slots[{len(before.slots)}]"
    assert dialog.cells[f"{at}.kind"].editor.hasFocus()
    for kind, fields in USES.items():
        box = dialog.cells[f"{at}.kind"].editor
        box.setCurrentIndex(box.findData(kind))
        box.activated.emit(box.currentIndex())
        assert session.plan.controls.slots[-1].kind == kind
        shown = {path.rpartition(".")[2] for path in dialog.cells if path.startswith(at)}
        assert shown == {"kind", "days", "start_h", "end_h", *fields}
    dialog._remove(len(before.slots))
    assert session.plan.controls == before
    for _ in range(len(USES) + 1):
        session.document.undo()
    assert session.plan.controls == before
    dialog.close()


def test_the_day_of_the_slots_is_drawn_and_follows_its_choice(window, qapp):
    dialog = opened(window, qapp)
    assert dialog.bars is not None
    rows = dialog.bars.copy_rows()
    assert rows[-1][:2] == ["slot 1–5 h", "1–5"]
    assert len([row for row in rows if row[0].endswith(":00")]) == 24
    assert "A weekday in May: draws up to" in dialog._slot_words[0].text()
    dialog.month.setCurrentIndex(11)
    assert dialog.bars.copy_rows()[-1][1:] == ["", "not on such a day"]
    dialog.close()


def test_every_control_has_its_field_and_the_plan_going_closes_it(window, qapp):
    dialog, session = opened(window, qapp), window.session
    of_outages = {name for name in type(session.plan.controls).model_fields if name.startswith("island_")}  # typed on Blackout
    fields = set(type(session.plan.controls).model_fields) - {"slots"} - of_outages
    assert fields == {path.rpartition(".")[2] for path in dialog.cells if ".slots[" not in path}
    window.plan_actions.remove()
    qapp.processEvents()
    assert not dialog.isVisible()
