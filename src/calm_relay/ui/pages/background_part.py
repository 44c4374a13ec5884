"""What is not listed as an appliance: a shape and totals, or a meter's year; which year of the house is shown."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from calm_relay.calendar import MONTH_DAYS
from calm_relay.job.house_models import ProfileLoad
from calm_relay.job.models import FieldMark
from calm_relay.job.plausible import AskingBack
from calm_relay.job.sources import typed_edits
from calm_relay.load.catalogue import HOUSEHOLDS, household_days, scaled_to_year, year_total_wh
from calm_relay.load.meter_files import read_meter
from calm_relay.load.profile import PUBLISHED, PUBLISHED_SOURCE
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.fields.reason import reason_label, show_reason
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.handed_in import Watch
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage

DAYS_PATH = "house.background.energy_wh_per_day"
SEASONS = (("heated", "heated by electricity in winter"), ("cooled", "cooled in summer"))
INVENTED = "This shape is ours and invented; a meter file, or the published household, stands on firmer ground."


class BackgroundPart:
    """The upper half of 'What it draws'; builds into the page."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.by_month = False
        self.year_total: QuantityField | None = None
        self.seasons = {"heated": True, "cooled": False}  # of the household one begins with

    def shape(self) -> object:
        house = self._page.session.job.house
        background = house.background
        if not isinstance(background, ProfileLoad):
            return background.kind
        return background.kind, background.shape, background.holds_listed, self.by_month

    def build(self) -> None:
        page, job = self._page, self._page.session.job
        background = job.house.background
        self.year_total = None
        if job.mark_of(DAYS_PATH) == "assumed" and not job.house.appliances:
            page.words(
                "Bring: a bill with the kWh of each month, and what runs in the evening. Type the day's kWh of each month, and say "
                "below whether listed appliances are part of it.",
                "teach",
            )
        if isinstance(background, ProfileLoad):
            page.heading("By totals and a shape", ("Read a meter file…", self._ask_meter))
            page.flow(page.cell("house.background.shape"), page.cell("house.background.seed", chars=6))
            page.flow(self._households(), *(self._season(key, words) for key, words in SEASONS))
            if self.by_month:
                page.month_row(DAYS_PATH, factors=MONTH_DAYS, caption="Everything else, a month")
            else:
                page.month_row(DAYS_PATH)
            page.flow(self._year_total(), self._as_months(), page.cell("house.background.holds_listed"))
            if background.shape == PUBLISHED:
                page.words(f"{PUBLISHED_SOURCE}; each month is scaled to its total.")
            elif background.shape != "flat":
                page.words(INVENTED)
        else:
            page.heading("As metered", ("Read a meter file…", self._ask_meter), ("Type totals instead", self.type_totals))
            page.words(f"{background.source or background.series.column}, every {background.series.step_s // 60} min.", "strong")
            page.words("Appliances below are taken as part of it, unless you say that they come on top.")

    def _year_total(self) -> QWidget:
        """A field for the year's total, as a bill has it: the months keep their shape and are scaled to it."""
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        name = label("Everything else, the year", "quiet")
        self.year_total = QuantityField("energy_wh", "Everything else, the year", self._take_total)
        why = reason_label()
        self.year_total.faulted.connect(lambda text: show_reason(why, text, self.year_total))
        name.setBuddy(self.year_total)
        for part in (name, self.year_total, why):
            column.addWidget(part)
        self._asking = AskingBack()
        self.show_figures()
        return holder

    def show_figures(self) -> None:
        """Show the year's total of what the months hold."""
        background = self._page.session.job.house.background
        if isinstance(background, ProfileLoad) and self.year_total is not None:
            self.year_total.show_value(year_total_wh(background.energy_wh_per_day))

    def _take_total(self, total_wh: float | None) -> None:
        session = self._page.session
        background = session.job.house.background
        if total_wh is None or not isinstance(background, ProfileLoad):
            return
        self._asking.check(DAYS_PATH, "energy_wh", total_wh / 365.0)
        days = scaled_to_year(background.energy_wh_per_day, total_wh)
        session.edit(f"Everything else, the year: {show(total_wh, 'energy_wh', 0)}", typed_edits(session.job, DAYS_PATH, days))

    def _as_months(self) -> QWidget:
        tick = QCheckBox("Type whole months, as a bill has them")
        tick.setChecked(self.by_month)
        tick.toggled.connect(self.type_months)
        return tick

    def type_months(self, on: bool) -> None:
        """Show and type the totals of months, or of their days; the job keeps days."""
        self.by_month = on
        self._page.refresh()

    def _season(self, key: str, words: str) -> QWidget:
        tick = QCheckBox(words)
        tick.setChecked(self.seasons[key])
        tick.toggled.connect(lambda on: self.seasons.update({key: on}))
        return tick

    def _households(self) -> QWidget:
        box = ClosedList()
        box.setAccessibleName("Begin with a household")
        box.addItem("Begin with a household…")
        for words, day_wh in HOUSEHOLDS:
            box.addItem(f"{words}, {show(day_wh, 'energy_wh')} a day")
        box.activated.connect(lambda i: self.take_household(*HOUSEHOLDS[i - 1]) if i > 0 else None)
        return box

    def take_household(self, words: str, day_wh: float) -> None:
        """Put a usual household's days in place, marked as assumed."""
        job = self._page.session.job
        days = household_days(day_wh, job.site.place.latitude_deg, **self.seasons)
        marks = (*(m for m in job.marks if m.path != DAYS_PATH), FieldMark(path=DAYS_PATH, source="assumed"))
        background = job.house.background.model_copy(update={"energy_wh_per_day": days})
        house = job.house.model_copy(update={"background": background})
        self._page.change(f"A household of {words}", job.model_copy(update={"house": house, "marks": marks}))

    # --- a meter
    def _ask_meter(self) -> None:
        path = self._page.session.dialogs.ask_file("Read a meter file", "Meter data (*.csv *.xml *.txt *.nem12);;All files (*)")
        if path is not None:
            self.read_meter(path)

    def read_meter(self, path: Path, year: int | None = None) -> None:
        """Read a meter file off the window's thread; what was found is shown before it becomes the house."""
        job = self._page.session.job

        def work(study: Callable[[], Study], watch: Watch) -> object:
            from calm_relay.decision.metered import take_meter

            return take_meter(study(), job, read_meter(path, job.site.place.time_zone, watch, year))

        self._page.session.read_file(path, work, lambda taken: self._meter_read(path, taken))

    def _meter_read(self, path: Path, taken: object) -> None:
        from calm_relay.ui.meter_dialog import MeterDialog

        session = self._page.session
        if isinstance(taken, Exception):
            session.problem.emit(str(taken))
            return
        dialog = MeterDialog(taken, self._page)  # type: ignore[arg-type]
        dialog.accepted.connect(lambda: self._take_meter(taken))
        dialog.rejected.connect(lambda: self.read_meter(path, dialog.year_asked) if dialog.year_asked is not None else None)
        session.dialogs.show(dialog)

    def _take_meter(self, taken: object) -> None:
        """Make a meter's gross load the house, as one named entry."""
        from calm_relay.decision.metered import Taken, with_meter

        assert isinstance(taken, Taken)
        session = self._page.session
        self._page.change(f"House from {taken.meter.file}", with_meter(session.store, session.job, taken))

    def type_totals(self) -> None:
        """Go back to totals and a shape, beginning with the metered days of each month."""
        session = self._page.session
        job, year = session.job, session.house_year()
        months: tuple[float, ...] = (9000.0,) * 12
        if year is not None:
            sums = session.calendar().by_month_wh(year.background_w)
            months = tuple(round(wh / days, 0) for wh, days in zip(sums, MONTH_DAYS, strict=True))
        house = job.house.model_copy(update={"background": ProfileLoad(energy_wh_per_day=months)})
        self._page.change("Type totals of the house", job.model_copy(update={"house": house}))
