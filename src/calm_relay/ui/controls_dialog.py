"""How the batteries of the chosen plan are run: what the controller sees and holds, its reserve by season, and its slots."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.errors import BadInput
from calm_relay.job.control_models import SLOT_DEFAULTS, Slot, slot_words
from calm_relay.job.edits import Edit
from calm_relay.report.controls import control_sentences
from calm_relay.report.slot_day import slot_day
from calm_relay.tariff.prices import hourly_of
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.fields.cell import FieldCell
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.slot_bars import SlotBars
from calm_relay.ui.widgets import clear_layout, close_row, label
from calm_relay.units import format_quantity as show

# What each kind of slot uses of a slot's fields.
USES = {
    "charge_from_grid": ("power_w", "target_soc_frac", "floor_soc_frac"),
    "timer": ("power_w", "target_soc_frac", "floor_soc_frac"),
    "surplus_only": ("target_soc_frac", "floor_soc_frac"),
    "discharge_to_grid": ("power_w", "floor_soc_frac"),
    "clipped_only": ("floor_soc_frac",),
    "hold": (),
}
CAPTIONS = {"power_w": "At", "target_soc_frac": "Up to", "floor_soc_frac": "Not below", "start_h": "From", "end_h": "Until"}
MOST_SLOTS = 8


class ControlsDialog(QDialog):
    """Every field is the document's own: what is changed here is changed at once, each by one named undo."""

    def __init__(self, session: Session, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self._theme, self._scale = session, theme, scale
        self._month, self._weekend = 0, False  # of the day that is shown; 0: of the first month that a slot holds in
        self._plan_id = session.chosen
        plan = session.plan
        self.setWindowTitle("Controls")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{plan.letter}  How the batteries are run", "heading"))
        self._holder = QWidget()
        self._inner = QVBoxLayout(self._holder)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self._holder)
        area.setAccessibleName("Controls")
        column.addWidget(area, 1)
        column.addWidget(close_row(self))
        self.cells: dict[str, FieldCell] = {}
        self.bars: SlotBars | None = None
        self._slot_words: list[QLabel] = []
        self._built: object = None
        session.job_changed.connect(self._follow)
        self._follow()
        self.resize(min(round(940 * scale), 1180), min(round(560 * scale), 720))

    # --- what there is
    def _follow(self) -> None:
        """Build anew where the slots are others, else bring the fields up to date; closes where the plan is gone."""
        plan = next((p for p in self.session.job.plans if p.id == self._plan_id), None)
        if plan is None:
            self.reject()
            return
        shape = tuple((slot.kind, slot.title) for slot in plan.controls.slots)
        if shape == self._built:
            for cell in self.cells.values():
                cell.refresh()
            self._say()
            self._show_day()
            return
        self._built = shape
        self._build(plan.controls.slots, show(plan.controls.reserve_soc_frac, "fraction"))

    def _build(self, slots: tuple[Slot, ...], reserve: str) -> None:
        self.cells = {}
        clear_layout(self._inner)
        at = f"plans[{self._plan_id}].controls"
        self._head("The controller")
        self._line(
            self._cell(f"{at}.sensor"),
            self._cell(f"{at}.meter_bias_w", chars=8),
            self._cell(f"{at}.export_response_s", chars=11),
            self._cell(f"{at}.battery_order"),
        )
        self._said = label("", "quiet", wrap=True)
        self._inner.addWidget(self._said)
        self._head("What it holds")
        self._line(
            self._cell(f"{at}.peak_target_w", chars=14, ghost="no peak shaving"),
            self._cell(f"{at}.peak_hold_soc_frac", chars=8),
            self._cell(f"{at}.leave_room"),
        )
        self._line(
            self._cell(f"{at}.reserve_soc_frac", chars=8),
            *(self._cell(f"{at}.reserve_{s}_soc_frac", chars=8, ghost=reserve) for s in ("winter", "spring", "summer", "autumn")),
        )
        self._head("Slots by the clock: a later one wins where two overlap; at other times the house comes first")
        self._picture(slots)
        self._slot_words = []
        for i, slot in enumerate(slots):
            base = f"{at}.slots[{i}]"
            remove = QPushButton("Remove")
            remove.setAccessibleName(f"Remove {slot.title}")
            remove.setAutoDefault(False)
            remove.clicked.connect(lambda _=False, k=i: self._remove(k))
            names = ("start_h", "end_h", *USES[slot.kind])
            self._line(
                self._cell(f"{base}.kind", caption=f"Slot {i + 1}"),
                self._cell(f"{base}.days"),
                *(self._cell(f"{base}.{name}", caption=CAPTIONS[name], chars=7) for name in names),
                remove,
            )
            words = label(slot_words(slot), "quiet", wrap=True)
            self._slot_words.append(words)
            self._inner.addWidget(words)
        if not slots:
            self._inner.addWidget(label("None: surplus charges, the house is served, all day."))
        self.add_button = QPushButton("&Add a slot")
        self.add_button.setAutoDefault(False)
        self.add_button.setEnabled(len(slots) < MOST_SLOTS)
        self.add_button.clicked.connect(lambda _=False: self._add())
        self._line(self.add_button)
        self._inner.addStretch()
        self._say()
        self._show_day()

    def _picture(self, slots: tuple[Slot, ...]) -> None:
        """The day as a picture, with the choice of its month and kind."""
        self.bars = None
        if not slots:
            return
        self.bars = SlotBars(self._theme, self._scale)
        self.month, self.days = ClosedList(), ClosedList()
        self.month.addItems(list(MONTHS))
        self.days.addItems(["weekday", "weekend"])
        self.month.setAccessibleName("Month of the day that is shown")
        self.days.setAccessibleName("Kind of day that is shown")
        shown = self._month or next((m for slot in slots for m in slot.months), 1)
        self.month.setCurrentIndex(shown - 1)
        self.days.setCurrentIndex(int(self._weekend))
        for box in (self.month, self.days):
            box.currentIndexChanged.connect(lambda _: self._show_day())
        self._line(label("Shown: a", "quiet"), self.days, label("in", "quiet"), self.month)
        self._inner.addWidget(self.bars)

    def _show_day(self) -> None:
        """Draw the day that is chosen, and say of each slot what it does then."""
        if self.bars is None:
            return
        self._month, self._weekend = self.month.currentIndex() + 1, self.days.currentIndex() == 1
        job, plan = self.session.job, self.session.job.plan(self._plan_id)
        hourly = hourly_of(job.tariff, self.session.store)
        day = slot_day(job, plan, self._month, weekend=self._weekend, hourly=hourly)
        self.bars.show_day(day, job.tariff.currency)
        for slot, row, words in zip(plan.controls.slots, day.rows, self._slot_words, strict=True):
            words.setText(f"{slot_words(slot)} {day.name}: {row.words}.")

    def _say(self) -> None:
        """Say in words what the controller does, slots apart: they have their own."""
        said = control_sentences(self.session.job, self.session.plan)
        self._said.setText(" ".join(said[: len(said) - len(self.session.plan.controls.slots)]))

    def _head(self, text: str) -> None:
        self._inner.addWidget(label(text, "heading", wrap=True))

    def _line(self, *cells: QWidget) -> None:
        holder = QWidget()
        flow = FlowLayout(holder)
        for cell in cells:
            flow.addWidget(cell)
        self._inner.addWidget(holder)

    def _cell(self, path: str, caption: str | None = None, chars: int | None = None, ghost: str = "") -> FieldCell:
        made = FieldCell(self.session, path, caption=caption, chars=chars, ghost=ghost)
        self.cells[path] = made
        return made

    # --- changes
    def _edit(self, words: str, edit: Edit) -> None:
        try:
            self.session.edit(words, [edit])
        except BadInput as error:
            self.session.problem.emit(str(error))

    def _add(self) -> None:
        self._edit("Add a slot", Edit(f"plans[{self._plan_id}].controls.slots[+]", dict(SLOT_DEFAULTS)))
        last = len(self.session.plan.controls.slots) - 1
        cell = self.cells.get(f"plans[{self._plan_id}].controls.slots[{last}].kind")
        if cell is not None:
            cell.editor.setFocus()

    def _remove(self, index: int) -> None:
        slots = [slot.model_dump() for i, slot in enumerate(self.session.plan.controls.slots) if i != index]
        self._edit("Remove a slot", Edit(f"plans[{self._plan_id}].controls.slots", slots))
