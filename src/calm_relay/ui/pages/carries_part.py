"""What carries the house: its highest evening and its power from most to least against the chosen plan, phases by themselves."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from calm_relay.plant.resolve import plant_of
from calm_relay.ui.views.charts import DayLines, LoadChart, StackChart
from calm_relay.ui.widgets import LegendRow
from calm_relay.units import format_quantity as show
from calm_relay.units import hours_a_year
from calm_relay.year.house_pictures import evening_levels, load_curve
from calm_relay.year.pictures import evening_stack

if TYPE_CHECKING:
    from calm_relay.load.house import HouseYear
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.year.lines import LineFacts


class CarriesPart:
    """Pictures; the only fields are how the background lies on phases or legs."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        job = self._page.session.job
        return self._page.session.chosen, job.site.supply.kind, job.house.background_lines_frac is None

    def build(self) -> None:
        page, job = self._page, self._page.session.job
        page.heading("The highest evening")
        self.evening_words = page.words("")
        self._evening = StackChart(page.theme, "The highest evening, by appliance", "clock", "kW")
        self._evening.set_theme(page.theme, page.scale)
        self._legend = LegendRow()
        page.add(self._evening)
        page.add(self._legend)
        page.heading("From most to least, against what carries it")
        self.curve_words = page.words("")
        self._curve = LoadChart(page.theme, "The house from most to least", "hours of the year (log)", "kW")
        self._curve.set_theme(page.theme, page.scale)
        page.add(self._curve)
        self.lines_words = None
        kind = job.site.supply.kind
        if kind == "single_phase":
            return
        count, name = (2, "leg") if kind == "split_phase" else (3, "phase")
        page.heading(f"Each {name} by itself")
        if job.house.background_lines_frac is None:
            page.flow(page.button("Say how the rest lies on them", self._type_shares))
        else:
            cells = [
                page.cell(f"house.background_lines_frac[{i}]", caption=f"Rest on {name} {i + 1}", chars=7) for i in range(count)
            ]
            page.flow(*cells, page.button("Alike on each", lambda: self._put_shares(None)))
        self._lines = DayLines(page.theme, f"Mean day by {name}", "clock", "kW")
        self._lines.set_theme(page.theme, page.scale)
        self._lines_legend = LegendRow()
        page.add(self._lines)
        page.add(self._lines_legend)
        self.lines_words = page.words("")

    def show_figures(self) -> None:
        session = self._page.session
        year = session.house_year()
        if year is None:
            return
        self._show_evening(year)
        calendar = session.calendar()
        curve = load_curve(plant_of(session.job, session.plan), year, calendar)
        self._curve.show_curve(curve)
        total = year.total_w()
        parts = [
            f"{hours_a_year(float(np.count_nonzero(total > watts)) * calendar.step_h)} above {show(watts, 'power_w', 1)} ({name})"
            for watts, name, _ in curve.levels
        ]
        self.curve_words.setText("; ".join(parts) + "." if parts else "The chosen plan makes no power with the grid down.")
        result = session.fresh(session.chosen)
        if self.lines_words is None or result is None:
            return
        rows = result.facts.lines
        self._lines_legend.show_rows(self._lines.show_days([(row.name, np.array(row.day_w)) for row in rows]))
        self.lines_words.setText("\n".join(line_words(row) for row in rows))

    def _show_evening(self, year: HouseYear) -> None:
        session = self._page.session
        calendar = session.calendar()
        stack = evening_stack(session.job.house, year, calendar)
        day = calendar.label(stack.day * calendar.steps_per_day).rpartition(" ")[0]
        words = f"On {day}, up to {show(float(stack.total_w.max()), 'power_w', 1)}."
        result = session.fresh(session.chosen)
        if result is not None and result.facts.evening is not None:
            over = result.facts.evening.hours_over_h
            words += f" In the year {over:.0f} evening hours are over what plan {session.plan.letter}'s batteries carry."
        else:
            words += " The chosen plan has no battery to carry it."
        self.evening_words.setText(words)
        self._legend.show_rows(self._evening.show_stack(stack, evening_levels(plant_of(session.job, session.plan))))

    def _type_shares(self) -> None:
        self._put_shares((0.34, 0.33, 0.33))

    def _put_shares(self, shares: tuple[float, ...] | None) -> None:
        job = self._page.session.job
        house = job.house.model_copy(update={"background_lines_frac": shares})
        words = "The rest alike on each line" if shares is None else "How the rest lies on the lines"
        self._page.change(words, job.model_copy(update={"house": house}))


def line_words(row: LineFacts) -> str:
    """Return what a phase or leg carries, in one sentence."""
    text = (
        f"{row.name[:1].upper()}{row.name[1:]}: {show(row.energy_wh, 'energy_wh', 0)} a year, "
        f"up to {show(row.peak_w, 'power_w', 1)}; "
        f"the meter counts {show(row.import_wh, 'energy_wh', 0)} in and {show(row.export_wh, 'energy_wh', 0)} out on it"
    )
    if row.limit_va == 0.0:
        text += "; nothing is made there with the grid gone"
    elif row.limit_va is not None:
        text += (
            f"; with the grid gone {show(row.limit_va, 'apparent_va', 1)} is made there, "
            f"{row.over_h:.0f} h a year its backed-up loads are above"
        )
    return text + "."
