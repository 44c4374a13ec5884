"""House: what it draws, by profile and appliance; the highest evening against what the plan carries; a week."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QColor, QResizeEvent, QShowEvent
from PySide6.QtWidgets import QBoxLayout, QComboBox, QListWidget, QListWidgetItem, QSizePolicy, QVBoxLayout, QWidget

from calm_relay.calendar import MONTH_DAYS
from calm_relay.decision.house_pictures import load_curve, season_days
from calm_relay.decision.house_sums import quick_sums
from calm_relay.decision.pictures import evening_stack, week_stack
from calm_relay.job.house_models import Appliance, ProfileLoad
from calm_relay.job.models import FieldMark
from calm_relay.job.parts import add_appliance, put_appliance, remove_appliance
from calm_relay.load.catalogue import HOUSEHOLDS, catalogue, household_days, seasonal_months
from calm_relay.load.meter_files import read_meter
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.carpet import CarpetView
from calm_relay.ui.views.charts import LoadChart, SeasonChart, StackChart
from calm_relay.ui.widgets import Swatch, clear_layout, label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.load.house import HouseYear
    from calm_relay.study import Study
    from calm_relay.ui.need_dialog import Kind
    from calm_relay.ui.runner import Cancel

BESIDE_PX = 640
CARPET_PX = 110
WEEK_MS = 30  # the clock is dragged over many days: the last is drawn
APPLIANCE = (
    "name", "running_w", "run_h", "window_start_h", "window_end_h", "cycles_per_day", "days", "share_of_days_frac", "power_factor",
    "essential", "never_from_battery", "in_metered",
    "sheddable", "no_auto_return",
)  # fmt: skip


class HousePage(FieldPage):
    """Fields on the left half, the evening and the week below."""

    _chosen = ""
    _week_from = -1

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__(session, theme)
        self._soon = QTimer(self, singleShot=True, interval=WEEK_MS)
        self._soon.timeout.connect(self._show_week)
        session.clock.moved.connect(self._clock_moved)

    def shape(self) -> object:
        house = self.session.job.house
        return house.background.kind, tuple(a.id for a in house.appliances), self._chosen, self.session.chosen

    def build(self) -> None:
        job = self.session.job
        self.title(
            "House", "What the house draws, the same for all plans; the lines in the evening picture are those of the chosen plan."
        )
        if job.mark_of("house.background.energy_wh_per_day") == "assumed" and not job.house.appliances:
            text = (
                "Bring: a bill with the kWh of each month, and what runs in the evening. Type the day's kWh without what is listed "
                "as an appliance."
            )
            self._column.addWidget(label(text, "teach", wrap=True))
        metered = not isinstance(job.house.background, ProfileLoad)
        buttons = [("Read a meter file…", self._ask_meter)] + ([("Type totals instead", self._typed)] if metered else [])
        self.heading("The house as metered" if metered else "Everything else", *buttons)
        if isinstance(job.house.background, ProfileLoad):
            self.flow(self.cell("house.background.shape"), self.cell("house.background.seed", chars=6), self._households())
            self.month_row("house.background.energy_wh_per_day")
        else:
            background = job.house.background
            self.words(f"{background.source or background.series.column}, every {background.series.step_s // 60} min.", "strong")
            self._band_words = self.words("Appliances below are taken as part of it, unless you say that they come on top.")
        self.heading("Appliances", ("Add an appliance", self._add))
        self.flow(
            self._usual(),
            self.button("Heat pump from fuel…", lambda: self._ask_need("heat pump")),
            self.button("Car…", lambda: self._ask_need("car")),
        )
        self._column.addWidget(self._appliances())
        self.heading("The highest evening")
        self._evening_words = label("", "quiet", wrap=True)
        self._column.addWidget(self._evening_words)
        self._evening = StackChart(self.theme, "The highest evening, by appliance", "clock", "kW")
        self._evening_legend = QWidget()
        self._week = StackChart(self.theme, "A week, by appliance", "", "kW")
        self._week_words = label("", "quiet", wrap=True)
        FlowLayout(self._evening_legend, gap=10, line_gap=2)
        self._column.addWidget(self._evening)
        self._column.addWidget(self._evening_legend)
        self.heading("The year of the house, and a week from the clock's day")
        self.carpet = CarpetView(self.session.clock, self.theme)
        self.carpet.setAccessibleName("Load of the house, days across and hours upwards")
        self.carpet.setMouseTracking(False)  # a page scrolls under the pointer: only a press moves the clock here
        self.carpet.moved.connect(self.session.clock.move)
        self.carpet.set_theme(self.theme, self.scale)
        self.carpet.setFixedHeight(int(CARPET_PX * self.scale))
        self._column.addWidget(self.carpet)
        self._column.addWidget(self._week_words)
        self._column.addWidget(self._week)
        self.heading("From most to least, against what carries it")
        self._curve_words = self.words("")
        self._curve = LoadChart(self.theme, "The house from most to least", "hours of the year (log)", "kW")
        self.add(self._curve)
        self.heading("A typical day of each season")
        self._days = SeasonChart(self.theme, "Mean day by season", "clock", "kW")
        self._days_legend = QWidget()
        FlowLayout(self._days_legend, gap=10, line_gap=2)
        self.add(self._days)
        self.add(self._days_legend)
        self.heading("Quick sums")
        self._sums = self.words("")
        for chart in (self._evening, self._week, self._curve, self._days):
            chart.set_theme(self.theme, self.scale)
        self._column.addStretch()

    def _usual(self) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName("Add a usual appliance")
        box.addItem("Add a usual appliance…")
        for load in catalogue():
            box.addItem(f"{load.name}, {show(load.running_w, 'power_w')}")
        box.activated.connect(lambda i: self.add_usual(catalogue()[i - 1]) if i > 0 else None)
        return box

    def _households(self) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName("Begin with a household")
        box.addItem("Begin with a household…")
        for words, day_wh in HOUSEHOLDS:
            box.addItem(f"{words}, {show(day_wh, 'energy_wh')} a day")
        box.activated.connect(lambda i: self.take_household(*HOUSEHOLDS[i - 1]) if i > 0 else None)
        return box

    def add_usual(self, load: Appliance) -> None:
        """Add a usual appliance; heating and cooling get the months of this hemisphere."""
        latitude = self.session.job.site.place.latitude_deg
        season = "winter" if "winter" in load.name else "summer" if "summer" in load.name else ""
        months = seasonal_months(season, latitude) if season else ()
        job, made = put_appliance(self.session.job, load.model_copy(update={"months": months}))
        self._chosen = made
        self.change(f"Add {load.name.lower()}", job)

    def take_household(self, words: str, day_wh: float) -> None:
        """Put a usual household's days in place, marked as assumed."""
        job = self.session.job
        days = household_days(day_wh, job.site.place.latitude_deg, heated=True)
        path = "house.background.energy_wh_per_day"
        marks = (*(m for m in job.marks if m.path != path), FieldMark(path=path, source="assumed"))
        background = job.house.background.model_copy(update={"energy_wh_per_day": days})
        house = job.house.model_copy(update={"background": background})
        self.change(f"A household of {words}", job.model_copy(update={"house": house, "marks": marks}))

    def _appliances(self) -> QWidget:
        job = self.session.job
        holder = QWidget()
        row = self._beside = QBoxLayout(QBoxLayout.Direction.LeftToRight, holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(14)
        self.list = QListWidget()
        self.list.setAccessibleName("Appliances")
        self.list.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setFixedWidth(int(self.list.fontMetrics().averageCharWidth() * 38))
        self.list.setWordWrap(True)
        for load in job.house.appliances:
            item = QListWidgetItem()
            item.setData(Qt.ItemDataRole.UserRole, load.id)
            self.list.addItem(item)
        if self._chosen not in {a.id for a in job.house.appliances}:
            self._chosen = job.house.appliances[0].id if job.house.appliances else ""
            self._shape = self.shape()
        index = next((i for i, a in enumerate(job.house.appliances) if a.id == self._chosen), -1)
        self.list.setCurrentRow(index)
        self.list.currentItemChanged.connect(self._choose)
        row.addWidget(self.list)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        if self._chosen:
            base = f"house.appliances[{self._chosen}]"
            cells = QWidget()
            flow = FlowLayout(cells)
            for name in APPLIANCE:
                flow.addWidget(self.cell(f"{base}.{name}", chars=18 if name == "name" else 8))
            load = next(a for a in job.house.appliances if a.id == self._chosen)
            if load.motor is not None:
                for name in ("lra_a", "horsepower", "soft_starter"):
                    flow.addWidget(self.cell(f"{base}.motor.{name}", chars=8))
            flow.addWidget(self.button("Remove", self._remove, f"Remove {load.name}"))
            column.addWidget(cells)
        else:
            column.addWidget(label("No appliance yet: add what runs in the evening, and what must stay on.", "quiet", wrap=True))
        column.addStretch()
        row.addWidget(right, 1)
        self._turn()
        return holder

    def _turn(self) -> None:
        """Put the fields beside the list, or under it where the page is narrow."""
        beside = self.width() / self.scale >= BESIDE_PX
        wanted = QBoxLayout.Direction.LeftToRight if beside else QBoxLayout.Direction.TopToBottom
        if self._beside.direction() != wanted:
            self._beside.setDirection(wanted)
        self.list.setFixedHeight(int(self.list.fontMetrics().height() * (13 if beside else 8)))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._shape is not None:
            self._turn()

    def focus_path(self, path: str) -> bool:
        """Choose the appliance a path belongs to, then its field."""
        if path.startswith("house.appliances["):
            self._chosen = path.partition("[")[2].partition("]")[0]
            self.refresh()
        return super().focus_path(path)

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._chosen = item.data(Qt.ItemDataRole.UserRole)
            self.refresh()
            self.list.setFocus()

    def show_figures(self) -> None:
        job = self.session.job
        for i, load in enumerate(job.house.appliances):
            daily = load.running_w * load.run_h * load.share_of_days_frac
            marks = " · must stay on" if load.essential else ""
            self.list.item(i).setText(f"{load.name}\n{show(load.running_w, 'power_w')} · {show(daily, 'energy_wh')} a day{marks}")
        year = self.session.house_year()
        if year is None:
            return
        calendar = self.session.calendar()
        stack = evening_stack(job.house, year, calendar)
        result = self.session.fresh(self.session.chosen)
        levels = []
        day = calendar.label(stack.day * calendar.steps_per_day).rpartition(" ")[0]
        words = f"On {day}, up to {show(float(stack.total_w.max()), 'power_w', 1)}."
        if result is not None and result.facts.evening is not None:
            e = result.facts.evening
            levels.append((e.limit_w, f"batteries carry {show(e.limit_w, 'power_w', 1)} ({e.weakest})", "over"))
            words += (
                f" In the year {e.hours_over_h:.0f} evening hours are over what plan {self.session.plan.letter}'s batteries carry."
            )
        else:
            words += " The chosen plan has no battery to carry it."
        self._evening_words.setText(words)
        legend = self._evening.show_stack(stack, levels)
        self._legend(legend)
        self.carpet.show_values("The house", year.total_w(), "power_w", "house")
        self._week_from = -1
        self._show_week()
        self._show_year(year)

    def _show_week(self) -> None:
        """Show the week the clock's day begins, where it is not shown already."""
        year, day = self.session.house_year(), self.session.clock.day
        if year is None or day == self._week_from:
            return
        self._week_from = day
        calendar = self.session.calendar()
        week = week_stack(self.session.job.house, year, calendar, day)
        first = calendar.label(week.day * calendar.steps_per_day).rpartition(" ")[0]
        total = float(week.total_w.sum()) * 0.5
        full = show(self.carpet.top, "power_w", 1)
        self._week_words.setText(
            f"Full colour is {full} over a quarter of an hour; a press or the arrow keys choose the day. "
            f"Below, seven days from {first}, half-hour means: {show(total, 'energy_wh', 0)}."
        )
        self._week.show_stack(week, per_day=True)

    def _clock_moved(self) -> None:
        if self._shape is not None and self.isVisible():
            self._soon.start()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._clock_moved()

    def _show_year(self, year: HouseYear) -> None:
        """Show the curve of the year, the mean days, and the quick sums."""
        job, plan, calendar = self.session.job, self.session.plan, self.session.calendar()
        curve = load_curve(job, plan, year, calendar)
        self._curve.show_curve(curve)
        parts = []
        for watts, name, _ in curve.levels:
            hours = float(np.count_nonzero(year.total_w() > watts)) * calendar.step_h
            parts.append(f"{hours:.0f} h a year above {show(watts, 'power_w', 1)} ({name})")
        self._curve_words.setText("; ".join(parts) + "." if parts else "The chosen plan makes no power with the grid down.")
        layout = self._days_legend.layout()
        assert layout is not None
        clear_layout(layout)
        for name, color in self._days.show_days(season_days(job, year, calendar)):
            layout.addWidget(Swatch(name, color))

        def work(study: Study, _: Cancel) -> object:
            facts = study.facts(job, plan)
            return study.peaks(job), quick_sums(job, plan, study.house(job), study.calendar(job), study.sun_up(job), facts)

        key = f"house sums {plan.id}"
        found = self.session.extra(key, work)
        kept = found or self.session.last_extra(key)
        self._sums.setEnabled(found is not None)
        if isinstance(kept, tuple):
            peaks, sums = kept
            lines = [f"{s.name[:1].upper()}{s.name[1:]}: {s.arithmetic}" for s in sums]
            ratio = f"Highest minute {show(peaks.minute_w, 'power_w')}, {peaks.ratio:.2f} times the highest hour"
            self._sums.setText("\n".join([*lines, f"{ratio}: an hour hides what trips an inverter."]))

    def _legend(self, rows: list[tuple[str, QColor]]) -> None:
        layout = self._evening_legend.layout()
        assert layout is not None
        clear_layout(layout)
        for name, color in rows:
            layout.addWidget(Swatch(name, color))

    # --- changing
    def _ask_need(self, kind: Kind) -> None:
        from calm_relay.ui.need_dialog import NeedDialog

        dialog = NeedDialog(kind, self.session.job.site.place.latitude_deg, self)
        dialog.accepted.connect(lambda: self._take_need(dialog.made))
        self.session.dialogs.show(dialog)

    def _take_need(self, load: Appliance | None) -> None:
        if load is not None:
            job, self._chosen = put_appliance(self.session.job, load)
            self.change(f"Add {load.name.lower()}", job)

    def _ask_meter(self) -> None:
        path = self.session.dialogs.ask_file("Read a meter file", "Meter data (*.csv *.xml *.txt *.nem12);;All files (*)")
        if path is not None:
            self.read_meter(path)

    def read_meter(self, path: Path) -> None:
        """Read a meter file off the window's thread; what was found is shown before it becomes the house."""
        job = self.session.job

        def work(study: Callable[[], Study]) -> object:
            from calm_relay.decision.metered import take_meter

            return take_meter(study(), job, read_meter(path, job.site.place.time_zone))

        self.session.read_file(path, work, self._meter_read)

    def _meter_read(self, taken: object) -> None:
        from calm_relay.ui.meter_dialog import MeterDialog

        if isinstance(taken, Exception):
            self.session.problem.emit(str(taken))
            return
        dialog = MeterDialog(taken, self)  # type: ignore[arg-type]
        dialog.accepted.connect(lambda: self.take_meter(taken))
        self.session.dialogs.show(dialog)

    def take_meter(self, taken: object) -> None:
        """Make a meter's gross load the house, as one named entry."""
        from calm_relay.decision.metered import Taken, with_meter

        assert isinstance(taken, Taken)
        self.change(f"House from {taken.meter.file}", with_meter(self.session.store, self.session.job, taken))

    def _typed(self) -> None:
        """Go back to totals and a shape, beginning with the metered days of each month."""
        job, year = self.session.job, self.session.house_year()
        months: tuple[float, ...] = (9000.0,) * 12
        if year is not None:
            sums = self.session.calendar().by_month_wh(year.background_w)
            months = tuple(round(wh / days, 0) for wh, days in zip(sums, MONTH_DAYS, strict=True))
        house = job.house.model_copy(update={"background": ProfileLoad(energy_wh_per_day=months)})
        self.change("Type totals of the house", job.model_copy(update={"house": house}))

    def _add(self) -> None:
        job, made = add_appliance(self.session.job)
        self._chosen = made
        self.change("Add an appliance", job)

    def _remove(self) -> None:
        name = next(a.name for a in self.session.job.house.appliances if a.id == self._chosen)
        self.change(f"Remove {name}", remove_appliance(self.session.job, self._chosen))
