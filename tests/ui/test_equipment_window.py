"""The shelf in the window by keys: a card found in a few, a sheet pasted and completed, a file added, a card taken off."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from calm_relay.equipment.files import written_cards
from calm_relay.equipment.shelf import read_shelf
from calm_relay.library.shipped import shipped_card
from calm_relay.ui.card_editor import CardEditor
from calm_relay.ui.equipment_dialog import EquipmentDialog
from calm_relay.ui.sheet_dialog import SheetDialog

SHEET = """Nennleistung (Pmax)  430 Wp   323 Wp
Leerlaufspannung 38,9 V
MPP-Spannung 32,6 V
Kurzschlussstrom 13,97 A
MPP-Strom 13,19 A
Temperaturkoeffizient Pmax -0,30 %/K
"""


@pytest.fixture
def shelf(window, monkeypatch, tmp_path) -> EquipmentDialog:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window.action("equipment").trigger()
    dialog = window.session.dialogs.dialog
    assert isinstance(dialog, EquipmentDialog)
    return dialog


def test_a_card_is_found_by_words_and_figures_and_says_what_its_sheet_lacks(shelf):
    everything = shelf.table.rowCount()
    QTest.keyClicks(shelf.search, "hybrid 5 kW")
    assert 0 < shelf.table.rowCount() < everything
    assert shelf.card() is not None
    assert shelf.card().id == "hybrid-5k"
    text = shelf.text.toPlainText()
    assert "Rated AC power: 5.00 kW" in text
    assert "Tracker 2, window from: 90 V" in text
    assert "The data sheet lacks:" in text
    assert not shelf.remove.isEnabled(), "a shipped card is nobody's to take off"
    shelf.search.clear()
    QTest.keyClicks(shelf.search, "toaster")
    assert shelf.table.rowCount() == 0
    assert "No card is so" in shelf.text.toPlainText()


def test_a_file_is_added_and_a_fault_is_said_in_place(shelf, tmp_path, answers):
    mine = shipped_card("battery-inverter-5k").model_copy(update={"id": "own-inverter", "name": "Inverter of ours"})
    path = tmp_path / "mine.csv"
    path.write_bytes(written_cards([mine], ".csv"))
    shelf.add_file(path)
    assert read_shelf().cards == (mine,)
    assert shelf.card() == mine
    assert shelf.remove.isEnabled()
    path.write_text("kind,id,name\ntoaster,x,y\n", encoding="utf-8")
    shelf.add_file(path)
    assert "row 2, column kind: 'toaster' is no kind of card" in shelf.said.text()
    assert read_shelf().cards == (mine,)
    shelf.remove.click()
    assert read_shelf().cards == ()
    assert not answers.said or "off the shelf" in answers.said[-1]


def test_a_pasted_sheet_becomes_a_card_once_what_is_missing_is_typed(shelf, window):
    shelf.paste.click()
    dialog = window.session.dialogs.dialog
    assert isinstance(dialog, SheetDialog)
    dialog.text.setPlainText(SHEET)
    dialog.look()
    rows = [dialog.table.item(r, 0).text() for r in range(dialog.table.rowCount())]
    assert dialog.table.item(0, 1).text() == "430 W" or "0.43 kW" in dialog.table.item(0, 1).text()
    assert "323" in dialog.table.item(0, 2).text() or "0.32" in dialog.table.item(0, 2).text()
    assert not dialog.put.isEnabled()
    assert "Still wanted: Length, Width, a name" in dialog.said.text()
    QTest.keyClicks(dialog.name, "Module 430 of ours")
    for field, text in (("Length", "1722 mm"), ("Width", "113 kg")):
        dialog.table.item(rows.index(field), 1).setText(text)
    assert "the unit 'kg' does not fit here" in dialog.said.text()
    assert not dialog.put.isEnabled()
    dialog.table.item(rows.index("Width"), 1).setText("1134 mm")
    assert dialog.put.isEnabled(), dialog.said.text()
    QTest.mouseClick(dialog.put, Qt.MouseButton.LeftButton)
    (card,) = read_shelf().cards
    assert (card.id, card.power_stc_w, card.length_m, card.gamma_pmp_per_c) == (
        "module-430-of-ours",
        430.0,
        1.722,
        pytest.approx(-0.003),
    )
    assert card.system_voltage_max_v is None
    assert shelf.card() == card


def test_prose_gives_nothing(shelf, window):
    shelf.paste.click()
    dialog = window.session.dialogs.dialog
    dialog.text.setPlainText("The open circuit voltage rises to about 52 V on cold mornings.")
    dialog.look()
    assert dialog.table.rowCount() == 0
    assert "No figure is found" in dialog.said.text()
    assert not dialog.put.isEnabled()


def test_a_newcomer_types_a_module_from_a_printed_sheet_by_keys(shelf, window):
    """Name, Enter, then a figure and Enter each: ten lines of a sheet, some thirty strokes beside the figures themselves."""
    shelf.new.click()
    editor = window.session.dialogs.dialog
    assert isinstance(editor, CardEditor)
    QTest.keyClicks(editor.name, "Module 430 W, ours")
    QTest.keyClick(editor.name, Qt.Key.Key_Return)
    for text in ("430", "38.9", "32.6", "13.97", "13.19", "-0.30 %/K", "1722", "1134", "-0.25 %/K"):
        QTest.keyClicks(editor.table, text[0])
        line = editor.table.findChildren(QLineEdit)[-1]
        QTest.keyClicks(line, text[1:])
        QTest.keyClick(line, Qt.Key.Key_Return)
        QApplication.processEvents()
    assert editor.said.text() == "It can be put on the shelf."
    assert "Cold voltage" in editor.table.item(8, 2).text(), "what rests on a figure stands beside it"
    editor.put.click()
    (card,) = read_shelf().cards
    assert (card.name, card.power_stc_w, card.length_m) == ("Module 430 W, ours", 430, 1.722)
    assert card.id == "module-430-w-ours"
    assert shelf.card() == card


def test_a_shipped_card_is_begun_from_and_an_own_one_typed_over(shelf, window):
    QTest.keyClicks(shelf.search, "hybrid 10 kW three phase high")
    assert shelf.edit.text() == "New like this…"
    shelf.edit.click()
    editor = window.session.dialogs.dialog
    assert editor.name.text().endswith(", ours")
    row = editor._columns.index("battery_voltage_max_v")
    editor.table.item(row, 1).setText("about 700")
    assert "Battery voltage to: 'about 700' is not a number" in editor.said.text()
    assert not editor.put.isEnabled()
    editor.table.item(row, 1).setText("700 V")
    editor.add_row("trackers")
    editor.put.click()
    (card,) = read_shelf().cards
    assert (card.battery_voltage_max_v, len(card.trackers)) == (700, 3)
    assert shipped_card("hybrid-10k-three").battery_voltage_max_v == 800
    assert shelf.edit.text() == "Edit…"
    shelf.edit.click()
    again = window.session.dialogs.dialog
    again.name.setText("Hybrid of ours")
    again.put.click()
    assert [c.name for c in read_shelf().cards] == ["Hybrid of ours"], "the same card, typed over"


def test_favourites_stand_first(shelf):
    QTest.keyClicks(shelf.search, "generator diesel")
    chosen = shelf.card().id
    shelf.favourite.click()
    assert read_shelf().favourites == (chosen,)
    shelf.search.clear()
    assert shelf._cards[0].id == chosen
    assert shelf.favourite.text() == "Not a favourite"
    shelf.favourite.click()
    assert read_shelf().favourites == ()


INVERTER_SHEET = """Rated AC power   10 kW
Max. input voltage 1000 V
MPPT voltage range 180 V - 950 V
Number of MPP trackers 2
Max. input current per MPPT 18 A / 18 A
Battery voltage range 150~800 V
Max. charging current 40 A
Max. efficiency 98.1 %
European efficiency 97.5 %
Warranty and service: see the contract.
"""


def test_an_inverters_sheet_is_pasted_and_only_what_it_lacks_is_typed(shelf, window):
    shelf.paste.click()
    dialog = window.session.dialogs.dialog
    dialog.text.setPlainText(INVERTER_SHEET)
    dialog.look()
    QTest.keyClicks(dialog.name, "Hybrid of ours")
    assert dialog.said.text() == "A hybrid inverter, by 13 figures. Still wanted: Phases."
    rating = dialog.table.item(0, 0)
    rating.setCheckState(Qt.CheckState.Unchecked)
    assert "Still wanted: Phases, Rated AC power." in dialog.said.text(), "what is not confirmed is not taken"
    rating.setCheckState(Qt.CheckState.Checked)
    row = dialog._fields.index("phases")
    dialog.table.item(row, 1).setText("3")
    assert "It can be put on the shelf" in dialog.said.text()
    QTest.mouseClick(dialog.put, Qt.MouseButton.LeftButton)
    (card,) = read_shelf().cards
    assert (card.kind, card.phases, len(card.trackers)) == ("hybrid", 3, 2)
