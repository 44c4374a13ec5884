"""The sheet under the relay line: equipment and main settings of the chosen station, edited in place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.errors import BadInput
from calm_relay.library.shipped import shipped_cards
from calm_relay.relay.picture import Station
from calm_relay.rules.edits import Edit, read_path
from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

PER_ROW = 3


@dataclass
class _Row:
    path: str
    widget: QWidget
    show: Callable[[Any], None]


class StationSheet(QWidget):
    """Shows the fields of one station; every change is one named entry of the history."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.session = session
        self._station: Station | None = None
        self._signature: object = None
        self._rows: list[_Row] = []
        self._outer = QVBoxLayout(self)
        self._outer.setContentsMargins(16, 8, 16, 8)
        self._outer.setSpacing(4)
        head = QHBoxLayout()
        self._title = label("", "heading")
        self._hint = label("", "quiet")
        self._close = QPushButton("Close")
        self._close.clicked.connect(lambda: self.open(None))
        head.addWidget(self._title)
        head.addWidget(self._hint, 1)
        head.addWidget(self._close)
        self._outer.addLayout(head)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._outer.addWidget(self._scroll, 1)
        session.job_changed.connect(self.refresh)
        session.plan_chosen.connect(lambda: self.open(None))
        self.hide()

    @property
    def station(self) -> Station | None:
        """The station being edited."""
        return self._station

    def open(self, station: Station | None) -> None:
        """Open the sheet on a station, or close it."""
        self._station, self._signature = station, None
        self.setVisible(station is not None)
        page = self.parentWidget()
        relay = page.findChild(QWidget, "relay") if page is not None else None
        if station is None and relay is not None:
            relay.setFocus()
        self.refresh()

    def focus_first(self) -> None:
        """Put the focus on the first field."""
        if self._rows:
            self._rows[0].widget.setFocus()

    def field(self, path_end: str) -> QWidget:
        """Return the widget of the field whose path ends so; raises KeyError."""
        for row in self._rows:
            if row.path.endswith(path_end):
                return row.widget
        raise KeyError(path_end)

    # --- filling
    def refresh(self) -> None:
        """Show the present values; rebuilt only when the station's make-up changed."""
        if self._station is None:
            return
        signature = self._shape()
        if signature is None:
            self.open(None)
            return
        if signature != self._signature:
            self._signature = signature
            self._build()
        for row in self._rows:
            row.show(read_path(self.session.job, row.path))

    def _shape(self) -> object:
        """Return what decides which fields there are; None when the station is gone."""
        station, plan = self._station, self.session.plan
        assert station is not None
        base = (plan.id, station.id, tuple(c.id for c in self.session.job.library))
        node_id = station.id.partition(":")[2].split("/")[0]
        node = next((n for n in plan.nodes if n.id == node_id), None)
        if station.kind in ("strings", "node", "battery"):
            if node is None:
                return None
            return (*base, tuple((g.id, g.tracker, g.face) for g in node.strings), node.battery is None, len(plan.controls.slots))
        if station.kind == "transfer" and plan.transfer is None:
            return None
        return (*base, plan.transfer is None, tuple(a.id for a in self.session.job.house.appliances))

    def _build(self) -> None:
        assert self._station is not None
        self._rows = []
        holder = QWidget()
        holder.setObjectName("sheet")
        self._grid = QGridLayout(holder)
        self._grid.setContentsMargins(0, 2, 0, 2)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(5)
        self._cell = 0
        self._title.setText(self._station.title)
        self._hint.setText("")
        getattr(self, f"_build_{self._station.kind}")()
        for column in range(PER_ROW):
            self._grid.setColumnStretch(2 * column + 1, 1)
        self._grid.setRowStretch(self._grid.rowCount(), 1)
        self._scroll.setWidget(holder)

    def _add(self, name: str, widget: QWidget) -> None:
        row, column = divmod(self._cell, PER_ROW)
        caption = label(name, "quiet")
        caption.setBuddy(widget)
        self._grid.addWidget(caption, row, 2 * column)
        self._grid.addWidget(widget, row, 2 * column + 1, Qt.AlignmentFlag.AlignLeft)
        self._cell += 1

    def _new_line(self) -> None:
        self._cell = -(-self._cell // PER_ROW) * PER_ROW

    def _number(self, name: str, path: str, kind: str, *, optional: bool = False, ghost: str = "") -> None:
        def commit(value: float | None) -> None:
            old = read_path(self.session.job, path)
            before = "none" if old is None else show(old, kind)
            after = "none" if value is None else show(value, kind)
            stored = int(value) if kind == "count" and value is not None else value
            self.session.edit(f"{name}: {before} to {after}", [Edit(path, stored)], merge=path)

        field = QuantityField(kind, name, commit, optional=optional, ghost=ghost)
        field.editingFinished.connect(self.session.document.end_merge)
        self._rows.append(_Row(path, field, field.show_value))
        self._add(name, field)

    def _choice(
        self, name: str, path: str, options: list[tuple[str, str]], before: dict[str, tuple[Edit, ...]] | None = None
    ) -> None:
        box = QComboBox()
        box.setAccessibleName(name)
        box.setMaximumWidth(230)
        for value, text in options:
            box.addItem(text, value)

        def chosen(index: int) -> None:
            value = box.itemData(index)
            edits = (*((before or {}).get(value, ())), Edit(path, value))
            try:
                self.session.edit(f"{name}: {box.itemText(index)}", edits)
            except BadInput as error:
                self.session.problem.emit("\n".join(fault.problem + "; " + fault.remedy for fault in error.faults))
                self.refresh()

        def show_value(value: object) -> None:
            with QSignalBlocker(box):
                box.setCurrentIndex(box.findData(value))

        box.activated.connect(chosen)
        self._rows.append(_Row(path, box, show_value))
        self._add(name, box)

    def _card_choice(self, name: str, path: str, kind: str) -> None:
        """Offer every card of the kind; a shipped one is copied into the job when it is chosen."""
        own = {card.id: card for card in self.session.job.library if card.kind == kind}
        shipped = {card.id: card for card in shipped_cards() if card.kind == kind and card.id not in own}
        options = [(card.id, card.name) for card in (*own.values(), *shipped.values())]
        self._choice(name, path, options, {i: (Edit("library[+]", card.model_dump()),) for i, card in shipped.items()})

    # --- stations
    def _node_path(self) -> tuple[str, Any]:
        assert self._station is not None
        node_id = self._station.id.partition(":")[2].split("/")[0]
        node = next(n for n in self.session.plan.nodes if n.id == node_id)
        return f"plans[{self.session.chosen}].nodes[{node_id}]", node

    def _build_strings(self) -> None:
        assert self._station is not None
        base, node = self._node_path()
        tracker = int(self._station.id.rpartition("/")[2])
        faces = [(f.id, f.name) for f in self.session.job.faces]
        for group in (g for g in node.strings if g.tracker == tracker):
            at = f"{base}.strings[{group.id}]"
            self._number("Modules in series", f"{at}.modules_per_string", "count")
            self._number("Strings in parallel", f"{at}.parallel_strings", "count")
            self._card_choice("Module", f"{at}.module", "module")
            self._choice("Roof face", f"{at}.face", faces)
            face = f"faces[{group.face}]"
            self._number("Tilt of the face", f"{face}.tilt_deg", "angle_deg")
            self._number("Azimuth of the face", f"{face}.azimuth_deg", "angle_deg")
            self._new_line()
        self._hint.setText("arrows nudge, Enter applies, Esc reverts; a face is shared by all plans")

    def _build_node(self) -> None:
        base, node = self._node_path()
        kind = self.session.job.card(node.card).kind
        self._card_choice("Equipment", f"{base}.card", kind)
        if self.session.plan.transfer is not None:
            self._choice("Joins on", f"{base}.side", [("backup", "backup side"), ("grid", "grid side")])

    def _build_battery(self) -> None:
        base, _ = self._node_path()
        plan = f"plans[{self.session.chosen}]"
        self._card_choice("Battery module", f"{base}.battery.card", "battery")
        self._number("Modules", f"{base}.battery.modules", "count")
        self._number("State of health", f"{base}.battery.state_of_health_frac", "fraction")
        self._number("Reserve for outages", f"{plan}.controls.reserve_soc_frac", "fraction")
        for i, slot in enumerate(self.session.plan.controls.slots):
            if slot.kind != "charge_from_grid":
                continue
            at = f"{plan}.controls.slots[{i}]"
            self._new_line()
            self._number("Grid charge from", f"{at}.start_h", "hours_h")
            self._number("until", f"{at}.end_h", "hours_h")
            self._number("at", f"{at}.power_w", "power_w")
            self._number("Target", f"{at}.target_soc_frac", "fraction")
            if slot.target_soc_frac > self.session.plan.controls.reserve_soc_frac:
                self._hint.setText("below its target the slot draws from the grid at full power")

    def _build_transfer(self) -> None:
        self._card_choice("Transfer device", f"plans[{self.session.chosen}].transfer.card", "transfer")
        self._hint.setText("its amps pass with the grid up; with the grid down it is open and passes nothing")

    def _build_loads(self) -> None:
        plan = self.session.plan
        if plan.transfer is None:
            self._hint.setText("this plan has no transfer device: every load is dark in an outage")
            return
        path = f"plans[{plan.id}].transfer.listed"
        self._choice(
            "Backed up",
            f"plans[{plan.id}].transfer.backed_up",
            [("listed", "only the loads ticked"), ("whole_house", "whole house")],
        )
        self._new_line()
        loads = [(a.id, f"{a.name}, {show(a.running_w, 'power_w')}") for a in self.session.job.house.appliances]
        for load, text in [("background", "Everything else"), *loads]:
            box = QCheckBox(text)
            box.setAccessibleName(f"Back up {text}")

            def toggled(on: bool, load: str = load, text: str = text) -> None:
                listed = [i for i in read_path(self.session.job, path) if i != load] + ([load] if on else [])
                self.session.edit(f"{'Back up' if on else 'Do not back up'}: {text}", [Edit(path, listed)])

            def show_value(listed: list[str], load: str = load, box: QCheckBox = box) -> None:
                with QSignalBlocker(box):
                    box.setChecked(load in listed)

            box.toggled.connect(toggled)
            self._rows.append(_Row(path, box, show_value))
            row, column = divmod(self._cell, PER_ROW)
            self._grid.addWidget(box, row, 2 * column, 1, 2)
            self._cell += 1

    def _build_grid(self) -> None:
        self._number("Export limit", "site.export_limit_w", "power_w", optional=True, ghost="no limit")
        self._number("Import limit", "site.import_limit_w", "power_w", optional=True, ghost="no limit")
        self._number("Service", "site.supply.service_a", "current_a")
        self._number("Network's inverter sum", "site.network.sum_limit_w", "power_w", optional=True, ghost="ask the operator")
        self._number("Record low", "site.record_low_c", "temperature_c", optional=True, ghost="not known")
        self._number("Design high", "site.design_high_c", "temperature_c", optional=True, ghost="not known")
        self._number("Import price", "tariff.import_price_per_kwh", "price_per_kwh")
        self._number("Cheap price", "tariff.cheap_price_per_kwh", "price_per_kwh")
        self._number("Export price", "tariff.export_price_per_kwh", "price_per_kwh")
        self._hint.setText("shared by all plans")
