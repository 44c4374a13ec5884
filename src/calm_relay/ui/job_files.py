"""The window's way with files: open, save, leave, and what is dropped on it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QMainWindow, QWidget

from calm_relay.errors import BadInput
from calm_relay.file_kind import SUFFIXES, kind_of_file
from calm_relay.job.container import OpenedJob, read_job
from calm_relay.ui.actions import Actions
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.session import Session
from calm_relay.ui.settings import Settings


class JobFiles(QMainWindow):
    """A window that has a session; what it shows is its subclass's matter."""

    session: Session
    settings: Settings
    dialogs: Dialogs
    actions_: Actions

    def page(self, name: str) -> QWidget:
        """Return a page."""
        raise NotImplementedError

    def show_page(self, name: str) -> None:
        """Show a page."""
        raise NotImplementedError

    def _adopt(self) -> None:
        """Take up the present session."""
        raise NotImplementedError

    def _problem(self, text: str) -> None:
        self.dialogs.say("That did not work", text)

    # --- files
    def open_job(self) -> None:
        """Ask for a job file and open it in place of this one."""
        path = self.dialogs.ask_open()
        if path is not None:
            self.load(path)

    def load(self, path: Path) -> bool:
        """Open a job file in place of this one; a fault leaves the present job as it is."""
        try:
            opened = read_job(path)
        except BadInput as error:
            self._problem(str(error))
            return False
        return self.take(opened, path)

    def take(self, opened: OpenedJob, path: Path | None, *, recovered: bool = False) -> bool:
        """Put another job in place of this one, if that may be left."""
        if not self.may_leave():
            return False
        self.session.close()
        self.session = Session(opened, path, self, self.dialogs, recovered=recovered)
        self._adopt()
        if path is not None:
            self.settings.add_recent(path)
            self.actions_.show_recent(self.settings.recent)
        return True

    def save(self) -> bool:
        """Save under the job's name, or ask for one."""
        if self.session.path is None:
            return self.save_as()
        if self.session.changed_on_disk() and not self.dialogs.confirm(
            f"{self.session.path.name} was changed by another program since it was opened. Write over it?", "Write over"
        ):
            return False
        return self._save_to(self.session.path)

    def save_as(self) -> bool:
        """Ask for a name and save."""
        path = self.dialogs.ask_save(self.session.job.name)
        return path is not None and self._save_to(path)

    def _save_to(self, path: Path) -> bool:
        try:
            self.session.save(path)
        except BadInput as error:
            self._problem(str(error))
            return False
        self.settings.add_recent(path)
        self.actions_.show_recent(self.settings.recent)
        self.statusBar().showMessage(f"Saved as {path}", 6000)
        return True

    def may_leave(self) -> bool:
        """Ask about unsaved changes; returns whether the job may be left."""
        if not self.session.unsaved:
            return True
        answer = self.dialogs.ask_leave(self.session.job.name)
        return self.save() if answer == "save" else answer == "drop"

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if _dropped_file(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
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
            self.show_page("site")
            self.session.read_weather(path)
            return True
        from calm_relay.ui.pages.house import HousePage
        from calm_relay.ui.pages.tariff import TariffPage

        name = "house" if kind == "meter" else "tariff"
        self.show_page(name)
        page = self.page(name)
        assert isinstance(page, HousePage | TariffPage)
        page.take_file(path, kind)
        return True

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.may_leave():
            event.ignore()
            return
        self.session.close()
        event.accept()


def _dropped_file(event: QDropEvent) -> Path | None:
    for url in event.mimeData().urls():
        path = Path(url.toLocalFile())
        if url.isLocalFile() and path.suffix.lower() in SUFFIXES:
            return path
    return None
