"""A card typed from a printed data sheet: one figure a row, with its unit as typed, and what stays open without it."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QModelIndex, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.equipment.columns import required_of
from calm_relay.equipment.labels import KINDS, ROWS, label_of
from calm_relay.equipment.shown import bare_unit, choices_of
from calm_relay.equipment.typed import TypedCard, typed_card
from calm_relay.errors import BadInput
from calm_relay.library.cards import Card
from calm_relay.rules.reads import rests_on
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.line import Line
from calm_relay.ui.widgets import label

HEADS = ("Figure", "Value", "Rests on it")
FIRST_KIND = "module"
CHOICES_ROLE = Qt.ItemDataRole.UserRole + 1
DONE = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Down)


class _Down(QStyledItemDelegate):
    """Enter takes a figure and goes on to the next row; a list of choices is typed as words."""

    def __init__(self, table: QTableWidget) -> None:
        super().__init__(table)
        self._table = table

    def createEditor(self, parent: QWidget, _option: QStyleOptionViewItem, index: QModelIndex) -> QWidget:
        choices = index.data(CHOICES_ROLE)
        if not choices:
            return QLineEdit(parent)
        box = ClosedList(parent)
        box.addItems(["", *choices])
        return box

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QKeyEvent):
            return super().eventFilter(watched, event)
        pressed = event.type() == QEvent.Type.KeyPress and event.key() in DONE
        if pressed and isinstance(watched, QComboBox) and event.key() == Qt.Key.Key_Down:
            pressed = False  # it goes through its choices
        if pressed and isinstance(watched, QWidget):
            self.commitData.emit(watched)
            self.closeEditor.emit(watched, QAbstractItemDelegate.EndEditHint.NoHint)
            QTimer.singleShot(0, self._next)
            return True
        return super().eventFilter(watched, event)

    def _next(self) -> None:
        row = self._table.currentRow() + 1
        if row < self._table.rowCount():
            self._table.setCurrentCell(row, 1)
        self._table.setFocus()


class CardEditor(QDialog):
    """`made` is the card, once it was accepted. A new one begins with its kind; a card handed in is typed over."""

    def __init__(self, card: Card | None = None, parent: QWidget | None = None, *, copy: bool = False) -> None:
        super().__init__(parent)
        self.made: Card | None = None
        self._typed = TypedCard(FIRST_KIND) if card is None else typed_card(card)
        if copy and card is not None:
            self._typed.card_id = ""
            self._typed.texts["name"] = f"{card.name[:54]}, ours"
            self._typed.texts["source"] = f"like {card.name}"[:60]
        self.setWindowTitle("A new card" if card is None else "A card like it" if copy else "Edit a card")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(128 * letter, 1120), min(78 * letter, 700))
        column = QVBoxLayout(self)
        column.addWidget(label(self.windowTitle(), "heading"))
        note = "Type figures as the sheet prints them, with a unit where it is another. Enter goes on; what it lacks stays empty."
        column.addWidget(label(note, "quiet", wrap=True))
        row = QHBoxLayout()
        column.addLayout(row)
        self.kind = ClosedList()
        self.kind.setAccessibleName("Kind of equipment")
        for kind, words in KINDS.items():
            self.kind.addItem(words, kind)
        self.kind.setCurrentIndex(self.kind.findData(self._typed.kind))
        self.kind.setEnabled(card is None)
        self.kind.activated.connect(lambda _: self._new_kind())
        self.name = Line()
        self.name.setAccessibleName("Name of the card")
        self.name.setPlaceholderText("name of the card, such as: Module 430 W, half-cell")
        self.name.setText(self._typed.texts.get("name", ""))
        self.name.textChanged.connect(self._named)
        self.name.returnPressed.connect(self._into_table)
        row.addWidget(label("Kind", "quiet"))
        row.addWidget(self.kind)
        row.addWidget(label("Name", "quiet"))
        row.addWidget(self.name, 1)
        self.more = QPushButton("Add a row")
        self.more.setAutoDefault(False)
        self._menu = QMenu(self.more)
        self.more.setMenu(self._menu)
        row.addWidget(self.more)
        self.table = self._table()
        column.addWidget(self.table, 1)
        self.said = label("", "quiet", wrap=True)
        column.addWidget(self.said)
        buttons = QDialogButtonBox()
        self.put = buttons.addButton("Put on the shelf", QDialogButtonBox.ButtonRole.AcceptRole)
        self.put.setAutoDefault(False)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole).setAutoDefault(False)
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._columns: list[str] = []
        self._fill()
        self.name.setFocus()

    def _table(self) -> QTableWidget:
        table = QTableWidget(0, len(HEADS))
        table.setAccessibleName("Figures of the card")
        table.setHorizontalHeaderLabels(HEADS)
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        table.verticalHeader().hide()
        table.setShowGrid(False)
        table.setTabKeyNavigation(False)
        trigger = QAbstractItemView.EditTrigger
        table.setEditTriggers(trigger.AnyKeyPressed | trigger.DoubleClicked | trigger.EditKeyPressed | trigger.SelectedClicked)
        table.setItemDelegateForColumn(1, _Down(table))
        table.itemChanged.connect(self._changed)
        return table

    # --- showing
    def _fill(self, at: str = "") -> None:
        self._columns = self._typed.columns()
        needed = set(required_of(self._typed.kind))
        self.table.blockSignals(True)
        self.table.setRowCount(len(self._columns))
        for row, column in enumerate(self._columns):
            rests = rests_on(self._typed.kind, column)
            last = f"needed; {rests}" if column in needed and rests else "needed" if column in needed else rests
            unit = bare_unit(self._typed.kind, column)
            figure = f"{label_of(column)}, {unit}" if unit else label_of(column)
            for place, text in enumerate((figure, self._typed.texts.get(column, ""), last)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if place == 1:
                    item.setData(CHOICES_ROLE, choices_of(self._typed.kind, column))
                else:
                    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable & ~Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(row, place, item)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Fixed)
        self.table.setColumnWidth(1, 26 * self.fontMetrics().averageCharWidth())
        self.table.blockSignals(False)
        self._menu.clear()
        for group in self._typed.groups():
            words = ROWS.get(group.rpartition(".")[2], group)
            self._menu.addAction(f"{words} {self._typed.shown_rows(group) + 1}").triggered.connect(
                lambda _=False, g=group: self.add_row(g)
            )
        self.more.setVisible(bool(self._menu.actions()))
        if self._columns:
            self.table.setCurrentCell(self._columns.index(at) if at in self._columns else 0, 1)
        self._judge()

    def _judge(self) -> None:
        wrong = self._typed.faults()
        self.table.blockSignals(True)
        for row, column in enumerate(self._columns):
            item = self.table.item(row, 1)
            if item is not None:
                item.setToolTip(wrong.get(column, item.text()))
        self.table.blockSignals(False)
        self.said.setText(self._typed.said())
        self.put.setEnabled(not wrong and not self._typed.missing() and bool(self.name.text().strip()))

    # --- typing
    def _changed(self, item: QTableWidgetItem) -> None:
        if item.column() == 1:
            self._typed.texts[self._columns[item.row()]] = item.text()
            self._judge()

    def _named(self, text: str) -> None:
        self._typed.texts["name"] = text
        self._judge()

    def _into_table(self) -> None:
        self.table.setFocus()

    def _new_kind(self) -> None:
        name = self._typed.texts.get("name", "")
        self._typed = TypedCard(str(self.kind.currentData()), {"name": name})
        self._fill()

    def add_row(self, group: str) -> None:
        """Show another row of a numbered group, a further tracker for one; it begins like the row before."""
        new = self._typed.add_row(group)
        self._fill(new[0] if new else "")
        self.table.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not self.put.hasFocus():
            if self.table.hasFocus() and self.table.currentRow() + 1 < self.table.rowCount():
                self.table.setCurrentCell(self.table.currentRow() + 1, 1)
            return  # Enter never puts half a card away
        super().keyPressEvent(event)

    def _accept(self) -> None:
        try:
            self.made = self._typed.card()
        except BadInput as error:
            self.said.setText(str(error))
            return
        self.accept()
