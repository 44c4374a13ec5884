"""Two rule packs side by side: every figure with its source, or only those in which they differ."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from calm_relay.job.own_rules import known_packs
from calm_relay.packs.pack import Pack
from calm_relay.report.rules import RULES_CHANGE, figure_words, pack_figures
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.session import Session
from calm_relay.ui.views.word_table import WordTable
from calm_relay.ui.widgets import close_row, label
from calm_relay.units import count_words

HEAD = ("Figure", "first", "its source", "second", "its source")
IN_FORCE = "in force"
NOTHING = ("–", "the pack has no such rule")


class PacksDialog(QDialog):
    """Shows; it changes nothing."""

    def __init__(self, session: Session, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        job = session.job
        self._packs: dict[str, Pack] = {IN_FORCE: job.rules(), **known_packs(job)}
        self.setWindowTitle("Rule packs side by side")
        column = QVBoxLayout(self)
        column.addWidget(label("Rule packs side by side", "heading"))
        column.addWidget(label(RULES_CHANGE, "quiet", wrap=True))
        self.one, self.other, self.words = ClosedList(), ClosedList(), QLineEdit()
        for box, name in ((self.one, "First pack"), (self.other, "Second pack")):
            box.setAccessibleName(name)
            for key, pack in self._packs.items():
                box.addItem(f"{pack.name}, in force here" if key == IN_FORCE else f"{pack.name}, {pack.version}", key)
        others = [i for i in range(1, self.other.count()) if self.other.itemData(i) != job.pack]
        self.other.setCurrentIndex(others[0] if others else 1)
        self.unlike = QCheckBox("Only where they differ")
        self.unlike.setChecked(True)
        self.words.setPlaceholderText("find words")
        self.words.setAccessibleName("Words to find")
        self.words.setClearButtonEnabled(True)
        row = QHBoxLayout()
        column.addLayout(row)
        for widget in (self.one, label("against"), self.other, self.unlike, self.words):
            row.addWidget(widget)
        row.addStretch()
        self.said = label("", "quiet")
        column.addWidget(self.said)
        self.table = WordTable("Figures of two packs", (220 * scale, 150 * scale, None, 150 * scale, None))
        column.addWidget(self.table, 1)
        column.addWidget(close_row(self))
        self.resize(1120, 660)
        for box in (self.one, self.other):
            box.currentIndexChanged.connect(self.refresh)
        self.unlike.toggled.connect(self.refresh)
        self.words.textChanged.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the figures of the two packs that are chosen."""
        one, other = (self._packs[box.currentData()] for box in (self.one, self.other))
        mine, theirs = pack_figures(one), pack_figures(other)
        asked = self.words.text().casefold().split()
        rows, keys = [], []
        for key in sorted({*mine, *theirs}):
            a, b = mine.get(key, NOTHING), theirs.get(key, NOTHING)
            text = f"{key.replace('_', ' ')} {' '.join((*a, *b))}".casefold()
            if (a[0] != b[0] or not self.unlike.isChecked()) and all(word in text for word in asked):
                words = figure_words(key, a[0] if a is not NOTHING else b[0])[0]
                rows.append((words, figure_words(key, a[0])[1], a[1], figure_words(key, b[0])[1], b[1]))
                keys.append(key)
        unlike = sum(mine.get(name, NOTHING)[0] != theirs.get(name, NOTHING)[0] for name in {*mine, *theirs})
        self.said.setText(f"They differ in {count_words(unlike, 'figure')}." if unlike else "They say the same.")
        for key, cells in zip(keys, self.table.show_rows(HEAD, rows), strict=True):
            cells[0].setToolTip(key)
