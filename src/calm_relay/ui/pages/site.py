"""Site & roof in six parts: place and weather, faces and shade, the chosen plan's strings, oversizing, runs and places."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from calm_relay.ui.pages.faces_part import FacesPart
from calm_relay.ui.pages.oversizing_part import OversizingPart
from calm_relay.ui.pages.parted import PartedPage
from calm_relay.ui.pages.place_part import PlacePart
from calm_relay.ui.pages.runs_part import RunsPart
from calm_relay.ui.pages.strings_part import StringsPart
from calm_relay.ui.pages.walls_part import WallsPart
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme

OF_WALLS = ("].place", "battery.place", "].plugged_in")


class SitePage(PartedPage):
    """Fields only; every figure is the core's."""

    NAME = "Site & roof"
    PARTS = (
        ("place", "Place and weather"),
        ("faces", "Faces and shade"),
        ("strings", "Strings"),
        ("oversizing", "Oversizing"),
        ("runs", "Runs"),
        ("walls", "Places"),
    )

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self.place, self.faces = PlacePart(self), FacesPart(self)
        self.strings, self.oversizing = StringsPart(self), OversizingPart(self)
        self.runs, self.walls = RunsPart(self), WallsPart(self)
        self._parts = {
            "place": self.place, "faces": self.faces, "strings": self.strings, "oversizing": self.oversizing, "runs": self.runs,
            "walls": self.walls,
        }  # fmt: skip

    def note(self) -> str:
        of_plan = self.part in ("strings", "oversizing", "runs", "walls")
        return "This part belongs to the plan chosen above." if of_plan else "This part is shared by all plans."

    def part_of(self, path: str) -> str:
        if path.startswith("faces"):
            return "faces"
        if path.startswith("site.spots") or ".protection." in path or path.endswith(OF_WALLS):
            return "walls"
        of_site = path.startswith(("site.board", "site.supply_run", "site.circuits"))
        if of_site or path.endswith("].reuses") or "].run" in path or "].battery_run" in path or "].string_run" in path:
            return "runs"
        if path.startswith("plans"):
            return "oversizing" if ".later" in path else "strings"
        return "place"
