"""Real windows, drawn off screen; questions are answered by a stand-in that remembers what was said."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication, QDialog, QWidgetItem
from shiboken6 import Shiboken

from calm_relay.demo import demo_path
from calm_relay.job.container import read_job
from calm_relay.ui.commands import make_window
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import make_app, wait_idle
from calm_relay.ui.window import MainWindow


@pytest.fixture(autouse=True)
def _cycles_are_searched_in_the_window_s_thread() -> Iterator[None]:
    """As in the program; other tests of the process have no window, and search as usual."""
    gc.disable()
    yield
    gc.collect()
    gc.enable()


class Answers(Dialogs):
    """Answers every question at once."""

    def __init__(self) -> None:
        self.said: list[str] = []
        self.path: Path | None = None
        self.leave = "drop"
        self.sure = True
        self.text: str | None = None
        self.dialog: QDialog | None = None

    def say(self, title: str, text: str) -> None:
        self.said.append(f"{title}: {text}")

    def confirm(self, text: str, yes: str) -> bool:
        self.said.append(text)
        return self.sure

    def ask_leave(self, name: str) -> str:
        self.said.append(name)
        return self.leave

    def ask_open(self) -> Path | None:
        return self.path

    def ask_file(self, title: str, kinds: str) -> Path | None:
        return self.path

    def ask_save_as(self, title: str, start: str, kinds: str) -> Path | None:
        return self.path

    def ask_save(self, job_name: str) -> Path | None:
        return self.path

    def show(self, dialog: QDialog) -> None:
        self.dialog = dialog
        dialog.open()

    def ask_text(self, title: str, text: str, value: str) -> str | None:
        return self.text


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return make_app()


@pytest.fixture
def answers() -> Answers:
    return Answers()


@pytest.fixture
def window(qapp: QApplication, answers: Answers, qtbot, tmp_path: Path) -> Iterator[MainWindow]:
    made = make_window(read_job(demo_path()), None, dialogs=answers, settings=Settings(tmp_path / "window.ini"))
    made.show()
    qtbot.waitExposed(made)
    assert wait_idle(qapp, made)
    yield made
    assert not layout_items_known_to_python(), "add a layout to the outer one while it is empty, and ask no layout for itemAt"
    dispose(qapp, made)


def layout_items_known_to_python() -> list[QWidgetItem]:
    """Return what Qt itself made to hold widgets in its layouts, and Python keeps under its address (flow layouts hold their own).

    Qt drops such a holder without a word; the next object at that address is taken for it, and crashes when it is deleted.
    """
    known = Shiboken.getAllValidWrappers()
    flowing = {id(item) for flow in known if isinstance(flow, FlowLayout) for item in flow._items}
    return [item for item in known if isinstance(item, QWidgetItem) and id(item) not in flowing]


def dispose(qapp: QApplication, window: MainWindow) -> None:
    """Close a window and really delete it: windows left alive are restyled with every later one."""
    window.session.document.mark_saved(window.session.job)
    window.close()
    parts = [window, *window.findChildren(QObject)]
    window.deleteLater()
    qapp.sendPostedEvents(window, QEvent.Type.DeferredDelete.value)
    qapp.processEvents()
    for part in parts:  # what is deleted is held on by its connections; the years of plans that it showed need not be
        part.__dict__.clear()
