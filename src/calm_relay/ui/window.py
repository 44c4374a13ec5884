"""The main window: work order, plan tabs, pages, headroom, menus. It shows and asks; the session holds the job."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QAction, QActionGroup, QCloseEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from calm_relay import __version__
from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, read_job
from calm_relay.job.plans import duplicate_plan, remove_plan, rename_plan
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.pages.decide import DecidePage
from calm_relay.ui.pages.plans import PlansPage
from calm_relay.ui.session import Session
from calm_relay.ui.theme import DARK, LIGHT, Theme, apply_theme
from calm_relay.ui.views.headroom import Headroom
from calm_relay.ui.views.plan_tabs import PlanTabs
from calm_relay.ui.widgets import label, scrolled

NARROW_PX = 860
TEXT_SIZES = (("Text 100 %", 1.0), ("Text 125 %", 1.25), ("Text 150 %", 1.5))


class MainWindow(QMainWindow):
    """One window on one job."""

    def __init__(
        self, opened: OpenedJob, path: Path | None, *, theme: Theme = LIGHT, text_scale: float = 1.0, dialogs: Dialogs | None = None
    ) -> None:
        super().__init__()
        self.theme, self.text_scale = theme, text_scale
        self.dialogs = dialogs or Dialogs(self)
        self.session = Session(opened, path, self)
        self._wanted, self._unfolded_narrow = True, False
        self.setMinimumSize(QSize(900, 600))
        self.resize(1280, 800)
        self._actions: dict[str, QAction] = {}
        self._menus()
        self._adopt()

    def _adopt(self) -> None:
        """Build the window's content for the present session, and start its study."""
        self._build()
        self.session.job_changed.connect(self._job_changed)
        self.session.plan_chosen.connect(self._job_changed)
        self.session.progress.connect(self._progress)
        self.session.problem.connect(self._problem)
        self.set_look(self.theme, self.text_scale)
        self._job_changed()
        self.show_page(0)
        self.session.start()

    # --- frame
    def _build(self) -> None:
        self.tabs = PlanTabs(self.session, self.theme)
        self.plans = PlansPage(self.session, self.theme)
        self.decide = DecidePage(self.session, self.theme)
        self.pages = QStackedWidget()
        self.headroom = Headroom(self.session, self.theme)
        self.headroom.applied.connect(lambda text: self.statusBar().showMessage(f"Applied: {text}", 6000))
        side = QWidget()
        side.setObjectName("side")
        order = QVBoxLayout(side)
        order.setContentsMargins(0, 10, 0, 10)
        order.setSpacing(1)
        self._job_name = label("", "strong", wrap=True)
        self._job_name.setContentsMargins(14, 0, 8, 0)
        self._made_up = label("", "quiet")
        self._made_up.setContentsMargins(14, 0, 8, 8)
        order.addWidget(self._job_name)
        order.addWidget(self._made_up)
        self._order = QButtonGroup(self)
        for index, (name, page) in enumerate((("Plans", self.plans), ("Decide", self.decide))):
            button = QPushButton(name)
            button.setObjectName("order")
            button.setCheckable(True)
            self._order.addButton(button, index)
            order.addWidget(button)
            self.pages.addWidget(scrolled(page))
        self._order.idClicked.connect(self.show_page)
        order.addStretch()
        self._undo_words = label("", "quiet", wrap=True)
        self._undo_words.setContentsMargins(14, 0, 8, 0)
        order.addWidget(self._undo_words)
        self._side = side
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.tabs)
        column.addWidget(self.pages, 1)
        self._split = QSplitter(Qt.Orientation.Horizontal)
        self._split.setChildrenCollapsible(False)
        self._split.setHandleWidth(1)
        self._split.addWidget(middle)
        self._split.addWidget(self.headroom)
        self._split.setStretchFactor(0, 1)
        self._split.setStretchFactor(1, 0)
        body = QWidget()
        row = QHBoxLayout(body)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(side)
        row.addWidget(self._split, 1)
        self.setCentralWidget(body)
        self.statusBar().setSizeGripEnabled(False)

    def _action(self, menu: QMenu, name: str, text: str, keys: QKeySequence | str, slot: object) -> QAction:
        action = QAction(text, self)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(slot)
        menu.addAction(action)
        self._actions[name] = action
        return action

    def _menus(self) -> None:
        std = QKeySequence.StandardKey
        menu = self.menuBar().addMenu("&Job")
        self._action(menu, "open", "&Open…", QKeySequence(std.Open), self.open_job)
        self._action(menu, "save", "&Save", QKeySequence(std.Save), self.save)
        self._action(menu, "save_as", "Save &as…", "Ctrl+Shift+S", self.save_as)
        menu.addSeparator()
        self._action(menu, "quit", "&Quit", "Ctrl+Q", self.close)
        menu = self.menuBar().addMenu("&Edit")
        self._action(menu, "undo", "&Undo", QKeySequence(std.Undo), self.undo)
        self._action(menu, "redo", "&Redo", "Ctrl+Shift+Z", self.redo)
        menu = self.menuBar().addMenu("&Plan")
        self._action(menu, "duplicate", "&Duplicate this plan", "Ctrl+D", self.duplicate)
        self._action(menu, "rename", "Re&name this plan…", "Ctrl+R", self.rename)
        self._action(menu, "remove", "&Remove this plan", "", self.remove)
        menu.addSeparator()
        self._action(menu, "next", "Ne&xt plan", "Ctrl+PgDown", lambda: self._step_plan(1))
        self._action(menu, "previous", "&Previous plan", "Ctrl+PgUp", lambda: self._step_plan(-1))
        menu = self.menuBar().addMenu("&View")
        self._action(menu, "page0", "&Plans", "Alt+1", lambda: self.show_page(0))
        self._action(menu, "page1", "&Decide", "Alt+2", lambda: self.show_page(1))
        menu.addSeparator()
        self._action(menu, "grid", "Open or close the &grid", "G", lambda: self.plans.toggle_grid())
        fold = self._action(menu, "fold", "&Headroom", "F8", self._fold)
        fold.setCheckable(True)
        fold.setChecked(True)
        menu.addSeparator()
        dark = self._action(menu, "dark", "D&ark", "F9", lambda on: self.set_look(DARK if on else LIGHT, self.text_scale))
        dark.setCheckable(True)
        sizes = QActionGroup(self)
        for text, scale in TEXT_SIZES:
            action = self._action(menu, text, text, "", lambda _=False, s=scale: self.set_look(self.theme, s))
            action.setCheckable(True)
            sizes.addAction(action)
        menu = self.menuBar().addMenu("&Help")
        self._action(menu, "keys", "&Keys", "F1", lambda: self.dialogs.say("Keys", self.keys_text()))
        self._action(menu, "about", "&About", "", lambda: self.dialogs.say("About", self.about_text()))

    def action(self, name: str) -> QAction:
        """Return a menu entry by its short name."""
        return self._actions[name]

    def keys_text(self) -> str:
        """Return every shortcut with what it does."""
        rows = [
            (a.shortcut().toString(QKeySequence.SequenceFormat.NativeText), a.text().replace("&", ""))
            for a in self._actions.values()
            if not a.shortcut().isEmpty()
        ]
        rows += [
            ("Arrows", "along the relay line, along the plan tabs; in a number: nudge it"),
            ("Enter", "open the station; apply a number"),
        ]
        rows += [("Esc", "put a number back; close the sheet"), ("Tab", "next field")]
        return "\n".join(f"{keys}\t{text}" for keys, text in rows)

    @staticmethod
    def about_text() -> str:
        """Return what the program is and what it defers to."""
        return (
            f"Calm Relay {__version__}. Plans how batteries join a photovoltaic system, and proves it over a simulated year.\n\n"
            "Local codes, the network operator, the equipment's own manual and a licensed electrician decide. "
            "Open source (MIT). Qt through PySide6 under the LGPL; font Inter under the SIL Open Font License."
        )

    # --- showing
    def show_page(self, index: int) -> None:
        """Show a page of the work order."""
        self.pages.setCurrentIndex(index)
        button = self._order.button(index)
        if button is not None:
            button.setChecked(True)
        self._actions["grid"].setEnabled(index == 0)

    def set_look(self, theme: Theme, text_scale: float) -> None:
        """Change theme and text size."""
        self.theme, self.text_scale = theme, text_scale
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, theme, text_scale)
        self._side.setFixedWidth(int(132 * text_scale))
        self.headroom.setMinimumWidth(int(226 * text_scale))
        self._split.setSizes([10_000, int(262 * text_scale)])
        for view in (self.tabs, self.headroom, self.plans):
            view.set_theme(theme, text_scale)
        self.decide.set_theme(theme)
        self._fit_headroom()
        self._actions["dark"].setChecked(theme is DARK)
        for text, scale in TEXT_SIZES:
            self._actions[text].setChecked(abs(scale - text_scale) < 0.01)

    def _fold(self, shown: bool) -> None:
        self._wanted, self._unfolded_narrow = shown, shown
        self._fit_headroom()

    def _fit_headroom(self) -> None:
        """Headroom folds away by itself where the window is too narrow for it at this text size."""
        wide = self.width() / self.text_scale >= NARROW_PX
        self.headroom.setVisible(self._wanted and (wide or self._unfolded_narrow))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_headroom()

    def _job_changed(self) -> None:
        document, job = self.session.document, self.session.job
        name = job.name if self.session.path is None else self.session.path.name
        self.setWindowTitle(f"{name}[*] – Calm Relay")
        self.setWindowModified(document.dirty)
        self._job_name.setText(job.name)
        self._made_up.setText("made-up demo" if job.made_up else "")
        for name, word, text in (("undo", "Undo", document.undo_label), ("redo", "Redo", document.redo_label)):
            self._actions[name].setEnabled(text is not None)
            self._actions[name].setText(f"&{word}" if text is None else f"&{word}: {text}")
        self._undo_words.setText("" if document.undo_label is None else f"Undo: {document.undo_label}")
        today = self.session.chosen == job.plans[0].id
        for entry in ("remove", "rename"):
            self._actions[entry].setEnabled(not today)

    def _progress(self, text: str) -> None:
        self.statusBar().showMessage(text or "Up to date. Local codes, the network operator and the equipment's manual decide.")

    def _problem(self, text: str) -> None:
        self.dialogs.say("That did not work", text)

    # --- doing
    def undo(self) -> None:
        """Take the last entry back."""
        text = self.session.document.undo()
        if text:
            self.statusBar().showMessage(f"Undone: {text}", 4000)

    def redo(self) -> None:
        """Bring the next entry back."""
        text = self.session.document.redo()
        if text:
            self.statusBar().showMessage(f"Done again: {text}", 4000)

    def _step_plan(self, by: int) -> None:
        ids = [plan.id for plan in self.session.job.plans]
        self.session.choose(ids[(ids.index(self.session.chosen) + by) % len(ids)])

    def duplicate(self) -> None:
        """Put a copy of the chosen plan behind the others, and look at it."""
        plans, made = duplicate_plan(self.session.job, self.session.chosen)
        self._change_plans(f"Duplicate plan {self.session.plan.letter}", plans)
        self.session.choose(made)

    def rename(self) -> None:
        """Ask for another name."""
        name = self.dialogs.ask_text("Rename plan", "Name of the plan:", self.session.plan.name)
        if name is not None and name.strip():
            self._change_plans(
                f"Rename plan {self.session.plan.letter}", rename_plan(self.session.job, self.session.chosen, name.strip())
            )

    def remove(self) -> None:
        """Take the chosen plan out; undo brings it back."""
        self._change_plans(f"Remove plan {self.session.plan.letter}", remove_plan(self.session.job, self.session.chosen))

    def _change_plans(self, text: str, plans: tuple) -> None:  # type: ignore[type-arg]
        try:
            self.session.change_plans(text, plans)
        except BadInput as error:
            self._problem(str(error))

    def open_job(self) -> None:
        """Ask for a job file and open it in place of this one."""
        if not self._may_leave():
            return
        path = self.dialogs.ask_open()
        if path is not None:
            self.load(path)

    def load(self, path: Path) -> bool:
        """Open a job file; a fault leaves the present job as it is."""
        try:
            opened = read_job(path)
        except BadInput as error:
            self._problem(str(error))
            return False
        self.session.close()
        self.session = Session(opened, path, self)
        self._adopt()
        return True

    def save(self) -> bool:
        """Save under the job's name, or ask for one."""
        if self.session.path is None:
            return self.save_as()
        if self.session.changed_on_disk() and not self.dialogs.confirm(
            f"{self.session.path.name} was changed by another program since it was opened. Write over it?", "Write over"
        ):
            return False
        return self._save_to(self.session.path)

    def save_as(self) -> bool:
        """Ask for a name and save."""
        path = self.dialogs.ask_save(self.session.job.name)
        return path is not None and self._save_to(path)

    def _save_to(self, path: Path) -> bool:
        try:
            self.session.save(path)
        except BadInput as error:
            self._problem(str(error))
            return False
        self.statusBar().showMessage(f"Saved as {path}", 6000)
        return True

    def _may_leave(self) -> bool:
        if not self.session.document.dirty:
            return True
        answer = self.dialogs.ask_leave(self.session.job.name)
        return self.save() if answer == "save" else answer == "drop"

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self.session.close()
        event.accept()
