"""What stays on: loads ticked behind the transfer device, their sums, what is left, and the house against what carries it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHeaderView, QSizePolicy, QTableWidget, QTableWidgetItem

from calm_relay.decision.schools import BACKGROUND, USUAL_DIVERSITY, with_backed_up
from calm_relay.job.edits import Edit
from calm_relay.plant.resolve import plant_of
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import ui_metrics
from calm_relay.ui.views.charts import LoadChart
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show
from calm_relay.year.house_pictures import load_curve

if TYPE_CHECKING:
    from calm_relay.decision.staying import Staying, StayRow
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel

DIVERSITIES = (1.0, 0.9, 0.8, 0.7, 0.6, 0.5)
HEADS = (
    "Load",
    "Backed\nup",
    "Must\nstay on",
    "May be\nshed",
    "Runs\ntogether",
    "Running\nkVA",
    "Sum\nkVA",
    "Start\nkVA",
    "Winter\nday kWh",
    "Summer\nday kWh",
)
BACKED, ESSENTIAL, SHED, TOGETHER = 1, 2, 3, 4
NAME_PX = 110.0
SETTINGS = ("island_stop_soc_frac", "island_start_soc_frac", "island_restart_soc_frac", "island_keep_soc_frac")
SETTINGS_WHY = (
    "Charge between the battery's limits. Loads that may be shed have their own, on House; the transfer device's bond and earth "
    "are at its station on Plans."
)
WHY = (
    "Space ticks. Backed up: behind the transfer device, a circuit to move where only some are. Must stay on: what ride-through "
    "counts. May be shed: goes off when power is short, with shedding. Runs together: a worst hour picked by hand for the drill."
)


def kilo(value: float, quantity: str) -> str:
    """Return a figure without its unit, which stands in the heading."""
    return show(value, quantity, with_unit=False)


class StayTable(Copyable, QTableWidget):
    """As tall as its rows; ticks are the only thing typed in it."""

    turned = Signal()

    def __init__(self, text_scale: float) -> None:
        super().__init__()
        self.text_scale = text_scale
        self.setAccessibleName("What stays on")
        self.setObjectName("comparison")
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.verticalHeader().hide()
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def copy_rows(self) -> Rows:
        """Return every load with its ticks and figures."""
        out = [[head.replace("\n", " ") for head in HEADS[: self.columnCount()]]]
        for i in range(self.rowCount()):
            row = []
            for k in range(self.columnCount()):
                item = self.item(i, k)
                ticked = item is not None and item.flags() & Qt.ItemFlag.ItemIsUserCheckable
                text = "" if item is None else str(item.data(Qt.ItemDataRole.UserRole) or "")
                row.append(("yes" if item.checkState() == Qt.CheckState.Checked else "no") if item is not None and ticked else text)
            out.append(row)
        return out

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.turned.emit()

    def room_for(self) -> int:
        """Return how many columns stand beside names that can be read; the last ones go first."""
        metrics, scale = ui_metrics(9.75 * self.text_scale), self.text_scale
        wide = [max(metrics.horizontalAdvance(part) for part in head.split("\n")) + 18 * scale for head in HEADS[1:]]
        left, columns = self.viewport().width() - NAME_PX * scale, 1
        for need in wide:
            left -= need
            if left < 0:
                break
            columns += 1
        return max(TOGETHER + 2, columns)

    def fit(self) -> None:
        """Take the room that the rows need, names cut to their column."""
        names = self.horizontalHeader().sectionSize(0) - 14
        metrics = self.fontMetrics()
        for i in range(self.rowCount()):
            item = self.item(i, 0)
            if item is not None:
                full = item.data(Qt.ItemDataRole.UserRole)
                item.setText(metrics.elidedText(full, Qt.TextElideMode.ElideRight, names))
        self.resizeRowsToContents()
        high = self.horizontalHeader().sizeHint().height() + sum(self.rowHeight(i) for i in range(self.rowCount())) + 4
        self.setFixedHeight(high)


class StaysPart:
    """Ticks change the job, one named undo each; who runs together is the drill's alone and is not kept in the job."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.diversity = USUAL_DIVERSITY
        self.together: set[str] = set()
        self._rows: tuple[StayRow, ...] = ()
        self._found: Staying | None = None
        self._columns = len(HEADS)

    def shape(self) -> object:
        return self._page.session.plan.id

    def build(self) -> None:
        page = self._page
        plan = page.session.plan
        page.heading(f"{plan.letter}  {plan.name}")
        self.said = page.words("", "plain")
        box = ClosedList()
        box.setAccessibleName("Diversity: the part of all that runs together")
        for share in DIVERSITIES:
            box.addItem(f"{share * 100:.0f} %", share)
        box.setCurrentIndex(max(0, box.findData(self.diversity)))
        box.activated.connect(lambda i: self._set_diversity(box.itemData(i)))
        name = label("Of all that is on, so much runs at once")
        name.setBuddy(box)
        page.flow(name, box)
        self.table = StayTable(page.scale)
        self.table.turned.connect(self._turned)
        self.table.itemChanged.connect(self._ticked)
        page.add(self.table)
        page.words(WHY)
        page.heading("Settings of an outage")
        base = f"plans[{plan.id}].controls"
        page.flow(*(page.cell(f"{base}.{name}", chars=8) for name in SETTINGS))
        page.words(SETTINGS_WHY)
        page.heading("The house from most to least, against what carries it")
        self._curve = LoadChart(page.theme, "The house from most to least", "hours of the year (log)", "kW")
        self._curve.set_theme(page.theme, page.scale)
        page.add(self._curve)
        self.curve_words = page.words("", "plain")

    def _set_diversity(self, share: float) -> None:
        self.diversity = share
        self._page.refresh()

    # --- showing
    def show_figures(self) -> None:
        session = self._page.session
        plan, job, diversity = session.plan, session.job, self.diversity

        def work(study: Study, _: Cancel) -> object:
            from calm_relay.decision.staying import staying

            return staying(study, job, plan, diversity)

        key = f"stays {plan.id} {diversity}"
        found = session.extra(key, work)
        kept: Staying | None = found or session.last_extra(key)  # type: ignore[assignment]
        self.table.setEnabled(found is not None)
        if kept is not None:
            self.said.setText("\n".join(kept.words))
            self._fill(kept)
        else:
            self.said.setText("The house is being added up.")
        year = session.house_year()
        if year is not None:
            curve = load_curve(plant_of(job, plan), year, session.calendar())
            self._curve.show_curve(curve)
            total, step_h = year.total_w(), session.calendar().step_h
            said = [
                f"{float((total > w).sum()) * step_h:.0f} h a year above {show(w, 'power_w', 1)} ({name})"
                for w, name, _ in curve.levels
            ]
            self.curve_words.setText("; ".join(said) + "." if said else "The plan makes no power with the grid down.")

    def _fill(self, found: Staying) -> None:
        table, sums = self.table, found.running_sums_va
        self._rows, self._found = found.rows, found
        with QSignalBlocker(table):
            at = table.currentRow(), table.currentColumn()
            self._columns = table.room_for()
            table.setColumnCount(self._columns)
            table.setRowCount(len(found.rows))
            table.setHorizontalHeaderLabels(list(HEADS[: self._columns]))
            for i, row in enumerate(found.rows):
                whole = row.id == BACKGROUND
                self._text(i, 0, row.name + (" · stays off" if row.off else ""), left=True, tip=row.off)
                movable = self._page.session.plan.transfer is not None
                self._tick(i, BACKED, row.backed_up, f"{row.name} is backed up", on=movable)
                self._tick(i, ESSENTIAL, row.essential, f"{row.name} must stay on", on=not whole)
                self._tick(i, SHED, row.sheddable, f"{row.name} may be shed", on=not whole)
                self._tick(i, TOGETHER, row.id in self.together, f"{row.name} runs together", on=not whole and not row.off)
                start = kilo(row.start_va, "apparent_va") if row.start_va else "–"
                served = row.backed_up and not row.off
                figures = (
                    kilo(row.running_va, "apparent_va"), kilo(sums[row.id], "apparent_va") if served else "–", start,
                    kilo(row.day_wh.get("winter", 0.0), "energy_wh"), kilo(row.day_wh.get("summer", 0.0), "energy_wh"),
                )  # fmt: skip
                for k, text in enumerate(figures, start=5):
                    if k < self._columns:
                        self._text(i, k, text)
            table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            table.setWordWrap(False)
            table.horizontalHeader().setMinimumSectionSize(40)
            table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            table.fit()
            if at[0] >= 0:
                table.setCurrentCell(*at)

    def _turned(self) -> None:
        """Fill anew where another number of columns fits, else cut the names anew."""
        if self._found is not None and self.table.room_for() != self._columns:
            self._fill(self._found)
        elif self.table.rowCount():
            with QSignalBlocker(self.table):
                self.table.fit()

    def _text(self, i: int, k: int, text: str, *, left: bool = False, tip: str = "") -> None:
        item = QTableWidgetItem(text)
        item.setData(Qt.ItemDataRole.UserRole, text)
        item.setToolTip(tip or (text if left else ""))
        side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
        item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
        self.table.setItem(i, k, item)

    def _tick(self, i: int, k: int, ticked: bool, name: str, *, on: bool) -> None:
        item = QTableWidgetItem("")
        if on:
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if ticked else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, name)
            item.setToolTip(name)
        else:
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        self.table.setItem(i, k, item)

    def _ticked(self, item: QTableWidgetItem) -> None:
        """Put a tick into the job as one named step."""
        session, row = self._page.session, self._rows[item.row()]
        on = item.checkState() == Qt.CheckState.Checked
        plan = session.plan
        if item.column() == TOGETHER:
            self.together = self.together | {row.id} if on else self.together - {row.id}
            return
        if item.column() == BACKED:
            transfer = with_backed_up(session.job, plan, row.id, on=on)
            words = f"{row.name} {'backed up' if on else 'not backed up'} in {plan.letter}"
            edits = [
                Edit(f"plans[{plan.id}].transfer.backed_up", transfer.backed_up),
                Edit(f"plans[{plan.id}].transfer.listed", list(transfer.listed)),
            ]
        else:
            field, said = {ESSENTIAL: ("essential", "must stay on"), SHED: ("sheddable", "may be shed")}[item.column()]
            words = f"{row.name} {said}" if on else f"{row.name}: no longer {said}"
            edits = [Edit(f"house.appliances[{row.id}].{field}", value=on)]
        session.edit(words, edits)
