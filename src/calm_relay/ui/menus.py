"""Menus made from a table of commands: each entry once, with its key; the F1 sheet is made from the same table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

BY_HAND = (
    ("Arrows", "along the relay line and the plan tabs; over the carpet and the day: move the clock; in a number: nudge it"),
    ("Enter", "open the station, the check or the page; apply a number"),
    ("Right", "in the work order: into the page, to its first field"),
    ("Esc", "put a number back; close the sheet or the open check"),
    ("Tab", "next field"),
    ("Page Up, Page Down", "scroll the page; a week in the carpet, an hour in the day"),
    ("Menu key", "on a plan tab, a table or a picture: what can be done with it"),
)


@dataclass(frozen=True)
class Command:
    """One menu entry.

    Attributes
    ----------
    menu : str
        The menu it stands in, with a slash before a menu inside: ``&View/&Theme``.
    name : str
        Its short name.
    text, keys, tip : str
        What it is called, its shortcut (several with a bar between), what it does.
    act : callable
        Called with the window; a `toggles` entry's with the window and whether it is ticked.
    toggles : bool
        Whether it is ticked on and off.
    group : str
        Entries of one group are ticked one at a time.
    after_line : bool
        Whether a line stands above it.
    """

    menu: str
    name: str
    text: str
    act: Callable[..., object]
    keys: str = ""
    tip: str = ""
    toggles: bool = False
    group: str = ""
    after_line: bool = False


class Menus:
    """A window's menu entries by short name."""

    def __init__(self, window: QMainWindow, commands: Sequence[Command]) -> None:
        self._window: Any = window  # what commands are called with: they know it better than this table does
        self._all: dict[str, QAction] = {}
        self._menus: dict[str, QMenu] = {}
        self._groups: dict[str, QActionGroup] = {}
        for command in commands:
            self._add(command)

    def __getitem__(self, name: str) -> QAction:
        return self._all[name]

    def menu(self, path: str) -> QMenu:
        """Return a menu by its path, made where it is new."""
        if path not in self._menus:
            above, _, text = path.rpartition("/")
            self._menus[path] = self.menu(above).addMenu(text) if above else self._window.menuBar().addMenu(text)
        return self._menus[path]

    def _add(self, command: Command) -> None:
        menu = self.menu(command.menu)
        if command.after_line:
            menu.addSeparator()
        action = QAction(command.text, self._window)
        if command.keys:
            action.setShortcuts([QKeySequence(keys) for keys in command.keys.split("|")])
        if command.tip:
            action.setToolTip(command.tip)
        if command.toggles:
            action.setCheckable(True)
            action.setChecked(True)
            action.toggled.connect(lambda on, c=command: c.act(self._window, on))
        else:
            action.triggered.connect(lambda _=False, c=command: c.act(self._window))
        if command.group:
            action.setCheckable(True)
            self._groups.setdefault(command.group, QActionGroup(self._window)).addAction(action)
        menu.addAction(action)
        self._all[command.name] = action

    # --- showing
    def show_history(self, undo: str | None, redo: str | None) -> None:
        """Name what undo and redo would do."""
        for name, word, text in (("undo", "Undo", undo), ("redo", "Redo", redo)):
            self._all[name].setEnabled(text is not None)
            self._all[name].setText(f"&{word}" if text is None else f"&{word}: {text.replace('&', '&&')}")

    def show_plan(self, *, today: bool) -> None:
        """Today's system can be neither renamed, moved nor removed."""
        for name in ("remove", "rename", "earlier", "later"):
            self._all[name].setEnabled(not today)

    def tick(self, group: str, value: object) -> None:
        """Tick the entry of a group that is in use."""
        self._all[f"{group}:{value}"].setChecked(True)

    def show_recent(self, path: str, files: Sequence[Path], load: Callable[[Path], object]) -> None:
        """List files in a menu of their own."""
        menu = self.menu(path)
        menu.clear()
        for file in files:
            menu.addAction(file.name).triggered.connect(lambda _=False, f=file: load(f))
        menu.setEnabled(bool(files))

    def keys_text(self) -> str:
        """Return every shortcut with what it does."""
        rows = [
            (
                " or ".join(keys.toString(QKeySequence.SequenceFormat.NativeText) for keys in a.shortcuts()),
                a.text().replace("&&", "+").replace("&", "").replace("+", "&"),
            )
            for a in self._all.values()
            if not a.shortcut().isEmpty()
        ]
        return "\n".join(f"{keys}\t{text}" for keys, text in (*rows, *BY_HAND))
