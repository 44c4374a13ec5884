"""Every menu entry with its key, in one table: menus and the F1 sheet are made from it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMenu

from calm_relay import __version__
from calm_relay.decision.marks import PAGES
from calm_relay.decision.patterns import PATTERNS
from calm_relay.places import ATTRIBUTION

if TYPE_CHECKING:
    from calm_relay.ui.window import MainWindow

TEXT_SIZES = (("Text 100 %", 1.0), ("Text 125 %", 1.25), ("Text 150 %", 1.5))
THEMES = (("As the system", "system"), ("Light", "light"), ("Dark", "dark"))
UNITS = (("Metric units", "metric"), ("North American units", "north_american"))
BY_HAND = (
    ("Arrows", "along the relay line and the plan tabs; over the carpet and the day: move the clock; in a number: nudge it"),
    ("Enter", "open the station, the check or the page; apply a number"),
    ("Esc", "put a number back; close the sheet"),
    ("Tab", "next field"),
    ("Page Up, Page Down", "a week in the carpet, an hour in the day"),
)


class Actions:
    """The window's actions by short name."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self._all: dict[str, QAction] = {}
        self._menus: dict[str, QMenu] = {}
        self._build()

    def __getitem__(self, name: str) -> QAction:
        return self._all[name]

    def _add(self, menu: QMenu, name: str, text: str, keys: str, act: Callable[[], object], *, check: bool = False) -> QAction:
        action = QAction(text, self._window)
        if keys:
            action.setShortcut(QKeySequence(keys))
        if check:
            action.setCheckable(True)
            action.toggled.connect(act)
        else:
            action.triggered.connect(lambda _=False: act())
        menu.addAction(action)
        self._all[name] = action
        return action

    def _choice(self, menu: QMenu, rows: tuple[tuple[str, object], ...], act: Callable[[object], object], prefix: str) -> None:
        group = QActionGroup(self._window)
        for text, value in rows:
            action = self._add(menu, f"{prefix}:{value}", text, "", partial(act, value))
            action.setCheckable(True)
            group.addAction(action)

    def _build(self) -> None:
        w, bar = self._window, self._window.menuBar()
        menu = bar.addMenu("&Job")
        self._add(menu, "new", "&New job", "Ctrl+N", self._new)
        self._add(menu, "open", "&Open…", "Ctrl+O", w.open_job)
        self._menus["recent"] = menu.addMenu("Open &recent")
        self._add(menu, "demo", "Open the &demo", "", partial(self._demo, "demo"))
        self._add(menu, "demo-kvist", "Open the &three-phase demo", "", partial(self._demo, "demo-kvist"))
        menu.addSeparator()
        self._add(menu, "save", "&Save", "Ctrl+S", w.save)
        self._add(menu, "save_as", "Save &as…", "Ctrl+Shift+S", w.save_as)
        menu.addSeparator()
        self._add(menu, "quit", "&Quit", "Ctrl+Q", w.close)
        menu = bar.addMenu("&Edit")
        self._add(menu, "undo", "&Undo", "Ctrl+Z", w.undo)
        self._add(menu, "redo", "&Redo", "Ctrl+Shift+Z", w.redo)
        menu.addSeparator()
        self._add(menu, "goto", "&Go to…", "Ctrl+G", w.go_to)
        menu = bar.addMenu("&Plan")
        drafts = menu.addMenu("D&raft a plan")
        for key, text, tip in PATTERNS:
            self._add(drafts, f"draft:{key}", text, "", partial(w.draft, key)).setToolTip(tip)
        self._add(menu, "duplicate", "&Duplicate this plan", "Ctrl+D", w.duplicate)
        self._add(menu, "rename", "Re&name this plan…", "Ctrl+R", w.rename)
        self._add(menu, "earlier", "Move it &earlier", "", lambda: w.move_plan(-1))
        self._add(menu, "later", "Move it &later", "", lambda: w.move_plan(1))
        self._add(menu, "remove", "&Remove this plan", "", w.remove)
        menu.addSeparator()
        self._add(menu, "pin", "P&in or unpin this plan", "Ctrl+P", lambda: w.session.toggle_pin(w.session.chosen))
        self._add(menu, "next", "Ne&xt plan", "Ctrl+PgDown", lambda: w.step_plan(1))
        self._add(menu, "previous", "&Previous plan", "Ctrl+PgUp", lambda: w.step_plan(-1))
        menu = bar.addMenu("&View")
        for number, (page, title) in enumerate(PAGES, start=1):
            self._add(menu, f"page:{page}", title.replace("&", "&&"), f"Alt+{number}", partial(w.show_page, page))
        menu.addSeparator()
        self._add(menu, "grid", "Open or close the &grid", "G", lambda: w.plans.toggle_grid())
        self._add(menu, "headroom", "&Headroom", "F8", w.fold_headroom, check=True)  # type: ignore[arg-type]
        self._add(menu, "strip", "Day &strip", "F7", w.fold_strip, check=True)  # type: ignore[arg-type]
        for name in ("headroom", "strip"):
            self._all[name].blockSignals(True)
            self._all[name].setChecked(True)
            self._all[name].blockSignals(False)
        menu.addSeparator()
        self._choice(menu.addMenu("&Theme"), THEMES, w.set_theme_choice, "theme")  # type: ignore[arg-type]
        self._choice(menu.addMenu("Text si&ze"), TEXT_SIZES, w.set_text_scale, "text")  # type: ignore[arg-type]
        self._choice(menu.addMenu("&Units"), UNITS, w.set_units, "units")  # type: ignore[arg-type]
        menu = bar.addMenu("&Help")
        self._add(menu, "keys", "&Keys", "F1", lambda: w.dialogs.say("Keys", self.keys_text()))
        self._add(menu, "about", "&About", "", lambda: w.dialogs.say("About", about_text()))
        self.show_recent(w.settings.recent)

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

    def show_look(self, theme: str, scale: float, units: str) -> None:
        """Tick what is in use."""
        for _, value in TEXT_SIZES:
            self._all[f"text:{value}"].setChecked(abs(value - scale) < 0.01)
        for _, name in THEMES:
            self._all[f"theme:{name}"].setChecked(name == theme)
        for _, name in UNITS:
            self._all[f"units:{name}"].setChecked(name == units)

    def show_recent(self, paths: tuple[Path, ...]) -> None:
        """List the recent jobs."""
        menu = self._menus["recent"]
        menu.clear()
        for path in paths:
            menu.addAction(path.name).triggered.connect(lambda _=False, p=path: self._window.load(p))
        menu.setEnabled(bool(paths))

    def keys_text(self) -> str:
        """Return every shortcut with what it does."""
        rows = [
            (
                a.shortcut().toString(QKeySequence.SequenceFormat.NativeText),
                a.text().replace("&&", "+").replace("&", "").replace("+", "&"),
            )
            for a in self._all.values()
            if not a.shortcut().isEmpty()
        ]
        return "\n".join(f"{keys}\t{text}" for keys, text in (*rows, *BY_HAND))

    # --- jobs
    def _new(self) -> None:
        from calm_relay.job.container import OpenedJob
        from calm_relay.job.series import SeriesStore
        from calm_relay.job.template import new_job

        job = new_job()
        self._window.take(OpenedJob(job, SeriesStore(), job.schema_version), None)

    def _demo(self, name: str) -> None:
        from calm_relay.demo import demo_path
        from calm_relay.job.container import read_job

        self._window.take(read_job(demo_path(name)), None)


def about_text() -> str:
    """Return what the program is and what it defers to."""
    return (
        f"Calm Relay {__version__}. Plans how batteries join a photovoltaic system, and proves it over a simulated year.\n\n"
        "Local codes, the network operator, the equipment's own manual and a licensed electrician decide. "
        "Open source (MIT). Qt through PySide6 under the LGPL; font Inter under the SIL Open Font License; pyqtgraph (MIT).\n\n"
        f"{ATTRIBUTION}"
    )
