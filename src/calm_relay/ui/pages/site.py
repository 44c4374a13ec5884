"""Site & roof in four parts: place and weather, faces and shade, the chosen plan's strings, and its oversizing."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtWidgets import QButtonGroup, QPushButton, QScrollArea, QWidget

from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.pages.faces_part import FacesPart
from calm_relay.ui.pages.oversizing_part import OversizingPart
from calm_relay.ui.pages.place_part import PlacePart
from calm_relay.ui.pages.strings_part import StringsPart
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme


class Part(Protocol):
    """One part of the page; it adds its sections to the page and shows what is not a field."""

    def shape(self) -> object:
        """Return what decides which fields there are."""

    def build(self) -> None:
        """Add the part's sections."""

    def show_figures(self) -> None:
        """Show what is not a field."""


PARTS = (
    ("place", "Place and weather"),
    ("faces", "Faces and shade"),
    ("strings", "Strings"),
    ("oversizing", "Oversizing"),
)


class SitePage(FieldPage):
    """Fields only; every figure is the core's. Buttons under the title choose the part."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.part = "place"
        self.place, self.faces = PlacePart(self), FacesPart(self)
        self.strings, self.oversizing = StringsPart(self), OversizingPart(self)
        self._parts: dict[str, Part] = {
            "place": self.place, "faces": self.faces, "strings": self.strings, "oversizing": self.oversizing,
        }  # fmt: skip
        self._group = QButtonGroup(self)

    def shape(self) -> object:
        return self.part, self._parts[self.part].shape()

    def build(self) -> None:
        of_plan = self.part in ("strings", "oversizing")
        note = "This part belongs to the plan chosen above." if of_plan else "This part is shared by all plans."
        self.title("Site & roof", note)
        buttons = []
        for key, words in PARTS:
            button = QPushButton(words)
            button.setCheckable(True)
            button.setChecked(key == self.part)
            button.clicked.connect(lambda _=False, k=key: self.show_part(k, focus=True))
            self._group.addButton(button)
            buttons.append(button)
        self.tabs = dict(zip((key for key, _ in PARTS), buttons, strict=True))
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
        if path.startswith("faces"):
            part = "faces"
        elif path.startswith("plans"):
            part = "oversizing" if ".later" in path else "strings"
        else:
            part = "place"
        self.show_part(part)
        return super().focus_path(path)
