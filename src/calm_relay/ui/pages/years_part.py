"""Twenty years of the chosen plan: its cash as a picture and a table, what ages and is replaced, and what that rests on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.decision.money_words import years_notes
from calm_relay.decision.priced import cost_words, each_module_words
from calm_relay.ui.views.cash_view import CashView
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.decision.twenty import PlanYear, TwentyYears
    from calm_relay.ui.pages.standing import StandingPage

COLUMNS: tuple[tuple[str, str], ...] = (
    ("today_bill", "Today's bill"), ("bill", "Its bill"), ("saving", "Saving"), ("upkeep", "Upkeep"), ("replaced", "Replaced"),
    ("later", "Later"), ("resilience", "Backup"), ("cash", "Cash"), ("running", "Running sum"),
)  # fmt: skip
MONEY = ("discount_frac", "first_year", "upkeep_per_year", "resilience_per_year", "co2_kg_per_kwh")
AGES = ("replace_batteries", "battery_end_frac", "battery_price_change_frac", "inverter_life_years")
SPREADS = ("sun_spread_frac", "load_spread_frac", "growth_spread_frac", "cases", "seed")


def _arithmetic(row: PlanYear) -> str:
    """Return how a year's cash comes about."""
    parts = [f"today's bill {show(row.today_bill, 'money')} − its bill {show(row.bill, 'money')}"]
    for amount, name in ((row.upkeep, "upkeep"), (row.replaced, "replaced"), (row.later, "later lines")):
        parts += [f"− {name} {show(amount, 'money')}"] if amount else []
    parts += [f"+ backup {show(row.resilience, 'money')}"] if row.resilience else []
    aged = f"; {show(row.aged, 'money')} of its bill by ageing and loads to come" if abs(row.aged) >= 0.5 else ""
    return f"{' '.join(parts)} = {show(row.cash, 'money')}{aged}"


class YearsPart:
    """The plan is the one whose tab is chosen; what is typed here holds for all plans."""

    table: PlanTable  # made when the part is first shown: a widget without a parent may be collected by the wrong thread

    def __init__(self, page: StandingPage) -> None:
        self._page = page
        self._shown: object = None

    def shape(self) -> object:
        return "years"

    def build(self) -> None:
        page = self._page
        session = page.session
        self.head = page.heading("", ("Costs…", lambda: session.command_asked.emit("costs")))
        self.cost = page.words("", "plain")
        self.view = CashView(page.theme, page.scale)
        page.add(self.view)
        self.notes = page.words("", "plain")
        self.table = PlanTable("Twenty years", page.theme, page.scale)
        page.add(self.table)
        told = page.words("", "strong")
        self.table.told.connect(told.setText)
        page.heading("What later years bring")
        page.flow(*(page.cell(f"finance.{name}", chars=9) for name in MONEY))
        page.flow(*(page.cell(f"finance.{name}", chars=9) for name in AGES))
        page.words("Energy prices grow by the tariff's own figures; loads to come are counted from their year on.")
        page.heading("Cases of the ranges")
        page.flow(*(page.cell(f"finance.{name}", chars=9) for name in SPREADS))
        self._shown = None

    def show_figures(self) -> None:
        page, session = self._page, self._page.session
        plan, standing = session.plan, page.standing()
        years = None if standing is None else standing.twenty.get(plan.id)
        self.head.setText(f"{plan.letter}  {plan.name}")
        words = [cost_words(session.job, plan), each_module_words(session.job, plan)]
        self.cost.setText(" ".join(word for word in words if word))
        for widget in (self.view, self.table, self.notes):
            widget.setEnabled(years is not None)
        if years is None:
            self.notes.setText(page.progress_words() or "Twenty years are being worked out.")
            self._shown = None
            return
        if self._shown is years:
            return
        self._shown = years
        self.view.setVisible(years.first_cost is not None)
        self.view.show_years(years)
        self.notes.setText("\n".join(years_notes(years, session.job.tariff.currency)))
        self.table.show_rows([name for _, name in self._columns(years)], self._rows(years))

    @staticmethod
    def _columns(years: TwentyYears) -> list[tuple[str, str]]:
        """Return the columns that say something."""
        always = ("today_bill", "bill", "saving", "cash", "running")
        return [(key, name) for key, name in COLUMNS if key in always or any(getattr(row, key) for row in years.years)]

    def _rows(self, years: TwentyYears) -> list[Row]:
        columns = self._columns(years)
        out = []
        for row in years.years:
            how = _arithmetic(row)
            cells = tuple(
                Cell(
                    "–" if key == "running" and years.first_cost is None else show(getattr(row, key), "money", 0),
                    tip=how if key == "cash" else "",
                )
                for key, _ in columns
            )
            mark = " ·" if row.year in years.simulated else ""
            tip = "simulated" if mark else "between two years that are simulated"
            out.append(Row(f"{row.calendar_year}, year {row.year}{mark}", cells, tip=tip))
        return out
