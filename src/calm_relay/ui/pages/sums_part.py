"""The trade's quick sums for the chosen plan, each with its arithmetic, and why the simulated year parts from them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QGridLayout, QWidget

from calm_relay.decision.house_sums import quick_sums
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.widgets import clear_layout, label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.load.sums import Sum
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel


class SumsTable(Copyable, QWidget):
    """The holder of the sums, which says them to who copies it."""

    def __init__(self) -> None:
        super().__init__()
        self.sums: tuple[Sum, ...] = ()
        self.setAccessibleName("Quick sums")

    def copy_rows(self) -> Rows:
        """Return every sum with its arithmetic."""
        rows = ([s.name, show(s.value, s.quantity), s.arithmetic, s.parts] for s in self.sums)
        return [["sum", "figure", "arithmetic", "beside the year"], *rows]


class SumsPart:
    """Words only: name, figure and the line that makes it."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        return self._page.session.chosen

    def build(self) -> None:
        page = self._page
        page.heading("Quick sums, before the year and beside it")
        self.peaks = page.words("")
        self._holder = SumsTable()
        self.grid = QGridLayout(self._holder)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(14)
        self.grid.setVerticalSpacing(3)
        self.grid.setColumnStretch(2, 1)
        page.add(self._holder)

    def show_figures(self) -> None:
        session = self._page.session
        job, plan = session.job, session.plan

        def work(study: Study, _: Cancel) -> object:
            facts = study.facts(job, plan)
            return study.peaks(job), quick_sums(job, plan, study.house(job), study.calendar(job), study.sun_up(job), facts)

        key = f"house sums {plan.id}"
        found = session.extra(key, work)
        kept = found or session.last_extra(key)
        self._holder.setEnabled(found is not None)
        if isinstance(kept, tuple):
            peaks, sums = kept
            words = (
                f"Highest minute {show(peaks.minute_w, 'power_w')}, {peaks.ratio:.2f} times the highest hour: an hour hides what "
            )
            words += "trips an inverter."
            if job.house.coarse_step_s is not None:
                words += f" What was metered every {job.house.coarse_step_s // 60} min hides its own: these peaks are lower bounds."
            self.peaks.setText(words)
            self._show(sums)

    def _show(self, sums: tuple[Sum, ...]) -> None:
        self._holder.sums = sums
        clear_layout(self.grid)
        row = 0
        for made, after in zip(sums, (*sums[1:], None), strict=True):
            figure = show(made.value, made.quantity, 1 if made.quantity in ("hours_h", "energy_wh") else None)
            self.grid.addWidget(label(f"{made.name[:1].upper()}{made.name[1:]}", wrap=True), row, 0)
            self.grid.addWidget(label(figure, "strong"), row, 1)
            self.grid.addWidget(label(made.arithmetic, "quiet", wrap=True), row, 2)
            row += 1
            if made.parts and (after is None or after.parts != made.parts):
                self.grid.addWidget(label(f"Beside the year: {made.parts}.", "quiet", wrap=True), row, 0, 1, 3)
                row += 1
