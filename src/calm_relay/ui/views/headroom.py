"""Headroom: the limits of the chosen plan, tightest first; a row opens its arithmetic, source and remedies."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from calm_relay.errors import BadInput
from calm_relay.rules.registry import Finding, Remedy
from calm_relay.ui.session import Session
from calm_relay.ui.theme import VERDICT_ROLE, Theme, ui_font
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show


def figure(finding: Finding) -> str:
    """Return 'value of limit' with one unit."""
    if finding.value is None or finding.limit is None:
        return ""
    kind = finding.quantity
    joint = "of" if finding.sense == "most" else "for"
    decimals = 1 if kind in ("power_w", "apparent_va") else None
    return f"{show(finding.value, kind, decimals, with_unit=False)} {joint} {show(finding.limit, kind, decimals)}"


class HeadroomRow(QAbstractButton):
    """One finding as a bar; a click or Enter opens it."""

    def __init__(self, finding: Finding, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.finding, self._theme, self._scale = finding, theme, scale
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"{finding.title}, {finding.subject}: {finding.verdict}, {figure(finding)}")
        self.setToolTip(finding.arithmetic)

    def sizeHint(self) -> QSize:
        return QSize(200, int(49 * self._scale))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, f, s = self._theme, self.finding, self._scale
        width = self.width()
        bold, small = ui_font(8.75 * s, bold=True), ui_font(8.0 * s)
        painter.setFont(bold)
        metrics = painter.fontMetrics()
        text = figure(f)
        value_w = metrics.horizontalAdvance(text) if text else 0
        painter.setPen(t.color("ink"))
        top = QRectF(2, 3 * s, width - 4, metrics.height())
        painter.drawText(top, Qt.AlignmentFlag.AlignRight, text)
        title = metrics.elidedText(f.short, Qt.TextElideMode.ElideRight, int(width - value_w - 14))
        painter.setFont(ui_font(8.75 * s))
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft, title)
        y = top.bottom() + 3 * s
        role = VERDICT_ROLE[f.verdict]
        bar = QRectF(2, y, width - 4, 5 * s)
        painter.fillRect(bar, t.color("track"))
        part = self._share()
        if part is not None:
            painter.fillRect(QRectF(bar.x(), bar.y(), bar.width() * min(1.0, part), bar.height()), t.color(role))
            painter.fillRect(QRectF(bar.right() - 1.5, bar.y() - 2, 1.5, bar.height() + 4), t.color("ink"))
        painter.setFont(small)
        metrics = painter.fontMetrics()
        low = QRectF(2, bar.bottom() + 2 * s, width - 4, metrics.height())
        verdict = "waived" if f.waived and f.verdict == "over" else f.verdict
        painter.setPen(t.color(role))
        painter.setFont(ui_font(8.0 * s, bold=True))
        verdict_w = painter.fontMetrics().horizontalAdvance(verdict)
        painter.drawText(low, Qt.AlignmentFlag.AlignRight, verdict)
        painter.setFont(small)
        painter.setPen(t.color("quiet"))
        detail = f.cost or f.subject
        painter.drawText(
            low, Qt.AlignmentFlag.AlignLeft, metrics.elidedText(detail, Qt.TextElideMode.ElideRight, int(width - verdict_w - 14))
        )
        if self.hasFocus() or self.isChecked():
            painter.setPen(t.color("accent"))
            painter.drawRect(QRectF(0.5, 0.5, width - 1, self.height() - 1))

    def _share(self) -> float | None:
        f = self.finding
        if f.value is None or not f.limit:
            return None
        return f.value / f.limit if f.sense == "most" else f.limit / f.value if f.value else 1.0


class Headroom(QWidget):
    """The right-hand panel. It shows findings of one state of the job only; those still computed are said to be so."""

    applied = Signal(str)

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("headroom")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self._theme, self._scale = session, theme, 1.0
        self._open: tuple[str, str] | None = None
        self._shown: tuple[object, ...] = ()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 12, 10, 10)
        head = QHBoxLayout()
        title = label("Headroom", "heading")
        self._which = label("", "quiet")
        head.addWidget(title)
        head.addStretch()
        head.addWidget(self._which)
        outer.addLayout(head)
        self._tally = label("", "quiet")
        outer.addWidget(self._tally)
        self._scroll = QScrollArea()
        self._scroll.setObjectName("headroomScroll")
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(self._scroll, 1)
        caution = label(
            "Within the limit used; local codes, the network operator and the equipment's manual decide.", "caution", wrap=True
        )
        outer.addWidget(caution)
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale, self._shown = theme, scale, ()
        self.refresh()

    def findings(self) -> tuple[tuple[Finding, ...], bool]:
        """Return what is shown, and whether checks that need the year are still to come."""
        result = self.session.fresh(self.session.chosen)
        if result is not None:
            return result.findings, False
        return self.session.quick_findings(self.session.chosen), True

    def rows(self) -> list[HeadroomRow]:
        """Return the rows on screen."""
        holder = self._scroll.widget()
        return holder.findChildren(HeadroomRow) if holder else []

    def refresh(self) -> None:
        """Show the chosen plan's findings; nothing is rebuilt when nothing changed."""
        findings, waiting = self.findings()
        state = (self.session.chosen, findings, waiting, self._open)
        if state == self._shown:
            return
        self._shown = state
        focus = next((i for i, row in enumerate(self.rows()) if row.hasFocus()), None)
        at = self._scroll.verticalScrollBar().value()
        letter = self.session.plan.letter
        self._which.setText(letter if letter == "Today" else f"plan {letter}")
        over = sum(f.verdict == "over" and not f.waived for f in findings)
        words = [f"{over} over"] if over else []
        words += [f"{n} {word}" for word in ("tight", "not known", "within") if (n := sum(f.verdict == word for f in findings))]
        self._tally.setText(" · ".join(words) + (" · the year is being run" if waiting else ""))
        holder = QWidget()
        holder.setObjectName("headroom")
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 4, 6, 0)
        column.setSpacing(3)
        for finding in findings:
            row = HeadroomRow(finding, self._theme, self._scale)
            key = (finding.check, finding.subject)
            row.setChecked(key == self._open)
            row.clicked.connect(lambda _=False, key=key: self.open(None if key == self._open else key))
            column.addWidget(row)
            if key == self._open:
                column.addWidget(self._detail(finding))
        column.addStretch()
        self._scroll.setWidget(holder)
        if focus is not None and self.rows():
            self.rows()[min(focus, len(self.rows()) - 1)].setFocus()
        self._scroll.verticalScrollBar().setValue(at)

    def open(self, key: tuple[str, str] | None) -> None:
        """Open the finding of (check id, subject), or close."""
        self._open = key
        self.refresh()

    def _detail(self, finding: Finding) -> QWidget:
        box = QWidget()
        box.setObjectName("headroom")
        column = QVBoxLayout(box)
        column.setContentsMargins(6, 0, 4, 8)
        margin = "" if finding.margin is None else f" Margin {finding.margin * 100:.0f} %."
        for text, name in (
            (f"{finding.title}. {finding.subject}", "strong"),
            (finding.arithmetic + "." + margin, ""),
            (f"Source: {finding.source}. Pack: {finding.pack}.", "quiet"),
        ):
            words = label(text, name, wrap=True)
            words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            column.addWidget(words)
        for remedy in finding.remedies:
            column.addWidget(label(f"Would clear it: {remedy.text}", wrap=True))
            if remedy.edits:
                button = QPushButton("Apply")
                button.setAccessibleName(f"Apply: {remedy.text}")
                button.setObjectName("apply")
                button.clicked.connect(lambda _=False, f=finding, r=remedy: self._apply(f, r))
                column.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
        return box

    def _apply(self, finding: Finding, remedy: Remedy) -> None:
        try:
            self.session.edit(f"{finding.title}: {remedy.text}", remedy.edits)
        except BadInput as error:
            self.session.problem.emit(str(error))
            return
        self.applied.emit(remedy.text)
