"""A battery's charge as a picture: bands by month, another plan's median dashed; or what a charge window began and ended with."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Qt

from calm_relay.calendar import MONTH_DAYS, MONTHS
from calm_relay.ui.theme import mixed
from calm_relay.ui.views.charts import Chart
from calm_relay.year.charge import ChargeBand, WindowYear


def _percent(values: Sequence[float]) -> list[str]:
    return [f"{100 * v:.1f}" for v in values]


class ChargeChart(Chart):
    """Percent of capacity over the months or the days of the year."""

    def show_bands(self, bands: Sequence[ChargeBand], other: Sequence[ChargeBand] = ()) -> None:
        """Draw lowest to highest, the middle four fifths darker, and the median; of another plan the median alone."""
        self.clear()
        heads = ["month", "lowest, %", "a tenth below, %", "median, %", "nine tenths below, %", "highest, %"]
        columns = [list(MONTHS), *(_percent([getattr(b, name) for b in bands]) for name in vars(bands[0]))]
        if other:
            heads.append("other plan's median, %")
            columns.append(_percent([b.median_frac for b in other]))
        self.say(lambda: (heads, columns))
        paper, ink = self._theme.color("panel"), self._theme.color("battery")
        x = np.repeat(np.arange(13, dtype=float) - 0.5, 2)[1:-1]

        def steps(name: str, rows: Sequence[ChargeBand]) -> np.ndarray:
            return np.repeat([100.0 * getattr(row, name) for row in rows], 2)

        self.area(x, steps("lowest_frac", bands), steps("highest_frac", bands), mixed(paper, ink, 0.25))
        self.area(x, steps("tenth_frac", bands), steps("nine_tenths_frac", bands), mixed(paper, ink, 0.6))
        self.curve(x, steps("median_frac", bands), self._theme.color("ink"), 2.0)
        if other:
            self.curve(x, steps("median_frac", other), self._theme.color("house"), 2.0, Qt.PenStyle.DashLine)
        self._frame(-0.5, 11.5, [(float(i), name) for i, name in enumerate(MONTHS)])

    def show_window(self, w: WindowYear) -> None:
        """Draw for each day from the charge before to the charge after, and the target."""
        self.clear()
        columns = [str(d) for d in w.day], _percent(w.begins_frac.tolist()), _percent(w.ends_frac.tolist())
        self.say(lambda: (("day of the year", "before, %", "after, %"), columns))
        ink = self._theme.color("battery")
        day = w.day.astype(float)
        x, low, high = (
            np.column_stack(part).ravel()
            for part in (
                (day - 1.0, day - 0.05),
                (100.0 * w.begins_frac, 100.0 * w.begins_frac),
                (100.0 * w.ends_frac, 100.0 * w.ends_frac),
            )
        )
        gaps = np.flatnonzero(np.diff(day) > 1) + 1  # seasons in which the slot does not hold
        for part in np.split(np.arange(len(day)), gaps):
            here = slice(2 * part[0], 2 * part[-1] + 2)
            self.area(x[here], np.minimum(low[here], high[here]), np.maximum(low[here], high[here]), ink)
        self.level(100.0 * w.target_frac, "target", "over")
        middles = np.cumsum(MONTH_DAYS) - np.array(MONTH_DAYS) / 2.0
        self._frame(0.0, 365.0, [(float(at), name) for at, name in zip(middles, MONTHS, strict=True)])

    def _frame(self, low: float, high: float, ticks: list[tuple[float, str]]) -> None:
        self.setXRange(low, high, padding=0)
        self.setYRange(0, 105, padding=0)
        self.getAxis("bottom").setTicks([ticks, []])
