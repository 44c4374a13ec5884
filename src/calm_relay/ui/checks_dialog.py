"""All checks of a plan, filtered by group, verdict and words, each with its arithmetic; what to measure; saved as a page."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtGui import QColor, QPageSize, QPdfWriter, QTextDocument
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QVBoxLayout,
    QWidget,
)

from calm_relay.report.check_page import asked_words, check_page_html, tally_words
from calm_relay.report.measure import PLACES, missing_words, place_of
from calm_relay.rules.groups import GROUPS, filtered, group_of
from calm_relay.rules.registry import Finding
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.session import Session
from calm_relay.ui.theme import VERDICT_ROLE, Theme
from calm_relay.ui.views.word_table import WordTable
from calm_relay.ui.widgets import close_row, label

HEAD = ("Verdict", "Check", "Figures", "Arithmetic and source")
UNKNOWN_HEAD = ("Verdict", "Check", "Where", "Look up or measure")
MEASURE = "to measure"
VERDICTS = (
    ("Every verdict", ""), *((v, v) for v in ("over", "not known", "tight", "within", "note")),
    ("what to measure on site", MEASURE),
)  # fmt: skip


class ChecksDialog(QDialog):
    """Shows; the check in focus can be opened in Headroom, the list saved as a page to print."""

    def __init__(self, session: Session, theme: Theme, scale: float, dialogs: Dialogs, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self._theme, self._scale, self._dialogs = session, theme, scale, dialogs
        plan = session.plan
        self.chosen: tuple[str, str] | None = None
        self._rows: tuple[Finding, ...] = ()
        self._shown: tuple[tuple[Finding, ...], bool] | None = None
        self.setWindowTitle("All checks")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{plan.letter}  All checks", "heading"))
        self.tally = label("", "quiet", wrap=True)
        column.addWidget(self.tally)
        self.group, self.verdict, self.words = ClosedList(), ClosedList(), QLineEdit()
        self.group.addItem("Every group", "")
        for key, (name, _) in GROUPS.items():
            self.group.addItem(name, key)
        for name, verdict in VERDICTS:
            self.verdict.addItem(name, verdict)
        for box, name in ((self.group, "Group"), (self.verdict, "Verdict")):
            box.setAccessibleName(name)
            box.currentIndexChanged.connect(self.refresh)
        self.words.setAccessibleName("Words to find")
        self.words.setPlaceholderText("find words")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self.refresh)
        row = QHBoxLayout()
        column.addLayout(row)
        for widget in (self.group, self.verdict, self.words):
            row.addWidget(widget)
        self.shown = label("", "quiet")
        row.addWidget(self.shown)
        row.addStretch()
        self.table = WordTable("All checks of the plan", (84 * scale, 250 * scale, 170 * scale, None))
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.activated.connect(lambda index: self._open(index.row()))
        column.addWidget(self.table, 1)
        below = close_row(self)
        for words, act in (("Open in Headroom", lambda: self._open(self.table.currentRow())), ("Save as a page…", self._save)):
            button = QPushButton(words)
            button.clicked.connect(lambda _=False, act=act: act())
            below.addButton(button, below.ButtonRole.ActionRole)
        column.addWidget(below)
        session.answers_changed.connect(self.refresh)
        self.resize(1120, 700)
        self.refresh()

    def refresh(self) -> None:
        """Show what the filter lets through."""
        whole, waiting = self.session.findings()
        self.tally.setText(tally_words(whole) + (" · the year is being run" if waiting else ""))
        asked = self.verdict.currentData()
        unknown = asked == MEASURE
        rows = filtered(whole, self.group.currentData(), "not known" if unknown else asked, self.words.text())
        self.shown.setText(asked_words(len(rows), len(whole)))
        if (rows, unknown) == self._shown:
            return
        self._shown = (rows, unknown)
        self._rows = tuple(sorted(rows, key=lambda f: PLACES.index(place_of(f)))) if unknown else rows
        cells = self.table.show_rows(UNKNOWN_HEAD if unknown else HEAD, [_texts(f, unknown=unknown) for f in self._rows])
        for f, row in zip(self._rows, cells, strict=True):
            row[0].setForeground(QColor(self._theme.color(VERDICT_ROLE[f.verdict])))
            for item in row:
                item.setToolTip("\n".join(f"Would clear it: {r.text}" for r in f.remedies))

    def _open(self, at: int) -> None:
        """Close, and have the check that is asked for opened in Headroom."""
        if 0 <= at < len(self._rows):
            self.chosen = (self._rows[at].check, self._rows[at].subject)
            self.accept()

    def _save(self) -> None:
        name = f"checks-{self.session.plan.letter}.pdf"
        path = self._dialogs.ask_save_as("Save all checks as a page", name, "PDF (*.pdf);;Web page (*.html)")
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write all checks of the plan, whatever the filter shows; a fault is told."""
        html = check_page_html(self.session.job, self.session.plan, self.session.findings()[0])
        try:
            if path.suffix.lower() in (".html", ".htm"):
                path.write_text(html, encoding="utf-8")
                return
            with path.open("wb"):
                pass
        except OSError as error:
            self.session.problem.emit(f"{path.name}: it cannot be written ({error.strerror}); choose another folder")
            return
        writer = QPdfWriter(str(path))
        writer.setPageSize(QPageSize(QPageSize.PageSizeId.A4))
        document = QTextDocument()
        document.setHtml(html)
        document.print_(writer)


def _texts(f: Finding, *, unknown: bool) -> tuple[str, str, str, str]:
    """Return what a row says: a finding, or what it lacks and where one goes for it."""
    title = f"{f.heading}\n{GROUPS[group_of(f.check)][0]}"
    if unknown:
        return f.word, title, place_of(f), missing_words(f)
    figures = f.figure + (f"\n{f.cost}" if f.cost else "") + (f"\nwaived: {f.waived}" if f.waived else "")
    said = missing_words(f) if f.verdict == "not known" else f.arithmetic
    return f.word, title, figures, f"{said}.\n{f.source}"
