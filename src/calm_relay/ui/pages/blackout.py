"""Blackout: what happens when the grid goes, what stays on, how long it lasts from every hour of the year, and what starts."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtWidgets import QWidget

from calm_relay.ui.pages.drill_part import DrillPart
from calm_relay.ui.pages.parted import PartedPage
from calm_relay.ui.pages.ride_part import RidePart
from calm_relay.ui.pages.starts_part import StartsPart
from calm_relay.ui.pages.stays_part import StaysPart
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme


class BlackoutPage(PartedPage):
    """All of the chosen plan; what stays on is ticked here."""

    NAME: ClassVar[str] = "Blackout"
    PARTS: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drill", "What happens"), ("stays", "What stays on"), ("ride", "How long it lasts"), ("starts", "What starts"),
    )  # fmt: skip

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.stays, self.ride, self.starts = StaysPart(self), RidePart(self), StartsPart(self)
        self.drill = DrillPart(self, self.stays)
        self._parts = {"drill": self.drill, "stays": self.stays, "ride": self.ride, "starts": self.starts}
        session.plan_chosen.connect(self.refresh)

    def part_of(self, path: str) -> str:
        return "stays" if ".controls.island_" in path else "drill"
