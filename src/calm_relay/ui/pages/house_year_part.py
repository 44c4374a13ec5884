"""The house's year: a carpet that chooses the week, the week by appliance, and a typical day of each season."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.ui.views.carpet import CarpetView
from calm_relay.ui.views.charts import DayLines, MonthsChart, StackChart
from calm_relay.ui.widgets import LegendRow
from calm_relay.units import format_quantity as show
from calm_relay.year.house_pictures import season_days
from calm_relay.year.pictures import week_stack

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage

CARPET_PX = 110
FULL_AT = 0.99


class HouseYearPart:
    """Pictures only."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self._week_from = -1

    def shape(self) -> object:
        return self._page.session.chosen

    def build(self) -> None:
        page = self._page
        page.heading("The year of the house, and a week from the clock's day")
        self.carpet = CarpetView(page.session.clock, page.theme)
        self.carpet.setAccessibleName("Load of the house, days across and hours upwards")
        self.carpet.setMouseTracking(False)  # a page scrolls under the pointer: only a press moves the clock here
        self.carpet.moved.connect(page.session.clock.move)
        self.carpet.full_at = FULL_AT
        self.carpet.set_theme(page.theme, page.scale)
        self.carpet.setFixedHeight(int(CARPET_PX * page.scale))
        page.add(self.carpet)
        self.week_words = page.words("")
        self._week = StackChart(page.theme, "A week, by appliance", "", "kW")
        self._week_legend = LegendRow()
        page.add(self._week)
        page.add(self._week_legend)
        page.heading("A typical day of each season")
        self._days = DayLines(page.theme, "Mean day by season", "clock", "kW")
        self._days_legend = LegendRow()
        page.add(self._days)
        page.add(self._days_legend)
        page.heading("By month")
        self._month_words = page.words("")
        self._months = MonthsChart(page.theme, "The house by month", "", "kWh")
        page.add(self._months)
        for chart in (self._week, self._days, self._months):
            chart.set_theme(page.theme, page.scale)

    def show_figures(self) -> None:
        session = self._page.session
        year = session.house_year()
        if year is None:
            return
        calendar = session.calendar()
        self.carpet.show_values("The house", year.total_w(), "power_w", "house")
        self._week_from = -1
        self.show_week()
        self._days_legend.show_rows(self._days.show_days(season_days(session.job.site.place.latitude_deg, year, calendar)))
        months = calendar.by_month_wh(year.total_w())
        self._months.show_months([("the house", months, "house")])
        listed = sum(float(w.sum()) for w in year.appliance_w.values()) * calendar.step_h
        self._month_words.setText(
            f"{show(sum(months), 'energy_wh', 0)} a year, {show(listed, 'energy_wh', 0)} of it by listed appliances; "
            f"{show(min(months), 'energy_wh', 0)} to {show(max(months), 'energy_wh', 0)} a month."
        )

    def show_week(self) -> None:
        """Show the week the clock's day begins, where it is not shown already."""
        session = self._page.session
        year, day = session.house_year(), session.clock.day
        if year is None or day == self._week_from:
            return
        self._week_from = day
        calendar = session.calendar()
        week = week_stack(session.job.house, year, calendar, day)
        days = [calendar.label((week.day + d) * calendar.steps_per_day).rpartition(" ")[0] for d in range(7)]
        total = float(week.total_w.sum()) * 0.5
        full = show(self.carpet.top, "power_w", 1)
        self.week_words.setText(
            f"Full colour is {full} and above over a quarter of an hour; a press or the arrow keys choose the day. "
            f"Below, seven days from {days[0]}, half-hour means: {show(total, 'energy_wh', 0)}."
        )
        self._week_legend.show_rows(self._week.show_stack(week, days=days))
