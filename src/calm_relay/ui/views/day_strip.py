"""The day strip under pages that have a year: carpet of a chosen quantity, the chosen day, and days worth a look."""

from __future__ import annotations

import weakref
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calm_relay.calendar import in_window, year_calendar
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.clock import STEPS_PER_DAY
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.carpet import CarpetView
from calm_relay.ui.views.day_view import DayView
from calm_relay.ui.widgets import label

if TYPE_CHECKING:
    from calm_relay.year.plan_flow import PlanFlow

DAYS_SHOWN = ("most clipped", "sunniest", "dullest", "highest evening", "coldest")


class DayStrip(QWidget):
    """Shows the chosen plan's year and day; it holds no data but what it draws."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self._drawn: weakref.ref[PlanFlow] | None = None  # never what keeps a year's series alive
        self._days: dict[str, int] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 4, 12, 4)
        column.setSpacing(2)
        top = QHBoxLayout()
        column.addLayout(top)
        top.setSpacing(8)
        top.addWidget(label("THE YEAR", "head"))
        self.quantity = ClosedList()
        self.quantity.setAccessibleName("Quantity of the year carpet")
        self.quantity.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.quantity.setMinimumContentsLength(22)
        top.addWidget(self.quantity)
        top.addStretch()
        self.clock_label = label("", "strong")
        top.addWidget(self.clock_label)
        self.carpet = CarpetView(session.clock, theme)
        self.carpet.setAccessibleName("Year carpet, days across and hours upwards")
        column.addWidget(self.carpet, 5)
        row = QWidget()
        flow = FlowLayout(row, gap=6, line_gap=3)
        self._day_label = label("THE DAY", "head")
        flow.addWidget(self._day_label)
        self.buttons: dict[str, QPushButton] = {}
        for name in DAYS_SHOWN:
            button = QPushButton(name)
            button.setObjectName("link")
            button.clicked.connect(lambda _=False, n=name: self._go(n))
            self.buttons[name] = button
            flow.addWidget(button)
        column.addWidget(row)
        self.day = DayView(session.clock, theme)
        column.addWidget(self.day, 4)
        self.quantity.activated.connect(lambda _: self._draw())
        for view in (self.carpet, self.day):
            view.moved.connect(session.clock.move)
        session.clock.moved.connect(self._clock_moved)
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.carpet.set_theme(theme, scale)
        self.day.set_theme(theme, scale)
        self._drawn = None
        self.refresh()

    @property
    def _made(self) -> PlanFlow | None:
        """The year that is drawn, while anything else still holds it."""
        return None if self._drawn is None else self._drawn()

    def refresh(self) -> None:
        """Draw the chosen plan's year when it is there; an older one is dimmed."""
        made = self.session.made()
        if made is None:
            self.carpet.set_dim(True)
            return
        if made is self._made:
            self.carpet.set_dim(False)
            return
        from calm_relay.year.pictures import CARPETS

        self._drawn = weakref.ref(made)
        self._days = self.session.notable_days()
        has_battery = bool(made.packed.nodes["capacity_wh"].sum() > 0) if len(made.packed.nodes) else False
        wanted = [(key, text) for key, text, _ in CARPETS if has_battery or key not in ("soc", "grid_charge", "discharge")]
        if [self.quantity.itemData(i) for i in range(self.quantity.count())] != [key for key, _ in wanted]:
            chosen = self.quantity.currentData()
            self.quantity.clear()
            for key, text in wanted:
                self.quantity.addItem(text, key)
            self.quantity.setCurrentIndex(max(0, self.quantity.findData(chosen)))
        for name, button in self.buttons.items():
            button.setVisible(name in self._days)
        if not self.session.clock.placed:
            day = self._days.get("most clipped", self._days.get("sunniest", 12))
            self.session.clock.move(day * STEPS_PER_DAY + 13 * 12)
        self._draw()
        self._clock_moved()

    def _draw(self) -> None:
        if self._made is None:
            return
        from calm_relay.year.pictures import CARPETS, carpet

        key = self.quantity.currentData()
        values, kind = carpet(self._made, key)
        text, hue = next((text, hue) for k, text, hue in CARPETS if k == key)
        self.carpet.show_values(text, values, kind, hue)

    def _clock_moved(self) -> None:
        clock = self.session.clock
        calendar = year_calendar(self.session.job.calendar_year, self.session.job.site.place.time_zone)
        text = calendar.label(clock.step)
        self.clock_label.setText(text)
        self._day_label.setText(f"THE DAY {text.rpartition(' ')[0].upper()}")
        if self._made is not None:
            from calm_relay.year.pictures import day_picture

            self.day.show_day(day_picture(self._made, calendar, clock.day))

    def _go(self, name: str) -> None:
        """Go to a day worth a look, at the time of day that makes it so."""
        day = self._days.get(name)
        if day is None or self._made is None:
            return
        from calm_relay.year.pictures import carpet, lost_w

        here = slice(day * STEPS_PER_DAY, (day + 1) * STEPS_PER_DAY)
        calendar = self.session.calendar()
        if name == "most clipped":
            series = lost_w(self._made, here)
        elif name == "highest evening":
            evening = in_window(calendar.clock_hour[here], 16.0, 22.0)
            series = self._made.flow.column("load_w")[here] * evening
        elif name == "coldest" and (air := self.session.air_c()) is not None:
            series = -air[here]
        else:
            series = carpet(self._made, "pv")[0][here]
        self.session.clock.move(day * STEPS_PER_DAY + int(series.argmax()))
