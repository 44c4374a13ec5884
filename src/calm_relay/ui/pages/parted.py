"""A page in parts: buttons under its title choose one, and only that one has fields on the screen."""

from __future__ import annotations

from typing import ClassVar, Protocol

from PySide6.QtWidgets import QButtonGroup, QPushButton, QScrollArea, QWidget

from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme


class Part(Protocol):
    """One part of a page; it adds its sections to the page and shows what is not a field."""

    def shape(self) -> object:
        """Return what decides which fields there are."""

    def build(self) -> None:
        """Add the part's sections."""

    def show_figures(self) -> None:
        """Show what is not a field."""


class PartedPage(FieldPage):
    """Subclasses name their parts and make them in `_parts`; the first is shown first."""

    NAME: ClassVar[str]
    PARTS: ClassVar[tuple[tuple[str, str], ...]]

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.part = self.PARTS[0][0]
        self._parts: dict[str, Part] = {}
        self._group = QButtonGroup(self)

    @property
    def look(self) -> str:
        """The part that is shown, for the page that takes this one's place."""
        return self.part

    @look.setter
    def look(self, part: str) -> None:
        self.part = part

    def note(self) -> str:
        """Return the line under the title."""
        return ""

    def part_of(self, path: str) -> str:
        """Return the part a field is on."""
        raise NotImplementedError

    def shape(self) -> object:
        return self.part, self._parts[self.part].shape()

    def build(self) -> None:
        self.title(self.NAME, self.note())
        buttons = []
        for key, words in self.PARTS:
            button = QPushButton(words)
            button.setCheckable(True)
            button.setChecked(key == self.part)
            button.clicked.connect(lambda _=False, k=key: self.show_part(k, focus=True))
            self._group.addButton(button)
            buttons.append(button)
        self.tabs = dict(zip((key for key, _ in self.PARTS), buttons, strict=True))
        self.flow(*buttons)
        self._parts[self.part].build()
        self._column.addStretch()

    def show_figures(self) -> None:
        self._parts[self.part].show_figures()

    def show_part(self, part: str, *, focus: bool = False) -> None:
        """Show another part, from its top."""
        turned, self.part = self.part != part, part
        self.refresh()
        holder = self.parentWidget()
        area = holder.parentWidget() if holder is not None else None
        if turned and isinstance(area, QScrollArea):
            area.verticalScrollBar().setValue(0)
        if focus:
            self.tabs[part].setFocus()

    def focus_path(self, path: str) -> bool:
        """Show the part a field is on and put the focus on it; returns whether it is here."""
        self.show_part(self.part_of(path))
        return super().focus_path(path)
