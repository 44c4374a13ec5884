"""What starts with the grid gone: the largest motor start against the inverters' peak and the battery's own limit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.decision.brief import essential_mean_w
from calm_relay.errors import CalmRelayError
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.checks_motor import start_rows
from calm_relay.rules.registry import CheckContext
from calm_relay.ui.views.limit_bars import LimitBar, LimitBars
from calm_relay.units import format_quantity as show
from calm_relay.year.pv_island import island_words, pv_island

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage

LEAST_W = 100.0
STARTS = ("backup.motor-start", "backup.start-from-battery", "backup.offgrid-power", "backup.line-power")


class StartsPart:
    """The checks of starts and of what runs all day, as bars against their limits, each with its arithmetic."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        return self._page.session.plan.id

    def build(self) -> None:
        page = self._page
        plan = page.session.plan
        page.heading(f"{plan.letter}  {plan.name}")
        self.bars = LimitBars("Starts", page.theme, page.scale)
        page.flow(self.bars)
        self.words = page.words("", "plain")
        page.heading("The sun with the grid gone")
        self.sun = page.words("", "plain")
        page.words("A raised frequency also speeds motors and clocks, and some uninterruptible supplies refuse it.", "caution")

    def show_figures(self) -> None:
        session = self._page.session
        result = session.fresh(session.plan.id)
        found = [f for f in result.findings if f.check in STARTS] if result is not None else []
        job, plan = session.job, session.plan
        rows = [
            LimitBar(
                f"{row.name}{f', {row.line}' if row.line else ''}, {row.way}",
                f"{show(row.value, row.quantity)} of {show(row.limit, row.quantity)}, {row.of}", row.value, row.limit,
            )
            for row in start_rows(CheckContext(job, plan, job.cards(), None, advise=False))
        ]  # fmt: skip
        self.bars.setVisible(bool(rows))
        self.bars.show_bars(rows)
        said = [f"{f.title}: {f.arithmetic}." for f in found]
        nothing = "No motor is backed up, or nothing forms a grid." if result is not None else "The checks are being run."
        self.words.setText("\n".join(said) or nothing)
        self.sun.setText("\n".join(self._sun()))

    def _sun(self) -> list[str]:
        job, plan = self._page.session.job, self._page.session.plan
        try:
            island = pv_island(plant_of(job, plan), job.rules())
        except CalmRelayError as error:
            return [f"{str(error)[:1].upper()}{str(error)[1:]}."]
        if island is None:
            return ["No AC-coupled PV stands behind the transfer device: what stands before it is dead in an outage."]
        return island_words(island, max(LEAST_W, essential_mean_w(job.house)))
