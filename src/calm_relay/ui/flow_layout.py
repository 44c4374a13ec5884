"""A layout that puts widgets beside each other and wraps to the next line, like words."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Rows of widgets at their own sizes; height follows from width."""

    def __init__(self, parent: QWidget | None = None, gap: int = 12, line_gap: int = 8) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._gap, self._line_gap = gap, line_gap
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        m = self.contentsMargins()
        return self._place(QRect(0, 0, width - m.left() - m.right(), 0), move=False) + m.top() + m.bottom()

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect.marginsRemoved(self.contentsMargins()), move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        m = self.contentsMargins()
        return size + QSize(m.left() + m.right(), m.top() + m.bottom())

    def _place(self, rect: QRect, *, move: bool) -> int:
        y = rect.y()
        lines = self._lines(rect.width())
        for number, line in enumerate(lines):
            high = max(size.height() for _, size in line)
            x = rect.x()
            for item, size in line:
                if move:  # bottoms in line, so that buttons stand beside editors and not beside captions
                    item.setGeometry(QRect(QPoint(x, y + high - size.height()), size))
                x += size.width() + self._gap
            y += high + (self._line_gap if number < len(lines) - 1 else 0)
        return y - rect.y()

    def _lines(self, width: int) -> list[list[tuple[QLayoutItem, QSize]]]:
        lines: list[list[tuple[QLayoutItem, QSize]]] = []
        x = 0
        for item in self._items:
            widget = item.widget()
            if widget is not None and widget.isHidden() and widget.testAttribute(Qt.WidgetAttribute.WA_WState_ExplicitShowHide):
                continue
            size = item.sizeHint()
            if not lines or (x > 0 and x + size.width() > width):
                lines.append([])
                x = 0
            lines[-1].append((item, size))
            x += size.width() + self._gap
        return lines
