"""What happens in an outage: a start, a length, what is served, and the drill minute by minute with its events in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QWidget

from calm_relay.errors import CalmRelayError
from calm_relay.ui.clock import STEPS_PER_DAY
from calm_relay.ui.views.drill_view import DrillView
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.ui.widgets import Swatch, label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel
    from calm_relay.year.drill import Drill
    from calm_relay.year.outage import Serve

START_H = 17  # the evening, when most is asked for
LENGTHS_H = (10, 18, 24, 48, 72, 168, 336)
CHARGES: tuple[tuple[str, float | None], ...] = (
    ("as the year has it", None), ("full", 1.0), ("75 %", 0.75), ("half", 0.5), ("25 %", 0.25), ("10 %", 0.1),
)  # fmt: skip
WAYS: tuple[tuple[str, Serve, bool], ...] = (
    ("All that is backed up", "backed_up", False), ("The same, shedding what may be shed", "backed_up", True),
    ("What must stay on alone", "essential", False),
)  # fmt: skip
MOST_EVENTS = 40
LEGEND = (
    ("asked for", "house", False), ("charge, right scale", "battery", False), ("sun used", "sun", False),
    ("sun throttled", "lost", True), ("not served", "over", False),
)  # fmt: skip
CAUTIONS = (
    "Before anything feeds the house in an outage it must be isolated from the grid. Exactly one neutral–earth bond while "
    "islanded, residual-current protection on every backup circuit. No life-support equipment on a home battery alone. Licensed "
    "practice and local code decide."
)


class DrillPart:
    """Three ways to run the same outage stand side by side; the picture shows the one that is chosen."""

    table: PlanTable  # made when the part is first shown

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.start, self.length, self.charge, self.way = "dullest", 24, 0, 0

    def shape(self) -> object:
        brief = self._page.session.job.brief
        return self._page.session.plan.id, brief.outage_hours_h, brief.outage_longest_h

    def build(self) -> None:
        page = self._page
        plan = page.session.plan
        self.first = page.words(f"{plan.letter}  {plan.name}", "strong")
        self._starts = QComboBox()
        self._starts.setAccessibleName("The outage starts on")
        for key, words in (
            ("dullest", "the dullest day"), ("coldest", "the coldest day"), ("highest evening", "the highest evening"),
            ("sunniest", "the sunniest day"), ("clock", "where the clock stands"),
        ):  # fmt: skip
            self._starts.addItem(f"{words}, {START_H}:00" if key != "clock" else words, key)
        self._starts.setCurrentIndex(max(0, self._starts.findData(self.start)))
        self._starts.activated.connect(lambda i: self._set("start", self._starts.itemData(i)))
        self._lengths = QComboBox()
        self._lengths.setAccessibleName("It lasts")
        brief = page.session.job.brief
        for hours in sorted({*LENGTHS_H, *(round(h) for h in (brief.outage_hours_h, brief.outage_longest_h or 0.0) if h >= 1)}):
            self._lengths.addItem(f"{hours} h" if hours < 72 else f"{hours / 24:g} days", hours)
        self._lengths.setCurrentIndex(max(0, self._lengths.findData(self.length)))
        self._lengths.activated.connect(lambda i: self._set("length", self._lengths.itemData(i)))
        self._charges = QComboBox()
        self._charges.setAccessibleName("Charge at its start")
        for words, _ in CHARGES:
            self._charges.addItem(words)
        self._charges.setCurrentIndex(self.charge)
        self._charges.activated.connect(lambda i: self._set("charge", i))
        self._ways = QComboBox()
        self._ways.setAccessibleName("What is served")
        for words, _, _ in WAYS:
            self._ways.addItem(words)
        self._ways.setCurrentIndex(self.way)
        self._ways.activated.connect(lambda i: self._set("way", i))
        pairs: list[QWidget] = []
        for words, box in (
            ("Starts on", self._starts), ("lasts", self._lengths), ("charge", self._charges), ("serves", self._ways),
        ):  # fmt: skip
            name = label(words)
            name.setBuddy(box)
            pairs += [name, box]
        page.flow(*pairs)
        self.view = DrillView(page.theme, page.scale)
        page.add(self.view)
        page.flow(*(Swatch(words, page.theme.color(hue), hatch=hatch) for words, hue, hatch in LEGEND))
        self.under = page.words("", "plain")
        self.view.told.connect(self.under.setText)
        page.words("Left and right walk ten minutes, with Shift an hour; up and down go from event to event.")
        page.heading("What happens")
        self.events = page.words("", "plain")
        page.heading("Side by side")
        self.table = PlanTable("The same outage served in three ways", page.theme, page.scale)
        page.add(self.table)
        page.words(CAUTIONS, "caution")

    def _set(self, name: str, value: object) -> None:
        setattr(self, name, value)
        self._page.refresh()

    # --- showing
    def _start_hour(self) -> int | None:
        session = self._page.session
        if self.start == "clock":
            return session.clock.step * 24 // STEPS_PER_DAY
        day = session.notable_days().get(self.start)
        return None if day is None else 24 * day + START_H

    def show_figures(self) -> None:
        page, session = self._page, self._page.session
        plan, job, start = session.plan, session.job, self._start_hour()
        if session.fresh(plan.id) is None or start is None:
            self._show(None, "The year is being run.")
            return
        charge, hours = CHARGES[self.charge][1], float(self.length)

        def work(study: Study, _: Cancel) -> object:
            from calm_relay.decision.outages import drill_of

            return tuple(
                drill_of(study, job, plan, start_hour=start, hours=hours, charge_frac=charge, serving=serving, shedding=shedding)
                for _, serving, shedding in WAYS
            )

        found = session.extra(f"drill {plan.id} {start} {hours} {charge}", work)
        if isinstance(found, CalmRelayError):
            self._show(None, f"{str(found)[:1].upper()}{str(found)[1:]}.")
        elif isinstance(found, tuple):
            self._show(found, "")
        else:
            self._show(None, "The outage is being run.")
        for widget in (self.view, self.events, self.table):
            widget.setEnabled(isinstance(found, tuple))
        page.updateGeometry()

    def _show(self, found: tuple[Drill, ...] | None, why: str) -> None:
        plan = self._page.session.plan
        if found is None:
            self.first.setText(f"{plan.letter}: {why}")
            self.view.show_drill(None)
            self.view.setVisible(False)
            self.under.setText("")
            self.events.setText("")
            self.table.setVisible(False)
            return
        drill = found[self.way]
        self.view.setVisible(True)
        self.table.setVisible(True)
        begins = drill.events[0].clock if drill.events else ""
        self.first.setText(f"{plan.letter}: {drill.first_words}")
        self.view.show_drill(drill)
        lines = [f"{event.clock}: {event.words}" for event in drill.events[:MOST_EVENTS]]
        left = len(drill.events) - MOST_EVENTS
        lines += [f"and {left} more, which 'drill' prints"] if left > 0 else []
        self.events.setText("\n".join(lines) if begins else "Nothing happens that would be worth a word.")
        self.table.show_rows([words for words, _, _ in WAYS], self._rows(found))

    @staticmethod
    def _rows(found: tuple[Drill, ...]) -> list[Row]:
        def wh(drill: Drill, name: str) -> float:
            return float(getattr(drill, name).sum()) / 60.0

        lasts = tuple(Cell("to the end" if d.survived_h is None else f"{d.survived_h:.1f} h") for d in found)
        out = [Row("Until something goes dark", lasts), Row("Dark", tuple(Cell(show(d.dark_h, "hours_h")) for d in found))]
        for text, name, tone in (
            ("Asked for", "asked_w", "house"), ("Served", "served_w", "battery"), ("Shed", "shed_w", "grid"),
            ("Sun used", "pv_used_w", "sun"), ("Sun throttled", "pv_throttled_w", "lost"),
        ):  # fmt: skip
            values = [wh(d, name) for d in found]
            most = max(values) or 1.0
            out.append(Row(text, tuple(Cell(show(v, "energy_wh"), v / most, tone) for v in values)))
        if any(d.generator_h for d in found):
            out.append(Row("Generator runs", tuple(Cell(show(d.generator_h, "hours_h")) for d in found)))
            out.append(Row("Fuel", tuple(Cell("not known" if d.litres is None else f"{d.litres:.1f} l") for d in found)))
        return out
