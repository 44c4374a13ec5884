"""The sheet under the relay line: equipment and main settings of the chosen station, edited in place."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, read_path
from calm_relay.job.models import Node
from calm_relay.relay.picture import Station
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import clear_layout, label
from calm_relay.units import format_quantity as show

USUAL_LEAD_OHM = 0.001  # a metre or two of 50 mm² there and back, to be typed over


class StationSheet(QWidget):
    """Shows the fields of one station; every change is one named entry of the history."""

    closed = Signal()
    shown = Signal(bool)  # whether it is open now

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self._station: Station | None = None
        self._signature: object = None
        self.menu_of: Callable[[QWidget], QMenu] | None = None  # what can be built at the station; the page puts it here
        self.cells: dict[str, FieldCell] = {}
        self._ticks: dict[str, QCheckBox] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(16, 6, 12, 6)
        outer.setSpacing(4)
        head = QHBoxLayout()
        outer.addLayout(head)
        self._title = label("", "heading")
        self._close = QPushButton("Close")
        self._close.clicked.connect(lambda: self.open(None))
        head.addWidget(self._title)
        head.addStretch()
        head.addWidget(self._close)
        self._hint = label("", "quiet", wrap=True)
        outer.addWidget(self._hint)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._holder = QWidget()
        self._holder.setObjectName("sheet")
        self._column = QVBoxLayout(self._holder)
        self._column.setContentsMargins(0, 2, 4, 2)
        self._column.setSpacing(8)
        self._scroll.setWidget(self._holder)
        outer.addWidget(self._scroll, 1)
        session.answers_changed.connect(self.refresh)
        session.plan_chosen.connect(lambda: self.open(None, tell=False))
        self.hide()

    @property
    def station(self) -> Station | None:
        """The station being edited."""
        return self._station

    def open(self, station: Station | None, *, tell: bool = True) -> None:
        """Open the sheet on a station, or close it."""
        was = self._station
        self._station, self._signature = station, None
        self.setVisible(station is not None)
        if (station is None) != (was is None):
            self.shown.emit(station is not None)
        if station is None and was is not None and tell:
            self.closed.emit()
        self.refresh()

    def focus_first(self) -> None:
        """Put the focus on the first field."""
        first: list[QWidget] = [cell.editor for cell in self.cells.values()]
        first += self._ticks.values()
        (first or [self._close])[0].setFocus()

    def field(self, path_end: str) -> QWidget:
        """Return the editor of the field whose path ends so; raises KeyError."""
        for path, cell in self.cells.items():
            if path.endswith(path_end):
                return cell.editor
        raise KeyError(path_end)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.open(None)
        else:
            super().keyPressEvent(event)

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
        for cell in self.cells.values():
            cell.refresh()
        transfer = self.session.plan.transfer
        for load, box in self._ticks.items():
            with QSignalBlocker(box):
                box.setChecked(transfer is not None and load in transfer.listed)

    def _node(self) -> Node | None:
        assert self._station is not None
        node_id = self._station.id.partition(":")[2].split("/")[0]
        return next((n for n in self.session.plan.nodes if n.id == node_id), None)

    def _shape(self) -> object:
        """Return what decides which fields there are; None when the station is gone."""
        station, plan, job = self._station, self.session.plan, self.session.job
        assert station is not None
        base = (plan.id, station.id, tuple(c.id for c in job.library), plan.transfer is None, plan.off_grid)
        if station.kind in ("strings", "node", "battery"):
            node = self._node()
            if node is None or (station.kind == "battery" and node.battery is None):
                return None
            if station.kind == "strings" and not any(g.tracker == int(station.id.rpartition("/")[2]) for g in node.strings):
                return None
            groups = tuple((g.id, g.tracker, g.face) for g in node.strings)
            bank = None if node.battery is None else (node.battery.card, node.battery.modules, len(node.battery.leads_ohm))
            return (
                *base,
                groups,
                node.card,
                node.controller,
                node.timer_charger,
                bank,
                len(plan.controls.slots),
                job.site.supply.kind,
            )
        if (station.kind == "transfer" and plan.transfer is None) or (station.kind == "generator" and plan.generator is None):
            return None
        return (*base, tuple((a.id, a.name, a.running_w) for a in job.house.appliances))

    def _build(self) -> None:
        assert self._station is not None
        self.cells, self._ticks = {}, {}
        clear_layout(self._column)
        self._title.setText(self._station.title)
        self._hint.setText("")
        getattr(self, f"_build_{self._station.kind}")()
        self.build = QPushButton("Add or take out")
        self.build.setAutoDefault(False)
        self.build.setToolTip("What can be added at this station, or taken out of it")
        if self.menu_of is not None:
            self.build.setMenu(self.menu_of(self.build))
        self._line(self.build)
        self._hint.setVisible(bool(self._hint.text()))
        self._column.addStretch()

    def _line(self, *cells: QWidget) -> None:
        holder = QWidget()
        flow = FlowLayout(holder)
        for cell in cells:
            flow.addWidget(cell)
        self._column.addWidget(holder)

    def _cell(self, path: str, **more: object) -> FieldCell:
        made = FieldCell(self.session, path, **more)  # type: ignore[arg-type]
        self.cells[path] = made
        return made

    # --- stations
    def _build_strings(self) -> None:
        assert self._station is not None
        node = self._node()
        assert node is not None
        base = f"plans[{self.session.chosen}].nodes[{node.id}]"
        tracker = int(self._station.id.rpartition("/")[2])

        def faces() -> list[tuple[str, str]]:
            return [(f.id, f.name) for f in self.session.job.faces]

        for group in (g for g in node.strings if g.tracker == tracker):
            at, face = f"{base}.strings[{group.id}]", f"faces[{group.face}]"
            self._line(
                self._cell(f"{at}.modules_per_string", chars=7),
                self._cell(f"{at}.parallel_strings", chars=7),
                self._cell(f"{at}.module", card_kind="module"),
                self._cell(f"{at}.face", options=faces),
                self._cell(f"{face}.tilt_deg", caption="Tilt of the face", chars=8),
                self._cell(f"{face}.azimuth_deg", caption="Azimuth of the face", chars=8),
            )
        self._hint.setText("Arrows nudge, Enter applies, Esc reverts. A face is shared by all plans.")

    def _build_node(self) -> None:
        node = self._node()
        assert node is not None
        base = f"plans[{self.session.chosen}].nodes[{node.id}]"
        card = self.session.job.card(node.card)
        cells = [self._cell(f"{base}.card", card_kind=card.kind), self._cell(f"{base}.name", chars=20)]
        if card.kind == "battery_inverter":
            cells.append(self._cell(f"{base}.count", caption="Like units on the bank", chars=6))
        if self.session.plan.transfer is not None:
            cells.append(self._cell(f"{base}.side"))
        if self.session.job.site.supply.kind == "three_phase":
            cells.append(self._cell(f"{base}.line"))
        self._line(*cells)
        on_bank = []
        if node.controller is not None:
            on_bank.append(self._cell(f"{base}.controller", card_kind="charge_controller"))
            on_bank.append(self._cell(f"{base}.controllers", chars=6))
        if node.timer_charger is not None:
            on_bank.append(self._cell(f"{base}.timer_charger", card_kind="timer_charger"))
        if self.session.job.cards().inverter(node.card).battery_terminals:
            on_bank.append(self._cell(f"{base}.dc_car", options=self._cars))
        if on_bank:
            self._line(*on_bank)
        if self.session.job.cards().inverter(node.card).battery_terminals and node.battery is None:
            self._hint.setText("No battery on this inverter yet: 'Add or take out' puts one on.")

    def _cars(self) -> list[tuple[str, str]]:
        """Return what may be charged on a DC side: none, or a load of the house."""
        return [("", "none"), *((a.id, a.name) for a in self.session.job.house.appliances)]

    def _build_battery(self) -> None:
        node = self._node()
        assert node is not None
        base, plan = f"plans[{self.session.chosen}].nodes[{node.id}]", f"plans[{self.session.chosen}]"
        self._line(
            self._cell(f"{base}.battery.card", card_kind="battery"),
            self._cell(f"{base}.battery.modules", chars=7),
            self._cell(f"{base}.battery.state_of_health_frac", chars=8),
            self._cell(f"{base}.battery.place"),
            self._cell(f"{plan}.controls.reserve_soc_frac", chars=8),
            self._button("Chains…", "chains", "Links from cell to bus, the weakest, what each way loses"),
            self._button("Controls…", "controls", "Sensor, peaks, room for what is clipped, slots by the clock"),
        )
        self._build_leads(node, f"{base}.battery")
        for i, slot in enumerate(self.session.plan.controls.slots):
            if slot.kind != "charge_from_grid" or not slot.holds_for(node.id):
                continue
            at = f"{plan}.controls.slots[{i}]"
            self._line(
                *(self._cell(f"{at}.{name}", chars=8) for name in ("start_h", "end_h", "power_w", "target_soc_frac", "days"))
            )
            self._hint.setText("Below its target a grid charge slot draws from the grid at full power, sun or not.")
        seasons = ("winter", "spring", "summer", "autumn")
        reserve = show(self.session.plan.controls.reserve_soc_frac, "fraction")
        self._line(
            *(
                self._cell(f"{plan}.controls.reserve_{s}_soc_frac", caption=f"Reserve in {s}", chars=8, ghost=reserve)
                for s in seasons
            )
        )

    def _build_leads(self, node: Node, base: str) -> None:
        """Leads of parallel branches: alike until they are typed, one a branch."""
        assert node.battery is not None
        card = self.session.job.cards().battery(node.battery.card)
        if card.stacking != "parallel" or node.battery.modules < 2:
            return
        typed = node.battery.leads_ohm
        button = QPushButton("Leads alike" if typed else "Leads differ…")
        button.setToolTip("Resistance of leads and joints of each parallel branch, there and back")
        button.setAutoDefault(False)
        rows: list[float] = [] if typed else [USUAL_LEAD_OHM] * node.battery.modules
        words = "Leads of like length and size" if typed else "Leads of each branch"
        button.clicked.connect(lambda _=False: self.session.edit(words, [Edit(f"{base}.leads_ohm", rows)]))
        cells = [self._cell(f"{base}.leads_ohm[{i}]", caption=f"Branch {i + 1}", chars=8) for i in range(len(typed))]
        self._line(button, *cells)

    def _button(self, text: str, command: str, tip: str) -> QPushButton:
        """Return a button that opens a dialog by its command."""
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: self.session.command_asked.emit(command))
        return button

    def _build_transfer(self) -> None:
        base = f"plans[{self.session.chosen}].transfer"
        self._line(
            self._cell(f"{base}.card", card_kind="transfer"),
            *(self._cell(f"{base}.{name}") for name in ("neutral_bond", "residual_current", "earth_electrode")),
            self._cell(f"{base}.largest_breaker_a", ghost="not known"),
            self._cell(f"{base}.breaker_trips_at"),
        )
        self._hint.setText("Its amps pass with the grid up; with the grid down it is open and passes nothing.")

    def _build_generator(self) -> None:
        base = f"plans[{self.session.chosen}].generator"
        self._line(
            self._cell(f"{base}.card", card_kind="generator"),
            self._cell(f"{base}.pv_locked_out"),
            self._cell(f"{base}.bypass"),
            *(self._cell(f"{base}.{name}") for name in ("start_soc_frac", "stop_soc_frac", "quiet_start_h", "quiet_end_h")),
        )
        self._hint.setText("It stands still in the year; what it adds in an outage is on Blackout.")

    def _build_loads(self) -> None:
        plan = self.session.plan
        if plan.off_grid:
            self._hint.setText("Without a grid every load stands on the one bus there is.")
            return
        if plan.transfer is None:
            self._hint.setText("This plan has no transfer device: every load is dark in an outage.")
            return
        self._line(self._cell(f"plans[{plan.id}].transfer.backed_up"))
        path = f"plans[{plan.id}].transfer.listed"
        loads = [(a.id, f"{a.name}, {show(a.running_w, 'power_w')}") for a in self.session.job.house.appliances]
        for load, text in [("background", "Everything else"), *loads]:
            box = QCheckBox(text)
            box.setAccessibleName(f"Back up {text}")
            box.toggled.connect(lambda on, i=load, words=text: self._tick(path, i, words, on=on))
            self._ticks[load] = box
        self._line(*self._ticks.values())

    def _tick(self, path: str, load: str, words: str, *, on: bool) -> None:
        listed = [i for i in read_path(self.session.job, path) if i != load] + ([load] if on else [])
        try:
            self.session.edit(f"{'Back up' if on else 'Do not back up'}: {words}", [Edit(path, listed)])
        except BadInput as error:
            self.session.problem.emit(str(error))

    def _build_grid(self) -> None:
        if self.session.plan.off_grid:
            self._line(self._cell("site.supply.voltage_v", chars=9), self._cell("site.supply.kind"))
            self._hint.setText("No grid: the inverters make this supply. 'Add or take out' connects the plan to one.")
            return
        self._line(
            *(
                self._cell(path, chars=9, ghost=ghost)
                for path, ghost in (
                    ("site.export_limit_w", "no limit"),
                    ("site.import_limit_w", "no limit"),
                    ("site.supply.service_a", ""),
                    ("site.supply.voltage_v", ""),
                    ("site.network.sum_limit_w", "ask them"),
                    ("site.network.dc_ac_ratio_max", "no rule"),
                    ("site.network.rebate_dc_ac_ratio_max", "no rebate"),
                )
            ),
            self._cell("site.supply.kind"),
        )
        self._line(
            *(
                self._cell(f"tariff.{name}", chars=12 if name.endswith("kwh") else 8)
                for name in (
                    "import_price_per_kwh",
                    "cheap_price_per_kwh",
                    "cheap_start_h",
                    "cheap_end_h",
                    "export_price_per_kwh",
                    "standing_per_day",
                )
            ),
            self._cell("tariff.currency", chars=5),
        )
        self._hint.setText("Shared by all plans. Equal ends of the cheap window mean there is none.")
