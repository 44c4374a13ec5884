"""What was found in a meter file, to be looked at before it becomes the house."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QWidget

from calm_relay.decision.metered import Taken
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.found_dialog import FoundDialog
from calm_relay.units import format_quantity as show


class MeterDialog(FoundDialog):
    """Accepted when the user takes what was guessed as right; `year_asked` is another year of the file, where one was chosen."""

    def __init__(self, taken: Taken, parent: QWidget | None = None) -> None:
        meter = taken.meter
        question = f"{meter.format}, {meter.year}, every {meter.interval_s // 60} min. Is this what the file means?"
        super().__init__("A meter file", meter.file, question, parent)
        self.year_asked: int | None = None
        self.years = ClosedList()
        if len(meter.years) > 1:
            self.years.setAccessibleName("Year of the file")
            self.years.addItem("Another year of the file…", None)
            for year in meter.years:
                self.years.addItem(f"The calendar year {year}", year)
            self.years.activated.connect(self._another)
            self.column.addWidget(self.years)
        rows = [*meter.guesses]
        for name, watts in meter.power_w.items():
            rows.append((name, f"{show(meter.year_wh(name), 'energy_wh', 0)} a year, up to {show(float(watts.max()), 'power_w')}"))
        gross = float(taken.gross.power_w.sum()) * meter.interval_s / 3600.0
        low, high = (float(w.sum()) * meter.interval_s / 3600.0 for w in (taken.gross.low_w, taken.gross.high_w))
        rows.append(("the house", f"{show(gross, 'energy_wh', 0)} a year: {taken.gross.how}"))
        if high - low > 0.01 * gross:
            rows.append(("what netting leaves open", f"between {show(low, 'energy_wh', 0)} and {show(high, 'energy_wh', 0)}"))
        self.use = self.answer("Make it the house", accepts=True)
        self.show_found(rows, (*meter.notes, *taken.gross.notes))

    def _another(self, index: int) -> None:
        """Close, so that another year of the file is read."""
        self.year_asked = self.years.itemData(index)
        if self.year_asked is not None:
            self.done(QDialog.DialogCode.Rejected)
