"""What was found in a file of prices, and what they shall pay."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QWidget

from calm_relay.tariff.price_file import PriceYear, Way, price_words
from calm_relay.ui.found_dialog import FoundDialog

WAYS: tuple[tuple[Way, str], ...] = (("import", "Import is paid so"), ("export", "Export is paid so"), ("both", "Both"))


class PriceDialog(FoundDialog):
    """Accepted with a `way` when one of its answers was chosen."""

    def __init__(self, name: str, made: PriceYear, parent: QWidget | None = None) -> None:
        super().__init__("Hourly prices", name, "Is this what the file means?", parent, tall=60)
        self.way: Way | None = None
        self.answers = {way: self.answer(words) for way, words in WAYS}
        for way, button in self.answers.items():
            button.clicked.connect(partial(self._take, way))
        self.show_found([*made.guesses, ("prices", price_words(made))], made.notes)

    def _take(self, way: Way, _checked: bool = False) -> None:
        self.way = way
        self.accept()
