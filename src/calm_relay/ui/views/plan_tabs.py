"""Plan tabs: one button a plan with its letter, name, yearly bill and worst verdict; figures of an older state are dimmed."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QFrame, QHBoxLayout, QScrollArea, QWidget

from calm_relay.rules.registry import Finding
from calm_relay.ui.session import Session
from calm_relay.ui.theme import VERDICT_ROLE, Theme, ui_font, ui_metrics
from calm_relay.units import format_quantity as show


def worst_words(findings: tuple[Finding, ...]) -> tuple[str, str]:
    """Return the worst verdict with its count in words, and its colour role; the counts are those of headroom."""
    tally = Counter("waived" if f.waived and f.verdict == "over" else f.verdict for f in findings)
    for verdict in ("over", "not known", "tight"):
        if tally[verdict]:
            return f"{tally[verdict]} {verdict}", VERDICT_ROLE[verdict]
    return ("within", "within") if tally["within"] else ("", "quiet")


@dataclass(frozen=True)
class TabFace:
    """What a tab shows."""

    letter: str
    name: str
    figure: str
    verdict: str
    role: str
    stale: bool


class PlanTab(QAbstractButton):
    """One plan."""

    def __init__(self, plan_id: str, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.plan_id, self._theme, self._scale = plan_id, theme, scale
        self._face = TabFace("", "", "", "", "quiet", stale=True)
        self._hint = self._needed()
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    @property
    def face(self) -> TabFace:
        """What is shown now."""
        return self._face

    def show_face(self, face: TabFace) -> None:
        """Show another face."""
        if face != self._face:
            self._face = face
            self._hint = self._needed()
            self.setAccessibleName(f"Plan {face.letter}, {face.name}: {face.figure}, {face.verdict}")
            self.setToolTip(face.name)
            self.updateGeometry()
            self.update()

    def _fonts(self) -> tuple[float, float]:
        return 10.5 * self._scale, 8.75 * self._scale

    def sizeHint(self) -> QSize:
        return self._hint

    def _needed(self) -> QSize:
        big, small = self._fonts()
        f = self._face
        top = ui_metrics(big, bold=True).horizontalAdvance(f.letter) + 7
        top += 0 if f.letter == f.name else ui_metrics(small).horizontalAdvance(f.name)
        bold = ui_metrics(small, bold=True)
        low = ui_metrics(small).horizontalAdvance(f.figure) + 16 + bold.horizontalAdvance(f.verdict)
        height = ui_metrics(big, bold=True).height() + bold.height() + 15
        return QSize(int(max(top, low, 84 * self._scale) + 26), int(height))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        t, f = self._theme, self._face
        big, small = self._fonts()
        w, h = self.width(), self.height()
        painter.fillRect(self.rect(), t.color("paper" if self.isChecked() else "side"))
        if self.isChecked():
            painter.fillRect(QRectF(0, 0, w, 3), t.color("accent"))
        painter.fillRect(QRectF(w - 1, 0, 1, h), t.color("line"))
        painter.setFont(ui_font(big, bold=True))
        metrics = painter.fontMetrics()
        painter.setPen(t.color("ink"))
        top = QRectF(12, 8, w - 24, metrics.height())
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, f.letter)
        if f.name != f.letter:
            x = 12 + metrics.horizontalAdvance(f.letter) + 7
            painter.setFont(ui_font(small))
            painter.drawText(
                QRectF(x, 8, w - x - 10, top.height()), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, f.name
            )
        painter.setFont(ui_font(small))
        low = QRectF(12, top.bottom() + 1, w - 24, painter.fontMetrics().height())
        painter.setPen(t.color("quiet"))
        painter.drawText(low, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, f.figure)
        painter.setFont(ui_font(small, bold=True))
        painter.setPen(t.color("quiet" if f.stale else f.role))
        painter.drawText(low, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f.verdict)
        if self.hasFocus():
            painter.setPen(t.color("accent"))
            painter.drawRect(QRectF(3.5, 3.5, w - 8, h - 7))


class PlanTabs(QScrollArea):
    """The row of tabs; arrow keys move along it."""

    chosen = Signal(str)
    menu_asked = Signal(QPoint)

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("tabs")
        self.session, self._theme, self._scale = session, theme, 1.0
        self._tabs: dict[str, PlanTab] = {}
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale, self._tabs = theme, scale, {}
        self.refresh()

    def tab(self, plan_id: str) -> PlanTab:
        """Return a plan's tab."""
        return self._tabs[plan_id]

    def refresh(self) -> None:
        """Show every plan; the row is rebuilt only when plans came or went."""
        job = self.session.job
        if list(self._tabs) != [plan.id for plan in job.plans]:
            self._rebuild()
        for plan in job.plans:
            fresh, last = self.session.fresh(plan.id), self.session.last(plan.id)
            figure = "…" if last is None else f"bill {show(last.bill.total, 'money')}"
            words, role = worst_words(last.findings if last else self.session.quick_findings(plan.id))
            name = "" if plan.letter == "Today" else plan.name
            self._tabs[plan.id].show_face(TabFace(plan.letter, name, figure, words, role, stale=fresh is None))
            self._tabs[plan.id].setChecked(plan.id == self.session.chosen)
        self._fit()
        self.ensureWidgetVisible(self._tabs[self.session.chosen], 20, 0)

    def _rebuild(self) -> None:
        holder = QWidget()
        holder.setObjectName("tabs")
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._tabs = {}
        for plan in self.session.job.plans:
            tab = PlanTab(plan.id, self._theme, self._scale)
            tab.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            tab.customContextMenuRequested.connect(lambda at, tab=tab: self._ask_menu(tab, at))
            tab.clicked.connect(lambda _=False, plan_id=plan.id: self.session.choose(plan_id))
            self._tabs[plan.id] = tab
            row.addWidget(tab)
        row.addStretch()
        self.setWidget(holder)

    def _ask_menu(self, tab: PlanTab, at: QPoint) -> None:
        """Look at the plan, and ask for its menu where the mouse is, or at the tab."""
        self.session.choose(tab.plan_id)
        inside = tab.rect().contains(at)
        self.menu_asked.emit(tab.mapToGlobal(at if inside else tab.rect().bottomLeft()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        tallest = max((tab.sizeHint().height() for tab in self._tabs.values()), default=48)
        wide = sum(tab.sizeHint().width() for tab in self._tabs.values())
        bar = self.horizontalScrollBar().sizeHint().height() if wide > self.width() else 0
        self.setFixedHeight(tallest + bar)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            ids = list(self._tabs)
            at = ids.index(self.session.chosen) + (1 if event.key() == Qt.Key.Key_Right else -1)
            plan_id = ids[at % len(ids)]
            self.session.choose(plan_id)
            self._tabs[plan_id].setFocus()
            return
        super().keyPressEvent(event)
