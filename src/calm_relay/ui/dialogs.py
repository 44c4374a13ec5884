"""Every question the window asks, in one place, so that tests can answer them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QDialog, QFileDialog, QInputDialog, QMessageBox, QWidget

from calm_relay.job.container import SUFFIX, OpenedJob
from calm_relay.job.recovery import forget, unsaved_of

if TYPE_CHECKING:
    from calm_relay.rules.picking import Offer

FILTER = f"Calm Relay job (*{SUFFIX} *.json)"


class Dialogs:
    """Modal questions of one window."""

    def __init__(self, parent: QWidget) -> None:
        self._parent = parent
        # a card for a path, or "" to take out what is there; the window puts its picker here
        self.pick: Callable[[str], Offer | str | None] = lambda _: None

    def say(self, title: str, text: str) -> None:
        """Show a text until it is closed."""
        box = QMessageBox(self._parent)
        box.setWindowTitle(title)
        box.setText(text)
        box.exec()

    def show(self, dialog: QDialog) -> None:
        """Run a dialog of its own making."""
        dialog.exec()

    def confirm(self, text: str, yes: str) -> bool:
        """Ask whether to go on; the answer given by Enter is no."""
        box = QMessageBox(self._parent)
        box.setText(text)
        go = box.addButton(yes, QMessageBox.ButtonRole.AcceptRole)
        stay = box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(stay)
        box.exec()
        return box.clickedButton() is go

    def ask_leave(self, name: str) -> str:
        """Ask what becomes of unsaved changes: 'save', 'drop' or 'stay'."""
        box = QMessageBox(self._parent)
        box.setText(f"'{name}' has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(save)
        box.exec()
        if box.clickedButton() is save:
            return "save"
        return "drop" if box.clickedButton() is drop else "stay"

    def ask_open(self) -> Path | None:
        """Ask for a job file."""
        name, _ = QFileDialog.getOpenFileName(self._parent, "Open a job", "", FILTER)
        return Path(name) if name else None

    def ask_weather(self) -> Path | None:
        """Ask for a weather file."""
        return self.ask_file("Read a weather file", "Weather (*.epw *.csv *.json *.txt);;All files (*)")

    def ask_file(self, title: str, kinds: str) -> Path | None:
        """Ask for a file to read."""
        name, _ = QFileDialog.getOpenFileName(self._parent, title, "", kinds)
        return Path(name) if name else None

    def ask_save_as(self, title: str, start: str, kinds: str) -> Path | None:
        """Ask where to write a file that is no job."""
        name, _ = QFileDialog.getSaveFileName(self._parent, title, start, kinds)
        return Path(name) if name else None

    def ask_save(self, job_name: str) -> Path | None:
        """Ask where to save."""
        start = job_name.lower().replace(" ", "-") + SUFFIX
        name, _ = QFileDialog.getSaveFileName(self._parent, "Save the job", start, FILTER)
        if not name:
            return None
        path = Path(name)
        return path if path.suffix else path.with_suffix(SUFFIX)

    def ask_text(self, title: str, text: str, value: str) -> str | None:
        """Ask for a line of text."""
        given, done = QInputDialog.getText(self._parent, title, text, text=value)
        return given if done else None


def take_up_unsaved(dialogs: Dialogs, path: Path) -> OpenedJob | None:
    """Ask about unsaved work of a job file that is about to be opened; returns it where it is taken up.

    Refused work stays where it is, on the start page, until it is forgotten there.
    """
    found = unsaved_of(path)
    if found is None:
        return None
    text = f"There is work on {path.name} that was not saved when the program ended, last edited {found.when}. Take it up?"
    if not dialogs.confirm(text, "Take it up"):
        return None
    forget(found.id)
    return found.opened
