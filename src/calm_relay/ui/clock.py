"""The clock every page shares: one step of the year."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

STEPS_PER_DAY = 288
STEPS = 365 * STEPS_PER_DAY


class Clock(QObject):
    """A moment of the year, as a step of 5 min. `peak` shows each flow's own peak instead of a moment."""

    moved = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.step = 12 * 12
        self.placed = False  # whether anyone has moved it yet
        self.peak = False

    @property
    def day(self) -> int:
        """Day of the year from 0."""
        return self.step // STEPS_PER_DAY

    @property
    def in_day(self) -> int:
        """Step within the day."""
        return self.step % STEPS_PER_DAY

    def move(self, step: int) -> None:
        """Go to a step; the year wraps round."""
        step = step % STEPS
        if step != self.step or self.peak or not self.placed:
            self.step, self.peak, self.placed = step, False, True
            self.moved.emit()

    def move_day(self, day: int) -> None:
        """Go to a day at the same time."""
        self.move(day * STEPS_PER_DAY + self.in_day)

    def show_peak(self, on: bool) -> None:
        """Show each flow's own peak of the year, or the moment again."""
        if on != self.peak:
            self.peak = on
            self.moved.emit()
