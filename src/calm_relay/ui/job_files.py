"""The window's way with files: open, save, leave, and what is dropped on it. A collaborator: the window owns one."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QTimer
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QStatusBar, QWidget

from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, read_job
from calm_relay.tables.file_kind import SUFFIXES, FileKind, kind_of_file
from calm_relay.ui.copying import save
from calm_relay.ui.dialogs import Dialogs, take_up_unsaved
from calm_relay.ui.session import Session
from calm_relay.ui.settings import Settings


class TakesFiles(Protocol):
    """A page that can read what was dropped on the window."""

    def take_file(self, path: Path, kind: FileKind, /) -> None:
        """Read a file of a kind."""


class Host(Protocol):
    """What a window must have to hold a job of a file."""

    session: Session
    settings: Settings
    dialogs: Dialogs

    def adopt(self, opened: OpenedJob, path: Path | None, *, recovered: bool) -> None:
        """Put another job in place of the present one."""

    def page(self, name: str) -> QWidget:
        """Return a page."""

    def show_page(self, name: str) -> None:
        """Show a page."""

    def show_recent(self) -> None:
        """Show the recent jobs anew."""

    def statusBar(self) -> QStatusBar:
        """Return the line below."""


PAGE_OF_KIND: dict[FileKind, str] = {"meter": "house", "tariff": "tariff", "prices": "tariff"}


class JobFiles:
    """Opens, saves and leaves jobs for a window."""

    def __init__(self, host: Host) -> None:
        self._host = host

    def save_picture(self, widget: QWidget) -> None:
        """Ask for a file and write a table or picture into it; its ending says how."""
        name = widget.accessibleName() or "picture"
        kinds = "Picture (*.png);;Drawing (*.svg);;Text with tabs (*.tsv)"
        path = self._host.dialogs.ask_save_as(f"Save {name}", f"{name}.png", kinds)
        if path is None:
            return
        try:
            save(widget, path)
        except OSError as error:
            self.problem(f"{path}: it could not be written ({error.strerror}); choose another folder")

    def problem(self, text: str) -> None:
        """Say what did not work."""
        self._host.dialogs.say("That did not work", text)

    def open_job(self) -> None:
        """Ask for a job file and open it in place of this one."""
        path = self._host.dialogs.ask_open()
        if path is not None:
            self.load(path)

    def load(self, path: Path) -> bool:
        """Open a job file in place of this one; a fault leaves the present job as it is."""
        try:
            opened = read_job(path)
        except BadInput as error:
            self.problem(str(error))
            return False
        taken = take_up_unsaved(self._host.dialogs, path)
        return self.take(opened if taken is None else taken, path, recovered=taken is not None)

    def take(self, opened: OpenedJob, path: Path | None, *, recovered: bool = False) -> bool:
        """Put another job in place of this one, if that may be left."""
        if not self.may_leave():
            return False
        self._host.adopt(opened, path, recovered=recovered)
        if path is not None:
            self._remember(path)
        return True

    def save(self) -> bool:
        """Save under the job's name, or ask for one."""
        session = self._host.session
        if session.path is None:
            return self.save_as()
        if session.changed_on_disk() and not self._host.dialogs.confirm(
            f"{session.path.name} was changed by another program since it was opened. Write over it?", "Write over"
        ):
            return False
        return self._save_to(session.path)

    def _may_write(self, path: Path) -> bool:
        """Ask before a file is written over that was set to be read only."""
        try:
            locked = not path.stat().st_mode & 0o222
        except OSError:
            return True
        return not locked or self._host.dialogs.confirm(f"{path.name} is set to be read only. Write over it?", "Write over")

    def save_as(self) -> bool:
        """Ask for a name and save."""
        path = self._host.dialogs.ask_save(self._host.session.job.name)
        return path is not None and self._save_to(path)

    def _save_to(self, path: Path) -> bool:
        if not self._may_write(path):
            return False
        try:
            self._host.session.save(path)
        except BadInput as error:
            self.problem(str(error))
            return False
        self._remember(path)
        self._host.statusBar().showMessage(f"Saved as {path}", 6000)
        return True

    def _remember(self, path: Path) -> None:
        self._host.settings.add_recent(path)
        self._host.show_recent()

    def may_leave(self) -> bool:
        """Ask about unsaved changes; returns whether the job may be left."""
        session = self._host.session
        if not session.unsaved:
            return True
        answer = self._host.dialogs.ask_leave(session.job.name)
        return self.save() if answer == "save" else answer == "drop"

    def drag_entered(self, event: QDragEnterEvent) -> None:
        """Take a file that can be used."""
        if _dropped_file(event) is not None:
            event.acceptProposedAction()

    def dropped(self, event: QDropEvent) -> None:
        """Take up what was dropped, once the drop is over."""
        path = _dropped_file(event)
        if path is not None:
            event.acceptProposedAction()
            QTimer.singleShot(0, lambda: self.take_file(path))

    def take_file(self, path: Path) -> bool:
        """Open a dropped job, or begin to take a dropped file into this one; returns whether it is under way."""
        kind = kind_of_file(path)
        if kind == "job":
            return self.load(path)
        if kind == "weather":
            self._host.show_page("site")
            self._host.session.read_weather(path)
            return True
        name = PAGE_OF_KIND[kind]
        self._host.show_page(name)
        page: TakesFiles = self._host.page(name)  # type: ignore[assignment]
        page.take_file(path, kind)
        return True


def _dropped_file(event: QDropEvent) -> Path | None:
    for url in event.mimeData().urls():
        path = Path(url.toLocalFile())
        if url.isLocalFile() and path.suffix.lower() in SUFFIXES:
            return path
    return None
