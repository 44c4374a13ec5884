"""What happens in an outage: a start, a length, ways to back the house up side by side, and the drill minute by minute."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.errors import CalmRelayError
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.graph import plan_graph
from calm_relay.relay.values import drill_values
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.clock import STEPS_PER_DAY
from calm_relay.ui.views.drill_view import DrillView
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.ui.views.relay_view import RelayView
from calm_relay.ui.views.seconds_view import SecondsView
from calm_relay.ui.widgets import Swatch, label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from calm_relay.decision.outages import School
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.pages.stays_part import StaysPart
    from calm_relay.ui.runner import Cancel
    from calm_relay.year.drill import Drill

START_H = 17  # the evening, when most is asked for
LENGTHS_H = (10, 18, 24, 48, 72, 168, 336)
CHARGES: tuple[tuple[str, float | None], ...] = (
    ("as the year has it", None), ("full", 1.0), ("75 %", 0.75), ("half", 0.5), ("25 %", 0.25), ("10 %", 0.1),
)  # fmt: skip
DAYS = (
    ("dullest", "the dullest day"), ("typical", "a typical day"), ("sunniest", "the sunniest day"), ("coldest", "the coldest day"),
)  # fmt: skip
BRIEF, CLOCK, NAMED = "brief", "clock", "named:"
MOST_EVENTS = 40
RELAY_PX = 300.0
LEGEND = (
    ("asked for", "house", False), ("charge, right scale", "battery", False), ("sun used", "sun", False),
    ("sun throttled", "lost", True), ("generator", "grid", False), ("not served", "over", False),
)  # fmt: skip
CAUTIONS = (
    "Before anything feeds the house in an outage it must be isolated from the grid. Exactly one neutral–earth bond while "
    "islanded, residual-current protection on every backup circuit. No life-support equipment on a home battery alone. Licensed "
    "practice and local code decide."
)


@dataclass
class _Asked:
    """What the boxes say."""

    start: str = BRIEF
    month: int = 0
    length: int = 0  # 0: as long as the start says
    charge: int = 0
    house: int = 0
    way: int = 0


class DrillPart:
    """Ways to run the same outage stand side by side; the picture shows the one that is chosen, 1 to 4 change it."""

    table: PlanTable  # made when the part is first shown

    def __init__(self, page: FieldPage, stays: StaysPart) -> None:
        self._page, self._stays = page, stays
        self.asked = _Asked()
        self._shown: tuple[School, ...] = ()

    def shape(self) -> object:
        brief = self._page.session.job.brief
        return self._page.session.plan.id, brief.outage_hours_h, brief.outage_longest_h, brief.outages

    def build(self) -> None:
        page = self._page
        plan, brief = page.session.plan, page.session.job.brief
        self.first = page.words(f"{plan.letter}  {plan.name}", "strong")
        starts = [(BRIEF, "the dullest day of the brief's season")]
        starts += [(f"{NAMED}{o.name}", o.name) for o in brief.outages]
        starts += [*DAYS, (CLOCK, "where the clock stands")]
        lengths: list[tuple[object, str]] = [(0, "as the brief says")]
        for hours in sorted({*LENGTHS_H, *(round(h) for h in (brief.outage_hours_h, brief.outage_longest_h or 0.0) if h >= 1)}):
            lengths.append((hours, f"{hours} h" if hours < 72 else f"{hours / 24:g} days"))
        months: list[tuple[object, str]] = [(0, "the year"), *((m + 1, name) for m, name in enumerate(MONTHS))]
        houses: list[tuple[object, str]] = [(0, "of that time"), (1, "first hour: ticked on 'What stays on'")]
        pairs: list[QWidget] = []  # a box wraps together with its name
        for words, box in (
            ("Starts on", self._box("The outage starts on", starts, "start")), ("of", self._box("Of the month", months, "month")),
            ("lasts", self._box("It lasts", lengths, "length")),
            ("charge", self._box("Charge at its start", list(enumerate(w for w, _ in CHARGES)), "charge")),
            ("house", self._box("The house is", houses, "house")),
        ):  # fmt: skip
            name, holder = label(words), QWidget()
            name.setBuddy(box)
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(name)
            row.addWidget(box)
            pairs.append(holder)
        page.flow(*pairs)
        self.view = DrillView(page.theme, page.scale)
        page.add(self.view)
        page.flow(*(Swatch(words, page.theme.color(hue), hatch=hatch) for words, hue, hatch in LEGEND))
        self.under = page.words("", "plain")
        self.view.told.connect(self.under.setText)
        self.view.walked.connect(self._walked)
        self.view.way_asked.connect(self._choose_way)
        page.words(
            "Left and right walk ten minutes, with Shift an hour; up and down go from event to event; 1 to 4 change the way."
        )
        self.seconds_words = page.words("", "plain")
        self.seconds = SecondsView(page.theme, page.scale)
        page.add(self.seconds)
        page.heading("Side by side, the same outage")
        self.table = PlanTable("The same outage, the house backed up in several ways", page.theme, page.scale)
        page.add(self.table)
        page.heading("What happens")
        self.events = page.words("", "plain")
        page.heading("The relay line at that minute")
        self.relay = RelayView(page.theme)
        self.relay.set_theme(page.theme, page.scale)
        self.relay.setFixedHeight(round(RELAY_PX * page.scale))
        page.add(self.relay)
        page.words(CAUTIONS, "caution")

    def _box(self, name: str, rows: Sequence[tuple[object, str]], field: str) -> QComboBox:
        box = ClosedList()
        box.setAccessibleName(name)
        for key, words in rows:
            box.addItem(words, key)
        at = max(0, box.findData(getattr(self.asked, field)))
        box.setCurrentIndex(at)
        setattr(self.asked, field, box.itemData(at))
        box.activated.connect(lambda i: self._set(field, box.itemData(i)))
        return box

    def _set(self, name: str, value: object) -> None:
        setattr(self.asked, name, value)
        self._page.refresh()

    def _choose_way(self, way: int) -> None:
        if way < len(self._shown):
            self._set("way", way)

    # --- showing
    def _work(self) -> tuple[str, Callable[[Study, Cancel], object]]:
        """Return the question as a key, and the work that answers it."""
        session, asked = self._page.session, self.asked
        plan, job = session.plan, session.job
        picked = tuple(sorted(self._stays.together)) if asked.house else ()
        diversity, step = self._stays.diversity, session.clock.step
        at = f" {step}" if asked.start == CLOCK else ""
        charge, start, month, length = CHARGES[asked.charge][1], asked.start, asked.month, asked.length

        def work(study: Study, _: Cancel) -> object:
            from calm_relay.decision.outage_starts import day_of, named_case, with_what
            from calm_relay.decision.outages import school_drills
            from calm_relay.year.drill import Case
            from calm_relay.year.outage import outage_length_h

            hours = float(length) if length else None
            if start == BRIEF or start.startswith(NAMED):
                case = with_what(named_case(study, job, start.removeprefix(NAMED)), hours=hours)
            elif start == CLOCK:
                case = Case(step * 24 // STEPS_PER_DAY, hours or outage_length_h(job.brief))
            else:
                months = (month,) if month else ()
                case = Case(24 * day_of(study, job, start, months) + START_H, hours or outage_length_h(job.brief))
            case = with_what(case, charge_frac=charge, picked=picked, diversity=diversity)
            return school_drills(study, job, plan, case)

        return f"drill {plan.id} {start}{at} {month} {length} {charge} {picked} {diversity if picked else ''}", work

    def show_figures(self) -> None:
        page, session = self._page, self._page.session
        if session.fresh(session.plan.id) is None:
            self._show((), "the year is being run.")
        else:
            found = session.extra(*self._work())
            if isinstance(found, CalmRelayError):
                self._show((), f"{found}.")
            elif isinstance(found, tuple):
                self._show(found, "")
            else:
                self._show((), "the outage is being run.")
        page.updateGeometry()

    def _show(self, found: tuple[School, ...], why: str) -> None:
        session = self._page.session
        plan, self._shown = session.plan, found
        chosen = found[min(self.asked.way, len(found) - 1)] if found else None
        drill = chosen.drill if chosen is not None else None
        why = chosen.why if chosen is not None and drill is None else why
        for widget in (self.view, self.relay):
            widget.setVisible(drill is not None)
        self.table.setVisible(bool(found))
        way = f" ({chosen.name})" if chosen is not None and self.asked.way else ""
        if drill is None:
            self.first.setText(f"{plan.letter}{way}: {why}")
            self.under.setText("")
            self.events.setText("")
            self.view.show_drill(None)
            self._show_seconds(None)
        else:
            self.first.setText(f"{plan.letter}{way}: {drill.first_words}")
            self.view.show_drill(drill)
            lines = [f"{event.clock}: {event.words}" for event in drill.events[:MOST_EVENTS]]
            left = len(drill.events) - MOST_EVENTS
            lines += [f"and {left} more, which 'drill' prints"] if left > 0 else []
            lines += [drill.load_words] if drill.load_words else []
            self.events.setText("\n".join(lines) or "Nothing happens that would be worth a word.")
        if found:
            self.table.show_rows([f"{i}  {s.name}" for i, s in enumerate(found, start=1)], rows_of(found))

    def _walked(self, minute: int) -> None:
        session = self._page.session
        chosen = self._shown[min(self.asked.way, len(self._shown) - 1)] if self._shown else None
        if chosen is None or chosen.drill is None:
            return
        session.keep_drill(chosen.plan, chosen.drill, minute, chosen.name if self.asked.way else "")
        kept = session.drilled(session.plan.id)
        graph = plan_graph(plant_of(session.job, chosen.plan), session.job.house, session.job.faces)
        if kept is not None:
            values = drill_values(graph, chosen.drill, minute, kept.clock)
            self.relay.show_plan(graph, values, {}, {}, grid_up=False, dim=False)
        self._show_seconds(chosen.drill)

    def _show_seconds(self, drill: Drill | None) -> None:
        """Show the seconds of the moment that is next to the cursor."""
        near = [] if drill is None else [m for m in drill.moments if abs(m.step - self.view.minute) <= NEAR_MIN]
        moment = min(near, key=lambda m: abs(m.step - self.view.minute), default=None)
        self.seconds.show_moment(moment)
        self.seconds_words.setVisible(moment is not None)
        if moment is not None:
            hours, minutes = divmod(moment.step, 60)
            self.seconds_words.setText(f"In seconds, {hours} h {minutes:02d} min: {moment.words}.")


NEAR_MIN = 10


def rows_of(found: tuple[School, ...]) -> list[Row]:
    """Return the rows of the table of ways: how long, how dark, and the energies."""

    def cells(make: Callable[[Drill], Cell]) -> tuple[Cell, ...]:
        return tuple(Cell("dark") if s.drill is None else make(s.drill) for s in found)

    def lasts(hours: float | None) -> Cell:
        return Cell("to the end" if hours is None else f"{hours:.1f} h")

    out = [
        Row("Until something goes dark", cells(lambda d: lasts(d.survived_h))),
        Row("Until what must stay on does", cells(lambda d: lasts(d.vital_h))),
        Row("Dark", cells(lambda d: Cell(show(d.dark_h, "hours_h")))),
        Row("Inverters trip", cells(lambda d: Cell(str(sum(e.kind == "trip" for e in d.events))))),
    ]
    drills = [s.drill for s in found if s.drill is not None]
    for text, name, tone in (
        ("Asked for", "asked", "house"), ("Served", "served", "battery"), ("Shed", "shed", "grid"),
        ("Waits for a hand", "waiting", "over"),
        ("Sun used", "pv_used", "sun"), ("Sun throttled", "pv_throttled", "lost"),
    ):  # fmt: skip
        most = max((d.wh(name) for d in drills), default=0.0)
        if name == "waiting" and most <= 0:
            continue

        def cell(d: Drill, name: str = name, most: float = most, tone: str = tone) -> Cell:
            return Cell(show(d.wh(name), "energy_wh"), d.wh(name) / (most or 1.0), tone)

        out.append(Row(text, cells(cell)))
    if any(d.generator_h for d in drills):
        out.append(Row("Generator runs", cells(lambda d: Cell(show(d.generator_h, "hours_h")))))
        out.append(Row("Fuel", cells(lambda d: Cell("not known" if d.litres is None else f"{d.litres:.1f} l"))))
        out.append(Row("Tank lasts", cells(lambda d: Cell("–" if d.fuel_days is None else f"{d.fuel_days:.1f} days"))))
    return out
