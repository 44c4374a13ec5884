"""Lists and sliders that do not change because a wheel or an arrow passed over them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QWheelEvent
from PySide6.QtWidgets import QComboBox, QSlider

OPENS = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_Home, Qt.Key.Key_End)


class ClosedList(QComboBox):
    """A list that opens on a key that would choose from it; the wheel over it scrolls what lies behind.

    A class rather than a filter on the application, which would see every event of every widget.
    """

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        typed = plain and event.text().isprintable() and bool(event.text().strip())
        if event.key() in OPENS or typed:
            self.showPopup()
            return
        super().keyPressEvent(event)


class CalmSlider(QSlider):
    """A slider that the wheel moves only where it has the focus."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            super().wheelEvent(event)
        else:
            event.ignore()
