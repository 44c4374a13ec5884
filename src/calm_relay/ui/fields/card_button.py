"""The field that chooses a card: it shows the card's name, and opens the picker on click, Enter or Space."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton, QWidget

from calm_relay.equipment.labels import label_of
from calm_relay.equipment.shelf import Difference, differences
from calm_relay.equipment.shown import cell_text
from calm_relay.job.edits import Edit
from calm_relay.job.sources import typed_edits
from calm_relay.library.cards import Card
from calm_relay.ui.session import Session

if TYPE_CHECKING:
    from calm_relay.rules.picking import Offer

LONGEST = 34  # letters shown; the whole name is in the tool tip


class CardButton(QPushButton):
    """`asked` when a card is to be chosen."""

    asked = Signal()

    def __init__(self, caption: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAccessibleName(caption)
        self.setAutoDefault(False)
        self.clicked.connect(self.asked)

    def show_card(self, card: Card | None, without: str = "choose…") -> None:
        """Show a card's name, or what is said without one."""
        name = without if card is None else card.name
        self.setText(f"{name[: LONGEST - 1]}…" if len(name) > LONGEST else name)
        self.setToolTip(name)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self.palette().buttonText().color(), 1.4))
        x, y = self.width() - 15.0, self.height() / 2.0
        painter.drawPolyline([QPointF(x, y - 2.0), QPointF(x + 4.0, y + 2.0), QPointF(x + 8.0, y - 2.0)])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)


def choosing_edits(session: Session, path: str, offer: Offer) -> tuple[Edit, ...]:
    """Return the edits that take an offer: the card comes into the job where it is not there, and counts as typed."""
    bring = () if offer.card.id in session.job.cards() else (Edit("library[+]", offer.card.model_dump()),)
    edits: tuple[Edit, ...] = (*bring, *typed_edits(session.job, path, offer.card.id))
    if offer.modules is not None:
        edits = (*edits, *typed_edits(session.job, path.removesuffix("card") + "modules", offer.modules))
    return edits


def shelf_differences(session: Session, card_id: str) -> tuple[Difference, ...]:
    """Return the figures in which shelf or shipped library have a card otherwise than the job's copy; none where they have none."""
    known = session.known_cards()
    if card_id not in known or card_id not in session.job.cards():
        return ()
    return differences(session.job.card(card_id), known[card_id])


def differences_text(card: Card, rows: tuple[Difference, ...]) -> str:
    """Return differences as lines in the trade's words."""
    lines = (
        f"{label_of(d.column)}: {cell_text(card.kind, d.column, d.before)} here, {cell_text(card.kind, d.column, d.after)} there"
        for d in rows
    )
    return "\n".join(lines)
