"""The start page: recovered work first, then the demo, a new job, and jobs opened lately."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calm_relay.demo import TEACHES, demo_path
from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, read_job
from calm_relay.job.recovery import Found, find_recoverable, forget
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.ui.dialogs import Dialogs, take_up_unsaved
from calm_relay.ui.settings import Settings
from calm_relay.ui.widgets import clear_layout, label

Open = Callable[[OpenedJob, Path | None, bool], None]


class StartPage(QWidget):
    """Asks which job to work on; `opened` is called with the job, its file and whether it was recovered."""

    def __init__(self, settings: Settings, opened: Open, dialogs: Dialogs | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Calm Relay")
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAcceptDrops(True)
        self.resize(720, 520)
        self.settings, self._opened = settings, opened
        self.dialogs = dialogs or Dialogs(self)
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 32, 40, 20)
        column.setSpacing(10)
        column.addWidget(label("Calm Relay", "title"))
        column.addWidget(
            label("Plans how batteries join a photovoltaic system, and proves it over a simulated year.", "quiet", wrap=True)
        )
        self._found = QVBoxLayout()
        column.addLayout(self._found)
        self._show_found()
        row = QHBoxLayout()
        column.addLayout(row)
        row.setSpacing(8)
        self.buttons: dict[str, QPushButton] = {}
        for name, text, keys, act in (
            ("new", "New job", "Ctrl+N", self._new),
            ("open", "Open a job…", "Ctrl+O", self._ask),
        ):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, a=act: a())
            QShortcut(QKeySequence(keys), self, act)
            row.addWidget(button)
            self.buttons[name] = button
        row.addStretch()
        column.addWidget(label("Made-up demo jobs: the quickest way to see what this is", "heading"))
        demos = QGridLayout()
        column.addLayout(demos)
        demos.setHorizontalSpacing(12)
        demos.setVerticalSpacing(6)
        demos.setColumnStretch(1, 1)
        for number, (name, (title, teaches)) in enumerate(TEACHES.items()):
            button = QPushButton(title)
            button.setAccessibleName(f"Open the demo {title}: {teaches}")
            button.clicked.connect(lambda _=False, n=name: self._demo(n))
            if number == 0:
                QShortcut(QKeySequence("Ctrl+D"), self, partial(self._demo, name))
            self.buttons[name] = button
            demos.addWidget(button, number, 0)
            demos.addWidget(label(f"{teaches[:1].upper()}{teaches[1:]}.", "quiet", wrap=True), number, 1)
        column.addWidget(label("Opened lately", "heading"))
        recent = settings.recent
        for path in recent:
            button = QPushButton(path.name)
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, p=path: self.load(p))
            column.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
        if not recent:
            column.addWidget(label("Nothing yet. A job file can also be dropped on this window.", "quiet", wrap=True))
        column.addStretch()
        column.addWidget(
            label(
                "Local codes, the network operator, the equipment's manual and a licensed electrician decide.", "caution", wrap=True
            )
        )

    def _show_found(self) -> None:
        clear_layout(self._found)
        found = find_recoverable()
        if found:
            self._found.addWidget(label("Work that was not saved when the program ended", "heading"))
        for work in found[:5]:
            holder = QWidget()
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 0, 0)
            where = "never saved" if work.path is None else work.path.name
            row.addWidget(label(f"{work.opened.job.name}, last edited {work.when}, {where}", wrap=True), 1)
            for text, act in (("Take it up", self._take_up), ("Forget it", self._forget)):
                button = QPushButton(text)
                button.setAccessibleName(f"{text}: {work.opened.job.name}")
                button.clicked.connect(partial(act, work))
                row.addWidget(button)
            self._found.addWidget(holder)

    def _take_up(self, work: Found, _checked: bool = False) -> None:
        self._opened(work.opened, work.path, True)
        forget(work.id)

    def _forget(self, work: Found, _checked: bool = False) -> None:
        forget(work.id)
        self._show_found()

    def _demo(self, name: str) -> None:
        self._opened(read_job(demo_path(name)), None, False)

    def _new(self) -> None:
        job = new_job()
        self._opened(OpenedJob(job, SeriesStore(), job.schema_version), None, False)

    def _ask(self) -> None:
        path = self.dialogs.ask_open()
        if path is not None:
            self.load(path)

    def load(self, path: Path) -> None:
        """Open a job file; a fault is said, and nothing else happens."""
        try:
            opened = read_job(path)
            taken = take_up_unsaved(self.dialogs, path)
            self._opened(opened if taken is None else taken, path, taken is not None)
        except BadInput as error:
            self.dialogs.say("That did not work", str(error))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls():
            if url.isLocalFile():
                self.load(Path(url.toLocalFile()))
                return
