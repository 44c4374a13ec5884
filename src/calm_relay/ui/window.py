"""The main window: work order, plan tabs, pages, headroom, day strip. It shows and asks; the session holds the job."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QEvent, QPoint, QSize, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from calm_relay.decision.index import Entry, entries
from calm_relay.decision.marks import work_order
from calm_relay.decision.words import card_words
from calm_relay.job.container import OpenedJob
from calm_relay.job.pages import PAGES, page_of, page_spec
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.goto import GoTo
from calm_relay.ui.job_files import JobFiles
from calm_relay.ui.menus import Command, Menus
from calm_relay.ui.page_keys import PageKeys
from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.pages.make import Looked, PagesAhead, make_page
from calm_relay.ui.pages.plans import PlansPage
from calm_relay.ui.plan_actions import PlanActions
from calm_relay.ui.session import Session
from calm_relay.ui.settings import Settings
from calm_relay.ui.theme import Theme, apply_theme, theme_of
from calm_relay.ui.views.day_strip import DayStrip
from calm_relay.ui.views.headroom import Headroom
from calm_relay.ui.views.pin_bar import PinBar
from calm_relay.ui.views.plan_tabs import PlanTabs
from calm_relay.ui.views.reading_stop import ReadingStop
from calm_relay.ui.views.work_order import OrderButton
from calm_relay.ui.widgets import label, scrolled
from calm_relay.units import use_units

if TYPE_CHECKING:
    from calm_relay.rules.picking import Offer

NARROW_PX = 860
RECENT = "&Job/Open &recent"
UP_TO_DATE = "Up to date. Local codes, the network operator and the equipment's manual decide."


class MainWindow(QMainWindow):
    """One window on one job; its menus are made of the commands it is given (`commands.make_window`)."""

    def __init__(
        self,
        opened: OpenedJob,
        path: Path | None,
        commands: Sequence[Command],
        *,
        settings: Settings | None = None,
        dialogs: Dialogs | None = None,
        recovered: bool = False,
    ) -> None:
        super().__init__()
        self.settings = settings or Settings()
        self.theme, self.text_scale = theme_of(self.settings.theme), self.settings.text_scale
        self._dress_application()  # before anything is made: what stands already would keep the size of its letters
        self.dialogs = dialogs or Dialogs(self)
        self._wanted, self._unfolded_narrow, self._strip_wanted = True, False, True
        self._unfolded_for = ""  # the page it was unfolded on by hand
        use_units(self.settings.units)
        self.dialogs.pick = self._pick
        self.session = Session(opened, path, self, self.dialogs, recovered=recovered)
        self.setMinimumSize(QSize(900, 600))
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.files = JobFiles(self)
        self.menus = Menus(self, commands)
        self.show_recent()
        self.keys = PageKeys(self)
        self.plan_actions = PlanActions(self)
        self._take_up()
        hints = QApplication.styleHints()
        hints.colorSchemeChanged.connect(lambda _: self.set_theme_choice("system") if self.settings.theme == "system" else None)

    def adopt(self, opened: OpenedJob, path: Path | None, *, recovered: bool = False) -> None:
        """Put another job in place of the present one."""
        self.session.close()
        self.session = Session(opened, path, self, self.dialogs, recovered=recovered)
        self._take_up()

    def _take_up(self) -> None:
        """Build the window's content for the present session, and start its study."""
        self._build()
        self.session.job_changed.connect(self._job_changed)
        self.session.plan_chosen.connect(self._job_changed)
        self.session.answers_changed.connect(self._show_marks)
        self.session.progress.connect(self._progress)
        self.session.problem.connect(self.files.problem)
        self.session.command_asked.connect(lambda name: self.action(name).trigger())
        self._set_look(self.theme, self.text_scale)
        self._job_changed()
        self.show_page("plans" if self.session.job.plans[0].nodes else "site")
        if self.shown == "plans":
            self.plans.relay.setFocus()
        PagesAhead(self.session.runner)
        self.session.start()

    # --- frame
    def _pick(self, path: str) -> Offer | str | None:
        """Let a card be chosen for a place in the plan."""
        from calm_relay.ui.picker_dialog import PickerDialog

        dialog = PickerDialog(self.session, path, self)
        self.dialogs.show(dialog)
        return "" if dialog.cleared else dialog.chosen

    def _build(self) -> None:
        self.tabs = PlanTabs(self.session, self.theme)
        self.tabs.menu_asked.connect(lambda at: self.menus.menu("&Plan").exec(at))
        self.pins = PinBar(self.session)
        self.headroom = Headroom(self.session, self.theme, self.dialogs)
        self.headroom.applied.connect(lambda text: self.statusBar().showMessage(f"Applied: {text}", 6000))
        self.strip = DayStrip(self.session, self.theme)
        self.pages = QStackedWidget()
        self._built: dict[str, QWidget] = {}
        self._looks: dict[str, Any] = {}  # what was looked at on pages that are made anew
        self._holders: dict[str, QScrollArea] = {}
        self._page = ""
        body = QWidget()
        row = QHBoxLayout(body)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self._build_side())
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.tabs)
        column.addWidget(self.pins)
        self._upright = QSplitter(Qt.Orientation.Vertical)
        self._upright.setChildrenCollapsible(False)
        self._upright.setHandleWidth(1)
        self._upright.addWidget(self.pages)
        self._upright.addWidget(self.strip)
        self._upright.setStretchFactor(0, 1)
        self._upright.setStretchFactor(1, 0)
        column.addWidget(self._upright, 1)
        self._split = QSplitter(Qt.Orientation.Horizontal)
        self._split.setChildrenCollapsible(False)
        self._split.setHandleWidth(1)
        self._split.addWidget(middle)
        self._split.addWidget(self.headroom)
        self._split.setStretchFactor(0, 1)
        self._split.setStretchFactor(1, 0)
        row.addWidget(self._split, 1)
        self.setCentralWidget(body)
        self.statusBar().setSizeGripEnabled(False)

    def _build_side(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        order = QVBoxLayout(side)
        order.setContentsMargins(0, 10, 0, 10)
        order.setSpacing(1)
        self._job_name = label("", "strong", wrap=True)
        self._job_name.setContentsMargins(14, 0, 8, 0)
        self._made_up = label("", "quiet", wrap=True)
        self._made_up.setContentsMargins(14, 0, 8, 0)
        order.addWidget(self._job_name)
        order.addWidget(self._made_up)
        order.addSpacing(8)
        self._order = QButtonGroup(self)
        self.order_buttons: dict[str, OrderButton] = {}
        for spec in PAGES:
            button = OrderButton(spec.title, self.theme)
            button.clicked.connect(lambda _=False, p=spec.key: self.show_page(p))
            button.entered.connect(lambda p=spec.key: self.keys.enter(p))
            self._order.addButton(button)
            self.order_buttons[spec.key] = button
            order.addWidget(button)
        order.addStretch()
        self.reading = ReadingStop(self.session)
        order.addWidget(self.reading)
        self._undo_words = label("", "quiet", wrap=True)
        self._undo_words.setContentsMargins(14, 0, 8, 0)
        order.addWidget(self._undo_words)
        self._side = side
        return side

    def page(self, name: str) -> QWidget:
        """Return a page, built when it is first asked for: charts and their library are loaded only then."""
        if name not in self._built:
            made = make_page(name, self.session, self.theme)
            if isinstance(made, Looked) and name in self._looks:
                made.look = self._looks.pop(name)
            made.set_theme(self.theme, self.text_scale)  # type: ignore[attr-defined]
            if isinstance(made, PlansPage):
                made.sheet.shown.connect(lambda _: self._fit_strip())
            self._built[name] = made
            self._holders[name] = scrolled(made)
            self.pages.addWidget(self._holders[name])
        return self._built[name]

    @property
    def plans(self) -> PlansPage:
        """The page with the relay line."""
        page = self.page("plans")
        assert isinstance(page, PlansPage)
        return page

    # --- showing
    def show_page(self, name: str) -> None:
        """Show a page of the work order."""
        self.page(name)
        self._page = name
        self.pages.setCurrentWidget(self._holders[name])
        self.order_buttons[name].setChecked(True)
        for key in ("grid", "worst", "fold"):
            self.menus[key].setEnabled(name == "plans")
        self._unfolded_for = self._unfolded_for if self._unfolded_for == name else ""
        self._fit_headroom()
        self._fit_strip()
        focus = self.focusWidget()
        if focus is None or not focus.isVisible() or focus in self.order_buttons.values():
            self.order_buttons[name].setFocus()

    def holder(self) -> QScrollArea | None:
        """Return what the shown page scrolls in."""
        return self._holders.get(self._page)

    def follow_focus(self, _old: QWidget | None, now: QWidget | None) -> None:
        """Keep what has the focus in sight."""
        self.keys.follow(now)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.keys.scrolled(event):
            super().keyPressEvent(event)

    def action(self, name: str) -> QAction:
        """Return a menu entry by its short name."""
        return self.menus[name]

    @property
    def shown(self) -> str:
        """Name of the page on screen."""
        return self._page

    def set_theme_choice(self, choice: str) -> None:
        """Choose the system's theme, light or dark; remembered."""
        self.settings.theme = choice
        self._set_look(theme_of(self.settings.theme), self.text_scale)

    def set_text_scale(self, scale: float) -> None:
        """Choose the text size; remembered."""
        self.settings.text_scale = scale
        self._set_look(self.theme, scale)

    def set_units(self, system: str) -> None:
        """Show and read numbers in metric or North American units; remembered. The document does not change."""
        self.settings.units = system
        use_units(system)
        self.session.forget_words()
        self._set_look(self.theme, self.text_scale)
        self.session.start()

    def _set_look(self, theme: Theme, scale: float) -> None:
        self.theme, self.text_scale = theme, scale
        self._drop_pages()
        self._dress_application()
        self._side.setFixedWidth(int(150 * scale))
        self.headroom.setMinimumWidth(int(236 * scale))
        self._split.setSizes([10_000, int(262 * scale)])
        for view in (self.tabs, self.headroom, self.strip, *self.order_buttons.values(), *self._built.values()):
            view.set_theme(theme, scale)  # type: ignore[attr-defined]
        for group, value in (("theme", self.settings.theme), ("text", scale), ("units", self.settings.units)):
            self.menus.tick(group, value)
        if self._page:
            self.show_page(self._page)
        self._fit_headroom()
        self._fit_strip()

    def _dress_application(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, self.theme, self.text_scale)

    def _drop_pages(self) -> None:
        """Pages of many fields are built anew after a change of look: restyling hundreds of widgets takes far longer."""
        for name in [name for name in self._built if name != "plans"]:
            holder, page = self._holders.pop(name), self._built.pop(name)
            if isinstance(page, Looked):
                self._looks[name] = page.look
            self.pages.removeWidget(holder)
            holder.hide()
            holder.deleteLater()
            QApplication.sendPostedEvents(holder, QEvent.Type.DeferredDelete.value)

    def fold_headroom(self, shown: bool) -> None:
        """Show or fold away headroom; unfolded by hand it stays on a page of all plans as well, until that page is left."""
        self._wanted, self._unfolded_narrow = shown, shown
        self._unfolded_for = self._page if shown else ""
        self._fit_headroom()

    def fold_strip(self, shown: bool) -> None:
        """Show or fold away the day strip."""
        self._strip_wanted = shown
        self._fit_strip()

    def _fit_headroom(self) -> None:
        """Headroom folds away by itself where the window is too narrow for it, and where all plans stand: it is one plan's."""
        wide = self.width() / self.text_scale >= NARROW_PX
        fits = (wide or self._unfolded_narrow) and not (self._page and page_spec(self._page).all_plans)
        self.headroom.setVisible(self._wanted and (fits or (self._unfolded_for == self._page != "")))

    def _fit_strip(self) -> None:
        """The strip stands under pages that have a year, where the window is tall enough for both."""
        tall = self.height() / self.text_scale >= 560
        station = self._page == "plans" and self.plans.sheet.station is not None  # its fields need the room
        self.strip.setVisible(self._strip_wanted and bool(self._page) and page_spec(self._page).has_strip and tall and not station)
        room = self.height() - 90
        self._upright.setSizes([room, max(int(196 * self.text_scale), int(0.31 * room))])

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_headroom()
        self._fit_strip()

    def _job_changed(self) -> None:
        document, job = self.session.document, self.session.job
        name = job.name if self.session.path is None else self.session.path.name
        self.setWindowTitle(f"{name}[*] – Calm Relay")
        self.setWindowModified(self.session.unsaved)
        self._job_name.setText(job.name)
        self._made_up.setText("made-up demo" if job.made_up else "")
        self._made_up.setVisible(job.made_up)
        self.menus.show_history(document.undo_label, document.redo_label)
        words = "" if document.undo_label is None else f"Undo: {document.undo_label}"
        if document.forgotten:
            words += f"\nThe oldest {document.forgotten} edits are past the {len(document)} that are kept."
        self._undo_words.setText(words)
        self.menus.show_plan(today=self.session.chosen == job.plans[0].id)

    def _show_marks(self) -> None:
        session = self.session
        found = {plan.id: result.findings for plan in session.job.plans if (result := session.last(plan.id)) is not None}
        found[session.chosen] = self.headroom.findings()[0]
        for mark in work_order(session.job, found):
            self.order_buttons[mark.page].show_mark(mark)

    def _progress(self, text: str) -> None:
        failed = [plan.letter for plan in self.session.job.plans if plan.id in self.session.errors]
        idle = f"The year of {', '.join(failed)} could not be run: see Year." if failed else UP_TO_DATE
        self.statusBar().showMessage(text or idle)

    # --- going
    def go_to(self) -> None:
        """Open the go-to box."""
        findings = {self.session.chosen: self.headroom.findings()[0]}
        box = GoTo(entries(self.session.job, self.session.chosen, findings), self)
        box.chosen.connect(self.go)
        self.dialogs.show(box)

    def go(self, entry: Entry) -> None:
        """Go to what was chosen in the go-to box."""
        kind, *rest = entry.target
        if kind == "page":
            self.show_page(rest[0])
            self.order_buttons[rest[0]].setFocus()
        elif kind == "plan":
            self.session.choose(rest[0])
        elif kind == "check":
            self.menus["headroom"].setChecked(True)
            self.fold_headroom(True)
            self.headroom.open((rest[0], rest[1]))
        elif kind == "card":
            self.dialogs.say(entry.title, card_words(self.session.job, rest[0]))
        else:
            self.go_to_field(rest[0])

    def go_to_field(self, path: str) -> None:
        """Show the page a field is on and put the focus on it."""
        target = page_of(path)
        self.show_page(target)
        page = self.page(target)
        page.show()
        if isinstance(page, FieldPage):
            page.refresh()
            if page.focus_path(path):
                focus = page.focusWidget()
                if focus is not None:
                    self._holders[target].ensureWidgetVisible(focus, 20, 60)
                return
        elif isinstance(page, PlansPage) and page.focus_path(path):
            return
        self.statusBar().showMessage("This field is set in the job file; no page shows it yet.", 6000)

    def scroll_to(self, page: str, widget: QWidget) -> None:
        """Bring the top of a widget of a page into sight."""
        bar = self._holders[page].verticalScrollBar()
        bar.setValue(max(0, widget.mapTo(self.page(page), QPoint(0, 0)).y() - 90))

    # --- files
    def show_recent(self) -> None:
        """List the recent jobs in their menu."""
        self.menus.show_recent(RECENT, self.settings.recent, self.files.load)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        self.files.drag_entered(event)

    def dropEvent(self, event: QDropEvent) -> None:
        self.files.dropped(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.session.close()
        event.accept()

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
