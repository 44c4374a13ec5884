"""Tariff & network: what energy costs by the hour of the week, what the network allows, and each plan's bill line by line."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QLineEdit, QPushButton, QTableWidget, QTableWidgetItem, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.errors import BadInput, Fault
from calm_relay.job.edits import Edit
from calm_relay.job.tariff_models import DemandCharge, Tariff, Tier
from calm_relay.tables.file_kind import FileKind
from calm_relay.tariff import paint
from calm_relay.tariff.growth import GROWTH_YEARS, yearly_totals
from calm_relay.tariff.price_file import PriceYear, Way, read_prices, with_prices
from calm_relay.tariff.templates import read_tariff, tariff_json, templates
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.pages.rules_part import build_rules
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.charts import MonthsChart
from calm_relay.ui.views.price_grid import PriceGrid, month_grid, period_color, week_grid
from calm_relay.ui.widgets import Swatch, clear_layout, label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.study import Study
    from calm_relay.tariff.bill import Bill
    from calm_relay.ui.runner import Cancel
    from calm_relay.ui.session import Session

OTHERS = (
    "export_price_per_kwh", "standing_per_day", "minimum_per_month", "tax_frac", "tax_on_export", "settlement_min", "credit_over",
    "import_growth_frac",
    "export_growth_frac",
)  # fmt: skip
TWO_PRICES = ("import_price_per_kwh", "cheap_price_per_kwh", "cheap_start_h", "cheap_end_h")
NETWORK = (
    ("site.export_limit_w", "no limit"), ("site.import_limit_w", "no limit"), ("site.supply.service_a", ""),
    ("site.supply.voltage_v", ""), ("site.network.dc_ac_ratio_max", "no rule"),
    ("site.network.rebate_dc_ac_ratio_max", "no rebate"),
)  # fmt: skip

ASKED = (("export_share_frac", "no rule"), ("dynamic_least_w", "never"), ("power_factor", ""))

COUNTED = {
    "sum_of_ac_ratings": ("sum_limit_w",), "by_kind": ("pv_limit_w", "battery_limit_w"), "registered_export": ("registered_w",),
}  # fmt: skip


class TariffPage(FieldPage):
    """Fields and painted grids; bills are the study's."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.season = ""
        self.brush = 0

    def shape(self) -> object:
        t = self.session.job.tariff
        return (
            tuple((p.id, p.name) for p in t.periods), tuple((s.id, s.name) for s in t.seasons), self._season_id(),
            t.demand is None, t.hourly_import is None, t.hourly_export is None, len(t.tiers), self.session.job.site.supply.kind,
            self.session.job.site.network.counting, repr(self.session.job.rules_data()),
        )  # fmt: skip

    def _season_id(self) -> str:
        ids = [s.id for s in self.session.job.tariff.seasons]
        return self.season if self.season in ids else (ids[0] if ids else "")

    def build(self) -> None:
        t = self.session.job.tariff
        self.title("Tariff & network", "Shared by all plans. Bills below are of the simulated year, at these prices.")
        self.heading(
            "Prices",
            ("Read a tariff file…", self.ask_tariff),
            ("Save it as a file…", self.save_tariff),
            ("Hourly prices…", self.ask_prices),
        )
        self.flow(self._templates(), self.cell("tariff.name", chars=26), self.cell("tariff.currency", chars=5))
        for way, words in (("import", "; the periods below do not hold for it"), ("export", "; no other export price holds")):
            if getattr(t, f"hourly_{way}") is not None:
                self.words(f"{way.capitalize()} is paid by the hour, from a series of 8760 prices{words}.", "caution")
                drop = partial(self.put, f"No hourly prices of {way}", {f"hourly_{way}": None})
                self.flow(self.button(f"No hourly prices of {way}", drop))
        if t.seasons:
            self._periods()
        else:
            self.flow(*(self.cell(f"tariff.{name}", chars=12 if name.endswith("kwh") else 8) for name in TWO_PRICES))
            self.flow(self.button("Paint a week of prices", lambda: self.take_change("Paint a week of prices", paint.with_week)))
        self.heading("What else is paid")
        three = ("netting",) if self.session.job.site.supply.kind == "three_phase" else ()
        self.flow(*(self.cell(f"tariff.{name}", chars=12 if name.endswith("kwh") else 8) for name in (*OTHERS, *three)))
        if t.demand is None:
            charge = DemandCharge(price_per_kw_month=5.0)
            self.flow(
                self.button("A charge on the month's peak", lambda: self.put("A charge on the month's peak", {"demand": charge}))
            )
        else:
            cells = [self.cell(f"tariff.demand.{n}", chars=8) for n in ("price_per_kw_month", "start_h", "end_h", "weekdays_only")]
            self.flow(*cells, self.button("No charge on the peak", lambda: self.put("No charge on the peak", {"demand": None})))
        self._tiers()
        self.heading("Network and supply")
        self.flow(*(self.cell(path, chars=9, ghost=ghost) for path, ghost in NETWORK), self.cell("site.supply.kind"))
        counted = [
            self.cell(f"site.network.{n}", chars=9, ghost="ask them") for n in COUNTED[self.session.job.site.network.counting]
        ]
        phase = self.cell("site.network.phase_limit_w", chars=9, ghost="no rule")
        self.flow(self.cell("site.network.counting"), *counted, phase)
        more = [self.cell(f"site.network.{name}", chars=9, ghost=ghost) for name, ghost in ASKED]
        self.flow(*more, self.cell("site.network.transfer_approved"))
        build_rules(self)
        self.heading("The year's bill, line by line")
        self._bill_words = self.words("")
        self.table = QTableWidget(0, 4)
        self.table.setAccessibleName("Lines of the chosen plan's bill")
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setTabKeyNavigation(False)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.add(self.table)
        self.heading("By month")
        self.bars = MonthsChart(self.theme, "Bill by month", "", self.session.job.tariff.currency)
        self.bars.set_theme(self.theme, self.scale)
        self.add(self.bars)
        self.bars_legend = QWidget()
        FlowLayout(self.bars_legend, gap=10, line_gap=2)
        self.add(self.bars_legend)
        self._month_words = self.words("")
        self._column.addStretch()

    def _templates(self) -> QWidget:
        box = ClosedList()
        box.setAccessibleName("Take a ready tariff")
        box.addItem("Take a ready tariff…")
        for tariff in templates():
            box.addItem(tariff.name)
        box.activated.connect(lambda i: self.take_ready(templates()[i - 1]) if i > 0 else None)
        return box

    def _periods(self) -> None:
        t = self.session.job.tariff
        brushes = QButtonGroup(self)
        ranks = self._ranks()
        for place, period in enumerate(t.periods):
            base = f"tariff.periods[{period.id}]"
            brush = QPushButton(f"Paint {place + 1}")
            brush.setCheckable(True)
            brush.setChecked(place == self.brush)
            brush.setAccessibleName(f"Paint with {period.name}")
            brush.clicked.connect(lambda _=False, p=place: self.choose_brush(p))
            brushes.addButton(brush)
            cells = [
                self.cell(f"{base}.{name}", chars=12, ghost="as below")
                for name in ("name", "import_price_per_kwh", "export_price_per_kwh")
            ]
            swatch = Swatch(str(place + 1), period_color(self.theme, ranks[place], len(t.periods)))
            remove = self.button(
                "Remove",
                lambda p=period.id: self.take_change("Remove a period", lambda x: paint.remove_period(x, p)),
                f"Remove {period.name}",
            )
            self.flow(swatch, *cells, brush, remove)
        self.flow(
            self.button("Add a period", lambda: self.take_change("Add a price period", paint.add_period)),
            self.button("Another season", lambda: self.take_change("Add a season", paint.add_season)),
            self.button("Back to two prices", lambda: self.take_change("Back to two prices", paint.without_week)),
        )
        self.week: PriceGrid = week_grid(self.theme, self.scale)
        self.week.painted.connect(self._painted)
        self.months: PriceGrid | None = None
        if len(t.seasons) > 1:
            group = QButtonGroup(self)
            buttons = []
            for season in t.seasons:
                button = QPushButton(season.name)
                button.setCheckable(True)
                button.setChecked(season.id == self._season_id())
                button.clicked.connect(lambda _=False, s=season.id: self._choose(s))
                group.addButton(button)
                buttons.append(button)
            self.flow(*buttons, self.cell(f"tariff.seasons[{self._season_id()}].name", chars=16))
            self.months = month_grid(self.theme, self.scale)
            self.months.brush = [s.id for s in t.seasons].index(self._season_id())
            self.months.painted.connect(lambda _rows, columns, choice: self._months_painted(columns, choice))
            self.add(self.months)
        self.words(
            "A week by the clock. Drag to paint with the brush; by keys: arrows, Shift takes in more, a digit puts that period in."
        )
        self.add(self.week)

    def _tiers(self) -> None:
        """Add the tiers of a month's import, and the days that are priced like a Sunday."""
        t = self.session.job.tariff
        for i in range(len(t.tiers)):
            cells = [self.cell(f"tariff.tiers[{i}].{n}", chars=12, ghost="all above") for n in ("up_to_wh", "add_per_kwh")]
            left = t.tiers[:i] + t.tiers[i + 1 :]
            remove = self.button("Remove", lambda rest=left: self.put("Remove a tier", {"tiers": rest}), f"Remove tier {i + 1}")
            self.flow(label(f"tier {i + 1}", "quiet"), *cells, remove)
        first = Tier(up_to_wh=300_000.0, add_per_kwh=0.0)
        more = (*t.tiers[:-1], first, *t.tiers[-1:]) if t.tiers else (Tier(add_per_kwh=0.05),)
        add = self.button("Add a tier of the month's import", lambda: self.put("Add a tier", {"tiers": more}))
        self.flow(add, self._holidays())

    def _holidays(self) -> QWidget:
        line = QLineEdit(", ".join(self.session.job.tariff.holidays))
        line.setAccessibleName("Holidays priced like a Sunday, month-day")
        line.setPlaceholderText("holidays like 12-25, 01-01")
        line.setFixedWidth(int(line.fontMetrics().averageCharWidth() * 34))
        line.editingFinished.connect(lambda: self.take_holidays(line.text()))
        return line

    def take_holidays(self, text: str) -> None:
        days = tuple(part for part in text.replace(",", " ").split() if part)
        if days == self.session.job.tariff.holidays:
            return
        try:
            self.session.edit(f"Holidays: {', '.join(days) or 'none'}", [Edit("tariff.holidays", days)])
        except BadInput as error:
            self.session.problem.emit(str(error))

    def _ranks(self) -> list[int]:
        """Return each period's place when sorted by import price."""
        periods = self.session.job.tariff.periods
        order = sorted(range(len(periods)), key=lambda i: periods[i].import_price_per_kwh)
        return [order.index(i) for i in range(len(periods))]

    # --- showing
    def show_figures(self) -> None:
        t = self.session.job.tariff
        if t.seasons:
            place = {p.id: i for i, p in enumerate(t.periods)}
            choices = list(zip((p.name for p in t.periods), self._ranks(), strict=True))
            season = next(s for s in t.seasons if s.id == self._season_id())
            self.week.brush = min(self.brush, len(t.periods) - 1)
            self.week.show_cells([[place[cell] for cell in day] for day in season.week], choices)
            if self.months is not None:
                self.months.show_cells([paint.season_of_month(t)], [(s.name, i) for i, s in enumerate(t.seasons)])
        self._show_bill()

    def _show_bill(self) -> None:
        session = self.session
        job, plan = session.job, session.plan

        def work(study: Study, _: Cancel) -> object:
            return study.bill_without_system(job)

        none = session.extra("no system", work)
        result = session.fresh(plan.id)
        self.table.setEnabled(result is not None)
        if result is None:
            return
        bill: Bill = result.bill
        which = "today's system" if plan.letter == "Today" else f"plan {plan.letter}"
        money = job.tariff.currency
        total = f"{which[:1].upper()}{which[1:]} pays {money} {show(bill.total, 'money')} a year"
        today = session.fresh(job.plans[0].id)
        parts = [total]
        months = [(which, bill.by_month, "accent")]
        if today is not None and plan.id != job.plans[0].id:
            parts.append(f"today's system {money} {show(today.bill.total, 'money')}")
            months.insert(0, ("today's system", today.bill.by_month, "grid"))
        if none is not None and hasattr(none, "total"):
            parts.append(f"no system at all {money} {show(float(none.total), 'money')}")
            months.insert(0, ("no system at all", none.by_month, "quiet"))  # type: ignore[attr-defined]
        self._show_months(months)
        growth = ""
        if job.tariff.import_growth_frac or job.tariff.export_growth_frac:
            years = yearly_totals(bill, job.tariff, GROWTH_YEARS)
            later = ", ".join(f"year {n} {money} {show(years[n - 1], 'money')}" for n in (10, GROWTH_YEARS))
            growth = f" As prices grow, {which} pays in {later}."
        self._bill_words.setText("; ".join(parts) + "." + growth)
        rows = [(line.name, show(line.amount, "money", 2), f"  {line.arithmetic}") for line in bill.lines]
        rows.append(("in all", show(bill.total, "money", 2), "  the lines above"))
        by_month = ", ".join(f"{month} {show(amount, 'money')}" for month, amount in zip(MONTHS, bill.by_month, strict=True))
        self._month_words.setText(f"{which[:1].upper()}{which[1:]}: {by_month}.")
        self.table.setColumnCount(3)
        self.table.setHorizontalHeaderLabels(["Line", "A year", "How it comes about"])
        self.table.setRowCount(len(rows))
        for i, texts in enumerate(rows):
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if column == 1:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(i, column, item)
        self.table.resizeColumnsToContents()
        self.table.horizontalHeader().setStretchLastSection(True)
        high = self.table.horizontalHeader().height() + sum(self.table.rowHeight(i) for i in range(len(rows))) + 10
        self.table.setFixedHeight(high)

    def _show_months(self, months: list[tuple[str, tuple[float, ...], str]]) -> None:
        """Show bills by month side by side, bars and legend in one order."""
        self.bars.show_months(months, per=1.0)
        self.bars.getAxis("left").setLabel(self.session.job.tariff.currency)
        layout = self.bars_legend.layout()
        assert layout is not None
        clear_layout(layout)
        for name, _, hue in months:
            layout.addWidget(Swatch(name, self.theme.color(hue)))

    # --- changing
    def put(self, words: str, update: dict[str, object]) -> None:
        job = self.session.job
        self.change(words, job.model_copy(update={"tariff": job.tariff.model_copy(update=update)}))

    def take_change(self, words: str, change: Callable[[Tariff], Tariff]) -> None:
        job = self.session.job
        self.change(words, job.model_copy(update={"tariff": change(job.tariff)}))

    def take_ready(self, tariff: Tariff) -> None:
        """Put a ready tariff in place; the currency stays."""
        kept = tariff.model_copy(update={"currency": self.session.job.tariff.currency})
        self.take_change(f"Tariff: {tariff.name}", lambda _: kept)

    def choose_brush(self, place: int) -> None:
        self.brush = place
        self.show_figures()

    def _choose(self, season: str) -> None:
        self.season = season
        self.refresh()

    def _painted(self, days: list[int], hours: list[int], choice: int) -> None:
        t = self.session.job.tariff
        period = t.periods[choice]
        words = f"{hours[0]} to {hours[-1] + 1} h: {period.name}"
        self.take_change(words, lambda x: paint.paint_hours(x, self._season_id(), days, hours, period.id))

    def _months_painted(self, columns: list[int], choice: int) -> None:
        season = self.session.job.tariff.seasons[choice]
        self.take_change(
            f"{MONTHS[columns[0]]}: {season.name}", lambda x: paint.paint_months(x, [c + 1 for c in columns], season.id)
        )

    def ask_tariff(self) -> None:
        path = self.session.dialogs.ask_file("Read a tariff file", "Tariff (*.json);;All files (*)")
        if path is not None:
            self.read_file(path)

    def read_file(self, path: Path) -> None:
        """Take a tariff from an open JSON file; raises BadInput with everything as it was."""
        tariff = read_tariff(path)
        self.take_change(f"Tariff from {path.name}", lambda _: tariff)

    def save_tariff(self) -> None:
        path = self.session.dialogs.ask_save_as("Save the tariff", "tariff.json", "Tariff (*.json)")
        if path is not None:
            try:
                path.write_text(tariff_json(self.session.job.tariff), encoding="utf-8")
            except OSError as error:
                problem = f"it cannot be written ({error.strerror})"
                raise BadInput([Fault(str(path), "", problem, "choose another folder")]) from error

    def take_file(self, path: Path, kind: FileKind) -> None:
        """Take a tariff or prices that were dropped on the window; a fault is told."""
        if kind == "prices":
            self.read_prices_file(path)
            return
        try:
            self.read_file(path)
        except BadInput as error:
            self.session.problem.emit(str(error))

    def ask_prices(self) -> None:
        path = self.session.dialogs.ask_file("Read hourly prices", "Prices (*.csv *.txt);;All files (*)")
        if path is not None:
            self.read_prices_file(path)

    def read_prices_file(self, path: Path) -> None:
        """Read hourly prices off the window's thread; what was found is shown before it is used."""
        job = self.session.job
        self.session.read_file(
            path,
            lambda _study, _watch: read_prices(path, job.site.place.time_zone, job.calendar_year),
            lambda made: self._prices_read(path, made),
        )

    def _prices_read(self, path: Path, made: object) -> None:
        from calm_relay.ui.price_dialog import PriceDialog

        if not isinstance(made, PriceYear):
            self.session.problem.emit(str(made))
            return
        dialog = PriceDialog(path.name, made, self)
        dialog.accepted.connect(lambda: self._take_prices(path, made, dialog.way))
        self.session.dialogs.show(dialog)

    def _take_prices(self, path: Path, made: PriceYear, way: Way | None) -> None:
        if way is not None:
            job = with_prices(self.session.store, self.session.job, made, way)
            self.put(f"Hourly prices from {path.name}", {n: getattr(job.tariff, n) for n in ("hourly_import", "hourly_export")})
