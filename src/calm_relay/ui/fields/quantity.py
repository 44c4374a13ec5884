"""One field for every kind of number: units as typed, decimal comma, Enter applies, Esc reverts, arrows nudge."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent, QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QWidget

from calm_relay.errors import BadInput
from calm_relay.ui.fields.line import Line
from calm_relay.units import SCALES, exact_text, parse_quantity

NUDGE = {
    "power_w": 100.0, "energy_wh": 100.0, "fraction": 0.01, "count": 1.0, "year": 1.0, "hours_h": 0.5, "clock_h": 0.5,
    "angle_deg": 1.0, "current_a": 1.0, "irradiation_wh_per_m2": 100.0, "ratio": 0.05,
}  # fmt: skip


def several_values(text: str) -> list[str]:
    """Return the values of a copied column or row, empty cells left out; nothing where there are fewer than two."""
    parts = [part.strip() for part in re.split(r"[\n\r\t;]+", text)]
    values = [part for part in parts if part]
    return values if len(values) > 1 else []


class QuantityField(Line):
    """Edits one number in core units; leaving it untouched is no edit. `commit` raises BadInput for what does not fit.

    `faulted` carries the reason why what stands in it was not taken; empty once that is settled.
    """

    faulted = Signal(str)
    pasted = Signal(list)  # several values at once: texts, as copied from a table

    def __init__(
        self,
        kind: str,
        name: str,
        commit: Callable[[float | None], None],
        *,
        optional: bool = False,
        integer: bool = False,
        ghost: str = "",
        chars: int = 11,
        with_unit: bool = True,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._kind, self._commit, self._optional, self._integer = kind, commit, optional, integer
        self._value: float | None = None
        self._hint, self._with_unit = "", with_unit
        self.takes_many = False  # whether someone listens to `pasted`
        self.setAccessibleName(name)
        self.setPlaceholderText(ghost)
        self._chars = chars
        self.fit()
        self.returnPressed.connect(self.apply)

    def fit(self) -> None:
        """Take the width that the text size asks for."""
        self.setFixedWidth(int(self.fontMetrics().averageCharWidth() * self._chars) + 18)

    def set_hint(self, text: str) -> None:
        """Say what fits, where nothing is wrong."""
        self._hint = text
        if not self.property("bad"):
            self.setToolTip(text)

    def show_value(self, value: float | None) -> None:
        """Show a value of the document; a text being typed is left alone."""
        self._value = None if value is None else float(value)
        if not (self.hasFocus() and self.isModified()):
            self._revert()

    def _revert(self) -> None:
        self.setText("" if self._value is None else exact_text(self._value, self._kind, with_unit=self._with_unit))
        self.setCursorPosition(0)
        self.setModified(False)
        self._mark(bad=False, why="")

    def _mark(self, *, bad: bool, why: str) -> None:
        if bool(self.property("bad")) != bad:
            self.setProperty("bad", bad)
            self.style().unpolish(self)
            self.style().polish(self)
        self.faulted.emit(why)
        self.setToolTip(why or self._hint)
        self.setAccessibleDescription(why or self._hint)

    def apply(self) -> None:
        """Hand over what was typed; what does not fit stays, marked, with the reason as its tip."""
        if not self.isModified():
            return
        text = self.text().strip()
        try:
            if not text and self._optional:
                value = None
            else:
                value = parse_quantity(text, self._kind)
                if self._integer and value != int(value):
                    raise ValueError
            self.setModified(False)
            self._commit(value)
        except BadInput as error:
            self.setModified(True)
            fault = error.faults[0]
            self._mark(bad=True, why=f"{fault.problem}; {fault.remedy}")
            return
        except ValueError:
            self._mark(bad=True, why="a whole number belongs here")
            return
        self._revert()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        if self.isModified() and not self.property("bad"):
            self.apply()
        super().focusOutEvent(event)

    def paste(self) -> None:
        """Paste; several values at once, a column or a row of a table, are handed on where someone takes them."""
        values = several_values(QGuiApplication.clipboard().text())
        if values and self.takes_many:
            self.pasted.emit(values)
        else:
            super().paste()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
            return
        if event.key() == Qt.Key.Key_Escape and (self.isModified() or self.property("bad")):
            self._revert()
            return
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._value is not None:
            sign = 1 if event.key() == Qt.Key.Key_Up else -1
            step = NUDGE.get(self._kind, SCALES[self._kind].factor * 10 ** -SCALES[self._kind].decimals)
            value = self._value + sign * step
            try:
                self._commit(round(value) if self._integer else round(value, 9))
            except BadInput as error:
                self._mark(bad=True, why=f"{error.faults[0].problem}; {error.faults[0].remedy}")
            return
        super().keyPressEvent(event)
