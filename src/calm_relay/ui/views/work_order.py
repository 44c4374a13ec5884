"""The work order: a button a page, with one of four marks whose shape alone tells them apart."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from calm_relay.decision.marks import PageMark
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

WORDS = {"untouched": "untouched", "assumed": "assumed values in use", "complete": "complete", "over": "something is over"}


class OrderButton(QAbstractButton):
    """One page of the work order; the right arrow goes into its page."""

    entered = Signal()

    def __init__(self, title: str, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, 1.0
        self._mark = PageMark("", title, "untouched", "")
        self.setText(title)
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    @property
    def mark(self) -> PageMark:
        """The mark shown."""
        return self._mark

    def show_mark(self, mark: PageMark) -> None:
        """Show a page's mark."""
        self._mark = mark
        why = f": {mark.why}" if mark.why else ""
        self.setToolTip(f"{WORDS[mark.state]}{why}")
        self.setAccessibleName(f"{mark.title}, {WORDS[mark.state]}")
        self.setAccessibleDescription(mark.why)
        self.update()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self.updateGeometry()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Right:
            self.entered.emit()
            return
        super().keyPressEvent(event)

    def sizeHint(self) -> QSize:
        metrics = ui_metrics(9.75 * self._scale, bold=True)
        return QSize(int(metrics.horizontalAdvance(self.text()) + 48), int(metrics.height() + 16))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self._theme
        if self.isChecked():
            painter.fillRect(self.rect(), t.color("paper"))
            painter.fillRect(QRectF(0, 0, 3, self.height()), t.color("accent"))
        self._paint_mark(painter, QPointF(20, self.height() / 2))
        painter.setFont(ui_font(9.75 * self._scale, bold=self.isChecked()))
        painter.setPen(t.color("ink"))
        painter.drawText(
            self.rect().adjusted(34, 0, -4, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.text()
        )
        if self.hasFocus():
            painter.setPen(QPen(t.color("accent"), 1.6))
            painter.drawRect(QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -1.5))

    def _paint_mark(self, painter: QPainter, at: QPointF) -> None:
        t, state = self._theme, self._mark.state
        if state == "over":
            painter.fillRect(QRectF(at.x() - 4.5, at.y() - 4.5, 9, 9), t.color("over"))
        elif state == "complete":
            painter.setPen(QPen(t.color("within"), 2.2))
            painter.drawPolyline(
                QPolygonF([QPointF(at.x() - 5, at.y()), QPointF(at.x() - 1.5, at.y() + 4), QPointF(at.x() + 5.5, at.y() - 4.5)])
            )
        elif state == "assumed":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("tight"))
            for dx in (-5, 0, 5):
                painter.drawEllipse(QPointF(at.x() + dx, at.y()), 1.6, 1.6)
        else:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("quiet"), 1.4))
            painter.drawEllipse(at, 4.5, 4.5)
