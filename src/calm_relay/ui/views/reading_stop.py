"""What is being read, with a way to stop: a large file keeps its reader busy for seconds."""

from __future__ import annotations

from PySide6.QtWidgets import QProgressBar, QPushButton, QVBoxLayout, QWidget

from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label


class ReadingStop(QWidget):
    """Seen while files are read, with how far they are; stopping changes nothing."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 0, 8, 6)
        column.setSpacing(4)
        self.words = label("", "quiet", wrap=True)
        self.stop = QPushButton("Stop reading")
        self.stop.clicked.connect(session.stop_reading)
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(6)
        self.bar.setAccessibleName("How far the file is read")
        column.addWidget(self.words)
        column.addWidget(self.bar)
        column.addWidget(self.stop)
        self.hide()
        self._names = ""
        session.reading.connect(self._show)
        session.read_so_far.connect(self._so_far)

    def _show(self, names: str) -> None:
        # names of files have no spaces to break at: a zero-width one after each mark of a name lets them wrap
        broken = "".join(f"{c}\u200b" if c in "-_." else c for c in names)
        self._names = broken
        self.words.setText(f"Reading {broken}…")
        self.bar.setValue(0)
        self.setVisible(bool(names))

    def _so_far(self, words: str, frac: float) -> None:
        self.words.setText(f"Reading {self._names}: {words}…")
        self.bar.setValue(round(100 * frac))
