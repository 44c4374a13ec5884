"""Small makers of widgets that pages share."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFrame,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.theme import hatch_brush


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Return a label in one of the style sheet's roles: title, heading, head, strong, quiet, small, caution."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setObjectName(role)
    made.setWordWrap(wrap)
    return made


def close_row(dialog: QDialog) -> QDialogButtonBox:
    """Return the row of a dialog that only shows: one button that closes it."""
    buttons = QDialogButtonBox()
    buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
    buttons.rejected.connect(dialog.reject)
    return buttons


def clear_layout(layout: QLayout) -> None:
    """Take everything out of a layout, and out of sight at once."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear_layout(inner)


@dataclass(frozen=True)
class Line:
    """A line of words: its text, its role in the style sheet and what its tip says."""

    text: str
    role: str = ""
    tip: str = ""


class LabelColumn(QVBoxLayout):
    """Lines of words under each other; shown anew, they stand in the labels that are there."""

    def __init__(self, spacing: int) -> None:
        super().__init__()
        self.setSpacing(spacing)
        self._lines: list[tuple[str, QLabel]] = []

    def show_lines(self, lines: Sequence[Line]) -> None:
        """Show these lines and no others."""
        if [line.role for line in lines] != [role for role, _ in self._lines]:
            clear_layout(self)
            self._lines = [(line.role, label("", line.role, wrap=True)) for line in lines]
            for _, words in self._lines:
                self.addWidget(words)
        for line, (_, words) in zip(lines, self._lines, strict=True):
            if words.text() != line.text:
                words.setText(line.text)
            words.setToolTip(line.tip)


def scrolled(page: QWidget) -> QScrollArea:
    """Return a page that scrolls where the window is smaller than it needs."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(page)
    return area


def first_field(page: QWidget) -> QWidget | None:
    """Return the first thing in a page's order of Tab that the keyboard reaches, buttons of its parts left out; else a button."""
    reached: list[QWidget] = []
    at = page.nextInFocusChain()
    while at is not page and at is not None:
        if page.isAncestorOf(at) and at.isVisible() and at.isEnabled() and at.focusPolicy() & Qt.FocusPolicy.TabFocus:
            reached.append(at)
        at = at.nextInFocusChain()
    return next((w for w in reached if not isinstance(w, QPushButton)), next(iter(reached), None))


class LegendRow(QWidget):
    """Names with their colours, in a line that wraps."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._flow = FlowLayout(self, gap=10, line_gap=2)

    def show_rows(self, rows: Iterable[tuple[str, QColor]]) -> None:
        """Show these names in place of those before."""
        clear_layout(self._flow)
        for name, color in rows:
            self._flow.addWidget(Swatch(name, color))


class Swatch(QWidget):
    """A colour with its name, for a legend."""

    def __init__(self, text: str, color: QColor, *, hatch: bool = False, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._text, self._color, self._hatch = text, color, hatch
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(text)

    def sizeHint(self) -> QSize:
        metrics = self.fontMetrics()
        return QSize(metrics.horizontalAdvance(self._text) + 20, metrics.height() + 2)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        side = min(11.0, self.height() - 4.0)
        brush = hatch_brush(self._color) if self._hatch else QBrush(self._color)
        painter.fillRect(QRectF(0, (self.height() - side) / 2, side, side), brush)
        painter.drawText(self.rect().adjusted(16, 0, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self._text)
