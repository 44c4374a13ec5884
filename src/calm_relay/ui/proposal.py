"""The string planner's dialog: layouts from best to worst, why others are not among them, and one button to take one."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.errors import CalmRelayError
from calm_relay.job.models import Node
from calm_relay.job.parts import put_strings, with_cards
from calm_relay.library.book import book_of
from calm_relay.pv.planner import Layout, Proposal
from calm_relay.pv.roof import MODES
from calm_relay.report.roof import layout_words
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

HEADS = ("Modules", "Energy a year", "Smallest margin", "   Strings")


def _side(column: int) -> Qt.AlignmentFlag:
    """Return where a column's text stands: numbers right, words left."""
    across = Qt.AlignmentFlag.AlignLeft if column == len(HEADS) - 1 else Qt.AlignmentFlag.AlignRight
    return across | Qt.AlignmentFlag.AlignVCenter


class ProposalDialog(QDialog):
    """Proposes strings for one inverter of the chosen plan; the planner runs in the study's thread."""

    taken = Signal(str)

    def __init__(self, session: Session, node: Node, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.node = session, node
        self.setWindowTitle(f"Strings for {node.name}")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(96 * letter, 1000), min(68 * letter, 660))
        self._proposal: Proposal | None = None
        self._asked = 0
        column = QVBoxLayout(self)
        column.addWidget(label(f"Strings for {node.name}", "heading"))
        row = QHBoxLayout()
        column.addLayout(row)
        row.addWidget(label("Module", "quiet"))
        self.module = ClosedList()
        self.module.setAccessibleName("Module to plan with")
        self.module.setMinimumContentsLength(28)
        known = book_of(session.job.library, tuple(session.known_cards().values()))
        self._modules, self._optimizers = known.modules(), known.optimizers()
        for card in self._modules.values():
            self.module.addItem(card.name, card.id)
        used = next((g.module for g in node.strings), "module-430")
        self.module.setCurrentIndex(max(0, self.module.findData(used)))
        self.module.activated.connect(lambda _: self.ask())
        row.addWidget(self.module)
        row.addStretch()
        row = QHBoxLayout()
        column.addLayout(row)
        row.addWidget(label("Roof", "quiet"))
        self.mode = ClosedList()
        self.mode.setAccessibleName("What to do with the strings that stand")
        for key, words in MODES:
            self.mode.addItem(words, key)
        self.mode.activated.connect(lambda _: self._turn())
        row.addWidget(self.mode)
        row.addWidget(label("Optimizers", "quiet"))
        self.optimizer = ClosedList()
        self.optimizer.setAccessibleName("Optimizers on every module")
        self.optimizer.addItem("none", "")
        for worn in self._optimizers.values():
            self.optimizer.addItem(worn.name, worn.id)
        self.optimizer.activated.connect(lambda _: self.ask())
        row.addWidget(self.optimizer)
        row.addStretch()
        column.addWidget(self._stays())
        self.words = label("", "quiet", wrap=True)
        column.addWidget(self.words)
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName("Layouts, best first")
        for place, head in enumerate(HEADS):
            item = QTableWidgetItem(head)
            item.setTextAlignment(_side(place))
            self.table.setHorizontalHeaderItem(place, item)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.setTabKeyNavigation(False)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.itemActivated.connect(lambda _: self._take())
        column.addWidget(self.table, 1)
        buttons = QDialogButtonBox()
        self.use = buttons.addButton("Use this layout", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        self.use.clicked.connect(self._take)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        session.runner.found.connect(self._answered)
        self.ask()

    def _stays(self) -> QWidget:
        """A tick for each string that may stay as it is while the others' modules are rewired."""
        self.stays = QWidget()
        flow = FlowLayout(self.stays)
        flow.addWidget(label("As it is stays", "quiet"))
        faces = {face.id: face.name for face in self.session.job.faces}
        self.keep: dict[str, QCheckBox] = {}
        for group in self.node.strings:
            times = f"{group.parallel_strings} strings of " if group.parallel_strings > 1 else ""
            tick = QCheckBox(f"tracker {group.tracker}: {times}{group.modules_per_string} on {faces[group.face]}")
            tick.toggled.connect(lambda _: self.ask())
            self.keep[group.id] = tick
            flow.addWidget(tick)
        self.stays.hide()
        return self.stays

    def _turn(self) -> None:
        self.stays.setVisible(self.mode.currentData() == "rewire" and bool(self.keep))
        self.ask()

    def kept(self) -> tuple[str, ...]:
        """Return the strings that are ticked to stay, where the modules that stand are rewired."""
        ticked = tuple(string for string, tick in self.keep.items() if tick.isChecked())
        return ticked if self.mode.currentData() == "rewire" else ()

    def ask(self) -> None:
        """Ask the planner for the chosen module."""
        self.use.setEnabled(False)
        self.words.setText("Trying every layout…")
        module = self._modules[self.module.currentData()]
        mode, worn = self.mode.currentData(), self.optimizer.currentData()
        job = with_cards(self.session.job, [self._optimizers[worn]] if worn else [])
        plan, node_id, keep = job.plan(self.session.chosen), self.node.id, self.kept()
        self._asked += 1
        self.session.runner.later(
            f"proposal {self._asked}",
            lambda study, _: study.propose_strings(job, plan, node_id, module, mode=mode, optimizer=worn, keep=keep),
        )

    def _answered(self, key: str, _generation: int, answer: object) -> None:
        if key == f"proposal {self._asked}":
            self._show(answer)

    def _show(self, answer: object) -> None:
        if isinstance(answer, CalmRelayError):
            self.words.setText(str(answer))
            self.table.setRowCount(0)
            return
        assert isinstance(answer, Proposal)
        self._proposal = answer
        faces = {face.id: face.name for face in self.session.job.faces}
        self.table.setRowCount(len(answer.layouts))
        for i, lay in enumerate(answer.layouts):
            texts = (
                str(lay.modules),
                show(lay.ac_wh, "energy_wh", 0),
                show(lay.margin_frac, "fraction"),
                "   " + layout_words(lay.options, faces),
            )
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setTextAlignment(_side(column))
                self.table.setItem(i, column, item)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        lines = ("Energy is this inverter's AC alone, ranked on 15-min means.", *answer.why)
        self.words.setText("\n".join(line[:1].upper() + line[1:] for line in lines))
        self.use.setEnabled(bool(answer.layouts))
        if answer.layouts:
            self.table.selectRow(0)
            self.table.setFocus()

    def chosen(self) -> Layout | None:
        """Return the layout of the selected row."""
        row = self.table.currentRow()
        return self._proposal.layouts[row] if self._proposal and 0 <= row < len(self._proposal.layouts) else None

    def _take(self) -> None:
        layout = self.chosen()
        if layout is None:
            return
        rows = [(o.tracker, o.face, o.modules, o.strings, o.fuse_a) for o in layout.options]
        module, mode = self._modules[self.module.currentData()], self.mode.currentData()
        worn = self._optimizers.get(self.optimizer.currentData() or "")
        try:
            job = put_strings(
                self.session.job, self.session.chosen, self.node.id, module, rows, mode=mode, optimizer=worn, keep=self.kept()
            )
            self.session.document.edit(f"{self.node.name}: {layout.modules} modules in {layout.strings} strings", lambda _: job)
        except CalmRelayError as error:
            self.session.problem.emit(str(error))
            return
        self.taken.emit(self.node.id)
        self.accept()
