"""A field of the document with its caption and its mark. The model's own metadata says what kind of field it is."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QPoint, QSignalBlocker, Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLineEdit, QMenu, QSizePolicy, QVBoxLayout, QWidget

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, read_path
from calm_relay.job.fields import FieldInfo, describe
from calm_relay.job.plausible import AskingBack
from calm_relay.job.sources import mark_edits, typed_edits
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.card_button import CardButton, choosing_edits, differences_text, shelf_differences
from calm_relay.ui.fields.line import Line
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.fields.reason import reason_label, show_reason
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label
from calm_relay.units import exact_text
from calm_relay.units import format_quantity as show

LONG_CHOICE = 30  # letters shown; longer names are in the tool tip
WORDS = {"assumed": "assumed", "measured": "measured", "typed": ""}


def limits_text(info: FieldInfo) -> str:
    """Return what fits in a field, in the units in use."""
    if info.kind is None:
        return ""
    low = None if info.least is None else show(info.least, info.kind)
    high = None if info.most is None else show(info.most, info.kind)
    if low and high:
        return f"{low} to {high}"
    return f"at least {low}" if low else f"at most {high}" if high else ""


class FieldCell(QWidget):
    """Caption, editor and mark of one path. Every change is one named entry of the history."""

    def __init__(
        self,
        session: Session,
        path: str,
        *,
        caption: str | None = None,
        ghost: str = "",
        chars: int | None = None,
        card_kind: str | tuple[str, ...] = "",
        options: Callable[[], list[tuple[str, str]]] | None = None,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.session, self.path = session, path
        self.info = describe(session.job, path)
        self.caption = caption or self.info.label
        self._card_kinds = (card_kind,) if isinstance(card_kind, str) and card_kind else card_kind
        self._options = options
        self.setObjectName("cell")
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        top = QHBoxLayout()
        column.addLayout(top)
        top.setSpacing(6)
        self._caption = label(self.caption, "quiet")
        self._mark = label("", "assumed")
        top.addWidget(self._caption)
        top.addStretch()
        top.addWidget(self._mark)
        self._asking = AskingBack()
        self.editor = self._make(ghost, chars)
        self._caption.setBuddy(self.editor)
        if isinstance(self.editor, QCheckBox):
            self._caption.hide()
        column.addWidget(self.editor)
        self.why = reason_label()
        column.addWidget(self.why)
        if isinstance(self.editor, QuantityField):
            self.editor.faulted.connect(self._faulted)
        self.editor.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.editor.customContextMenuRequested.connect(self._menu)
        self.refresh()

    # --- editors
    def _make(self, ghost: str, chars: int | None) -> QWidget:
        info = self.info
        if self._card_kinds:
            button = CardButton(self.caption)
            button.asked.connect(self._pick)
            return button
        if self._options or info.choices:
            return self._make_choice()
        if info.kind is not None:
            field = QuantityField(
                info.kind, self.caption, self._commit_number, optional=info.optional, integer=info.integer,
                ghost=ghost or ("not known" if info.optional else ""), chars=chars or 11,
            )  # fmt: skip
            field.set_hint(limits_text(info))
            field.editingFinished.connect(self.session.document.end_merge)
            return field
        if isinstance(self._read(), bool):
            box = QCheckBox(self.caption)
            box.setAccessibleName(self.caption)
            box.toggled.connect(lambda on: self._commit(on, f"{self.caption}: {'yes' if on else 'no'}"))
            return box
        line = Line()
        line.setAccessibleName(self.caption)
        line.setPlaceholderText(ghost)
        line.setFixedWidth(int(line.fontMetrics().averageCharWidth() * (chars or 22)) + 18)
        line.editingFinished.connect(self._commit_text)
        return line

    def _make_choice(self) -> QComboBox:
        box = ClosedList()
        box.setAccessibleName(self.caption)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._fill_choice(box)
        box.activated.connect(self._chosen)
        return box

    def _choices(self) -> list[tuple[str, str]]:
        if self._options is not None:
            return self._options()
        return ([("", "not known")] if self.info.optional else []) + list(self.info.choices)

    def _fill_choice(self, box: QComboBox) -> None:
        choices = self._choices()
        if [(box.itemData(i), box.itemText(i)) for i in range(box.count())] == choices:
            return
        box.clear()
        for value, text in choices:
            box.addItem(text, value)
        longest = max((len(text) for _, text in choices), default=6)
        box.setMinimumContentsLength(min(longest, LONG_CHOICE))

    # --- committing
    def _read(self) -> Any:
        return read_path(self.session.job, self.path)

    def _commit(self, value: Any, text: str) -> None:
        try:
            self.session.edit(text, typed_edits(self.session.job, self.path, value), merge=self.path)
        except BadInput as error:
            self._say_why("; ".join(f"{fault.problem}; {fault.remedy}" for fault in error.faults))
            if not isinstance(self.editor, QLineEdit):  # what was typed stays, to be mended
                self._show_value()
            return
        self._say_why("")

    def _faulted(self, why: str) -> None:
        if not why:
            self._asking.settled()
        self._say_why(why)

    def _say_why(self, why: str) -> None:
        """Print under the field why what was given was not taken."""
        show_reason(self.why, why, self.editor)
        self.adjustSize()

    def _commit_number(self, value: float | None) -> None:
        kind = self.info.kind or "ratio"
        old = self._read()
        texts = ["none" if v is None else show(v, kind) for v in (old, value)]
        if texts[0] == texts[1] and old is not None and value is not None:  # told apart by more decimals, or no change
            if old == value:
                return
            texts = [exact_text(float(v), kind) for v in (old, value)]
        self._asking.check(self.path, self.info.kind, value)
        stored = int(value) if self.info.integer and value is not None else value
        edits = typed_edits(self.session.job, self.path, stored)
        self.session.edit(f"{self.caption}: {texts[0]} to {texts[1]}", edits, merge=self.path)

    def _commit_text(self) -> None:
        assert isinstance(self.editor, QLineEdit)
        text = self.editor.text().strip()
        if text != (self._read() or ""):
            self._commit(None if not text and self.info.optional else text, f"{self.caption}: {text or 'none'}")
            self.session.document.end_merge()

    def _chosen(self, index: int) -> None:
        assert isinstance(self.editor, QComboBox)
        value: Any = self.editor.itemData(index)
        value = None if value == "" and self.info.optional else value
        if isinstance(self._read(), int) and not isinstance(self._read(), bool):
            value = int(value)
        self._commit(value, f"{self.caption}: {self.editor.itemText(index)}")
        self.session.document.end_merge()

    def _pick(self) -> None:
        """Let a card be chosen; one entry of the history."""
        offer = self.session.dialogs.pick(self.path)
        if offer is None or (not isinstance(offer, str) and offer.now):
            return
        try:
            if isinstance(offer, str):
                self.session.edit(f"{self.caption}: none", typed_edits(self.session.job, self.path, None))
            else:
                self.session.edit(f"{self.caption}: {offer.card.name}", choosing_edits(self.session, self.path, offer))
        except BadInput as error:
            self._say_why("; ".join(f"{fault.problem}; {fault.remedy}" for fault in error.faults))

    def _take_from_shelf(self) -> None:
        card = self.session.known_cards()[str(self._read())]
        self.session.edit(f"{card.name} as shelf or library have it", [Edit(f"library[{card.id}]", card.model_dump())])

    # --- showing
    def refresh(self) -> None:
        """Show the document's value and where it comes from; a reason printed under the field goes with what it was about."""
        if self.why.text() and not (isinstance(self.editor, QLineEdit) and self.editor.hasFocus()):
            self._say_why("")
        self._show_value()

    def _show_value(self) -> None:
        try:
            value = self._read()
        except BadInput:
            return
        editor = self.editor
        with QSignalBlocker(editor):
            if isinstance(editor, QuantityField):
                editor.fit()
                editor.set_hint(limits_text(self.info))
                editor.show_value(value)
            elif isinstance(editor, CardButton):
                editor.show_card(self.session.job.cards().get(str(value)), "none" if self.info.optional else "choose…")
            elif isinstance(editor, QComboBox):
                self._fill_choice(editor)
                editor.setCurrentIndex(editor.findData("" if value is None else str(value)))
                editor.setToolTip(editor.currentText() if len(editor.currentText()) > LONG_CHOICE else "")
            elif isinstance(editor, QCheckBox):
                editor.setChecked(bool(value))
            elif isinstance(editor, QLineEdit) and not (editor.hasFocus() and (editor.isModified() or self.why.text())):
                editor.setText("" if value is None else str(value))
                editor.setCursorPosition(0)
        source = self.session.job.mark_of(self.path)
        self._mark.setText(WORDS[source])
        if isinstance(editor, CardButton):
            changed = shelf_differences(self.session, str(value))
            if changed:
                card = self.session.job.card(str(value))
                self._mark.setText("shelf differs" if card.id in self.session.known.own else "library differs")
                self._mark.setToolTip(differences_text(card, changed))
        name = self.caption if not WORDS[source] else f"{self.caption}, {WORDS[source]}"
        editor.setAccessibleName(name)

    def _menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        line = self.editor
        if isinstance(line, QLineEdit):
            for text, act in (("Copy", line.copy), ("Paste", line.paste)):
                entry = menu.addAction(text)
                entry.triggered.connect(line.selectAll)
                entry.triggered.connect(act)
            menu.addSeparator()
        if isinstance(line, CardButton) and shelf_differences(self.session, str(self._read())):
            menu.addAction("Take the card as shelf or library have it").triggered.connect(lambda _=False: self._take_from_shelf())
            menu.addSeparator()
        for source, text in (("measured", "Measured on site"), ("typed", "Known"), ("assumed", "Only assumed")):
            menu.addAction(text).triggered.connect(partial(self._mark_as, source, text))
        menu.exec(self.editor.mapToGlobal(at))

    def _mark_as(self, source: str, text: str, _checked: bool = False) -> None:
        self.session.edit(f"{self.caption}: {text.lower()}", mark_edits(self.session.job, self.path, source))
