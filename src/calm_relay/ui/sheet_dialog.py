"""A data sheet's copied text beside the figures found in it: each is looked at, mended or typed, and then becomes a card."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QPlainTextEdit,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.equipment.columns import asked_of, card_from, id_of
from calm_relay.equipment.datasheet import SheetRead, read_sheet
from calm_relay.equipment.labels import KINDS, LABELS, label_of
from calm_relay.equipment.shown import figure_text, parsed_figure
from calm_relay.errors import BadInput
from calm_relay.library.cards import Card
from calm_relay.ui.fields.line import Line
from calm_relay.ui.widgets import label
from calm_relay.units import count_words

HEADS = ("Figure", "Value", "From the words")
LOOK_AFTER_MS = 150


class SheetDialog(QDialog):
    """`made` is the card, once it was accepted."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Paste a data sheet")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(124 * letter, 1140), min(74 * letter, 680))
        self.made: Card | None = None
        self._read: SheetRead | None = None
        self._fields: list[str] = []
        column = QVBoxLayout(self)
        column.addWidget(label("Paste a data sheet", "heading"))
        note = (
            "Copy the sheet's text and paste it here. Figures are found by name and unit, in six languages: untick what is not so."
        )
        column.addWidget(label(note, "quiet", wrap=True))
        split = QSplitter(Qt.Orientation.Horizontal)
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("Text of the data sheet")
        self.text.setTabChangesFocus(True)
        self.text.setPlaceholderText("Open circuit voltage (Voc)   38.9 V …")
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName("Figures found; values can be typed over")
        self.table.setHorizontalHeaderLabels(HEADS)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        self.table.itemChanged.connect(lambda _: self._judge())
        split.addWidget(self.text)
        split.addWidget(self.table)
        split.setStretchFactor(0, 2)
        split.setStretchFactor(1, 3)
        column.addWidget(split, 1)
        row = QHBoxLayout()
        column.addLayout(row)
        self.name = Line()
        self.name.setAccessibleName("Name of the card")
        self.name.setPlaceholderText("name of the card")
        self.name.textChanged.connect(lambda _: self._judge())
        row.addWidget(label("Name", "quiet"))
        row.addWidget(self.name, 1)
        self.said = label("Nothing is pasted yet.", "quiet", wrap=True)
        column.addWidget(self.said)
        buttons = QDialogButtonBox()
        self.put = buttons.addButton("Put on the shelf", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(LOOK_AFTER_MS)
        self._soon.timeout.connect(self.look)
        self.text.textChanged.connect(self._soon.start)
        self.put.setEnabled(False)

    def look(self) -> None:
        """Look for figures in the text as it stands."""
        self._soon.stop()
        self._read = read_sheet(self.text.toPlainText())
        self.table.blockSignals(True)
        self._fill()
        self.table.blockSignals(False)
        self._judge()

    def _fill(self) -> None:
        read = self._read
        found = {} if read is None else {figure.field: figure for figure in read.figures}
        needed = () if read is None else tuple(asked_of(read.kind, found))
        self._fields = [*found, *needed]
        self.table.setRowCount(len(self._fields))
        for row, field in enumerate(self._fields):
            figure = found.get(field)
            assert read is not None
            value = "" if figure is None else figure_text(field, figure.value)
            words = "the sheet does not say it: type it" if figure is None else " ".join(figure.words.split())
            if figure is not None and figure.others:
                words += f"   (also there: {', '.join(figure_text(field, v) for v in figure.others)})"
            for column, text in enumerate((label_of(field), value, words)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column != 1:
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                if column == 0 and figure is not None:
                    item.setCheckState(Qt.CheckState.Checked)
                self.table.setItem(row, column, item)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)

    def values(self) -> dict[str, Any]:
        """Return the figures that are ticked or typed, in core units; raises BadInput for one that is none."""
        assert self._read is not None
        out = {}
        for row, field in enumerate(self._fields):
            item = self.table.item(row, 1)
            text = item.text().strip() if item is not None else ""
            tick = self.table.item(row, 0)
            ticks = tick is not None and tick.data(Qt.ItemDataRole.CheckStateRole) is not None
            left_out = tick is not None and ticks and tick.checkState() is Qt.CheckState.Unchecked
            if text and not left_out:
                out[field] = parsed_figure(self._read.kind, field, text)
        return out

    def _card(self) -> Card:
        assert self._read is not None
        name = self.name.text().strip()
        values = {**self.values(), "id": id_of(name), "name": name, "source": "read from a data sheet"}
        return card_from(self._read.kind, values, "")

    def _judge(self) -> None:
        """Say what is still to do; only a whole card can be put on the shelf."""
        self.put.setEnabled(False)
        if self._read is None:
            empty = not self.text.toPlainText().strip()
            self.said.setText("Nothing is pasted yet." if empty else "No figure is found by name and unit.")
            return
        count = count_words(len(self._read.figures), "figure")
        noun = f"{'An' if KINDS[self._read.kind][0] in 'aeiou' else 'A'} {KINDS[self._read.kind]}"
        try:
            missing = [label_of(name) for name in asked_of(self._read.kind, self.values())]
            if missing or not self.name.text().strip():
                wants = [*missing, *([] if self.name.text().strip() else ["a name"])]
                self.said.setText(f"{noun}, by {count}. Still wanted: {', '.join(wants)}.")
                return
            self._card()
        except BadInput as error:
            self.said.setText("; ".join(f"{LABELS.get(f.field, f.field)}: {f.problem}; {f.remedy}" for f in error.faults))
            return
        self.said.setText(f"{noun}, by {count}. It can be put on the shelf.")
        self.put.setEnabled(True)

    def _accept(self) -> None:
        try:
            self.made = self._card()
        except BadInput as error:
            self.said.setText(str(error))
            return
        self.accept()
