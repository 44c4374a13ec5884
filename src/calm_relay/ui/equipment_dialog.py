"""Equipment: every card that can be chosen, found by words and figures; own ones added from a file or a sheet, or taken off."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.equipment.columns import card_classes
from calm_relay.equipment.files import read_cards
from calm_relay.equipment.find import find_cards
from calm_relay.equipment.labels import KINDS
from calm_relay.equipment.shelf import read_shelf, save_shelf
from calm_relay.equipment.shown import card_lines
from calm_relay.errors import BadInput
from calm_relay.library.cards import Card
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.card_editor import CardEditor
from calm_relay.ui.fields.line import Line
from calm_relay.ui.session import Session
from calm_relay.ui.sheet_dialog import SheetDialog
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.fit_view import FitView
from calm_relay.ui.widgets import label
from calm_relay.units import count_words

HEADS = ("Card", "Kind", "Whose")
FILES = "Cards (*.json *.csv *.xlsx);;All files (*)"


class EquipmentDialog(QDialog):
    """Lists and searches; each change goes to the shelf at once, and no job is touched: a job holds its own copies."""

    def __init__(self, session: Session, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Equipment")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(118 * letter, 1100), min(74 * letter, 680))
        column = QVBoxLayout(self)
        column.addWidget(label("Equipment", "heading"))
        note = "Shipped cards and your own. Your own stand on a shelf between jobs; a job keeps copies of what it uses."
        column.addWidget(label(note, "quiet", wrap=True))
        row = QHBoxLayout()
        column.addLayout(row)
        self.search = Line()
        self.search.setAccessibleName("Search equipment by words and figures")
        self.search.setPlaceholderText("words and figures, such as: three phase 10 kW 2 trackers")
        self.search.textChanged.connect(lambda _: self.fill())
        self.kind = ClosedList()
        self.kind.setAccessibleName("Kind of equipment")
        self.kind.addItem("all kinds", "")
        for kind in card_classes():
            self.kind.addItem(KINDS[kind], kind)
        self.kind.activated.connect(lambda _: self.fill())
        row.addWidget(self.search, 1)
        row.addWidget(self.kind)
        split = QSplitter(Qt.Orientation.Horizontal)
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName("Cards found")
        self.table.setHorizontalHeaderLabels(HEADS)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setTabKeyNavigation(False)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.itemSelectionChanged.connect(self._show)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setTabChangesFocus(True)
        self.text.setAccessibleName("Figures of the card")
        side = QWidget()
        beside = QVBoxLayout(side)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.addWidget(self.text, 1)
        self.fit = FitView(theme, scale)
        beside.addWidget(self.fit)
        split.addWidget(self.table)
        split.addWidget(side)
        split.setStretchFactor(0, 3)
        split.setStretchFactor(1, 2)
        column.addWidget(split, 1)
        self.said = label("", "quiet", wrap=True)
        column.addWidget(self.said)
        buttons = QDialogButtonBox()
        self.new = self._button(buttons, "New card…", lambda: self._ask_editor(None))
        self.edit = self._button(buttons, "Edit…", lambda: self._ask_editor(self.card()))
        self.favourite = self._button(buttons, "Favourite", self._turn_favourite)
        self.add = self._button(buttons, "Add from a file…", self._ask_file)
        self.paste = self._button(buttons, "Paste a data sheet…", self._ask_sheet)
        self.remove = self._button(buttons, "Take off the shelf", self._remove)
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._cards: list[Card] = []
        self._own: frozenset[str] = frozenset()
        self.fill()
        self.search.setFocus()

    @staticmethod
    def _button(box: QDialogButtonBox, words: str, act: Callable[[], None]) -> QPushButton:
        made = box.addButton(words, QDialogButtonBox.ButtonRole.ActionRole)
        made.setAutoDefault(False)
        made.clicked.connect(lambda _=False: act())
        return made

    # --- showing
    def fill(self, chosen: str = "") -> None:
        """Show the cards that meet the search: favourites, then what was used last, then own ones."""
        kind = self.kind.currentData()
        known = [card for card in self.session.known_cards().values() if kind in ("", card.kind)]
        self._own = self.session.known.own
        if self.session.known.fault:
            self.said.setText(self.session.known.fault)
        favourites, used = self.session.known.favourites, self.session.known.last_used

        def rank(card: Card) -> tuple[bool, int, bool]:
            return card.id not in favourites, used.index(card.id) if card.id in used else len(used), card.id not in self._own

        self._cards = sorted(find_cards(known, self.search.text()), key=rank)
        self.table.setRowCount(len(self._cards))
        for row, card in enumerate(self._cards):
            whose = "own" if card.id in self._own else "shipped"
            marks = [whose, *(["favourite"] if card.id in favourites else []), *(["used"] if card.id in used else [])]
            texts = (card.name, KINDS[card.kind], ", ".join(marks))
            for column, text in enumerate(texts):
                self.table.setItem(row, column, QTableWidgetItem(text))
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        at = next((i for i, card in enumerate(self._cards) if card.id == chosen), 0)
        if self._cards:
            self.table.selectRow(at)
        self._show()

    def card(self) -> Card | None:
        """Return the card of the selected row."""
        row = self.table.currentRow()
        return self._cards[row] if 0 <= row < len(self._cards) else None

    def _show(self) -> None:
        card = self.card()
        self.remove.setEnabled(card is not None and card.id in self._own)
        self.edit.setEnabled(card is not None)
        self.favourite.setEnabled(card is not None)
        if card is not None:
            self.edit.setText("Edit…" if card.id in self._own else "New like this…")
            self.favourite.setText("Not a favourite" if card.id in self.session.known.favourites else "Favourite")
        self.fit.show_card(card)
        if card is None:
            self.text.setPlainText("No card is so: leave a word out, or add one of your own.")
            return
        self.text.setPlainText("\n".join([card.name, *card_lines(card)]))

    # --- changing
    def _ask_file(self) -> None:
        path = self.session.dialogs.ask_file("Add cards", FILES)
        if path is not None:
            self.add_file(path)

    def add_file(self, path: Path) -> None:
        """Put the cards of a file on the shelf; a fault is said, and changes nothing."""
        self._change(lambda: self._put(read_cards(path, self.search.text()), path.name))

    def _ask_sheet(self) -> None:
        dialog = SheetDialog(self)
        dialog.accepted.connect(lambda: self._change(lambda: self._put((dialog.made,), "a data sheet") if dialog.made else None))
        self.session.dialogs.show(dialog)

    def _ask_editor(self, card: Card | None) -> None:
        """Type a new card, an own one over, or one like a shipped card."""
        dialog = CardEditor(card, self, copy=card is not None and card.id not in self._own)
        dialog.accepted.connect(lambda: self._change(lambda: self._put_typed(dialog.made)))
        self.session.dialogs.show(dialog)

    def _put_typed(self, card: Card | None) -> None:
        if card is None:
            return
        shelf = read_shelf()
        replaces = {own.id for own in shelf.cards}
        if card.id not in replaces and card.id in self.session.known_cards():  # a new name that makes a shipped card's id
            used = set(self.session.known_cards())
            card = card.model_copy(update={"id": next(i for n in range(2, 999) if (i := f"{card.id[:36]}-{n}") not in used)})
        self._put((card,), "the editor")

    def _turn_favourite(self) -> None:
        card = self.card()
        if card is not None:
            on = card.id not in self.session.known.favourites
            self._change(lambda: self._keep_favourite(card, on=on))

    def _keep_favourite(self, card: Card, *, on: bool) -> None:
        save_shelf(read_shelf().with_favourite(card.id, on=on))
        self.fill(card.id)
        self.said.setText(f"{card.name} is {'now' if on else 'no longer'} among your favourites.")

    def _put(self, cards: tuple[Card, ...], source: str) -> None:
        save_shelf(read_shelf().with_cards(cards))
        self.search.clear()
        self.fill(cards[0].id)
        self.said.setText(f"{count_words(len(cards), 'card')} from {source} on the shelf.")

    def _remove(self) -> None:
        card = self.card()
        if card is not None and self.session.dialogs.confirm(
            f"Take {card.name} off the shelf? Jobs keep their copies.", "Take it off"
        ):
            self._change(lambda: self._take_off(card))

    def _take_off(self, card: Card) -> None:
        save_shelf(read_shelf().without(card.id))
        self.fill()
        self.said.setText(f"{card.name} is off the shelf.")

    def _change(self, act: Callable[[], None]) -> None:
        try:
            act()
        except BadInput as error:
            self.said.setText("; ".join(f"{f.field}: {f.problem}; {f.remedy}" for f in error.faults[:4]))
        except OSError as error:
            self.said.setText(f"The shelf could not be written ({error.strerror}); check the data folder.")
