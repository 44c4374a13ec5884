"""What starts with the grid gone: the largest motor start against the inverters' peak and the battery's own limit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.ui.views.limit_bars import LimitBar, LimitBars
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage

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

    def show_figures(self) -> None:
        session = self._page.session
        result = session.fresh(session.plan.id)
        found = [f for f in result.findings if f.check in STARTS] if result is not None else []
        rows = [
            LimitBar(
                f"{f.short}: {f.subject}", f"{show(f.value, f.quantity)} of {show(f.limit, f.quantity)}, {f.word}", f.value, f.limit
            )
            for f in found
            if f.value is not None and f.limit is not None
        ]
        self.bars.setVisible(bool(rows))
        self.bars.show_bars(rows)
        said = [f"{f.title}: {f.arithmetic}." for f in found]
        nothing = "No motor is backed up, or nothing forms a grid." if result is not None else "The checks are being run."
        self.words.setText("\n".join(said) or nothing)
