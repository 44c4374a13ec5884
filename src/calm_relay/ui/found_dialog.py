"""What was found in a file that someone handed in, to be looked at before it is used."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QPushButton, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from calm_relay.ui.widgets import label


class FoundDialog(QDialog):
    """The file's name, a question, rows of what was found, what is to be minded, and answers; closing it leaves the file."""

    def __init__(self, title: str, name: str, question: str, parent: QWidget | None = None, *, tall: int = 64) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        letter = self.fontMetrics().averageCharWidth()
        self.resize(88 * letter, tall * letter)
        self.column = QVBoxLayout(self)
        self.column.addWidget(label(name, "heading"))
        self.column.addWidget(label(question, "quiet", wrap=True))
        self._buttons = QDialogButtonBox()

    def show_found(self, rows: Sequence[tuple[str, str]], notes: Iterable[str]) -> None:
        """Put rows of (what, found) and notes under what is there already, and the answers at the foot."""
        self.table = table = QTableWidget(len(rows), 2)
        table.setAccessibleName("What was found in the file")
        table.setHorizontalHeaderLabels(["What", "Found"])
        table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        table.setTabKeyNavigation(False)
        table.verticalHeader().hide()
        table.setShowGrid(False)
        for i, (what, found) in enumerate(rows):
            table.setItem(i, 0, QTableWidgetItem(what))
            table.setItem(i, 1, QTableWidgetItem(found))
        table.resizeColumnsToContents()
        table.horizontalHeader().setStretchLastSection(True)
        self.column.addWidget(table, 1)
        for note in notes:
            self.column.addWidget(label(note[:1].upper() + note[1:] + ".", "quiet", wrap=True))
        self._buttons.addButton("Leave it", QDialogButtonBox.ButtonRole.RejectRole)
        self._buttons.accepted.connect(self.accept)
        self._buttons.rejected.connect(self.reject)
        self.column.addWidget(self._buttons)

    def answer(self, words: str, *, accepts: bool = False) -> QPushButton:
        """Add an answer: one that accepts by itself, or one of which the caller says what it does."""
        role = QDialogButtonBox.ButtonRole.AcceptRole if accepts else QDialogButtonBox.ButtonRole.ActionRole
        return self._buttons.addButton(words, role)
