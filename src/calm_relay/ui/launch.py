"""Holds what is open: the start page or the window, and what happens when something goes wrong in it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QApplication, QWidget

from calm_relay.job.container import OpenedJob
from calm_relay.ui import crash
from calm_relay.ui.commands import make_window
from calm_relay.ui.dialogs import Dialogs, take_up_unsaved
from calm_relay.ui.settings import Settings
from calm_relay.ui.start_page import StartPage
from calm_relay.ui.theme import apply_theme, theme_of
from calm_relay.ui.window import MainWindow


class Launch:
    """One per process."""

    def __init__(self, app: QApplication, settings: Settings | None = None) -> None:
        self.settings = settings or Settings()
        self.shown: QWidget | None = None
        apply_theme(app, theme_of(self.settings.theme), self.settings.text_scale)
        crash.install(self._keep, self._say)

    def start_page(self) -> StartPage:
        """Show the start page."""
        page = StartPage(self.settings, lambda opened, path, recovered: self._begin(opened, path, recovered=recovered))
        self._put(page)
        return page

    def window(self, opened: OpenedJob, path: Path | None, *, recovered: bool = False) -> MainWindow:
        """Show the window on a job."""
        window = make_window(opened, path, settings=self.settings, recovered=recovered)
        if path is not None:
            self.settings.add_recent(path)
        self._put(window)
        return window

    def open(self, opened: OpenedJob, path: Path | None) -> MainWindow:
        """Show the window on a job of a file, or on unsaved work of it, as is answered."""
        if path is None:
            return self.window(opened, path)
        asked = Dialogs(QWidget())
        taken = take_up_unsaved(asked, path)
        return self.window(opened if taken is None else taken, path, recovered=taken is not None)

    def _begin(self, opened: OpenedJob, path: Path | None, *, recovered: bool) -> None:
        self.window(opened, path, recovered=recovered)

    def _put(self, widget: QWidget) -> None:
        old, self.shown = self.shown, widget
        widget.show()
        if old is not None:
            old.close()

    def _keep(self) -> bool:
        window = self.shown
        if not isinstance(window, MainWindow):
            return True
        session = window.session
        return session.recovery.keep(session.job, session.store, session.path, session.stamp)

    def _say(self, title: str, text: str) -> None:
        window = self.shown
        (window.dialogs if isinstance(window, MainWindow | StartPage) else Dialogs(QWidget())).say(title, text)
