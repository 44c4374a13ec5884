"""What pages of fields share: sections of cells that wrap, rebuilt only when the job's make-up changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from calm_relay.errors import CalmRelayError
from calm_relay.job.models import Job
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.fields.months import MonthRow
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.widgets import clear_layout, label

MARGIN = (20, 12, 16, 14)


class FieldPage(QWidget):
    """A page whose fields show the document. Subclasses say their make-up and build their sections."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session, self.theme, self.scale = session, theme, 1.0
        self.cells: dict[str, FieldCell] = {}
        self.rows: dict[str, MonthRow] = {}
        self._shape: object = None
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(*MARGIN)
        self._column.setSpacing(10)
        session.answers_changed.connect(self.refresh)

    # --- to be filled in
    def shape(self) -> object:
        """Return what decides which fields there are."""
        raise NotImplementedError

    def build(self) -> None:
        """Build the sections."""
        raise NotImplementedError

    def show_figures(self) -> None:
        """Show what is not a field."""

    # --- shared
    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme, self.scale, self._shape = theme, scale, None
        self.refresh()

    def refresh(self) -> None:
        """Show the document; nothing is done while the page is hidden, and it is caught up when shown."""
        if not self.isVisible():
            return
        shape = self.shape()
        if shape != self._shape:
            focus = self.focusWidget()
            path = next((p for p, cell in self.cells.items() if focus is not None and cell.editor is focus), None)
            self._shape = shape
            self._clear()
            self.build()
            if path in self.cells:
                self.cells[path].editor.setFocus()
        for cell in self.cells.values():
            cell.refresh()
        for row in self.rows.values():
            row.refresh()
        self.show_figures()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _clear(self) -> None:
        for cell in self.cells.values():  # a field that goes must not commit once more what was just undone
            cell.editor.blockSignals(True)
        self.cells, self.rows = {}, {}
        clear_layout(self._column)

    def focus_path(self, path: str) -> bool:
        """Put the focus on the field of a path; returns whether it is here."""
        if path in self.cells:
            self.cells[path].editor.setFocus(Qt.FocusReason.OtherFocusReason)
            return True
        for known, row in self.rows.items():
            if path.startswith(known):
                row.focus_first()
                return True
        return False

    def title(self, text: str, note: str = "") -> None:
        """Add the page's title."""
        self._column.addWidget(label(text, "title"))
        if note:
            self._column.addWidget(label(note, "quiet", wrap=True))

    def add(self, widget: QWidget) -> None:
        """Add a widget across the page."""
        self._column.addWidget(widget)

    def words(self, text: str, role: str = "quiet") -> QLabel:
        """Add a line of words that wraps."""
        made = label(text, role, wrap=True)
        self._column.addWidget(made)
        return made

    def heading(self, text: str, *buttons: tuple[str, Callable[[], None]]) -> QLabel:
        """Add a section's heading with its buttons; returns the heading."""
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 6, 0, 0)
        row.setSpacing(8)
        head = label(text, "heading")
        row.addWidget(head)
        for words, act in buttons:
            row.addWidget(self.button(words, act))
        row.addStretch()
        self._column.addWidget(holder)
        return head

    def button(self, words: str, act: Callable[[], None], name: str = "") -> QPushButton:
        """Return a button that does something to the job; faults are shown, nothing is lost."""
        made = QPushButton(words)
        made.setAccessibleName(name or words)

        def pressed() -> None:
            try:
                act()
            except CalmRelayError as error:
                self.session.problem.emit(str(error))

        made.clicked.connect(lambda _=False: pressed())
        return made

    def flow(self, *widgets: QWidget) -> FlowLayout:
        """Add a line of widgets that wraps."""
        holder = QWidget()
        flow = FlowLayout(holder)
        for widget in widgets:
            flow.addWidget(widget)
        self._column.addWidget(holder)
        return flow

    def cell(self, path: str, **more: object) -> FieldCell:
        """Return a new cell, known by its path."""
        made = FieldCell(self.session, path, **more)  # type: ignore[arg-type]
        self.cells[path] = made
        return made

    def month_row(self, path: str, indent_px: int = 0, *, factors: Sequence[float] = (1.0,) * 12, caption: str = "") -> None:
        """Add a row of twelve values, shown times `factors`."""
        made = MonthRow(self.session, path, factors, caption)
        made.setContentsMargins(indent_px, 0, 0, 0)
        self.rows[path] = made
        self._column.addWidget(made)

    def change(self, text: str, job: Job) -> None:
        """Put a changed job in place as one named entry."""
        try:
            self.session.document.edit(text, lambda _: job)
        except CalmRelayError as error:  # one too many of something, say
            self.session.problem.emit(str(error))
