"""How long an outage is survived: the share of starts by month and length, from the charge the year has at each hour."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.calendar import MONTHS
from calm_relay.errors import CalmRelayError
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.ui.widgets import label

if TYPE_CHECKING:
    from calm_relay.job.models import Job
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel

SERVES = (("what must stay on alone", "essential"), ("all that is backed up", "backed_up"))


class RidePart:
    """A month a row, a length a column; the bar is the share of that month's hours from which the length is survived."""

    table: PlanTable  # made when the part is first shown

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.serve = "essential"
        self._asked: tuple[str, Job] | None = None
        self._asked_help: tuple[str, Job] | None = None

    def shape(self) -> object:
        return self._page.session.plan.id

    def build(self) -> None:
        page = self._page
        plan = page.session.plan
        page.heading(f"{plan.letter}  {plan.name}")
        self.said = page.words("", "plain")
        box = ClosedList()
        box.setAccessibleName("What is served")
        for words, key in SERVES:
            box.addItem(words, key)
        box.setCurrentIndex(max(0, box.findData(self.serve)))
        box.activated.connect(lambda i: self._set(box.itemData(i)))
        name = label("Served is")
        name.setBuddy(box)
        self.more = page.button("What would survive more?", self._ask)
        self.help = page.button("With generator and shedding?", self._ask_help)
        page.flow(name, box, self.help, self.more)
        self.helped = page.words("", "plain")
        self.reached = page.words("", "plain")
        self.table = PlanTable("Share of starts that survive, by month and length", page.theme, page.scale, least_chars=6)
        page.add(self.table)
        page.words(
            "Every hour of the year is taken as the start of an outage, with the charge the year has then; it is survived until "
            "the first energy goes unserved, and a restart does not count. Means of five minutes: trips by short peaks are in the "
            "drill. Loads that batteries never feed stay off."
        )

    def _ask(self) -> None:
        self._asked = self._page.session.plan.id, self._page.session.job
        self._page.refresh()

    def _ask_help(self) -> None:
        self._asked_help = self._page.session.plan.id, self._page.session.job
        self._page.refresh()

    def _set(self, key: str) -> None:
        self.serve = key
        self._page.refresh()

    def show_figures(self) -> None:
        session = self._page.session
        plan, job = session.plan, session.job

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.outages import ride_through_of
            from calm_relay.report.outage import ride_data

            return ride_data(study, job, plan, ride_through_of(study, job, plan, cancelled))

        found = session.extra(f"ride-through {plan.id}", work) if session.fresh(plan.id) is not None else None
        self.table.setVisible(isinstance(found, dict))
        if isinstance(found, CalmRelayError):
            self.said.setText(f"{str(found)[:1].upper()}{str(found)[1:]}.")
        elif isinstance(found, dict):
            self.said.setText("\n".join(found["words"]))
            shares = found[self.serve]["survived_by_month_frac"]
            rows = [
                Row(MONTHS[m], tuple(Cell(f"{row[m] * 100:.0f} %", row[m], "battery") for row in shares.values()))
                for m in range(12)
            ]
            whole = found[self.serve]["survived_frac"]
            rows.append(Row("the year", tuple(Cell(f"{v * 100:.0f} %", v, "battery") for v in whole.values()), head=True))
            self.table.show_rows([f"{hours} h" for hours in shares], rows)
        else:
            self.said.setText("8,760 outages are being run.")
        self._show_helped()
        self._show_reach()

    def _show_helped(self) -> None:
        """Show what the plan's generator and loads that go off by charge add, where it was asked for."""
        session = self._page.session
        plan, job, asked = session.plan, session.job, self._asked_help
        self.helped.setVisible(asked is not None and asked[0] == plan.id and asked[1] is job)
        if asked is None or asked[0] != plan.id or asked[1] is not job or session.fresh(plan.id) is None:
            return

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.outages import helped_ride, ride_through_of
            from calm_relay.report.outage import helped_words, helps

            if not helps(job, plan):
                return [f"Plan {plan.letter} has neither a generator with automatic start nor loads that go off by charge."]
            alone = ride_through_of(study, job, plan, cancelled)["backed_up"]
            return helped_words(study, job, plan, alone, helped_ride(study, job, plan, cancelled))

        found = session.extra(f"helped {plan.id}", work)
        if isinstance(found, CalmRelayError):
            self.helped.setText(f"{str(found)[:1].upper()}{str(found)[1:]}.")
        else:
            self.helped.setText("\n".join(found) if isinstance(found, list) else "Outages with help are being run.")

    def _show_reach(self) -> None:
        session = self._page.session
        plan, job = session.plan, session.job
        if self._asked is None or self._asked[0] != plan.id or self._asked[1] is not job or session.fresh(plan.id) is None:
            self.reached.setText("")
            return

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.reach import reach

            return reach(study, job, plan, cancelled)

        found = session.extra(f"reach {plan.id}", work)
        if isinstance(found, CalmRelayError):
            self.reached.setText(f"{str(found)[:1].upper()}{str(found)[1:]}.")
        else:
            said: list[str] = [] if found is None else found.words  # type: ignore[attr-defined]
            self.reached.setText("\n".join(said) or "More modules, reserve, PV and fewer loads are being run.")
