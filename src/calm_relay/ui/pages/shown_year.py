"""The choice of the house's year: today, or one from which a load to come is there. Used by Brief and House."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox

from calm_relay.job.edits import Edit
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.session import Session


def shown_year_box(session: Session) -> QComboBox:
    """Return the choice, set to what the job shows; it holds the years that loads to come come in."""
    house = session.job.house
    box = ClosedList()
    box.setAccessibleName("The house of")
    box.addItem("The house of today", None)
    for year in sorted({y for y in (*(a.from_year for a in house.later), house.shown_year) if y is not None}):
        box.addItem(f"The house from {year} on", year)
    box.setCurrentIndex(max(0, box.findData(house.shown_year)))
    box.activated.connect(lambda i: session.edit(box.itemText(i), [Edit("house.shown_year", box.itemData(i))]))
    return box
