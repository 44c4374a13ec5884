"""Choosing a card for a place in the plan: what fits first, then what does not and why; by words and figures, by keys alone."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QPlainTextEdit,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calm_relay.decision.building import wanted_wh
from calm_relay.equipment.find import find_cards
from calm_relay.equipment.labels import KINDS, label_of
from calm_relay.equipment.shelf import differences, read_shelf, save_shelf
from calm_relay.equipment.shown import card_lines, cell_text
from calm_relay.errors import BadInput
from calm_relay.library.cards import Card
from calm_relay.rules.picking import Offer, card_now, place_of, ranked
from calm_relay.study import Study
from calm_relay.ui.fields.line import Line
from calm_relay.ui.runner import Cancel
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

HEADS = ("", "Card", "Whose", "A year", "What decides")
MOVES = (Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_PageDown, Qt.Key.Key_PageUp)
MOST_DIFFERENCES = 8
TICK_MS = 150
SIMULATED = "Simulated"


class PickerDialog(QDialog):
    """`chosen` is the offer taken, `cleared` whether what stands there is to go; the caller makes the edit.

    Worth a year comes from simulated years, when asked for.
    """

    def __init__(self, session: Session, path: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.path = session, path
        self.chosen: Offer | None = None
        self.cleared = False
        now = card_now(session.job, path)
        self._now: Card | None = session.job.cards().get(str(now))
        kind = place_of(path)[0] or (self._now.kind if self._now else "")
        noun = KINDS.get(kind, kind)
        self._key = f"worth {path}"
        self._asked, self._stop = False, False
        self._done = (0, 0)  # cards simulated, of how many: told by the worker, read by the timer
        self._tick = QTimer(self)
        self._tick.setInterval(TICK_MS)
        self._tick.timeout.connect(self._say_progress)
        title = f"Choose {'an' if noun[:1] in 'aeiou' else 'a'} {noun}"
        self.setWindowTitle(title)
        letter = self.fontMetrics().averageCharWidth()
        self.resize(min(150 * letter, 1180), min(74 * letter, 660))
        column = QVBoxLayout(self)
        column.addWidget(label(title, "heading"))
        self.said = label("", "quiet", wrap=True)
        column.addWidget(self.said)
        self.search = Line()
        self.search.setAccessibleName(f"Search {noun}s by words and figures")
        self.search.setPlaceholderText("words and figures, such as: 10 kW 2 trackers; arrows move, Enter chooses")
        self.search.textChanged.connect(lambda _: self.fill())
        self.search.installEventFilter(self)
        column.addWidget(self.search)
        split = QSplitter(Qt.Orientation.Horizontal)
        self.table = self._table()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setTabChangesFocus(True)
        self.text.setAccessibleName("What decides, and figures of the card")
        split.addWidget(self.table)
        split.addWidget(self.text)
        split.setStretchFactor(0, 2)
        split.setStretchFactor(1, 1)
        split.setSizes([2 * self.width() // 3, self.width() // 3])
        column.addWidget(split, 1)
        buttons = QDialogButtonBox()
        self.simulate = buttons.addButton("Simulate what fits", QDialogButtonBox.ButtonRole.ActionRole)
        self.simulate.setAutoDefault(False)
        self.simulate.clicked.connect(lambda _=False: self._simulate())
        self.simulate.setVisible(now is not None)
        self.none = buttons.addButton("None", QDialogButtonBox.ButtonRole.ActionRole)
        self.none.setAutoDefault(False)
        self.none.setVisible(path.endswith(".optimizer") and now is not None)
        self.none.clicked.connect(lambda _=False: self._clear())
        self.take = buttons.addButton("Choose", QDialogButtonBox.ButtonRole.AcceptRole)
        self.take.setDefault(True)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.offers: tuple[Offer, ...] = ()
        self._shown: list[Offer] = []
        self._rank()
        session.answers_changed.connect(self._answers)
        self.search.setFocus()

    def _table(self) -> QTableWidget:
        table = QTableWidget(0, len(HEADS))
        table.setAccessibleName("Cards, those that fit first")
        table.setHorizontalHeaderLabels(HEADS)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setTabKeyNavigation(False)
        table.setWordWrap(False)
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        table.verticalHeader().hide()
        table.setShowGrid(False)
        table.itemSelectionChanged.connect(self._show)
        table.itemDoubleClicked.connect(lambda _: self._accept())
        return table

    # --- ranking
    def _rank(self) -> None:
        session, known = self.session, self.session.known
        worth = session.last_extra(self._key) if self._asked else None
        last = session.last(session.chosen)
        self.offers = ranked(
            session.job, self.path, session.known_cards(), None if last is None else last.facts,
            worth if isinstance(worth, dict) else None, favourites=known.favourites, last_used=known.last_used,
            wanted_wh=wanted_wh(session.job, session.day_wh(), session.known_cards()) if self._now is None else 0.0,
        )  # fmt: skip
        fits = sum(offer.fits for offer in self.offers)
        others = len(self.offers) - fits
        rest = f"{others} {'does' if others == 1 else 'do'} not, and say why" if others else "none is ruled out"
        how = "" if worth is None else " A year is what the bill falls by, without the card's price."
        self.said.setText(f"{fits} of {len(self.offers)} {'fits' if fits == 1 else 'fit'}; {rest}.{how}")
        self.fill()

    def fill(self) -> None:
        """Show the offers that meet the search; the first of them is selected, or the present card where nothing is searched."""
        cards = {card.id for card in find_cards([offer.card for offer in self.offers], self.search.text())}
        self._shown = [offer for offer in self.offers if offer.card.id in cards]
        self.table.setRowCount(len(self._shown))
        for row, offer in enumerate(self._shown):
            whose = "there now" if offer.now else "own" if offer.own else "favourite" if offer.favourite else ""
            worth = "" if offer.worth is None else show(offer.worth, "money")
            name = offer.card.name if offer.modules is None else f"{offer.modules} × {offer.card.name}"
            mark = (
                "does not fit"
                if not offer.fits
                else {"tight": "fits, tight", "not known": "fits so far"}.get(offer.verdict, "fits")
            )
            for column, text in enumerate((mark, name, whose, worth, offer.decides)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if not offer.fits:
                    item.setForeground(self.palette().placeholderText())
                self.table.setItem(row, column, item)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(len(HEADS) - 1, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Interactive)
        self.table.setColumnWidth(1, min(self.table.sizeHintForColumn(1) + 8, int(0.42 * self.table.viewport().width())))
        self.table.setColumnHidden(3, not any(offer.worth is not None for offer in self._shown))
        now = next((i for i, offer in enumerate(self._shown) if offer.now), 0)
        if self._shown:
            self.table.selectRow(0 if self.search.text() else now)
            self.table.scrollTo(self.table.model().index(self.table.currentRow(), 0))
        self._show()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.fill()  # widths are known now

    def offer(self) -> Offer | None:
        """Return the offer of the selected row."""
        row = self.table.currentRow()
        return self._shown[row] if 0 <= row < len(self._shown) else None

    def _show(self) -> None:
        offer = self.offer()
        self.take.setEnabled(offer is not None)
        if offer is None:
            self.text.setPlainText("No card is so: leave a word out, or add one of your own under Job, Equipment.")
            return
        self.take.setText("Choose" if offer.fits else "Choose all the same")
        lines = [offer.card.name, ""]
        lines += [("Does not fit. " if not offer.fits else "Nearest limit. ") + offer.why, ""] if offer.why else []
        if self._now is not None and not offer.now:
            changed = [d for d in differences(self._now, offer.card) if d.column not in ("id", "name", "source")]
            if self._now.kind == offer.card.kind and changed:
                lines.append(f"Against {self._now.name}:")
                for d in changed[:MOST_DIFFERENCES]:
                    before, after = (cell_text(offer.card.kind, d.column, cell) for cell in (d.before, d.after))
                    lines.append(f"  {label_of(d.column)}: {before} → {after}")
                if len(changed) > MOST_DIFFERENCES:
                    lines.append(f"  and {len(changed) - MOST_DIFFERENCES} more")
                lines.append("")
        self.text.setPlainText("\n".join([*lines, *card_lines(offer.card)]))

    # --- worth
    def _simulate(self) -> None:
        if self._asked:  # a second press stops it: what is known by then is shown
            self._stop = True
            self.simulate.setEnabled(False)
            return
        self._asked = True
        self._tick.start()
        self._say_progress()
        self._answers()

    def _say_progress(self) -> None:
        done, most = self._done
        self.simulate.setText(f"Stop at {done} of {most}" if most else "Simulating…")

    def _answers(self) -> None:
        if not self._asked:
            return
        job, plan_id, offers = self.session.job, self.session.chosen, self.offers

        def progress(done: int, most: int) -> bool:
            self._done = (done, most)
            return not self._stop

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.worth import worth_of

            return worth_of(study, job, plan_id, offers, cancelled, progress)

        if self.session.extra(self._key, work) is not None and self.simulate.text() != SIMULATED:
            self._tick.stop()
            self.simulate.setEnabled(False)
            self.simulate.setText(SIMULATED)
            self._rank()

    def done(self, result: int) -> None:
        """Close; years not simulated yet are not begun."""
        self._stop = True
        self._tick.stop()
        super().done(result)

    # --- choosing
    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        pressed = watched is self.search and event.type() == QEvent.Type.KeyPress
        if pressed and isinstance(event, QKeyEvent) and event.key() in MOVES:
            self.table.keyPressEvent(event)
            return True
        return super().eventFilter(watched, event)

    def _clear(self) -> None:
        self.cleared = True
        self.accept()

    def _accept(self) -> None:
        self.chosen = self.offer()
        if self.chosen is None:
            return
        try:
            save_shelf(read_shelf().used(self.chosen.card.id))
        except (BadInput, OSError) as error:
            self.session.problem.emit(f"What was used last is not kept: {error}")
        self.accept()
