"""What the chosen plan costs to build, line by line: each typed in place, one named undo each."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.decision.priced import cost_words, equipment_words
from calm_relay.errors import BadInput
from calm_relay.job.costs import costs_are_stale, equipment
from calm_relay.job.edits import Edit
from calm_relay.job.models import Plan
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import clear_layout, close_row, label

MOST_LINES = 60


class CostsDialog(QDialog):
    """Every field is the document's own; the sum and what it says of the plan follow at once."""

    def __init__(self, session: Session, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._plan_id = session.chosen
        self.setWindowTitle("Costs")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{session.plan.letter}  What it costs to build", "heading"))
        column.addWidget(label(equipment_words(session.job, session.plan), "quiet", wrap=True))
        self._holder = QWidget()
        self._inner = QVBoxLayout(self._holder)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self._holder)
        area.setAccessibleName("Costs")
        column.addWidget(area, 1)
        self.sum = label("", "heading", wrap=True)
        column.addWidget(self.sum)
        self.hold = QPushButton("They hold for what stands &now")
        self.hold.setAutoDefault(False)
        self.hold.clicked.connect(lambda _=False: self._edit("Costs hold for what stands now", [self._noted()]))
        column.addWidget(self.hold)
        column.addWidget(close_row(self))
        self.cells: dict[str, FieldCell] = {}
        self._built: object = None
        session.job_changed.connect(self._follow)
        self._follow()
        self.resize(min(round(760 * scale), 1100), min(round(480 * scale), 700))

    def _plan(self) -> Plan | None:
        return next((p for p in self.session.job.plans if p.id == self._plan_id), None)

    def _follow(self) -> None:
        """Build anew where there are other lines, else bring the fields up to date; closes where the plan is gone."""
        plan = self._plan()
        if plan is None:
            self.reject()
            return
        shape = len(plan.costs)
        if shape != self._built:
            self._built = shape
            self._build(plan)
        for cell in self.cells.values():
            cell.refresh()
        self.sum.setText(cost_words(self.session.job, plan))
        self.hold.setVisible(costs_are_stale(plan))

    def _build(self, plan: Plan) -> None:
        self.cells = {}
        clear_layout(self._inner)
        for i, line in enumerate(plan.costs):
            base = f"plans[{plan.id}].costs[{i}]"
            remove = QPushButton("Remove")
            remove.setAccessibleName(f"Remove {line.text}")
            remove.setAutoDefault(False)
            remove.clicked.connect(lambda _=False, k=i: self._remove(k))
            self._line(self._cell(f"{base}.text", 34), self._cell(f"{base}.amount", 10), remove)
        if not plan.costs:
            self._inner.addWidget(label("No line yet: without any, nothing is said of what pays.", wrap=True))
        self.add_button = QPushButton("&Add a line")
        self.add_button.setAutoDefault(False)
        self.add_button.setEnabled(len(plan.costs) < MOST_LINES)
        self.add_button.clicked.connect(lambda _=False: self._add())
        self._line(self.add_button)
        self._inner.addStretch()

    def _line(self, *cells: QWidget) -> None:
        holder = QWidget()
        flow = FlowLayout(holder)
        for cell in cells:
            flow.addWidget(cell)
        self._inner.addWidget(holder)

    def _cell(self, path: str, chars: int) -> FieldCell:
        made = FieldCell(self.session, path, chars=chars)
        self.cells[path] = made
        return made

    # --- changes
    def _noted(self) -> Edit:
        plan = self._plan()
        assert plan is not None
        return Edit(f"plans[{plan.id}].costs_for", equipment(plan))

    def _edit(self, words: str, edits: list[Edit]) -> None:
        try:
            self.session.edit(words, edits)
        except BadInput as error:
            self.session.problem.emit(str(error))

    def _add(self) -> None:
        plan = self._plan()
        assert plan is not None
        first = [] if plan.costs else [self._noted()]
        line = {"text": f"Line {len(plan.costs) + 1}", "amount": 0.0}
        self._edit("Add a cost line", [Edit(f"plans[{plan.id}].costs[+]", line), *first])
        cell = self.cells.get(f"plans[{plan.id}].costs[{len(plan.costs)}].text")
        if cell is not None:
            cell.editor.setFocus()

    def _remove(self, index: int) -> None:
        plan = self._plan()
        assert plan is not None
        rows = [line.model_dump() for i, line in enumerate(plan.costs) if i != index]
        self._edit("Remove a cost line", [Edit(f"plans[{plan.id}].costs", rows)])
