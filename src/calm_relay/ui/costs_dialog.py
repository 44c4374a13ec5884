"""What the chosen plan costs to build, line by line, and the job's rebates: each typed in place, one named undo each."""

from __future__ import annotations

from datetime import date

from PySide6.QtWidgets import QDialog, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.decision.priced import cost_words, each_module_words, equipment_words
from calm_relay.errors import BadInput
from calm_relay.job.costs import costs_are_stale, equipment
from calm_relay.job.edits import Edit
from calm_relay.job.models import Plan
from calm_relay.money.costing import PlanCosts, plan_costs
from calm_relay.money.price_list import PriceList, keep_price_list, kept_price_list
from calm_relay.money.ready import ready_lines, repriced
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.rebates_part import RebatesPart
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import clear_layout, close_row, label
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

MOST_LINES = 60
SHORT = 18  # letters of a card shown in a line
KINDS = "Price lists (*.csv *.xlsx);;All files (*)"


def _short(name: str) -> str:
    return name if len(name) <= SHORT else f"{name[: SHORT - 1].rstrip()}…"


class CostsDialog(QDialog):
    """Every field is the document's own; the sum and what it says of the plan follow at once."""

    def __init__(self, session: Session, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._plan_id = session.chosen
        self.setWindowTitle("Costs")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{session.plan.letter}  What it costs to build", "heading"))
        self._holds = label("", "quiet", wrap=True)
        column.addWidget(self._holds)
        self._holder = QWidget()
        self._inner = QVBoxLayout(self._holder)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self._holder)
        area.setAccessibleName("Costs")
        column.addWidget(area, 1)
        self.sum = label("", "strong", wrap=True)
        column.addWidget(self.sum)
        self.hold = self.push("They hold for what stands &now", self._hold)
        column.addWidget(self.hold)
        column.addWidget(close_row(self))
        self.cells: dict[str, FieldCell] = {}
        self._sums: list[QLabel] = []
        self.rebates = RebatesPart(self)
        self._built: object = None
        session.job_changed.connect(self._follow)
        self._follow()
        most = 1240 if parent is None else max(640, parent.window().width())
        self.resize(min(round(1190 * scale), most), min(round(620 * scale), 740))

    def plan(self) -> Plan | None:
        """Return the plan as it stands; None where it is gone."""
        return next((p for p in self.session.job.plans if p.id == self._plan_id), None)

    def _follow(self) -> None:
        """Build anew where there are other lines, else bring the fields up to date; closes where the plan is gone."""
        plan = self.plan()
        if plan is None:
            self.reject()
            return
        cards = tuple(equipment(plan))
        shape = tuple((line.basis, line.kind == "taken_out") for line in plan.costs), cards, self.rebates.shape()
        if shape != self._built:
            self._built = shape
            self._build(plan)
        for cell in self.cells.values():
            cell.refresh()
        job = self.session.job
        costs = plan_costs(job, plan)
        self._holds.setText(equipment_words(job, plan))
        for line, words in zip((ln for ln in costs.lines if ln.index is not None), self._sums, strict=False):
            how = "" if line.unit == "" else line.arithmetic
            words.setText(" · ".join(part for part in (line.why or how, line.source) if part))
        self._without.setText(self._unlisted(costs))
        self._without.setVisible(bool(self._without.text()))
        self.rebates.follow(costs)
        self.sum.setText(" ".join(words for words in (cost_words(job, plan), each_module_words(job, plan)) if words))
        self.hold.setVisible(costs_are_stale(plan))

    @staticmethod
    def _unlisted(costs: PlanCosts) -> str:
        rows = [line for line in costs.lines if line.index is None]
        said = [f"{line.text}: {line.arithmetic if line.amount is None else show(line.amount, 'money')}" for line in rows]
        return "; ".join(said)

    def _build(self, plan: Plan) -> None:
        for cell in self.cells.values():
            cell.editor.blockSignals(True)
        self.cells, self._sums = {}, []
        clear_layout(self._inner)
        for i, line in enumerate(plan.costs):
            base = f"plans[{plan.id}].costs[{i}]"
            remove = self.push("Remove", lambda k=i: self._remove(k), f"Remove {line.text}")
            parts: list[QWidget] = [self.cell(f"{base}.text", 21), self.cell(f"{base}.kind"), self.cell(f"{base}.basis")]
            if line.basis == "per_piece":
                parts.append(self.cell(f"{base}.counts", options=self._cards))
            if line.basis == "per_hour":
                parts.append(self.cell(f"{base}.hours_h", 7))
            said = label("", "quiet")
            self._sums.append(said)
            self.line(*parts, self.cell(f"{base}.amount", 9), self.cell(f"{base}.after_years", 5), remove, said)
        self._without = label("", "quiet", wrap=True)
        self._inner.addWidget(self._without)
        if not plan.costs:
            self._inner.addWidget(label("No line yet: without any, nothing is said of what pays.", wrap=True))
        self.add_button = self.push("&Add a line", self._add)
        self.add_button.setEnabled(len(plan.costs) < MOST_LINES)
        self.ready_button = self.push("Put in what &lacks", self._ready)
        self.reprice_button = self.push("&Prices from my list", self._reprice)
        self.keep_button = self.push("&Keep a price list…", self._keep)
        self.line(self.add_button, self.ready_button, self.reprice_button, self.keep_button)
        self.rebates.build(self._inner)
        self._inner.addStretch()

    def line(self, *cells: QWidget) -> None:
        """Add a line of widgets that wraps."""
        holder = QWidget()
        flow = FlowLayout(holder)
        for cell in cells:
            flow.addWidget(cell)
        self._inner.addWidget(holder)

    def cell(self, path: str, chars: int | None = None, **more: object) -> FieldCell:
        """Return a field, known by its path."""
        made = FieldCell(self.session, path, chars=chars, **more)  # type: ignore[arg-type]
        self.cells[path] = made
        return made

    def push(self, words: str, act: object, name: str = "") -> QPushButton:
        """Return a button that Enter does not press by itself."""
        made = QPushButton(words)
        made.setAutoDefault(False)
        made.setAccessibleName(name or words.replace("&", ""))
        made.clicked.connect(lambda _=False: act())  # type: ignore[operator]
        return made

    def _cards(self) -> list[tuple[str, str]]:
        plan, job = self.plan(), self.session.job
        held = {**(equipment(plan) if plan else {}), **equipment(job.plans[0])}
        return [("", "no card yet"), *((card, _short(job.card(card).name)) for card in held)]

    # --- changes
    def _noted(self) -> Edit:
        plan = self.plan()
        assert plan is not None
        return Edit(f"plans[{plan.id}].costs_for", equipment(plan))

    def edit(self, words: str, edits: list[Edit]) -> None:
        """Change the job; a fault is said and changes nothing."""
        try:
            self.session.edit(words, edits)
        except BadInput as error:
            self.session.problem.emit(str(error))

    def _hold(self) -> None:
        self.edit("Costs hold for what stands now", [self._noted()])

    def _add(self) -> None:
        plan = self.plan()
        assert plan is not None
        first = [] if plan.costs else [self._noted()]
        self.edit("Add a cost line", [Edit(f"plans[{plan.id}].costs[+]", {"text": f"Line {len(plan.costs) + 1}"}), *first])
        cell = self.cells.get(f"plans[{plan.id}].costs[{len(plan.costs)}].text")
        if cell is not None:
            cell.editor.setFocus()

    def _remove(self, index: int) -> None:
        plan = self.plan()
        assert plan is not None
        rows = [line.model_dump() for i, line in enumerate(plan.costs) if i != index]
        self.edit("Remove a cost line", [Edit(f"plans[{plan.id}].costs", rows)])

    def _ready(self) -> None:
        plan = self.plan()
        assert plan is not None
        made = ready_lines(self.session.job, plan, self._prices())
        if not made:
            self.session.problem.emit("Nothing lacks: all that the plan adds has a line, and so has the usual work.")
            return
        rows = [line.model_dump() for line in (*plan.costs, *made)][:MOST_LINES]
        first = [] if plan.costs else [self._noted()]
        self.edit(f"Put in {count_words(len(made), 'cost line')}", [Edit(f"plans[{plan.id}].costs", rows), *first])

    def _prices(self) -> PriceList | None:
        try:
            return kept_price_list()
        except BadInput as error:
            self.session.problem.emit(str(error))
            return None

    def _reprice(self) -> None:
        plan, prices = self.plan(), self._prices()
        assert plan is not None
        if prices is None:
            self.session.problem.emit("There is no price list yet: keep one first.")
            return
        named = self.session.job.tariff.currency
        if prices.currency and len(named) == 3 and prices.currency != named.upper():
            self.session.problem.emit(f"The list is in {prices.currency}, the job in {named}: nothing was taken.")
            return
        lines = repriced(plan.costs, prices)
        changed = sum(a != b for a, b in zip(lines, plan.costs, strict=True))
        if not changed:
            self.session.problem.emit(f"{prices.name} has no other price for these lines.")
            return
        rows = [line.model_dump() for line in lines]
        self.edit(f"{count_words(changed, 'price')} from {prices.name}", [Edit(f"plans[{plan.id}].costs", rows)])

    def _keep(self) -> None:
        path = self.session.dialogs.ask_file("Keep a price list", KINDS)
        if path is None:
            return
        try:
            prices = keep_price_list(path)
        except BadInput as error:
            self.session.problem.emit(str(error))
            return
        except OSError as error:
            self.session.problem.emit(f"The list cannot be kept: {error.strerror}.")
            return
        when = prices.date or date.today().isoformat()
        self.session.problem.emit(f"{prices.name} is kept: {count_words(len(prices.rows), 'price')}, {when}.")
