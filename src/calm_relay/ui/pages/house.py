"""House in four parts: what it draws, its year, what carries it, and the trade's quick sums."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QWidget

from calm_relay.tables.file_kind import FileKind
from calm_relay.ui.pages.appliances_part import AppliancesPart
from calm_relay.ui.pages.carries_part import CarriesPart
from calm_relay.ui.pages.house_year_part import HouseYearPart
from calm_relay.ui.pages.parted import PartedPage
from calm_relay.ui.pages.sums_part import SumsPart
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme

WEEK_MS = 30  # the clock is dragged over many days: the last is drawn


class HousePage(PartedPage):
    """Fields of the house, shared by all plans; limits drawn in are those of the chosen plan."""

    NAME = "House"
    PARTS = (
        ("draws", "What it draws"),
        ("year", "Its year"),
        ("carries", "What carries it"),
        ("sums", "Quick sums"),
    )

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.draws, self.year = AppliancesPart(self), HouseYearPart(self)
        self.carries, self.sums = CarriesPart(self), SumsPart(self)
        self._parts = {"draws": self.draws, "year": self.year, "carries": self.carries, "sums": self.sums}
        self._soon = QTimer(self, singleShot=True, interval=WEEK_MS)
        self._soon.timeout.connect(self._follow_clock)
        session.clock.moved.connect(self._clock_moved)

    def note(self) -> str:
        if self.part == "draws":
            return "What the house draws, the same for all plans."
        if self.part == "year":
            return "The house as it draws in the chosen plan."
        return "The house against the plan chosen above."

    def part_of(self, path: str) -> str:
        return "carries" if path.startswith("house.background_lines") else "draws"

    def focus_path(self, path: str) -> bool:
        """Choose the appliance a path belongs to, then its field."""
        if path.startswith("house.appliances["):
            self.draws.chosen = path.partition("[")[2].partition("]")[0]
        return super().focus_path(path)

    def take_file(self, path: Path, _kind: FileKind) -> None:
        """Read a meter file that was dropped on the window."""
        self.show_part("draws")
        self.draws.background.read_meter(path)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._shape is not None and self.part == "draws":
            self.draws.turn()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._clock_moved()

    def _clock_moved(self) -> None:
        if self._shape is not None and self.isVisible() and self.part == "year":
            self._soon.start()

    def _follow_clock(self) -> None:
        if self.part == "year":
            self.year.show_week()
