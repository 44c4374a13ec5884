"""A line of text that leaves undo to the document while nothing is being typed in it."""

from __future__ import annotations

from PySide6.QtCore import QEvent
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit

HISTORY = (QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo)


class Line(QLineEdit):
    """Undo and redo act on what is being typed; once that is applied they are the window's."""

    def event(self, event: QEvent) -> bool:
        asked = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and not self.isModified()
        if asked and any(event.matches(key) for key in HISTORY):  # type: ignore[attr-defined]
            event.ignore()
            return True
        return super().event(event)
