"""Roof faces: direction, room, shade against the sun's ways, and what each face gives."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel, QPushButton, QWidget

from calm_relay.decision.directions import DirectionMap, FaceYield, fit_words
from calm_relay.job.edits import Edit
from calm_relay.job.models import Job
from calm_relay.job.parts import add_face, remove_face
from calm_relay.job.sky_models import Face
from calm_relay.job.sources import typed_edits
from calm_relay.pv.shade_files import read_shade
from calm_relay.ui.views.compass import CompassDial
from calm_relay.ui.views.direction_map import DirectionMapView
from calm_relay.ui.views.horizon_view import HorizonView
from calm_relay.ui.views.month_bars import MonthBars
from calm_relay.ui.views.shade_table import ShadeTableView
from calm_relay.ui.widgets import label

if TYPE_CHECKING:
    from calm_relay.pv.shade import SunPath
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel, Extra

FACE = ("name", "tilt_deg", "azimuth_deg", "mounting", "shade_loss_frac", "rear_ratio_frac")
ROOM = ("room_modules", "eave_m", "slope_m", "setback_m")
CHARS = {"name": 16, "rear_ratio_frac": 12}
GHOSTS = {"rear_ratio_frac": "by mounting", "room_modules": "as it fits"}
HORIZON_WORDS = (
    "What stands around it (dark) against the sun's ways, dotted where hidden; the shaded ground is behind the face. "
    "Arrows choose a point and lift it, Ctrl and arrows move it along, Insert adds one, Delete takes it out."
)
OPEN_WORDS = (
    "Open sky: the sun's ways on three days; the shaded ground is behind the face. Click, or press Insert in the picture, "
    "to set the first point of what stands around it."
)


class FacesPart:
    """A block a face; below, shade and other directions of the face in hand."""

    def __init__(self, page: FieldPage) -> None:
        self.page = page
        self.chosen = ""

    def shape(self) -> object:
        return tuple(f.id for f in self.page.session.job.faces), self._face_id()

    def _face_id(self) -> str:
        ids = [f.id for f in self.page.session.job.faces]
        return self.chosen if self.chosen in ids else (ids[0] if ids else "")

    def build(self) -> None:
        page, job = self.page, self.page.session.job
        page.heading("Roof faces", ("Add a face", self._add))
        self.dials: dict[str, CompassDial] = {}
        self._figures: dict[str, tuple[MonthBars, QLabel]] = {}
        self._fits: dict[str, QLabel] = {}
        for face in job.faces:
            self._block(face)
        if not job.faces:
            page.words("No roof face yet. Add one, then type its tilt and turn its dial.", "teach")
            return
        face = job.face(self._face_id())
        self._shade_head = page.heading(
            f"Shade of {face.name}", ("Read from a file…", self.read_shade), ("Open sky", lambda: self._clear("horizon"))
        )
        self._shade_words = page.words("")
        self.horizon = HorizonView(page.theme, page.scale)
        self.horizon.changed.connect(self._horizon_changed)
        page.add(self.horizon)
        page.heading("Part of it in shadow, by month and hour", ("No shadow", lambda: self._clear("shade_table")))
        page.words(
            "Local standard time. Arrows move, Shift takes in more, 0 to 9 set tenths, Enter all, Delete none. A string in part "
            "shadow gives the better of two: shaded modules passed by, or all at the shaded ones' current."
        )
        self.table = ShadeTableView(page.theme, page.scale)
        self.table.changed.connect(self._table_changed)
        page.add(self.table)
        page.heading("Other tilts and directions")
        self._map_words = page.words("")
        self.map = DirectionMapView(page.theme, page.scale)
        page.add(self.map)

    def _block(self, face: Face) -> None:
        page, base = self.page, f"faces[{face.id}]"
        dial = CompassDial(face.name, page.theme, page.scale)
        dial.turned.connect(lambda azimuth, f=face.id: self._turn(f, azimuth))
        self.dials[face.id] = dial
        shade = QPushButton("Shade and directions")
        shade.setCheckable(True)
        shade.setChecked(face.id == self._face_id())
        shade.setAccessibleName(f"Shade and directions of {face.name}")
        shade.clicked.connect(lambda _=False, f=face.id: self.choose(f))
        cells: list[QWidget] = [page.cell(f"{base}.{name}", chars=CHARS.get(name, 7), ghost=GHOSTS.get(name, "")) for name in FACE]
        page.flow(dial, *cells, shade, page.button("Remove", lambda: self._remove(face.id), f"Remove {face.name}"))
        room = [page.cell(f"{base}.{name}", chars=9, ghost=GHOSTS.get(name, "")) for name in ROOM]
        fits = label("", "quiet", wrap=False)
        self._fits[face.id] = fits
        page.flow(*room, fits).setContentsMargins(14, 0, 0, 0)
        bars, words = MonthBars(f"{face.name} by month", page.theme, page.scale), label("", "quiet", wrap=False)
        self._figures[face.id] = bars, words
        page.flow(bars, words).setContentsMargins(14, 0, 0, 6)

    # --- showing
    def show_figures(self) -> None:
        session = self.page.session
        job, north = session.job, session.job.site.place.latitude_deg >= 0
        for face in job.faces:
            if face.id in self.dials:
                self.dials[face.id].show_face(face.azimuth_deg, face.tilt_deg)
                self._fits[face.id].setText(fit_words(job, face))
        reached = session.face_months()
        answer = session.extra("yields", _yields(job))
        yields = answer if isinstance(answer, dict) else {}
        top = max((max(row) for row in reached.values()), default=0.0) / 1000
        for face_id, (bars, words) in self._figures.items():
            words.setEnabled(face_id in reached)
            if face_id in reached:
                by_month = [wh / 1000 for wh in reached[face_id]]
                bars.show_months(by_month, top, "kWh/m²")
                made = yields.get(face_id)
                gives = f"; {made.year_kwh_per_kwp:.0f} kWh/kWp with {made.module}" if isinstance(made, FaceYield) else ""
                words.setText(f"{sum(by_month):.0f} kWh/m² a year reach the cells, after shade{gives}")
        if not job.faces:
            return
        face = job.face(self._face_id())
        paths = session.extra("paths", _paths(job))
        last: tuple[SunPath, ...] = paths or session.last_extra("paths") or ()  # type: ignore[assignment]
        self.horizon.show_horizon(face.horizon, last if isinstance(last, tuple) else (), face.azimuth_deg, north=north)
        self.table.show_table(face.shade_table)
        self._shade_head.setText(f"Shade of {face.name}")
        self._shade_words.setText(HORIZON_WORDS if face.horizon else OPEN_WORDS)
        self._show_map(face, north=north)

    def _show_map(self, face: Face, *, north: bool) -> None:
        session = self.page.session
        key = f"directions {face.id}"
        found = session.extra(key, _directions(session.job, face.id))
        kept = found or session.last_extra(key)
        made = kept if isinstance(kept, DirectionMap) else None
        self.map.setEnabled(found is not None)
        self.map.show_map(made, face.tilt_deg, face.azimuth_deg, north=north)
        if made is not None:
            tilt, azimuth, value = made.best
            self._map_words.setText(
                f"Percent of the best, free of shade: {value:.0f} kWh/kWp a year at tilt {tilt:g}°, azimuth {azimuth:g}°. The "
                "frame is this face; a further face gives what its own field says."
            )

    # --- changing
    def choose(self, face_id: str) -> None:
        self.chosen = face_id
        self.page.refresh()

    def _turn(self, face_id: str, azimuth: float) -> None:
        path, name = f"faces[{face_id}].azimuth_deg", self.page.session.job.face(face_id).name
        self.page.session.edit(f"{name} looks to {azimuth:g}°", typed_edits(self.page.session.job, path, azimuth), merge=path)

    def _horizon_changed(self, points: tuple[object, ...], words: str) -> None:
        face = self.page.session.job.face(self._face_id())
        path = f"faces[{face.id}].horizon"
        self.page.session.edit(f"Horizon of {face.name}: {words}", [Edit(path, points)], merge=path)

    def _table_changed(self, table: tuple[object, ...], words: str) -> None:
        face = self.page.session.job.face(self._face_id())
        self.page.session.edit(f"Shade of {face.name}: {words}", [Edit(f"faces[{face.id}].shade_table", table)])

    def _clear(self, field: str) -> None:
        face = self.page.session.job.face(self._face_id())
        words = f"Open sky around {face.name}" if field == "horizon" else f"No table of shade on {face.name}"
        self.page.session.edit(words, [Edit(f"faces[{face.id}].{field}", () if field == "horizon" else None)])

    def read_shade(self) -> None:
        path = self.page.session.dialogs.ask_file("Read shade", "Tables (*.csv *.txt);;All files (*)")
        if path is not None:
            self.read_file(path)

    def read_file(self, path: Path) -> None:
        """Take a horizon or a table of shade from a file; raises BadInput with everything as it was."""
        face = self.page.session.job.face(self._face_id())
        edits = [Edit(f"faces[{face.id}].{name}", value) for name, value in read_shade(path).items()]
        self.page.session.edit(f"Shade of {face.name} from {path.name}", edits)

    def _add(self) -> None:
        job, made = add_face(self.page.session.job)
        self.chosen = made
        self.page.change("Add a roof face", job)

    def _remove(self, face_id: str) -> None:
        job = self.page.session.job
        self.page.change(f"Remove {job.face(face_id).name}", remove_face(job, face_id))


def _yields(job: Job) -> Extra:
    def work(study: Study, _: Cancel) -> object:
        from calm_relay.decision.roofs import face_yield

        return {face.id: face_yield(study, job, face.id) for face in job.faces}

    return work


def _paths(job: Job) -> Extra:
    def work(study: Study, _: Cancel) -> object:
        from calm_relay.decision.roofs import paths

        return paths(study, job)

    return work


def _directions(job: Job, face_id: str) -> Extra:
    def work(study: Study, cancelled: Cancel) -> object:
        from calm_relay.decision.roofs import direction_map

        return direction_map(study, job, face_id, cancelled)

    return work
