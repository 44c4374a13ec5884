"""Decide: which plan leads by the brief's weights and why, all figures side by side, and twenty years of the chosen plan."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtWidgets import QWidget

from calm_relay.ui.pages.figures_part import FiguresPart
from calm_relay.ui.pages.lead_part import LeadPart
from calm_relay.ui.pages.standing import StandingPage
from calm_relay.ui.pages.years_part import YearsPart
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.plan_table import PlanTable


class DecidePage(StandingPage):
    """The plans together. Its figures are all of one state of the job, or all dimmed."""

    NAME: ClassVar[str] = "Plans side by side"
    PARTS: ClassVar[tuple[tuple[str, str], ...]] = (
        ("lead", "Which leads"), ("figures", "All figures"), ("years", "Twenty years"),
    )  # fmt: skip

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.lead, self.figures, self.years = LeadPart(self), FiguresPart(self), YearsPart(self)
        self._parts = {"lead": self.lead, "figures": self.figures, "years": self.years}

    def part_of(self, path: str) -> str:
        return "years" if path.startswith(("finance", "rebates")) else "lead"

    @property
    def table(self) -> PlanTable:
        """The table on screen."""
        return self.lead.table if self.part == "lead" else self.figures.table if self.part == "figures" else self.years.table
