"""Finds a town by name in the shipped list: type, choose with the arrows, Enter."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from calm_relay.places import ATTRIBUTION, Town, find_towns
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

TYPING_MS = 120


class TownDialog(QDialog):
    """Emits `chosen` with a town."""

    chosen = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find a town")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(64 * letter, 52 * letter)
        column = QVBoxLayout(self)
        column.addWidget(label("Name of a town; a comma and the country narrow it", "quiet"))
        self.line = QLineEdit()
        self.line.setAccessibleName("Name of a town")
        self.line.setPlaceholderText("nelson, new zealand")
        self.line.installEventFilter(self)
        column.addWidget(self.line)
        self.list = QListWidget()
        self.list.setAccessibleName("Towns found")
        self.list.itemActivated.connect(lambda _: self._take())
        column.addWidget(self.list, 1)
        self.hint = label("", "quiet", wrap=True)
        column.addWidget(self.hint)
        column.addWidget(label(ATTRIBUTION, "small", wrap=True))
        buttons = QDialogButtonBox()
        self.use = buttons.addButton("Use this place", QDialogButtonBox.ButtonRole.AcceptRole)
        self.use.setEnabled(False)
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        self.use.clicked.connect(self._take)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._searched = ""
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(TYPING_MS)
        self._later.timeout.connect(self.search)
        self.line.textChanged.connect(lambda _: self._later.start())

    def search(self) -> None:
        """Show the towns that fit what is typed."""
        text = self._searched = self.line.text()
        found = find_towns(text)
        self.list.clear()
        for town in found:
            where = f"{show(town.latitude_deg, 'angle_deg', 2)}, {show(town.longitude_deg, 'angle_deg', 2)}"
            item = QListWidgetItem(f"{town.words}   {where}")
            item.setData(Qt.ItemDataRole.UserRole, town)
            self.list.addItem(item)
        if found:
            self.list.setCurrentRow(0)
        self.use.setEnabled(bool(found))
        none = len(text.strip()) >= 2 and not found
        self.hint.setText("No town of the list begins so. Close this and type the coordinates instead." if none else "")

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrows move in the list while the cursor stays in the line, and Enter take the row."""
        if watched is self.line and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self.list.count():
                by = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(self.list.count() - 1, max(0, self.list.currentRow() + by)))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._later.stop()
                if self.line.text() != self._searched:
                    self.search()
                self._take()
                return True
        return super().eventFilter(watched, event)

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        town: Town = item.data(Qt.ItemDataRole.UserRole)
        self.chosen.emit(town)
        self.accept()
