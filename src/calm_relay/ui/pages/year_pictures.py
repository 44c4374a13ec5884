"""The lower half of Year: one picture of many, chosen from a list, where it can be against another plan."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, TypeVar, cast

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.job.control_models import GRID_CHARGING
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.failures import failures
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.charge_chart import ChargeChart
from calm_relay.ui.views.charts import Chart, DurationChart, MonthsChart
from calm_relay.ui.views.figure_table import FigureTable
from calm_relay.ui.widgets import Swatch, clear_layout, label
from calm_relay.units import format_quantity as show
from calm_relay.year.arithmetic import paired, year_figures
from calm_relay.year.boxes import box_uses, path_trips, trip_words
from calm_relay.year.charge import ChargeBand, charge_bands, window_words, window_year
from calm_relay.year.pictures import duration, most_clipped_node
from calm_relay.year.when import By, Part, year_parts

if TYPE_CHECKING:
    from calm_relay.job.models import Plan
    from calm_relay.study import Study
    from calm_relay.year.facts import YearFacts
    from calm_relay.year.plan_flow import PlanFlow

PARTS: tuple[tuple[str, By], ...] = (("By month", "month"), ("By hour of the day", "hour"), ("By price period", "period"))
SHOWN = (
    ("house", "load_w", "house"), ("PV at AC", "pv_ac_w", "sun"), ("import", "import_w", "grid"),
    ("from batteries", "battery_to_house_w", "battery"),
)  # fmt: skip
ISLAND_SHOWN = tuple(("not served", "unserved_w", "over") if row[1] == "import_w" else row for row in SHOWN)
DRAWN_IN = {"bands": "charge", "window": "charge", "clipping": "duration", "figures": "figures"}
ALONE = "this plan alone"
V = TypeVar("V", "MonthsChart", "ChargeChart", "DurationChart", "FigureTable")


class YearPictures(QWidget):
    """Figures only; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.theme, self._scale = session, theme, 1.0
        self._views: list[Chart | FigureTable] = []
        self._wanted = "", ""  # what is to be chosen once there is a choice
        column = self._column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        head = QHBoxLayout()
        column.addLayout(head)
        self.parts, self.against = ClosedList(), ClosedList()
        for box, name, letters in (
            (self.parts, "What the picture shows", 18),
            (self.against, "Which plan it is compared with", 12),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(letters)
            box.currentIndexChanged.connect(self.show_picture)
            head.addWidget(box)
        self._legend_row = QWidget()
        FlowLayout(self._legend_row, gap=10, line_gap=2)
        head.addSpacing(10)
        head.addWidget(self._legend_row, 2)
        head.setStretchFactor(self.against, 1)
        self.words = label("", "quiet", wrap=True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column.addWidget(self.words)

    # --- what pictures are drawn in: made when one is first shown, since together they would hold up the page
    @cached_property
    def months(self) -> MonthsChart:
        """Bars of parts of the year."""
        return self._made(MonthsChart(self.theme, "Energy by month", "", "kWh"))

    @cached_property
    def charge(self) -> ChargeChart:
        """What the battery holds."""
        return self._made(ChargeChart(self.theme, "Charge of the battery", "", "% of capacity"))

    @cached_property
    def duration(self) -> DurationChart:
        """PV power in the order of its size."""
        return self._made(DurationChart(self.theme, "PV power, from most to least", "hours of the year", "kW DC"))

    @cached_property
    def figures(self) -> FigureTable:
        """Figures and their arithmetic."""
        table = self._made(FigureTable())
        self.setTabOrder(self.against, table)  # else it comes last of the window
        table.told.connect(lambda words: self.words.setText(words) if table.isVisible() else None)
        return table

    def _made(self, view: V) -> V:
        view.hide()
        self._views.append(view)
        self._column.insertWidget(self._column.count() - 1, view, 2)
        self._dress(view)
        return view

    def _dress(self, view: Chart | FigureTable) -> None:
        if isinstance(view, Chart):
            view.set_theme(self.theme, self._scale)
        view.setFixedHeight(int((170 if isinstance(view, Chart) else 150) * self._scale))

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme, self._scale = theme, scale
        for view in self._views:
            self._dress(view)

    def _legend(self, rows: Iterable[tuple[str, str]], hatched: str = "") -> None:
        """Show names with their hues, one of them hatched."""
        layout = self._legend_row.layout()
        assert layout is not None
        clear_layout(layout)
        for name, hue in rows:
            layout.addWidget(Swatch(name, self.theme.color(hue), hatch=name == hatched))

    # --- what can be chosen
    def offer(self, facts: YearFacts, plan: Plan) -> None:
        """Offer what there is to see of a plan; what is chosen stays, where it still can."""
        called = {node.id: node.name for node in plan.nodes}
        wanted = [*PARTS, ("Figures and their arithmetic", "figures"), *([("By box, for itself", "boxes")] if called else [])]
        for node in facts.battery_months:
            wanted += [
                (f"Days of the battery, {called[node]}", f"days {node}"),
                (f"Charge by month, {called[node]}", f"bands {node}"),
            ]
            wanted += [
                (f"{slot.title[:1].upper()}{slot.title[1:]}, {called[node]}", f"window {i} {node}")
                for i, slot in enumerate(plan.controls.slots)
                if slot.kind in GRID_CHARGING and slot.holds_for(node)
            ]
        if most_clipped_node(facts) is not None:
            wanted.append(("Clipping", "clipping"))
        others = [(ALONE, "")] + [(f"against {p.letter}  {p.name}", p.id) for p in self.session.job.plans if p.id != plan.id]
        what, against = self.chosen
        self._fill(self.parts, wanted, what)
        self._fill(self.against, others, against)

    @property
    def chosen(self) -> tuple[str, str]:
        """What is shown, and against which plan, by their keys; may be said before anything is offered."""
        return self._wanted if not self.parts.count() else (self.parts.currentData(), self.against.currentData())

    @chosen.setter
    def chosen(self, chosen: tuple[str, str]) -> None:
        self._wanted = chosen

    @staticmethod
    def _fill(box: QComboBox, wanted: Sequence[tuple[str, str]], chosen: str) -> None:
        if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] == list(wanted):
            return
        box.blockSignals(True)
        box.clear()
        for text, key in wanted:
            box.addItem(text, key)
        box.setCurrentIndex(max(0, box.findData(chosen)))
        box.blockSignals(False)

    # --- the picture
    def show_picture(self) -> None:
        """Show what is chosen of the chosen plan's year."""
        self._show_chosen()
        self.words.setVisible(bool(self.words.text()))

    def _show_chosen(self) -> None:
        session = self.session
        result, made, what = session.fresh(session.chosen), session.made(), self.parts.currentData()
        if result is None or made is None or what is None:
            return
        kind, _, rest = what.partition(" ")
        view = getattr(self, DRAWN_IN.get(kind, "months"))
        for each in self._views:
            each.setVisible(each is view)
        self.against.setEnabled(kind != "boxes")
        self._legend(())
        self.words.setText("")
        if kind == "clipping":
            self._show_clipping(result.facts, made)
        elif kind == "figures":
            self._show_figures(result.facts)
        elif kind == "bands":
            self._show_bands(made, rest)
        elif kind == "window":
            index, _, node_id = rest.partition(" ")
            self._show_window(made, int(index), node_id)
        else:
            self._show_bars(result.facts, made, kind, rest)

    def _other(self, key: str, work: object) -> object | None:
        """Return an answer about the plan compared with; None where there is none, or not yet."""
        other = self.against.currentData()
        if not other or not self.against.isEnabled():
            return None
        found = self.session.extra(f"{key} of {other}", work)  # type: ignore[arg-type]
        if found is None:
            self.words.setText("The other plan's year is on its way.")
        return found

    def open_figure(self, key: str) -> None:
        """Show the figures, and how one of them comes about."""
        self.parts.setCurrentIndex(self.parts.findData("figures"))
        self.figures.open_figure(key)
        self.figures.setFocus()

    def _other_facts(self) -> tuple[Plan, YearFacts] | None:
        """Return the plan compared with and the facts of its year; None where there is none, or not yet."""
        job, other = self.session.job, self.against.currentData()

        def work(study: Study, _: object) -> YearFacts:
            return study.facts(job, job.plan(other))

        found = self._other("facts", work)
        return None if found is None or isinstance(found, Exception) else (job.plan(other), cast("YearFacts", found))

    def _show_figures(self, facts: YearFacts) -> None:
        plan, other = self.session.plan, self._other_facts()
        theirs = () if other is None else year_figures(other[1], other[0])
        pairs = paired(year_figures(facts, plan), theirs)
        self.figures.show_figures(pairs, plan.letter, "" if other is None else other[0].letter)

    def _show_bars(self, facts: YearFacts, made: PlanFlow, kind: str, rest: str) -> None:
        session = self.session
        if kind == "boxes":
            uses, called = box_uses(facts), {node.id: node.name for node in session.plan.nodes}
            names: tuple[str, ...] = tuple(called[use.node_id] for use in uses)
            shown = [
                ("inverting", [use.inverter_loss_wh for use in uses], "sun"),
                ("charging", [use.charger_loss_wh for use in uses], "grid"),
                ("in the cells", [use.cell_loss_wh for use in uses], "battery"),
                ("standby", [use.standby_wh for use in uses], "house"),
            ]
            head, unit, per = "box", "kWh", 1000.0
            back = [f"Back from the battery of {called[t.node_id]}: {trip_words(t)}." for t in path_trips(facts)]
            self.words.setText(" ".join([*back, *(f.words for f in failures(plant_of(session.job, session.plan)))]))
        elif kind == "days":
            rows, theirs = facts.battery_months[rest], self._other_months()
            shown = [
                ("full", [float(a.filled_days - b) for a, (b, _) in zip(rows, theirs, strict=True)], "battery"),
                ("down to what is kept", [float(a.emptied_days - b) for a, (_, b) in zip(rows, theirs, strict=True)], "lost"),
            ]
            names = MONTHS
            head, unit, per = "month", "days", 1.0
            if not self.words.text() and self.against.currentData():
                self.words.setText("Bars are this plan's days less those of the other plan's first battery.")
        else:
            by: By = kind  # type: ignore[assignment]
            parts = year_parts(made.flow, session.calendar(), by, session.job.tariff, session.store)
            less = self._other_parts(by)
            shown = [
                (name, [p.energy_wh[column] - less.get(p.name, {}).get(column, 0.0) for p in parts], hue)
                for name, column, hue in (ISLAND_SHOWN if self.session.plan.off_grid else SHOWN)
            ]
            names = tuple(p.name.removesuffix(":00") for p in parts)
            head, unit, per = kind, "kWh", 1000.0
            if less:
                self.words.setText("Bars are this plan less the other: above the line it has more.")
        self._legend((name, hue) for name, _, hue in shown)
        self.months.set_unit(unit)
        self.months.setAccessibleName(f"{'Energy' if unit == 'kWh' else 'Battery days'} by {head}")
        self.months.show_parts(head, names, shown, per)

    def _other_months(self) -> list[tuple[int, int]]:
        """Return the days by month on which the other plan's first battery was full and down to what is kept; none without one."""
        found = self._other_facts()
        if found is not None and not found[1].battery_months:
            self.words.setText("The other plan has no battery.")
        if found is None or not found[1].battery_months:
            return [(0, 0)] * 12
        return [(row.filled_days, row.emptied_days) for row in next(iter(found[1].battery_months.values()))]

    def _other_parts(self, by: By) -> dict[str, dict[str, float]]:
        job, other = self.session.job, self.against.currentData()

        def work(study: Study, _: object) -> tuple[Part, ...]:
            return study.year_parts(job, job.plan(other), by)

        found = self._other(f"year by {by}", work)
        return {part.name: dict(part.energy_wh) for part in found} if isinstance(found, tuple) else {}

    def _show_bands(self, made: PlanFlow, node_id: str) -> None:
        job, other = self.session.job, self.against.currentData()

        def work(study: Study, _: object) -> tuple[ChargeBand, ...]:
            flow = study.flow(job, job.plan(other))
            with_battery = [i for i, r in zip(flow.flow.node_ids, flow.packed.nodes, strict=True) if r["capacity_wh"] > 0]
            return charge_bands(flow.flow, flow.packed, with_battery[0]) if with_battery else ()

        found = self._other("charge bands", work)
        bands = found if isinstance(found, tuple) else ()
        rows = [("all of the time, darker four fifths of it", "battery"), ("median", "ink")]
        if bands:
            rows.append(("the other plan's, its first battery", "house"))
        elif found is not None:
            self.words.setText("The other plan has no battery.")
        self._legend(rows)
        self.charge.show_bands(charge_bands(made.flow, made.packed, node_id), bands)

    def _show_window(self, made: PlanFlow, index: int, node_id: str) -> None:
        session = self.session
        found = window_year(plant_of(session.job, session.plan), session.calendar(), made, index, node_id)
        self.charge.setVisible(found is not None)
        if found is None:
            self.words.setText("A later slot holds in all of its hours.")
            return
        self._legend([("from the charge before to the charge after", "battery")])
        self.charge.show_window(found)
        theirs = self._other_window()
        self.words.setText(" ".join([window_words(found), *([theirs] if theirs else [self.words.text()])]).strip())

    def _other_window(self) -> str:
        """Return how the first charge window of the other plan fills its first battery, in words; empty where none is compared."""
        job, other = self.session.job, self.against.currentData()

        def work(study: Study, _: object) -> str:
            plan, made = job.plan(other), study.flow(job, job.plan(other))
            batteries = [i for i, r in zip(made.flow.node_ids, made.packed.nodes, strict=True) if r["capacity_wh"] > 0]
            for i, slot in enumerate(plan.controls.slots):
                for node_id in batteries:
                    if slot.kind in GRID_CHARGING and slot.holds_for(node_id):
                        w = window_year(plant_of(job, plan), study.calendar(job), made, i, node_id)
                        if w is not None:
                            return f"{plan.letter}, {slot.title}: {window_words(w)}"
            return f"{plan.letter} has no charge window."

        found = self._other("charge window", work)
        return found if isinstance(found, str) else ""

    def _show_clipping(self, f: YearFacts, made: PlanFlow) -> None:
        session = self.session
        node = next(n for n in session.plan.nodes if n.id == most_clipped_node(f))
        limit = plant_of(session.job, session.plan).station(node.id).unit.passes_dc_w
        self.duration.show_duration(duration(made, node.id, limit))
        clipped = (
            f"{show(f.clipped_wh, 'energy_wh', 0)} a year or more are clipped"
            if f.clipped_wh >= 500
            else "nothing worth a word is clipped"
        )
        caught = f", {show(f.caught_wh, 'energy_wh', 0)} more were caught by the battery" if f.caught_wh >= 500 else ""
        said = [
            f"In all of the plan {clipped}{caught}. The picture is of {node.name}, which passes {show(limit, 'power_w', 1)} DC."
        ]
        theirs = self._other_facts()
        if theirs is not None:
            rows = (("clipped", theirs[1].clipped_wh), ("caught by a battery", theirs[1].caught_wh))
            said.append(f"{theirs[0].letter}: " + ", ".join(f"{show(wh, 'energy_wh', 0)} {name}" for name, wh in rows) + ".")
        elif self.words.text():
            said.append(self.words.text())
        self.words.setText(" ".join(said))
        self._legend((("passed on", "sun"), ("caught by the battery", "battery"), ("lost", "lost")), hatched="lost")
