"""One field for every kind of number: units as typed, decimal comma, Enter applies, Esc reverts, arrows nudge."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLineEdit, QWidget

from calm_relay.errors import BadInput
from calm_relay.units import SCALES, format_quantity, parse_quantity

NUDGE = {"power_w": 100.0, "energy_wh": 100.0, "fraction": 0.01, "count": 1.0, "hours_h": 0.5, "angle_deg": 1.0}


class QuantityField(QLineEdit):
    """Edits one number in core units; leaving it untouched is no edit. `commit` raises BadInput for what does not fit."""

    def __init__(
        self,
        kind: str,
        name: str,
        commit: Callable[[float | None], None],
        *,
        optional: bool = False,
        ghost: str = "",
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._kind, self._commit, self._optional = kind, commit, optional
        self._value: float | None = None
        self.setAccessibleName(name)
        self.setPlaceholderText(ghost)
        self.setFixedWidth(int(self.fontMetrics().averageCharWidth() * 13))
        self.returnPressed.connect(self.apply)
        self.editingFinished.connect(self._left)

    def show_value(self, value: float | None) -> None:
        """Show a value of the document; a text being typed is left alone."""
        self._value = None if value is None else float(value)
        if not (self.hasFocus() and self.isModified()):
            self._revert()

    def _text(self) -> str:
        if self._value is None:
            return ""
        factor = SCALES[self._kind].factor
        places = SCALES[self._kind].decimals
        while places < 4 and abs(round(self._value / factor, places) - self._value / factor) > 1e-9:
            places += 1
        return format_quantity(self._value, self._kind, places)

    def _revert(self) -> None:
        self.setText(self._text())
        self.setModified(False)
        self._mark(bad=False, why="")

    def _mark(self, *, bad: bool, why: str) -> None:
        if bool(self.property("bad")) != bad:
            self.setProperty("bad", bad)
            self.style().unpolish(self)
            self.style().polish(self)
        self.setToolTip(why)
        self.setAccessibleDescription(why)

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
                if self._kind == "count" and value != int(value):
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

    def _left(self) -> None:
        if self.isModified() and not self.property("bad"):
            self.apply()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and (self.isModified() or self.property("bad")):
            self._revert()
            return
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._value is not None:
            sign = 1 if event.key() == Qt.Key.Key_Up else -1
            step = NUDGE.get(self._kind, SCALES[self._kind].factor * 10 ** -SCALES[self._kind].decimals)
            value = self._value + sign * step
            try:
                self._commit(int(value) if self._kind == "count" else round(value, 9))
            except BadInput as error:
                self._mark(bad=True, why=f"{error.faults[0].problem}; {error.faults[0].remedy}")
            return
        super().keyPressEvent(event)
