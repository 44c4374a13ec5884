"""What the house draws: its background, and each appliance with its fields."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QBoxLayout, QComboBox, QListWidget, QListWidgetItem, QSizePolicy, QVBoxLayout, QWidget

from calm_relay.calendar import in_window
from calm_relay.job.edits import Edit
from calm_relay.job.house_models import Appliance, Motor, ProfileLoad
from calm_relay.job.parts import add_appliance, put_appliance, remove_appliance
from calm_relay.load.catalogue import catalogue, seasonal_months
from calm_relay.load.shortfall import Shortfall, shortfalls
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.pages.background_part import BackgroundPart
from calm_relay.ui.pages.shown_year import shown_year_box
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.load.house import HouseYear
    from calm_relay.ui.need_dialog import Kind
    from calm_relay.ui.pages.base import FieldPage

BESIDE_PX = 640
ALL_DAY_H = 23.5
FIELDS = (
    "name", "running_w", "run_h", "window_start_h", "window_end_h", "cycles_per_day", "days", "share_of_days_frac", "power_factor",
    "follows", "surplus", "from_year",
)  # fmt: skip
TICKS = ("essential", "never_from_battery", "in_metered", "sheddable", "no_auto_return", "life_support")
IN_AN_OUTAGE = ("shed_order", "off_below_soc_frac", "on_above_soc_frac", "least_off_s")
MOTOR = (
    "kind",
    "voltage_v",
    "phases",
    "lra_a",
    "code_letter",
    "horsepower",
    "soft_starter",
    "soft_start_frac",
    "soft_starter_listed",
)
GHOSTS = {"off_below_soc_frac": "never", "on_above_soc_frac": "10 more"}
ON_SURPLUS = ("surplus_least_w", "surplus_start_h", "surplus_end_h")


class AppliancesPart:
    """List and fields."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.background = BackgroundPart(page)
        self.chosen = ""

    def shape(self) -> object:
        job = self._page.session.job
        load = self._load()
        chosen = (self.chosen, load.follows, load.surplus == "no", load.motor is None, load.sheddable) if load is not None else ()
        ids = tuple(a.id for a in job.house.appliances)
        later = tuple(a.from_year for a in job.house.later), job.house.shown_year
        return self.background.shape(), later, ids, chosen, job.site.supply.kind, self._page.session.chosen

    def _load(self) -> Appliance | None:
        return next((a for a in self._page.session.job.house.appliances if a.id == self.chosen), None)

    def build(self) -> None:
        page, job = self._page, self._page.session.job
        loads = job.house.appliances
        if self._load() is None:
            self.chosen = loads[0].id if loads else ""
        self.background.build()
        page.heading("Appliances", ("Add an appliance", self._add))
        page.flow(
            self._usual(),
            page.button("Heat pump from fuel…", lambda: self.ask_need("heat pump")),
            page.button("Car…", lambda: self.ask_need("car")),
            *([shown_year_box(page.session)] if job.house.later else []),
        )
        page.add(self._list_and_fields())

    def _usual(self) -> QComboBox:
        box = ClosedList()
        box.setAccessibleName("Add a usual appliance")
        box.addItem("Add a usual appliance…")
        for load in catalogue():
            box.addItem(f"{load.name}, {show(load.running_w, 'power_w')}")
        box.activated.connect(lambda i: self.add_usual(catalogue()[i - 1]) if i > 0 else None)
        return box

    def add_usual(self, load: Appliance) -> None:
        """Add a usual appliance; heating and cooling get the months of this hemisphere."""
        latitude = self._page.session.job.site.place.latitude_deg
        season = "winter" if "winter" in load.name else "summer" if "summer" in load.name else ""
        months = seasonal_months(season, latitude) if season else ()
        self._put(load.model_copy(update={"months": months}))

    def _put(self, load: Appliance) -> None:
        job, self.chosen = put_appliance(self._page.session.job, load)
        self._page.change(f"Add {load.name.lower()}", job)

    def _list_and_fields(self) -> QWidget:
        job = self._page.session.job
        holder = QWidget()
        row = self._beside = QBoxLayout(QBoxLayout.Direction.LeftToRight, holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(14)
        self.list = QListWidget()
        self.list.setAccessibleName("Appliances")
        self.list.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setFixedWidth(int(self.list.fontMetrics().averageCharWidth() * 38))
        self.list.setWordWrap(True)
        for load in job.house.appliances:
            item = QListWidgetItem()
            item.setData(Qt.ItemDataRole.UserRole, load.id)
            self.list.addItem(item)
        self.list.setCurrentRow(next((i for i, a in enumerate(job.house.appliances) if a.id == self.chosen), -1))
        self.list.currentItemChanged.connect(self._choose)
        row.addWidget(self.list, 0, Qt.AlignmentFlag.AlignTop)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        chosen = self._load()
        if chosen is None:
            column.addWidget(label("No appliance yet: add what runs in the evening, and what must stay on.", "quiet", wrap=True))
        else:
            column.addWidget(self._fields(chosen))
            self.load_words = label("", "quiet", wrap=True)
            column.addWidget(self.load_words)
        column.addStretch()
        row.addWidget(right, 1)
        self.turn()
        return holder

    def _fields(self, load: Appliance) -> QWidget:
        page = self._page
        base = f"house.appliances[{load.id}]"
        cells = QWidget()
        flow = FlowLayout(cells)
        names = [*FIELDS]
        if load.follows != "clock":
            names.insert(names.index("follows") + 1, "balance_c")
            if load.follows == "heating_degrees":
                names.insert(names.index("balance_c") + 1, "colder_draws_frac_per_k")
        if load.surplus != "no":
            at = names.index("surplus") + 1
            names[at:at] = ON_SURPLUS
        if page.session.job.site.supply.kind != "single_phase":
            names.insert(1, "line")
        background = page.session.job.house.background
        whole = not isinstance(background, ProfileLoad) or background.holds_listed
        ticks = [name for name in TICKS if name != "in_metered" or whole]
        outage = IN_AN_OUTAGE if load.sheddable or load.surplus != "no" else ()
        for name in (*names, *ticks, *outage):
            ghost = {"from_year": "today", "balance_c": "usual", **GHOSTS}.get(name, "")
            flow.addWidget(page.cell(f"{base}.{name}", chars=18 if name == "name" else 8, ghost=ghost))
        if load.motor is not None:
            for name in MOTOR:
                flow.addWidget(page.cell(f"{base}.motor.{name}", chars=10))
            flow.addWidget(page.button("No motor", lambda: self._put_motor(None)))
        else:
            flow.addWidget(page.button("It starts a motor", lambda: self._put_motor("pump")))
        flow.addWidget(page.button("Remove", self._remove, f"Remove {load.name}"))
        return cells

    def turn(self) -> None:
        """Put the fields beside the list, or under it where the page is narrow."""
        beside = self._page.width() / self._page.scale >= BESIDE_PX
        wanted = QBoxLayout.Direction.LeftToRight if beside else QBoxLayout.Direction.TopToBottom
        if self._beside.direction() != wanted:
            self._beside.setDirection(wanted)
        self.list.setFixedHeight(int(self.list.fontMetrics().height() * (15 if beside else 8)))

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.chosen = item.data(Qt.ItemDataRole.UserRole)
            self._page.refresh()
            self.list.setFocus()

    # --- showing
    def show_figures(self) -> None:
        self.background.show_figures()
        session = self._page.session
        job = session.job
        counted = {a.id for a in job.house.counted}
        year = session.house_year()
        less = {} if year is None else {row.load_id: row for row in shortfalls(job.house, year, session.calendar())}
        for i, load in enumerate(job.house.appliances):
            marks = " · must stay on" if load.essential else ""
            marks += "" if load.id in counted else f" · from {load.from_year}, not counted"
            drawn = f"{show(load.running_w, 'power_w')} · {show(load.mean_day_wh, 'energy_wh')} a day"
            if load.id in less:
                marks += f" · draws only {less[load.id].drawn_wh / less[load.id].typed_wh * 100:.0f} % of it"
            self.list.item(i).setText(f"{load.name}\n{drawn}{marks}")
        if year is not None:
            self._say_load(year, less.get(self.chosen))

    def _say_load(self, year: HouseYear, less: Shortfall | None) -> None:
        """Say what the chosen appliance makes of the year: its energy, and its longest day where the weather leads it."""
        load, session = self._load(), self._page.session
        if load is None:
            return
        house = session.job.house
        if load.id not in {a.id for a in house.counted}:
            shown = "today" if house.shown_year is None else str(house.shown_year)
            self.load_words.setText(f"It comes in {load.from_year}: the house of {shown} is shown, without it.")
            return
        watts, calendar = year.appliance_w[load.id], session.calendar()
        words = f"{show(float(watts.sum()) * calendar.step_h, 'energy_wh', 0)} in the year shown"
        if less is not None:
            words = f"In the year shown {less.words}"
        if load.follows != "clock" and watts.any():
            days = calendar.day_means(watts) * 24.0
            longest = int(days.argmax())
            when = calendar.label(longest * calendar.steps_per_day).rpartition(" ")[0]
            hours = float(days[longest]) / load.running_w
            words += f"; most on {when}: {show(float(days[longest]), 'energy_wh')}, {hours:.1f} h of running"
            if hours > ALL_DAY_H:
                words += ": it runs all day, too small for the days that ask most"
        if load.surplus != "no":
            outside = ~in_window(calendar.clock_hour, load.window_start_h, load.window_end_h % 24.0)
            by_sun = float(watts[outside].sum()) / max(1e-9, float(watts.sum()))
            words += f"; in plan {session.plan.letter} {by_sun * 100:.0f} % of it comes from surplus outside its window; a house "
            words += "battery never feeds it"
        self.load_words.setText(words + ".")

    # --- changing
    def ask_need(self, kind: Kind) -> None:
        """Ask for a heat pump's or a car's few figures and add it."""
        from calm_relay.ui.need_dialog import NeedDialog

        dialog = NeedDialog(kind, self._page)
        dialog.accepted.connect(lambda: self._put(dialog.made) if dialog.made is not None else None)
        self._page.session.dialogs.show(dialog)

    def _add(self) -> None:
        job, self.chosen = add_appliance(self._page.session.job)
        self._page.change("Add an appliance", job)

    def _put_motor(self, kind: Literal["pump"] | None) -> None:
        load, session = self._load(), self._page.session
        if load is not None:
            motor = None if kind is None else Motor(kind=kind, voltage_v=session.job.site.supply.voltage_v)
            words = f"{load.name}: {'no motor' if motor is None else 'a motor'}"
            session.edit(words, [Edit(f"house.appliances[{load.id}].motor", None if motor is None else motor.model_dump())])

    def _remove(self) -> None:
        load = self._load()
        if load is not None:
            self._page.change(f"Remove {load.name}", remove_appliance(self._page.session.job, load.id))
