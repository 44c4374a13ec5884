"""What was found in a file of prices, and what they shall pay."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from calm_relay.tariff.price_file import PriceYear, Way, price_words
from calm_relay.ui.found_table import found_table
from calm_relay.ui.widgets import label

WAYS: tuple[tuple[Way, str], ...] = (("import", "Import is paid so"), ("export", "Export is paid so"), ("both", "Both"))


class PriceDialog(QDialog):
    """Accepted with a `way` when one of its answers was chosen."""

    def __init__(self, name: str, made: PriceYear, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.way: Way | None = None
        self.setWindowTitle("Hourly prices")
        letter = self.fontMetrics().averageCharWidth()
        self.resize(88 * letter, 60 * letter)
        column = QVBoxLayout(self)
        column.addWidget(label(name, "heading"))
        column.addWidget(label("Is this what the file means?", "quiet", wrap=True))
        self.table = found_table([*made.guesses, ("prices", price_words(made))])
        column.addWidget(self.table, 1)
        for note in made.notes:
            column.addWidget(label(note[:1].upper() + note[1:] + ".", "quiet", wrap=True))
        buttons = QDialogButtonBox()
        self.answers = {way: buttons.addButton(words, QDialogButtonBox.ButtonRole.ActionRole) for way, words in WAYS}
        for way, button in self.answers.items():
            button.clicked.connect(lambda _=False, way=way: self._take(way))
        buttons.addButton("Leave it", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    def _take(self, way: Way) -> None:
        self.way = way
        self.accept()
