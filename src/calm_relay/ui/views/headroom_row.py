"""One row of headroom: title, figure, a bar that fills towards the limit, what it costs, and the verdict in words."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from calm_relay.rules.registry import Finding
from calm_relay.ui.theme import VERDICT_ROLE, Theme, ui_font, ui_metrics

WRAP = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)


def _shown(f: Finding) -> tuple[object, ...]:
    """Return what a row shows of a finding."""
    return f.check, f.subject, f.verdict, f.value, f.limit, f.waived, f.cost, f.arithmetic


class HeadroomRow(QAbstractButton):
    """One finding as a bar, the tightest of those alike; a click opens it. Its height follows from its width: nothing is cut."""

    def __init__(self, finding: Finding, theme: Theme, scale: float, parent: QWidget | None = None, *, alike: int = 0) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._places: tuple[float, dict[str, QRectF]] | None = None
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.finding, self._alike = finding, alike
        self._say()

    def show_finding(self, finding: Finding, *, alike: int) -> None:
        """Show another finding, or the same one as it stands now."""
        before, before_alike, self.finding, self._alike = self.finding, self._alike, finding, alike
        if alike != before_alike or _shown(finding) != _shown(before):
            self._say()
            self.update()

    def _say(self) -> None:
        f, more = self.finding, f", and {self._alike} more alike" if self._alike else ""
        self.verdict, self.detail = f.word, (f.cost or f.subject) + more
        self.setAccessibleName(f"{f.title}, {f.subject}: {self.verdict}, {f.figure}{more}")
        self.setToolTip(f.arithmetic)
        self._places = None
        self._fit(max(200, self.width()))

    def places(self, width: float) -> dict[str, QRectF]:
        """Return where title, figure, bar, detail and verdict stand in a row of this width."""
        if self._places is None or self._places[0] != width:
            self._places = width, self._placed(width)
        return self._places[1]

    def _placed(self, width: float) -> dict[str, QRectF]:
        s = self._scale
        plain, bold = ui_metrics(8.75 * s), ui_metrics(8.75 * s, bold=True)
        small, strong = ui_metrics(8.0 * s), ui_metrics(8.0 * s, bold=True)
        room = width - 4
        value_w, title_w = bold.horizontalAdvance(self.finding.figure) + 1, plain.horizontalAdvance(self.finding.short) + 1
        out = {}
        y = 3 * s
        if title_w + value_w + 8 <= room:
            out["title"] = QRectF(2, y, title_w, plain.height())
        else:
            out["title"] = QRectF(2, y, room, plain.boundingRect(QRectF(0, 0, room, 1000), WRAP, self.finding.short).height())
            y = out["title"].bottom()
        out["figure"] = QRectF(2 + room - value_w, y, value_w, bold.height())
        y = max(out["title"].bottom(), out["figure"].bottom() if value_w > 1 else 0.0) + 3 * s
        out["bar"] = QRectF(2, y, room, 5 * s)
        y += 7 * s
        verdict_w = strong.horizontalAdvance(self.verdict) + 1
        detail_room = max(40.0, room - verdict_w - 8)
        high = small.boundingRect(QRectF(0, 0, detail_room, 1000), WRAP, self.detail).height()
        out["detail"] = QRectF(2, y, detail_room, high)
        out["verdict"] = QRectF(2 + room - verdict_w, y, verdict_w, strong.height())
        out["all"] = QRectF(0, 0, width, y + max(high, strong.height()) + 5 * s)
        return out

    def _fit(self, width: int) -> None:
        self.setFixedHeight(int(self.places(width)["all"].height()) + 1)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit(self.width())

    def sizeHint(self) -> QSize:
        return QSize(int(200 * self._scale), self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, f, s = self._theme, self.finding, self._scale
        at = self.places(self.width())
        painter.setPen(t.color("ink"))
        painter.setFont(ui_font(8.75 * s, bold=True))
        painter.drawText(at["figure"], Qt.AlignmentFlag.AlignRight, f.figure)
        painter.setFont(ui_font(8.75 * s))
        painter.drawText(at["title"], WRAP, f.short)
        role = VERDICT_ROLE[f.verdict]
        bar = at["bar"]
        painter.fillRect(bar, t.color("track"))
        part = self._share()
        if part is not None:
            painter.fillRect(QRectF(bar.x(), bar.y(), bar.width() * min(1.0, part), bar.height()), t.color(role))
            painter.fillRect(QRectF(bar.right() - 1.5, bar.y() - 2, 1.5, bar.height() + 4), t.color("ink"))
        painter.setPen(t.color(role))
        painter.setFont(ui_font(8.0 * s, bold=True))
        painter.drawText(at["verdict"], Qt.AlignmentFlag.AlignRight, self.verdict)
        painter.setFont(ui_font(8.0 * s))
        painter.setPen(t.color("quiet"))
        painter.drawText(at["detail"], WRAP, self.detail)
        if self.hasFocus() or self.isChecked():
            painter.setPen(t.color("accent"))
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _share(self) -> float | None:
        f = self.finding
        if f.value is None or f.limit is None:
            return None
        if not f.limit:  # nothing is allowed: anything fills the bar
            return 1.0 if f.sense == "most" and f.value > 0 else None
        return f.value / f.limit if f.sense == "most" else f.limit / f.value if f.value else 1.0
