"""Two rule packs side by side: every figure with its source, or only those in which they differ."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.job.own_rules import known_packs
from calm_relay.packs.pack import Pack
from calm_relay.report.rules import figure_words, pack_figures
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import close_row, fit_rows, label, text_table
from calm_relay.units import count_words

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
        words = "Figures are from memory where they say so; rules change, and the network operator decides."
        column.addWidget(label(words, "quiet", wrap=True))
        self.one, self.other, self.words = QComboBox(), QComboBox(), QLineEdit()
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
        for widget in (self.one, label("against"), self.other, self.unlike, self.words):
            row.addWidget(widget)
        row.addStretch()
        column.addLayout(row)
        self.said = label("", "quiet")
        column.addWidget(self.said)
        self.table = text_table(5, "Figures of two packs")
        header = self.table.horizontalHeader()
        for at, width in enumerate((220, 150)):
            self.table.setColumnWidth(at, round(width * scale))
        self.table.setColumnWidth(3, round(150 * scale))
        for at in (2, 4):
            header.setSectionResizeMode(at, QHeaderView.ResizeMode.Stretch)
        header.sectionResized.connect(lambda *_: fit_rows(self.table))
        column.addWidget(self.table, 1)
        column.addWidget(close_row(self))
        self.resize(1120, 660)
        for box in (self.one, self.other):
            box.currentIndexChanged.connect(self.refresh)
        self.unlike.toggled.connect(self.refresh)
        self.words.textChanged.connect(self.refresh)
        self.refresh()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        QTimer.singleShot(0, lambda: fit_rows(self.table))  # only now the columns have their widths

    def refresh(self) -> None:
        """Show the figures of the two packs that are chosen."""
        one, other = (self._packs[box.currentData()] for box in (self.one, self.other))
        mine, theirs = pack_figures(one), pack_figures(other)
        asked = self.words.text().casefold().split()
        rows = []
        for name in sorted({*mine, *theirs}):
            a, b = mine.get(name, NOTHING), theirs.get(name, NOTHING)
            text = f"{name.replace('_', ' ')} {' '.join((*a, *b))}".casefold()
            if (a[0] != b[0] or not self.unlike.isChecked()) and all(word in text for word in asked):
                rows.append((name, *a, *b))
        unlike = sum(mine.get(name, NOTHING)[0] != theirs.get(name, NOTHING)[0] for name in {*mine, *theirs})
        self.said.setText(f"They differ in {count_words(unlike, 'figure')}." if unlike else "They say the same.")
        self.table.setHorizontalHeaderLabels(["Figure", "first", "its source", "second", "its source"])
        self.table.setRowCount(len(rows))
        for at, row in enumerate(rows):
            key, first, source, second, other_source = row
            words = figure_words(key, first if first != NOTHING[0] else second)[0]
            texts = (words, figure_words(key, first)[1], source, figure_words(key, second)[1], other_source)
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
                item.setToolTip(key if column == 0 else "")
                self.table.setItem(at, column, item)
        fit_rows(self.table)
