"""Brief: what the customer wants, weighed by plain sliders, what must stay on, what must not be touched."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLabel, QSlider, QWidget

from calm_relay.calendar import season_of_months
from calm_relay.decision.brief import PURPOSES, WEIGHT_WORDS, brief_words, defaults, weigh_edits, weight_of, weight_words
from calm_relay.job.brief_models import Contract, ContractEnd, NamedOutage
from calm_relay.job.edits import Edit
from calm_relay.job.house_models import Appliance
from calm_relay.job.parts import put_appliance
from calm_relay.load.catalogue import catalogue
from calm_relay.rules.checks_brief import END_WORDS
from calm_relay.ui.calm_wheel import CalmSlider, ClosedList
from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.pages.shown_year import shown_year_box
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

YEARS_ON = 2  # a load to come is first put so many years ahead
OUTAGES = ("outage_hours_h", "outage_longest_h", "outages_per_year", "outage_season")


class BriefPage(FieldPage):
    """Sliders and fields; what the brief sets elsewhere is said at the foot."""

    def shape(self) -> object:
        job = self.session.job
        later = tuple((a.id, a.from_year) for a in job.house.later)
        kept = len(job.brief.contracts), len(job.brief.outages)
        return tuple(a.id for a in job.house.appliances), kept, later, job.house.shown_year

    def build(self) -> None:
        job = self.session.job
        self.title("Brief", "What the battery is for. It sets defaults elsewhere, and each of them says so.")
        self.flow(self.cell("name", chars=34))
        self.heading("What matters")
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setColumnMinimumWidth(1, int(220 * self.scale))
        grid.setColumnStretch(3, 1)
        self.sliders: dict[str, tuple[QSlider, QLabel]] = {}
        for row, (key, words) in enumerate(PURPOSES):
            slider = CalmSlider(Qt.Orientation.Horizontal)
            slider.setRange(0, len(WEIGHT_WORDS) - 1)
            slider.setPageStep(1)
            slider.setTickPosition(QSlider.TickPosition.TicksBelow)
            slider.setAccessibleName(words)
            slider.valueChanged.connect(lambda value, k=key, w=words: self._weigh(k, w, value))
            said = label("", "quiet")
            name = label(words)
            name.setBuddy(slider)
            for column, widget in enumerate((name, slider, said)):
                grid.addWidget(widget, row, column)
            self.sliders[key] = slider, said
        self.add(holder)
        self.heading("Outages")
        self.flow(*(self.cell(f"brief.{name}", chars=9, ghost="not known") for name in OUTAGES))
        self.heading("What must stay on")
        self.ticks: dict[str, QCheckBox] = {}
        if not job.house.appliances:
            self.words("No appliance is listed yet: add the ones that matter on House.", "teach")
        for load in job.house.appliances:
            box = QCheckBox(f"{load.name}, {show(load.running_w, 'power_w')}")
            box.setAccessibleName(f"{load.name} must stay on")
            box.toggled.connect(lambda on, i=load.id, n=load.name: self._stay(i, n, on=on))
            self.ticks[load.id] = box
        if self.ticks:
            self.flow(*self.ticks.values())
        self.heading("Money, and what stays")
        self.flow(self.cell("brief.budget", chars=10, ghost="not said"), self.cell("brief.keep", chars=48))
        self.heading("Old contracts", ("Add a contract", self.add_contract))
        self.ends: dict[tuple[int, ContractEnd], QCheckBox] = {}
        for i in range(len(job.brief.contracts)):
            base = f"brief.contracts[{i}]"
            remove = self.button("Remove", lambda n=i: self._remove(n), f"Remove contract {i + 1}")
            self.flow(
                self.cell(f"{base}.name", chars=24),
                self.cell(f"{base}.ends", chars=10),
                self.cell(f"{base}.pays_per_year", chars=9),
                self.cell(f"{base}.ended_by", chars=34),
                remove,
            )
            for end, words in END_WORDS.items():
                box = QCheckBox(f"a plan that {words}")
                box.setAccessibleName(f"Contract {i + 1} is ended by a plan that {words}")
                box.toggled.connect(lambda on, n=i, e=end: self._ends(n, e, on=on))
                self.ends[i, end] = box
            self.flow(label("Ended by", "quiet"), *(self.ends[i, end] for end in END_WORDS))
        self._outages()
        self._to_come()
        self.flow(self.cell("brief.note", chars=80))
        self.heading("What this sets")
        self.set_words = self.words("")
        self._column.addStretch()

    def _outages(self) -> None:
        """Add the outages with a name, which Blackout tries on every plan."""
        self.heading("Outages with a name", ("Add an outage", self.add_outage))
        for i, outage in enumerate(self.session.job.brief.outages):
            base = f"brief.outages[{i}]"
            remove = self.button("Remove", lambda n=i: self._remove_outage(n), f"Remove {outage.name}")
            self.flow(
                self.cell(f"{base}.name", chars=20),
                *(self.cell(f"{base}.{name}", chars=6) for name in ("month", "day", "hour", "hours_h", "sun_frac")),
                remove,
            )

    def add_outage(self) -> None:
        """Add a winter storm of the brief's longest length."""
        brief = self.session.job.brief
        month = season_of_months(self.session.job.site.place.latitude_deg)["winter"][1]
        made = NamedOutage(
            name=f"Storm {len(brief.outages) + 1}", month=month, day=15, hours_h=brief.longest_h or 24.0, sun_frac=0.5
        )
        self.session.edit("Add an outage", [Edit("brief.outages", (*brief.outages, made))])

    def _remove_outage(self, index: int) -> None:
        left = tuple(o for i, o in enumerate(self.session.job.brief.outages) if i != index)
        self.session.edit("Remove an outage", [Edit("brief.outages", left)])

    def _to_come(self) -> None:
        """Add the loads to come with their years, and which year of the house is shown."""
        job = self.session.job
        self.heading("Loads to come")
        box = ClosedList()
        box.setAccessibleName("Add a load to come")
        box.addItem("Add a load to come…")
        for load in catalogue():
            box.addItem(f"{load.name}, {show(load.running_w, 'power_w')}")
        box.activated.connect(lambda i: self.add_to_come(catalogue()[i - 1]) if i > 0 else None)
        self.flow(box, *([shown_year_box(self.session)] if job.house.later else []))
        if job.house.later:
            self.flow(*(self.cell(f"house.appliances[{a.id}].from_year", caption=a.name, chars=12) for a in job.house.later))
            counted = "none of them" if job.house.shown_year is None else f"those of {job.house.shown_year} and before"
            self.words(f"Every figure counts {counted}; the year of the house is chosen here or on House.")

    def add_to_come(self, load: Appliance) -> None:
        """Add a usual appliance that comes in two years."""
        year = self.session.job.calendar_year + YEARS_ON
        job, _ = put_appliance(self.session.job, load.model_copy(update={"from_year": year}))
        self.change(f"{load.name} from {year}", job)

    def show_figures(self) -> None:
        brief = self.session.job.brief
        for key, (slider, said) in self.sliders.items():
            with QSignalBlocker(slider):
                slider.setValue(weight_of(brief, key))
            said.setText(weight_words(brief, key))
        for load in self.session.job.house.appliances:
            if load.id in self.ticks:
                with QSignalBlocker(self.ticks[load.id]):
                    self.ticks[load.id].setChecked(load.essential)
        for (i, end), tick in self.ends.items():
            with QSignalBlocker(tick):
                tick.setChecked(end in brief.contracts[i].ends_with)
        lines = [f"A drafted plan {default.line}." for default in defaults(self.session.job)]
        self.set_words.setText("\n".join([*lines, *(f"{line}." for line in brief_words(brief))]))

    # --- changing
    def _weigh(self, key: str, words: str, value: int) -> None:
        edits = weigh_edits(self.session.job.brief, key, value)
        self.session.edit(f"{words}: {WEIGHT_WORDS[value]}", edits, merge=f"brief.{key}")

    def _stay(self, load: str, name: str, *, on: bool) -> None:
        words = f"{name} {'must stay on' if on else 'may go dark'}"
        self.session.edit(words, [Edit(f"house.appliances[{load}].essential", on)])

    def _ends(self, index: int, end: ContractEnd, *, on: bool) -> None:
        had = self.session.job.brief.contracts[index].ends_with
        kept = tuple(e for e in END_WORDS if (on if e == end else e in had))
        words = f"A plan that {END_WORDS[end]} {'ends' if on else 'does not end'} a contract"
        self.session.edit(words, [Edit(f"brief.contracts[{index}].ends_with", kept)])

    def add_contract(self) -> None:
        brief = self.session.job.brief
        made = (*brief.contracts, Contract(name="Feed-in contract", ends="2030", ended_by="swapping the inverter"))
        self.session.edit("Add a contract", [Edit("brief.contracts", made)])

    def _remove(self, index: int) -> None:
        left = tuple(c for i, c in enumerate(self.session.job.brief.contracts) if i != index)
        self.session.edit("Remove a contract", [Edit("brief.contracts", left)])
