"""Plans: the relay line of the chosen plan, grid up and grid down, with its station sheet."""

from __future__ import annotations

import weakref
from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, QSignalBlocker, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calm_relay.decision.limits import passed_words
from calm_relay.decision.second import adds_words
from calm_relay.decision.words import clipped_amount
from calm_relay.plant.offgrid import total
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.graph import plan_graph, summary
from calm_relay.relay.picture import Station
from calm_relay.relay.stations import assumed_by_station, how_words, worst_moment
from calm_relay.relay.values import RelayValues, drill_values, generator_values, grid_down_values
from calm_relay.ui.building import Building
from calm_relay.ui.copying import fill_menu
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.pages.station_sheet import StationSheet
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.relay_view import RelayView
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.year.plan_flow import PlanFlow

DIM_AFTER_MS = 150
HINT_ROOM_PX = 440  # below it the page is too low for its hint


class PlansPage(QWidget):
    """Shows the plan as the program understands it; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session = session
        self.shown_values: tuple[object, RelayValues] | None = None
        self._lost: tuple[weakref.ref[PlanFlow], dict[str, float]] | None = None  # never what keeps a year's series alive
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
        head.addWidget(self._controls())
        column.addWidget(top)
        self.relay = RelayView(theme)
        self.relay.how = self._how
        self.relay.opened.connect(self._open)
        self.relay.add_asked.connect(self._ask_what)
        self.relay.out_asked.connect(self.building.take_out)
        holder = QHBoxLayout()
        column.addLayout(holder, 3)
        holder.setContentsMargins(20, 0, 12, 0)
        holder.addWidget(self.relay)
        self.sentence = label("", "strong")
        self.sentence.setWordWrap(True)
        self._hint = label(
            "Select a station: arrows move along the line, Enter opens it, Insert adds there, Delete takes out, G opens the grid, "
            "W shows its worst moment.",
            "quiet",
        )
        self._hint.setWordWrap(True)
        self._key = label("", "quiet")
        self._key.setWordWrap(True)
        words = QVBoxLayout()
        column.addLayout(words)
        words.setContentsMargins(20, 2, 16, 8)
        words.setSpacing(2)
        for line in (self._key, self.sentence, self._hint):
            words.addWidget(line)
        self.sheet = StationSheet(session, self)
        self.sheet.menu_of = lambda parent: self.building.fresh_menu(parent, lambda: self.sheet.station)
        self.sheet.closed.connect(self.relay.setFocus)
        self.sheet.shown.connect(lambda _: self._fit_hint())
        column.addWidget(self.sheet, 2)
        self._dim = QTimer(self)
        self._dim.setSingleShot(True)
        self._dim.setInterval(DIM_AFTER_MS)
        self._dim.timeout.connect(self._show_dimmed)
        session.job_changed.connect(self._dim.start)
        session.plan_chosen.connect(self._plan_chosen)
        session.answers_changed.connect(lambda: self.refresh() if self.isVisible() else None)
        session.clock.moved.connect(self._clock_moved)
        self._scale = 1.0

    def _controls(self) -> QWidget:
        holder = QWidget()
        row = FlowLayout(holder, gap=6, line_gap=4)
        self._group = QButtonGroup(self)
        self.grid_up = QPushButton("Grid up")
        self.grid_down = QPushButton("Grid down")
        self.generator = QPushButton("Generator")
        for button in (self.grid_up, self.grid_down, self.generator):
            button.setCheckable(True)
            self._group.addButton(button)
            row.addWidget(button)
        self.grid_up.setChecked(True)
        self._group.buttonToggled.connect(lambda _b, on: self.refresh() if on else None)
        self.peak = QPushButton("Each one's peak")
        self.peak.setCheckable(True)
        self.peak.setToolTip("Show each flow's own peak of the year instead of the clock's moment")
        self.peak.toggled.connect(self.session.clock.show_peak)
        row.addWidget(self.peak)
        self.building = Building(self)
        self.build_button = QPushButton("Add or take out")
        self.build_button.setToolTip(
            "Inverters, batteries, strings, the transfer device (Insert at a station, Delete takes it out)"
        )
        self.build_button.setMenu(self.building.fresh_menu(self.build_button))
        row.addWidget(self.build_button)
        self.clock_label = label("", "clock")
        row.addWidget(self.clock_label)
        return holder

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._scale = scale
        self.relay.set_theme(theme, scale)

    def worst_moment(self) -> None:
        """Set the clock to the worst moment of the year of the station in focus, and say what is worst then."""
        station, made = self.relay.station, self.session.made()
        if station is None or made is None:
            return
        found = worst_moment(made, station.id)
        if found is None:
            self.session.problem.emit(f"{station.title}: nothing flows there in the whole year.")
            return
        self.grid_up.setChecked(True)
        self.session.clock.move(found.step)
        self.clock_label.setText(f"{self.clock_label.text()} · worst of {station.title}: {found.words}")

    def _clock_moved(self) -> None:
        with QSignalBlocker(self.peak):
            self.peak.setChecked(self.session.clock.peak)
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def toggle_grid(self) -> None:
        """Open or close the grid, where there is one; with a generator it comes third."""
        if self.session.plan.off_grid:
            return
        ways = [b for b in (self.grid_up, self.grid_down, self.generator) if b is not self.generator or self.session.plan.generator]
        now = next(i for i, button in enumerate(ways) if button.isChecked())
        ways[(now + 1) % len(ways)].setChecked(True)

    # --- showing
    def _plan_chosen(self) -> None:
        self.shown_values = None
        self._lost = None

    def _show_dimmed(self) -> None:
        self.refresh(dim_now=True)

    def focus_path(self, path: str) -> bool:
        """Open the station that holds a field and put the focus on it; returns whether there is one."""
        self.refresh()
        for station in self.relay.picture.stations if self.relay.picture else ():
            self.sheet.open(station)
            if path in self.sheet.cells:
                self.relay.focus_station(station.id)
                self.sheet.cells[path].editor.setFocus()
                return True
        self.sheet.open(None)
        if self.relay.rows:  # it may stand in a row of like ones
            self.relay.toggle_fold()
            return self.focus_path(path)
        return False

    def open_station(self) -> None:
        """Open the station in focus."""
        if self.relay.station is not None:
            self._open(self.relay.station)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_hint()

    def _fit_hint(self) -> None:
        """The hint goes where room is short, and while a station is open: the sentence above it matters more."""
        view = self.parentWidget()
        room = (view.height() if view is not None else self.height()) / self._scale
        self._hint.setVisible(room >= HINT_ROOM_PX and self.sheet.station is None)

    def _how(self, station_id: str) -> str:
        job, plan = self.session.job, self.session.plan
        return how_words(plant_of(job, plan), job.site.export_limit_w, station_id)

    def _open(self, station: Station) -> None:
        self.sheet.open(station)
        self.sheet.focus_first()

    def _ask_what(self, station: Station | None) -> None:
        """Offer what can be added at a station, or taken out of it."""
        place = self.relay.rect().center()
        if station is not None:
            place = QPoint(round(station.rect.x + station.rect.w / 2), round(station.rect.y + station.rect.h))
        menu = self.building.menu(self, station)
        if station is not None:
            menu.addSeparator()
            menu.addAction("Worst moment of the year (W)", self.worst_moment)
        fill_menu(menu.addMenu("Copy the picture"), self.relay)
        menu.popup(self.relay.mapToGlobal(place))

    def show_built(self, station_id: str) -> None:
        """Look at the station that a step brought; close the sheet where it is gone."""
        self.refresh()
        stations = self.relay.picture.stations if self.relay.picture else ()
        found = next((s for s in stations if s.id == station_id), None)
        if found is None:
            self.sheet.open(None)
            self.relay.setFocus()
            return
        self.relay.focus_station(station_id)
        self._open(found)

    def refresh(self, *, dim_now: bool = False) -> None:
        """Show the present plan; flows of an older state are dimmed, never mixed with new figures."""
        from calm_relay.relay.values import lost_by_station, peak_values, values_at

        session = self.session
        plan = session.plan
        head = "As it stands" if plan.letter == "Today" else f"{plan.letter}  {plan.name}"
        self._title.setText(head if plan.letter != "Today" else "Today's system")
        graph = plan_graph(plant_of(session.job, plan), session.job.house, session.job.faces)
        said = [f"{summary(graph)}.", adds_words(session.job, plan), plan.note]
        self._summary.setText(" ".join(part for part in said if part) if any(said[1:]) else summary(graph))
        for button in (self.grid_up, self.grid_down):
            button.setVisible(not plan.off_grid)
        self.generator.setVisible(plan.generator is not None and not plan.off_grid)
        if self.generator.isChecked() and not self.generator.isVisible():
            self.grid_up.setChecked(True)
        grid_up = self.grid_up.isChecked() or plan.off_grid
        calendar, clock = session.calendar(), session.clock
        made, result = session.made(), session.fresh(plan.id)
        if made is not None:
            self._dim.stop()
            key = (weakref.ref(made), clock.step, clock.peak, plan.id)
            if self.shown_values is None or self.shown_values[0] != key:
                moment = calendar.label(clock.step)
                lines = session.line_flows()
                found = peak_values(graph, made, lines) if clock.peak else values_at(graph, made, clock.step, moment, lines)
                self.shown_values = (key, found)
        values = self.shown_values[1] if self.shown_values else RelayValues("")
        dim = made is None and (dim_now or self.shown_values is None)
        if not grid_up:
            peak_w = result.facts.backup_peak_w if result else 0.0
            drilled = session.drilled(plan.id)
            if self.generator.isChecked():
                values = generator_values(graph, peak_w)
            elif drilled is not None:
                graph = plan_graph(plant_of(session.job, drilled.plan), session.job.house, session.job.faces)
                values = drill_values(graph, drilled.drill, drilled.minute, drilled.clock)
            else:
                values = grid_down_values(graph, peak_w)
        self.clock_label.setText(
            values.moment if not grid_up else "each flow at its own peak" if clock.peak else calendar.label(clock.step)
        )
        self.peak.setEnabled(grid_up)
        if made is not None and (self._lost is None or self._lost[0]() is not made):
            self._lost = (weakref.ref(made), lost_by_station(graph, made))
        lost = self._lost[1] if self._lost and grid_up else {}
        assumed = {} if made is None else assumed_by_station(made.flow.assumed)
        self.relay.show_plan(graph, values, lost, assumed, grid_up=grid_up, dim=dim)
        key_lines = self.relay.picture.key if self.relay.picture else ()
        self._key.setText("  ".join(f"({i}) {text}" for i, text in enumerate(key_lines, start=1)))
        self._key.setVisible(bool(key_lines))
        self.sentence.setText(self._words(grid_up))

    def _words(self, grid_up: bool) -> str:
        session = self.session
        error = session.errors.get(session.chosen)
        if error:
            return f"The year could not be run: {error}"
        result = session.fresh(session.chosen)
        graph = plan_graph(plant_of(session.job, session.plan), session.job.house, session.job.faces)
        if not graph.nodes:
            return (
                "No inverter yet: Plan, Start list (Ctrl+L) asks what stands and what it becomes; 'Add or take out' builds by hand."
            )
        if not grid_up:
            forming = graph.forming
            if not forming:
                return "Grid down: nothing here forms the grid, the house is dark and the PV is off."
            made = total([n.offgrid_va for n in forming])
            passes = (
                "" if graph.transfer_a is None else f" The {graph.transfer_a:g} A of the transfer device are gone with the grid."
            )
            peak = ""
            if result is not None:
                most = result.facts.at_least(show(result.facts.backup_peak_va, "apparent_va"))
                peak = f"; the backup side's peak of the year is {most}"
            says = "what is made is not on the cards" if made is None else f"{show(made, 'apparent_va')} is made"
            if self.generator.isChecked():
                out = (
                    "AC-coupled PV is locked out"
                    if session.plan.generator and session.plan.generator.pv_locked_out == "yes"
                    else ("AC-coupled PV on its bus has to be locked out, which is not declared")
                )
                set_va = show(graph.generator_va, "apparent_va")
                return f"Generator: {set_va} on the card feed the backup side and what is left of it the battery{peak}; {out}."
            return f"Grid down: {says}{peak}.{passes}"
        if result is None:
            return "Updating the year…"
        f = result.facts
        available = sum(row["pv_available_w"] for row in f.nodes_wh.values()) + sum(
            r["dc_available_w"] for r in f.pv_only_wh.values()
        )
        unserved = f.system_wh["unserved_w"]
        parts = [f"{show(unserved, 'energy_wh', 0)} of the house not served"] if unserved >= 500.0 else []
        parts += [f"Above a limit: {'; '.join(above)}"] if (above := passed_words(f)) else []
        parts += [f"This year {show(available, 'energy_wh', 0)} reached the inverters"]
        for text, wh in (
            (f"AC limits clipped {clipped_amount(session.job)} {{}}", f.clipped_wh),
            ("the battery caught {} more", f.caught_wh),
            ("the export cap held back {}", f.held_by_cap_wh),
            ("{} found no use without a grid", f.lost_wh("island")),
        ):
            if wh >= 500.0:
                parts.append(text.format(show(wh, "energy_wh", 0)))
        return " · ".join(parts)
