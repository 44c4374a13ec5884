"""The start list: what stands today on the left, what it should become on the right; by arrows and Enter alone."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from calm_relay.decision.patterns import PATTERNS
from calm_relay.decision.start_list import AS_ENTERED, STANDS, can_become
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label

KEY = Qt.ItemDataRole.UserRole


class StartListDialog(QDialog):
    """`stands` and `becomes` are what was chosen when it is accepted; the caller makes the plan."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.stands, self.becomes = AS_ENTERED, ""
        self.setWindowTitle("Start list")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(120 * letter, 1040), min(64 * letter, 600))
        column = QVBoxLayout(self)
        column.addWidget(label("What stands today, and what should it become?", "heading"))
        lists = QHBoxLayout()
        column.addLayout(lists, 1)
        self.left, self.right = QListWidget(), QListWidget()
        for box, head, name in (
            (self.left, "Stands today", "What stands today"),
            (self.right, "Should become", "What it should become"),
        ):
            side = QVBoxLayout()
            lists.addLayout(side, 1)
            side.addWidget(label(head, "head"))
            box.setAccessibleName(name)
            box.setWordWrap(True)
            side.addWidget(box, 1)
        self.words = label("", "quiet", wrap=True)
        self.words.setMinimumHeight(3 * self.fontMetrics().lineSpacing())
        column.addWidget(self.words)
        buttons = QDialogButtonBox()
        self.make = buttons.addButton("Make this plan", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        has_today = bool(session.job.plans[0].nodes)
        for key, text, _, _ in STANDS:
            if key == AS_ENTERED and not has_today:
                continue
            item = QListWidgetItem(text)
            item.setData(KEY, key)
            self.left.addItem(item)
        self._refused: dict[str, str] = {}
        self.left.currentItemChanged.connect(lambda *_: self._fill())
        self.right.currentItemChanged.connect(lambda *_: self._say())
        self.right.itemDoubleClicked.connect(lambda _: self._accept())
        for box in (self.left, self.right):
            box.installEventFilter(self)
        self.left.setCurrentRow(0)
        self.left.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Left and right go from list to list; Enter goes right, then makes the plan."""
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            if watched is self.left and event.key() in (Qt.Key.Key_Right, Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.right.setFocus()
                return True
            if watched is self.right and event.key() == Qt.Key.Key_Left:
                self.left.setFocus()
                return True
            if watched is self.right and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._accept()
                return True
        return super().eventFilter(watched, event)

    def _fill(self) -> None:
        """Show what the chosen system can become, what goes first."""
        self.stands = str(self.left.currentItem().data(KEY))
        known = self.session.known_cards()
        self._refused = can_become(self.session.job, self.stands, self.session.day_wh(), known)
        self.right.clear()
        for key, text, _ in sorted(PATTERNS, key=lambda row: bool(self._refused[row[0]])):
            item = QListWidgetItem(text)
            item.setData(KEY, key)
            if self._refused[key]:
                item.setForeground(self.palette().placeholderText())
            self.right.addItem(item)
        self.right.setCurrentRow(0)

    def _say(self) -> None:
        item = self.right.currentItem()
        if item is None:
            return
        key = str(item.data(KEY))
        what = {row: tip for row, _, tip, _ in STANDS}[self.stands]
        tip = next(tip for row, _, tip in PATTERNS if row == key)
        why = self._refused.get(key, "")
        goes = f"It does not go: {why}." if why else "Its sizes come from the house, the roof and the brief; each can be changed."
        replaced = ""
        if self.stands not in (AS_ENTERED, "nothing") and self.session.job.plans[0].nodes:
            replaced = " Today's system as it is entered is replaced (undo brings it back)."
        guessed = " What stands is suggested as well: type what really does." if self.stands not in (AS_ENTERED, "nothing") else ""
        self.words.setText(f"Today: {what}. Then: {tip}. {goes}{guessed}{replaced}")
        self.make.setEnabled(not why)

    def _accept(self) -> None:
        item = self.right.currentItem()
        if item is None or not self.make.isEnabled():
            return
        self.becomes = str(item.data(KEY))
        self.accept()
