"""Twelve values of one quantity, January to December, that wrap with the width."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.errors import BadInput, Fault
from calm_relay.job.edits import read_path
from calm_relay.job.fields import describe
from calm_relay.job.plausible import AskingBack, doubt
from calm_relay.job.sources import typed_edits, typed_months
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.fields.reason import reason_label, show_reason
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label
from calm_relay.units import SCALES, parse_quantity
from calm_relay.units import format_quantity as show


def _months(count: int) -> str:
    return "is 1 month" if count == 1 else f"are {count} months"


class MonthRow(QWidget):
    """Caption with unit and mark, and a small field for each month.

    `factors` are what a month's value is shown times: with the days of the months a day's energy is typed by the month.
    """

    def __init__(
        self, session: Session, path: str, factors: Sequence[float] = (1.0,) * 12, caption: str = "", parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._factors = tuple(factors)
        self.session, self.path = session, path
        info = describe(session.job, f"{path}[0]")
        self._kind, self._label = info.kind or "ratio", caption or describe(session.job, path).label
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        top = QHBoxLayout()
        column.addLayout(top)
        top.setSpacing(6)
        self._caption = label("", "quiet")
        self._mark = label("", "assumed")
        top.addWidget(self._caption)
        top.addWidget(self._mark)
        top.addStretch()
        holder = QWidget()
        flow = FlowLayout(holder, gap=5, line_gap=4)
        self.fields: list[QuantityField] = []
        self._names: list[QLabel] = []
        self._asking = AskingBack()
        for i, month in enumerate(MONTHS):
            cell = QWidget()
            inner = QVBoxLayout(cell)
            inner.setContentsMargins(0, 0, 0, 0)
            inner.setSpacing(0)
            name = label(month, "quiet")
            field = QuantityField(
                self._kind, f"{self._label}, {month}", lambda value, i=i: self._commit(i, value), chars=5, with_unit=False
            )
            field.editingFinished.connect(session.document.end_merge)
            field.faulted.connect(lambda why, field=field, month=month: self._say_why(field, month, why))
            field.takes_many = True
            field.pasted.connect(lambda texts, i=i: self._paste(i, texts))
            name.setBuddy(field)
            inner.addWidget(name)
            inner.addWidget(field)
            self.fields.append(field)
            self._names.append(name)
            flow.addWidget(cell)
        column.addWidget(holder)
        self.why = reason_label()
        column.addWidget(self.why)
        self._faulted: QuantityField | None = None
        self.refresh()

    def _say_why(self, field: QuantityField, month: str, why: str) -> None:
        """Print under the row why a month was not taken; a month that is settled takes away its own reason only."""
        if not why:
            self._asking.settled()
        if why or self._faulted is field:
            self._faulted = field if why else None
            show_reason(self.why, f"{month}: {why}" if why else "", self)

    def _commit(self, index: int, value: float | None) -> None:
        if value is None:
            return
        path = f"{self.path}[{index}]"
        self._asking.check(path, self._kind, value / self._factors[index])
        text = f"{self._label}, {MONTHS[index]}: {show(value, self._kind)}"
        self.session.edit(text, typed_edits(self.session.job, path, value / self._factors[index]), merge=path)

    def _paste(self, first: int, texts: list[str]) -> None:
        """Take a copied column or row from a month on, as one entry; a fault in one of them changes nothing."""
        values = list(read_path(self.session.job, self.path))
        field = self.fields[first]
        if len(texts) > 12 - first:
            left = 12 - first
            self._say_why(field, MONTHS[first], f"{len(texts)} values were copied; from here on there {_months(left)}")
            return
        for i, text in enumerate(texts, start=first):
            try:
                value = parse_quantity(text, self._kind) / self._factors[i]
                odd = doubt(f"{self.path}[{i}]", self._kind, value)
                if odd is not None:
                    raise BadInput([Fault("", "", *odd)])
            except BadInput as error:
                self._say_why(field, MONTHS[i], f"{error.faults[0].problem}; {error.faults[0].remedy}")
                return
            values[i] = value
        edits = typed_months(self.session.job, self.path, first, values[first : first + len(texts)])
        try:
            self.session.edit(f"{self._label}: {len(texts)} months pasted", edits)
        except BadInput as error:
            self._say_why(field, MONTHS[first], f"{error.faults[0].problem}; {error.faults[0].remedy}")

    def focus_first(self) -> None:
        """Put the focus on January."""
        self.fields[0].setFocus()

    def refresh(self) -> None:
        """Show the document's values."""
        unit = SCALES[self._kind].unit
        self._caption.setText(f"{self._label}, {unit}" if unit else self._label)
        marks = [self.session.job.mark_of(f"{self.path}[{i}]") for i in range(12)]
        typed = [month for month, mark in zip(MONTHS, marks, strict=True) if mark == "typed"]
        rest = next((mark for mark in marks if mark != "typed"), "")
        self._mark.setText(f"{rest}, but {', '.join(typed)}" if rest and typed else rest)
        values = read_path(self.session.job, self.path)
        for field, value, factor in zip(self.fields, values, self._factors, strict=True):
            field.fit()
            field.show_value(value * factor)
