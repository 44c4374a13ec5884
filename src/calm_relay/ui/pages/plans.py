"""Plans: the relay line of the chosen plan, grid up and grid down, with its station sheet."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from calm_relay.calendar import year_calendar
from calm_relay.relay.graph import plan_graph, summary
from calm_relay.relay.picture import Station
from calm_relay.relay.values import RelayValues, grid_down_values
from calm_relay.ui.pages.station_sheet import StationSheet
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.relay_view import RelayView
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.stages import PlanFlow

DIM_AFTER_MS = 150
STEPS_PER_DAY = 288


class PlansPage(QWidget):
    """Shows the plan as the program understands it; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session = session
        self._values: tuple[object, RelayValues] | None = None
        self._lost: tuple[PlanFlow, dict[str, float]] | None = None
        self._moments: dict[str, int] = {}
        self._moments_for: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        top = QWidget()
        top.setObjectName("page")
        head = QVBoxLayout(top)
        head.setContentsMargins(20, 12, 16, 4)
        head.setSpacing(6)
        self._title = label("", "title")
        self._summary = label("", "quiet")
        self._summary.setWordWrap(True)
        head.addWidget(self._title)
        head.addWidget(self._summary)
        head.addLayout(self._controls())
        column.addWidget(top)
        self.relay = RelayView(theme)
        self.relay.opened.connect(self._open)
        holder = QHBoxLayout()
        holder.setContentsMargins(20, 0, 12, 0)
        holder.addWidget(self.relay)
        column.addLayout(holder, 3)
        self._sentence = label("", "strong")
        self._sentence.setWordWrap(True)
        self._hint = label(
            "Select a station to change it: arrows move along the line, Enter opens it, G opens and closes the grid.", "quiet"
        )
        self._hint.setWordWrap(True)
        self._key = label("", "quiet")
        self._key.setWordWrap(True)
        words = QVBoxLayout()
        words.setContentsMargins(20, 2, 16, 8)
        words.setSpacing(2)
        for line in (self._key, self._sentence, self._hint):
            words.addWidget(line)
        column.addLayout(words)
        self.sheet = StationSheet(session, self)
        column.addWidget(self.sheet, 2)
        self._dim = QTimer(self)
        self._dim.setSingleShot(True)
        self._dim.setInterval(DIM_AFTER_MS)
        self._dim.timeout.connect(self._show_dimmed)
        session.job_changed.connect(self._dim.start)
        session.plan_chosen.connect(self._plan_chosen)
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def _controls(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self._group = QButtonGroup(self)
        self.grid_up = QPushButton("Grid up")
        self.grid_down = QPushButton("Grid down")
        for button in (self.grid_up, self.grid_down):
            button.setCheckable(True)
            self._group.addButton(button)
            row.addWidget(button)
        self.grid_up.setChecked(True)
        self._group.buttonToggled.connect(lambda _b, on: self.refresh() if on else None)
        row.addSpacing(12)
        row.addWidget(label("showing", "quiet"))
        self.moment = QComboBox()
        self.moment.setAccessibleName("Moment shown")
        self.moment.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.moment.activated.connect(self._moment_chosen)
        row.addWidget(self.moment)
        self.day, self.time = QSlider(Qt.Orientation.Horizontal), QSlider(Qt.Orientation.Horizontal)
        for slider, most, name, step in ((self.day, 364, "Day of the year", 7), (self.time, STEPS_PER_DAY - 1, "Time of day", 12)):
            slider.setRange(0, most)
            slider.setPageStep(step)
            slider.setAccessibleName(name)
            slider.setToolTip(name)
            slider.setMinimumWidth(60)
            slider.valueChanged.connect(self._clock_moved)
            row.addWidget(slider, 1)
        self._clock = label("", "strong")
        self._clock.setMinimumWidth(self._clock.fontMetrics().horizontalAdvance("30 Sep 23:55 ") + 8)
        row.addWidget(self._clock)
        return row

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.setMinimumSize(int(530 * scale), int(470 * scale))
        self.relay.set_theme(theme, scale)
        self._clock.setMinimumWidth(self._clock.fontMetrics().horizontalAdvance("30 Sep 23:55 ") + 8)

    # --- clock
    @property
    def step(self) -> int:
        """The clock as a step of the year."""
        return self.day.value() * STEPS_PER_DAY + self.time.value()

    def set_step(self, step: int) -> None:
        """Move the clock."""
        for slider, value in ((self.day, step // STEPS_PER_DAY), (self.time, step % STEPS_PER_DAY)):
            slider.blockSignals(True)
            slider.setValue(value)
            slider.blockSignals(False)
        self._values = None
        self.refresh()

    def _clock_moved(self) -> None:
        self.moment.setCurrentIndex(self.moment.findData("clock"))
        self._values = None
        self.refresh()

    def _moment_chosen(self) -> None:
        data = self.moment.currentData()
        if isinstance(data, int):
            self.set_step(data)
        else:
            self._values = None
            self.refresh()

    def toggle_grid(self) -> None:
        """Open or close the grid."""
        (self.grid_down if self.grid_up.isChecked() else self.grid_up).setChecked(True)

    # --- showing
    def _plan_chosen(self) -> None:
        self._values = None
        self._lost = None
        self._moments_for = None

    def _show_dimmed(self) -> None:
        self.refresh(dim_now=True)

    def open_station(self) -> None:
        """Open the station in focus."""
        if self.relay.station is not None:
            self._open(self.relay.station)

    def _open(self, station: Station) -> None:
        self.sheet.open(station)
        self.sheet.focus_first()

    def _fill_moments(self, made: PlanFlow) -> None:
        from calm_relay.calendar import in_window
        from calm_relay.decision.facts import EVENING_H
        from calm_relay.relay.values import notable_steps

        if self._moments_for is made:
            return
        first = self._moments_for is None
        self._moments_for = made
        calendar = year_calendar(self.session.job.calendar_year, self.session.job.site.place.time_zone)
        self._moments = notable_steps(made, STEPS_PER_DAY, in_window(calendar.clock_hour, *EVENING_H))
        chosen = self.moment.currentText()
        self.moment.clear()
        for text, step in self._moments.items():
            self.moment.addItem(text, step)
        self.moment.addItem("each one's peak", "peak")
        self.moment.addItem("the clock", "clock")
        index = self.moment.findText(chosen)
        self.moment.setCurrentIndex(max(0, index))
        if first and isinstance(self.moment.currentData(), int):
            for slider, value in zip((self.day, self.time), divmod(self.moment.currentData(), STEPS_PER_DAY), strict=True):
                slider.blockSignals(True)
                slider.setValue(value)
                slider.blockSignals(False)

    def refresh(self, *, dim_now: bool = False) -> None:
        """Show the present plan; flows of an older state are dimmed, never mixed with new figures."""
        from calm_relay.relay.values import lost_by_station, peak_values, values_at

        session = self.session
        plan = session.plan
        head = "As it stands" if plan.letter == "Today" else f"{plan.letter}  {plan.name}"
        self._title.setText(head if plan.letter != "Today" else "Today's system")
        graph = plan_graph(session.job, plan)
        self._summary.setText(summary(graph) + (f". {plan.note}" if plan.note else ""))
        grid_up = self.grid_up.isChecked()
        calendar = year_calendar(session.job.calendar_year, session.job.site.place.time_zone)
        made, result = session.made(), session.fresh(plan.id)
        if made is not None:
            self._dim.stop()
            self._fill_moments(made)
            key = (made, self.step, self.moment.currentData() == "peak", plan.id)
            if self._values is None or self._values[0] != key:
                clock = calendar.label(self.step)
                peak = self.moment.currentData() == "peak"
                values = peak_values(graph, made) if peak else values_at(graph, made, self.step, clock)
                self._values = (key, values)
        values = self._values[1] if self._values else RelayValues("")
        dim = made is None and (dim_now or self._values is None)
        if not grid_up:
            peak_w = result.facts.backup_peak_w if result else 0.0
            values = grid_down_values(graph, peak_w)
        self._clock.setText("" if self.moment.currentData() == "peak" or not self.moment.count() else calendar.label(self.step))
        for widget in (self.moment, self.day, self.time):
            widget.setEnabled(grid_up and self.moment.count() > 0)
        if made is not None and (self._lost is None or self._lost[0] is not made):
            self._lost = (made, lost_by_station(graph, made))
        lost = self._lost[1] if self._lost and grid_up else {}
        self.relay.show_plan(graph, values, lost, grid_up=grid_up, dim=dim)
        key_lines = self.relay.picture.key if self.relay.picture else ()
        self._key.setText("  ".join(f"({i}) {text}" for i, text in enumerate(key_lines, start=1)))
        self._key.setVisible(bool(key_lines))
        self._sentence.setText(self._words(grid_up))

    def _words(self, grid_up: bool) -> str:
        session = self.session
        error = session.errors.get(session.chosen)
        if error:
            return f"The year could not be run: {error}"
        result = session.fresh(session.chosen)
        graph = plan_graph(session.job, session.plan)
        if not grid_up:
            forming = graph.forming
            if not forming:
                return "Grid down: nothing here forms the grid, the house is dark and the PV is off."
            made = sum(n.offgrid_va or 0.0 for n in forming)
            passes = (
                "" if graph.transfer_a is None else f" The {graph.transfer_a:g} A of the transfer device are gone with the grid."
            )
            peak = (
                ""
                if result is None
                else f"; the backup side's peak of the year is {show(result.facts.backup_peak_va, 'apparent_va')}"
            )
            return f"Grid down: {show(made, 'apparent_va')} is made{peak}.{passes}"
        if result is None:
            return "Updating the year…"
        f = result.facts
        available = sum(row["pv_available_w"] for row in f.nodes_wh.values()) + sum(
            r["dc_available_w"] for r in f.pv_only_wh.values()
        )
        parts = [f"This year {show(available, 'energy_wh', 0)} reached the inverters"]
        parts.append(f"AC limit clipped {show(f.clipped_wh, 'energy_wh', 0)}")
        if f.usable_wh > 0:
            parts.append(f"the battery caught {show(f.caught_wh, 'energy_wh', 0)} more")
        parts.append(f"export cap held back {show(f.held_by_cap_wh, 'energy_wh', 0)}")
        return " · ".join(parts)
