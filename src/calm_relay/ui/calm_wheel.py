"""Lists and sliders that do not change because a wheel or an arrow passed over them."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractSlider, QApplication, QComboBox, QScrollBar, QWidget

OPENS = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_Home, Qt.Key.Key_End)


class CalmWheel(QObject):
    """A filter on the application: the wheel over a closed list or an unfocused slider scrolls what lies behind it.

    A key that would choose from a closed list opens it instead.
    """

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            event.type() == QEvent.Type.Wheel
            and isinstance(watched, QComboBox | QAbstractSlider)
            and not isinstance(watched, QScrollBar)
        ):
            if isinstance(watched, QAbstractSlider) and watched.hasFocus():
                return False
            parent = watched.parentWidget()
            if isinstance(parent, QWidget):
                QApplication.sendEvent(parent, event)
            return True
        if event.type() == QEvent.Type.KeyPress and isinstance(watched, QComboBox) and isinstance(event, QKeyEvent):
            plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
            typed = plain and event.text().isprintable() and bool(event.text().strip())
            if event.key() in OPENS or typed:
                watched.showPopup()
                return True
        return False


def calm(app: QApplication) -> None:
    """Put the filter on the application, once."""
    if not any(isinstance(child, CalmWheel) for child in app.children()):
        app.installEventFilter(CalmWheel(app))
