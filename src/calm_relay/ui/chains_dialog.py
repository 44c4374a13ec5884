"""The chains of the chosen plan: each battery's links from cell to bus, the weakest, room to grow, and what each way loses."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from calm_relay.report.chains import USUAL_W, battery_chains
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.chain_view import ChainView
from calm_relay.ui.widgets import close_row, label


class ChainsDialog(QDialog):
    """Shows; it changes nothing. The power at which the ways are reckoned can be typed."""

    def __init__(self, session: Session, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self._watts = session, USUAL_W
        plan = session.plan
        self.setWindowTitle("Chains from cell to bus")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{plan.letter}  Chains from cell to bus", "heading"))
        note = "A chain carries what its weakest link lets through. A way's figure holds from the one end to the other, as named."
        column.addWidget(label(note, "quiet", wrap=True))
        row = QHBoxLayout()
        column.addLayout(row)
        caption = label("Ways, with so much arriving at the load", "quiet")
        self.power = QuantityField("power_w", "Power arriving at the load", self._take, chars=9)
        caption.setBuddy(self.power)
        row.addWidget(caption)
        row.addWidget(self.power)
        row.addStretch()
        self.view = ChainView(theme, scale)
        area = QScrollArea()
        area.setWidget(self.view)
        area.setAccessibleName("Chains")
        column.addWidget(area, 1)
        column.addWidget(close_row(self))
        self.power.show_value(self._watts)
        self._show()
        self.resize(min(self.view.width() + 60, 1180), min(self.view.height() + 190, 720))

    def _take(self, value: float | None) -> None:
        if value is not None and 0 < value <= 1e6:
            self._watts = value
        self.power.show_value(self._watts)
        self._show()

    def _show(self) -> None:
        self.view.show_chains(battery_chains(self.session.job, self.session.plan, self._watts))
