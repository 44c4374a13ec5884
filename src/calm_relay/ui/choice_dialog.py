"""Choosing a plan: which, and the reason that is logged with it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from calm_relay.decision.choosing import Verdict
from calm_relay.decision.chosen import LEAST_REASON
from calm_relay.decision.compare import PlanRow
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.line import Line
from calm_relay.ui.widgets import label


class ChoiceDialog(QDialog):
    """Accepted with `plan_id` and `reason`; a plan whose gate is closed can be chosen, and the dialog says what that means."""

    def __init__(self, rows: Sequence[PlanRow], verdict: Verdict, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Choose a plan")
        self._rows = tuple(rows)
        column = QVBoxLayout(self)
        column.addWidget(label("Which plan is it to be?", "heading"))
        self.box = ClosedList()
        self.box.setAccessibleName("Plan")
        for row in rows:
            self.box.addItem(f"{row.letter}  {row.name}", row.plan_id)
        lead = verdict.leader.row.plan_id if verdict.leader is not None else rows[-1].plan_id
        self.box.setCurrentIndex(max(0, self.box.findData(lead)))
        column.addWidget(self.box)
        self.gate = label("", "caution", wrap=True)
        column.addWidget(self.gate)
        name = label("Why (kept with the job, its date and the figures of today)")
        column.addWidget(name)
        self.line = Line()
        self.line.setAccessibleName("Why")
        self.line.setMaxLength(400)
        name.setBuddy(self.line)
        column.addWidget(self.line)
        self.buttons = QDialogButtonBox()
        self.take = self.buttons.addButton("Choose it", QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self.box.currentIndexChanged.connect(lambda _: self._follow())
        self.line.textChanged.connect(lambda _: self._follow())
        self._follow()
        self.setMinimumWidth(int(self.fontMetrics().averageCharWidth() * 70))

    @property
    def plan_id(self) -> str:
        """The plan that is marked."""
        return str(self.box.currentData())

    @property
    def reason(self) -> str:
        """The reason as typed."""
        return self.line.text().strip()

    def _follow(self) -> None:
        row = self._rows[self.box.currentIndex()]
        self.gate.setText(f"Its gate is closed: {row.gate}. It is not to be recommended as it stands." if row.gate else "")
        self.gate.setVisible(bool(row.gate))
        self.take.setEnabled(len(self.reason) >= LEAST_REASON)
