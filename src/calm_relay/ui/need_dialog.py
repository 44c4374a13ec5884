"""An appliance made from what people know of it: a heat pump from the fuel of a year, a car from its kWh a day."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from PySide6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QGridLayout, QVBoxLayout, QWidget

from calm_relay.errors import BadInput
from calm_relay.job.house_models import Appliance
from calm_relay.load.catalogue import CAR_CHARGING_FRAC, Coupling, car_appliance, car_arithmetic, heat_pump_appliance
from calm_relay.load.sums import heat_pump_from_fuel
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

Kind = Literal["heat pump", "car"]
# (key, words, kind of quantity, what it begins with); the first figures are invented
ROWS: dict[Kind, tuple[tuple[str, str, str, float], ...]] = {
    "heat pump": (
        ("fuel_wh", "Fuel of a year", "energy_wh", 12_000_000.0), ("boiler_frac", "What the boiler made of it", "fraction", 0.9),
        ("cop", "Seasonal COP", "ratio", 3.2), ("power_w", "Electric power", "power_w", 2500.0),
    ),
    "car": (
        ("day_wh", "Into the car each day", "energy_wh", 8000.0), ("power_w", "Charger", "power_w", 7000.0),
        ("start_h", "From", "clock_h", 23.0), ("end_h", "Until", "clock_h", 6.0),
    ),
}  # fmt: skip
COUPLINGS: tuple[tuple[Coupling, str], ...] = (("ac", "the car's own charger, from AC"), ("dc", "a DC charger on the wall"))
TITLES: dict[Kind, str] = {"heat pump": "A heat pump in place of a boiler", "car": "A car charged at home"}


class NeedDialog(QDialog):
    """Asks a few figures, shows the sum, and holds the appliance it makes in `made`."""

    def __init__(self, kind: Kind, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._kind = kind
        self.made: Appliance | None = None
        self.values = {key: first for key, _, _, first in ROWS[kind]}
        self.fields: dict[str, QuantityField] = {}
        self.setWindowTitle(TITLES[kind])
        self.setMinimumWidth(62 * self.fontMetrics().averageCharWidth())
        column = QVBoxLayout(self)
        column.addWidget(label(TITLES[kind], "heading"))
        grid = QGridLayout()
        column.addLayout(grid)
        grid.setColumnStretch(2, 1)
        for row, (key, words, quantity, first) in enumerate(ROWS[kind]):
            field = QuantityField(quantity, words, self._setter(key))
            field.show_value(first)
            self.fields[key] = field
            grid.addWidget(label(words, "quiet"), row, 0)
            grid.addWidget(field, row, 1)
        self.coupling, self.on_surplus = ClosedList(), QCheckBox("PV surplus first, after the house battery")
        if kind == "car":
            for value, words in COUPLINGS:
                self.coupling.addItem(words, value)
            self.coupling.setAccessibleName("How the car is charged")
            self.coupling.currentIndexChanged.connect(lambda _: self._work_out())
            self.on_surplus.toggled.connect(lambda _: self._work_out())
            grid.addWidget(label("Charged by", "quiet"), len(ROWS[kind]), 0)
            grid.addWidget(self.coupling, len(ROWS[kind]), 1, 1, 2)
            column.addWidget(self.on_surplus)
        self.words = label("", "", wrap=True)
        column.addWidget(self.words)
        column.addStretch()
        buttons = QDialogButtonBox()
        self.use = buttons.addButton("Add it", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Leave it", QDialogButtonBox.ButtonRole.RejectRole)
        self.use.setAutoDefault(False)  # Enter in a field applies that field
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._work_out()

    def _setter(self, key: str) -> Callable[[float | None], None]:
        def put(value: float | None) -> None:
            if value is not None:
                self.values[key] = value
            self.fields[key].show_value(self.values[key])
            self._work_out()

        return put

    def _work_out(self) -> None:
        """Make the appliance and say its sum, or why there is none."""
        v = self.values
        try:
            if self._kind == "car":
                coupling: Coupling = "dc" if self.coupling.currentData() == "dc" else "ac"
                self.made = car_appliance(
                    v["day_wh"], v["power_w"], v["start_h"], v["end_h"], coupling=coupling, on_surplus=self.on_surplus.isChecked()
                )
                year = v["day_wh"] / CAR_CHARGING_FRAC[coupling] * 365
                words = f"{car_arithmetic(v['day_wh'], v['power_w'], coupling)}, {show(year, 'energy_wh', 0)} a year. "
                if self.on_surplus.isChecked():
                    words += "What surplus does not bring by day it draws in its window; the car must be there by day for that. "
                    words += "A house battery never feeds it."
                else:
                    words += "A house battery does not feed it, unless you say so."
            else:
                self.made = heat_pump_appliance(v["fuel_wh"], v["boiler_frac"], v["cop"], v["power_w"])
                words = heat_pump_from_fuel(v["fuel_wh"], v["boiler_frac"], v["cop"]).arithmetic
                words += " a year, shared by the days' degree-days below 15 °C; a colder day draws more for the same heat."
        except BadInput as error:
            self.made, words = None, str(error)
        self.words.setText(words)
        self.use.setEnabled(self.made is not None)
