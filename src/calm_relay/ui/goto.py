"""The go-to box: a few words, and Enter goes to the page, plan, check, field or card."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from calm_relay.decision.index import Entry, search


class GoTo(QDialog):
    """Type words, choose with the arrows, Enter goes."""

    chosen = Signal(object)

    def __init__(self, found: Sequence[Entry], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Go to")
        self._found = found
        self.setMinimumWidth(460)
        column = QVBoxLayout(self)
        self.line = QLineEdit()
        self.line.setAccessibleName("Go to")
        self.line.setPlaceholderText("A field, check, card, plan or page: type a few words")
        self.list = QListWidget()
        self.list.setAccessibleName("What was found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setMinimumHeight(260)
        self.list.setWordWrap(True)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.line.textChanged.connect(self._search)
        self.line.returnPressed.connect(self._go)
        self.list.itemClicked.connect(lambda _: self._go())
        self.line.installEventFilter(self)
        self._hits: tuple[Entry, ...] = ()
        self._search("")
        self.line.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up)
        ):
            by = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + by)))
            return True
        return super().eventFilter(watched, event)

    def _search(self, text: str) -> None:
        self._hits = search(self._found, text)
        self.list.clear()
        for entry in self._hits:
            detail = f"  {entry.detail}" if entry.detail else ""
            self.list.addItem(QListWidgetItem(f"{entry.title}{detail}   ({entry.kind})"))
        self.list.setCurrentRow(0)

    def _go(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._hits):
            entry = self._hits[row]
            self.accept()
            self.chosen.emit(entry)
