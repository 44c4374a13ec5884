"""Decide: plans side by side, gates on top, a bar in each cell, and what speaks for and against each beneath."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QHeaderView,
    QMenu,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.decision.compare import PlanRow, compare_plans
from calm_relay.decision.words import because, clipping_words, compare_lines, compare_text, weather_words
from calm_relay.ui.copying import fill_menu
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme, ui_font
from calm_relay.ui.widgets import label

SHARE = Qt.ItemDataRole.UserRole
TONE = Qt.ItemDataRole.UserRole + 1


class _BarDelegate(QStyledItemDelegate):
    """Draws a thin bar under a figure: its size among the plans."""

    def __init__(self, page: DecidePage) -> None:
        super().__init__(page)
        self._page = page

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        super().paint(painter, option, index)
        share = index.data(SHARE)
        if share is None:
            return
        theme = self._page.theme
        rect = QRectF(option.rect).adjusted(8, 0, -4, -1)
        bar = QRectF(rect.x(), rect.bottom() - 3, rect.width(), 3)
        painter.fillRect(bar, theme.color("track"))
        color = theme.color(index.data(TONE) or "quiet")
        painter.fillRect(QRectF(bar.x(), bar.y(), bar.width() * float(share), bar.height()), color)


TONES = {
    "bill": "grid", "saving": "accent", "import_wh": "grid", "export_wh": "grid", "self_sufficiency_frac": "sun",
    "own_use_frac": "sun", "clipped_wh": "lost", "caught_wh": "battery", "held_by_cap_wh": "lost",
    "unserved_wh": "over", "usable_wh": "battery",
    "full_cycles": "battery", "offgrid_va": "battery",
}  # fmt: skip


class DecidePage(QWidget):
    """The comparison. Its figures are all of one state of the job, or all dimmed."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session, self.theme = session, theme
        self._rows: tuple[PlanRow, ...] = ()
        self._shown: object = None
        self._head_points = 9.75
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 12, 16, 10)
        column.setSpacing(6)
        column.addWidget(label("Plans side by side", "title"))
        self._state = label("", "quiet")
        self._state.setWordWrap(True)
        column.addWidget(self._state)
        self.table = QTableWidget()
        self.table.setObjectName("comparison")
        self.table.setAccessibleName("Comparison of plans")
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setItemDelegate(_BarDelegate(self))
        self.table.setVerticalScrollMode(QTableWidget.ScrollMode.ScrollPerPixel)
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        column.addWidget(self.table, 1)
        self._because = label(wrap=True)
        self._because.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column.addWidget(self._because)
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme, self._shown = theme, None
        self._head_points = 9.75 * scale
        self.refresh()

    def refresh(self) -> None:
        """Show the comparison; while any plan is being run, the old table stays, dimmed as a whole."""
        session = self.session
        fresh = session.all_fresh()
        if fresh:
            results = []
            for plan in session.job.plans:
                result = session.fresh(plan.id)
                assert result is not None
                results.append((plan, result.facts, result.bill, result.findings))
            rows = compare_plans(session.job, results)
            state = (rows, session.job.tariff.currency, self.theme.name, compare_lines(session.job))
            if state != self._shown:
                self._shown, self._rows = state, rows
                self._fill()
        done = sum(session.fresh(plan.id) is not None for plan in session.job.plans)
        self.table.setEnabled(fresh)
        self._because.setEnabled(fresh)
        if fresh:
            self._state.setText(
                f"One simulated year each at 5 min, weather {weather_words(session.job)}. Money in {session.job.tariff.currency}. "
                f"{clipping_words(session.job).capitalize()}. Ctrl+C copies the table."
            )
        else:
            self._state.setText(f"Updating: {done} of {len(session.job.plans)} plans are ready.")

    def _fill(self) -> None:
        rows = self._rows
        table = self.table
        table.clear()
        table.setColumnCount(len(rows) + 1)
        lines = compare_lines(self.session.job)
        table.setRowCount(len(lines) + 2)
        table.setHorizontalHeaderLabels(["", *(f"{row.letter}\n{row.name}" for row in rows)])
        table.verticalHeader().hide()
        self._gates(rows)
        for i, (field, text, kind) in enumerate(lines, start=2):
            table.setItem(i, 0, QTableWidgetItem(text))
            values = [getattr(row, field) for row in rows]
            most = max((abs(float(v)) for v in values if v is not None), default=0.0)
            for column, row in enumerate(rows, start=1):
                item = QTableWidgetItem(compare_text(row, field, kind))
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                value = values[column - 1]
                if value is not None and most > 0 and field in TONES:
                    item.setData(SHARE, max(0.0, float(value)) / most)
                    item.setData(TONE, TONES[field])
                table.setItem(i, column, item)
        header = table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        wrap = Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter | wrap)
        header.setMinimumSectionSize(int(table.fontMetrics().averageCharWidth() * 13))
        self._fit_rows()
        table.clearSelection()
        table.setCurrentCell(-1, -1)
        self._because.setText("\n".join(because(rows, self.session.job.tariff.currency)))

    def _fit_rows(self) -> None:
        """Share the table's height among its rows, within what reads well."""
        header = self.table.horizontalHeader()
        tall = 0
        for column in range(self.table.columnCount()):
            text = str(self.table.model().headerData(column, Qt.Orientation.Horizontal) or "")
            cell = QRect(0, 0, max(20, header.sectionSize(column) - 14), 10_000)
            flags = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignRight
            tall = max(tall, QFontMetrics(ui_font(self._head_points, bold=True)).boundingRect(cell, flags, text).height())
        header.setFixedHeight(tall + 12)
        line = self.table.fontMetrics().height()
        room = self.table.viewport().height() // max(1, self.table.rowCount())
        self.table.verticalHeader().setDefaultSectionSize(max(int(line * 1.7), min(room, int(line * 2.1))))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_rows()

    def _gates(self, rows: tuple[PlanRow, ...]) -> None:
        self.table.setItem(0, 0, QTableWidgetItem("Gate"))
        self.table.setItem(1, 0, QTableWidgetItem("Over · tight · not known"))
        for column, row in enumerate(rows, start=1):
            item = QTableWidgetItem("closed" if row.gate else "open")
            item.setForeground(self.theme.color("over" if row.gate else "within"))
            item.setToolTip(row.gate or "no check is over")
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.table.setItem(0, column, item)
            item = QTableWidgetItem(f"{row.over} · {row.tight} · {row.not_known}")
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.table.setItem(1, column, item)

    def _menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        fill_menu(menu, self.table)
        menu.exec(self.table.viewport().mapToGlobal(at))
