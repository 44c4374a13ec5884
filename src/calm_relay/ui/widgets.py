"""Small makers of widgets that pages share."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QLabel, QScrollArea, QWidget


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Return a label in one of the style sheet's roles: title, heading, head, strong, quiet, small, caution."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setObjectName(role)
    made.setWordWrap(wrap)
    return made


def scrolled(page: QWidget) -> QScrollArea:
    """Return a page that scrolls where the window is smaller than it needs."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(page)
    return area
