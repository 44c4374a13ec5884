"""Makes pages when they are first shown, so that charts cost nothing before; their code is loaded ahead while nobody waits."""

from __future__ import annotations

import logging
from pkgutil import resolve_name
from typing import Any, Protocol, runtime_checkable

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget

from calm_relay.job.pages import PAGES, page_spec
from calm_relay.ui.runner import StudyRunner
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme

log = logging.getLogger(__name__)
QUIET_MS = 1500


@runtime_checkable
class Looked(Protocol):
    """A page on which one chooses what to look at: a page made in its place shows the same."""

    look: Any


def make_page(key: str, session: Session, theme: Theme) -> QWidget:
    """Make the page of a key; its module is imported here."""
    made: QWidget = resolve_name(page_spec(key).make)(session, theme)
    return made


class PagesAhead(QObject):
    """Loads the pages' code off the window's thread once the study has been quiet for a while: else the window stands still for it
    when the first chart is shown, a quarter of a second. Any question stops it after the page it is at.
    """

    def __init__(self, runner: StudyRunner) -> None:
        super().__init__(runner)
        self._runner = runner
        self.loaded = False
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.setInterval(QUIET_MS)
        self._quiet.timeout.connect(self._begin)
        runner.idle.connect(lambda _: self._quiet.start())

    def _begin(self) -> None:
        if self.loaded:
            return
        if self._runner.quiet:
            generation = self._runner.generation
            self._runner.files_pool.start(lambda: self._load(generation))
        self._quiet.start()

    def _load(self, generation: int) -> None:
        for spec in PAGES:
            if self._runner.generation != generation:
                return
            try:
                resolve_name(spec.make)
            except Exception:  # whoever opens the page is told
                log.exception("the page %s could not be loaded ahead", spec.key)
        self.loaded = True
