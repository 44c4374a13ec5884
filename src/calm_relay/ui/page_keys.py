"""The window's way with keys and copying on its pages: into a page, along it, and what is copied from it. The window owns one."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication, QScrollBar, QTableWidget, QWidget

from calm_relay.ui.copying import copied_from, copy, copyables, fill_menu
from calm_relay.ui.widgets import first_field

COPY = "&Edit/Copy from this &page"
SCROLL = {
    Qt.Key.Key_PageDown: QScrollBar.SliderAction.SliderPageStepAdd, Qt.Key.Key_PageUp: QScrollBar.SliderAction.SliderPageStepSub,
    Qt.Key.Key_Down: QScrollBar.SliderAction.SliderSingleStepAdd, Qt.Key.Key_Up: QScrollBar.SliderAction.SliderSingleStepSub,
    Qt.Key.Key_Home: QScrollBar.SliderAction.SliderToMinimum, Qt.Key.Key_End: QScrollBar.SliderAction.SliderToMaximum,
}  # fmt: skip


class PageKeys:
    """Keys that no field took, and the Copy commands."""

    def __init__(self, window: Any) -> None:
        self._window = window
        window.menus.menu(COPY).aboutToShow.connect(self._list_copies)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(window.follow_focus)

    def enter(self, name: str) -> None:
        """Show a page and put the focus on the first thing in it that takes keys."""
        self._window.show_page(name)
        QTimer.singleShot(0, lambda: self._focus_first(name))  # a page made just now has nothing on screen yet

    def _focus_first(self, name: str) -> None:
        first = first_field(self._window.page(name)) if self._window.shown == name else None
        if first is not None:
            first.setFocus(Qt.FocusReason.TabFocusReason)

    def follow(self, now: QWidget | None) -> None:
        """Keep what has the focus in sight: where it stands in a page that scrolls, the page follows."""
        holder = self._window.holder()
        if now is not None and holder is not None and holder.widget().isAncestorOf(now):
            holder.ensureWidgetVisible(now, 20, 60)

    def scrolled(self, event: QKeyEvent) -> bool:
        """Scroll the page by a key that nothing else took; returns whether it is one."""
        holder, action = self._window.holder(), SCROLL.get(Qt.Key(event.key()))
        if holder is None or action is None:
            return False
        holder.verticalScrollBar().triggerAction(action)
        return True

    def copy(self) -> None:
        """Copy the table or picture that has the focus; else the page's only table, or its only picture."""
        window = self._window
        widget = copied_from(window.focusWidget())
        shown = copyables(window.pages.currentWidget())
        only = [w for w in shown if isinstance(w, QTableWidget)] or shown
        if widget is None and len(only) == 1:
            widget = only[0]
        if widget is None:
            window.statusBar().showMessage("No table or picture has the focus: Edit, Copy from this page, lists them.", 6000)
            return
        copy(widget)
        window.statusBar().showMessage(f"Copied: {widget.accessibleName()}, as text and as a picture", 4000)

    def _list_copies(self) -> None:
        window = self._window
        menu = window.menus.menu(COPY)
        menu.clear()
        for widget in (*copyables(window.pages.currentWidget()), *copyables(window.strip), window.headroom):
            if widget.isVisible():
                fill_menu(menu.addMenu(widget.accessibleName() or "Table"), widget)
