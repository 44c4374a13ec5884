"""The lower half of Year: one picture of many, chosen from a list, where it can be against another plan."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.job.control_models import GRID_CHARGING
from calm_relay.simulation.failures import failures
from calm_relay.simulation.pack import inverter_pass_w
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.charge_chart import ChargeChart
from calm_relay.ui.views.charts import DurationChart, MonthsChart
from calm_relay.ui.widgets import Swatch, clear_layout, label
from calm_relay.units import format_quantity as show
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
ALONE = "this plan alone"


class YearPictures(QWidget):
    """Figures only; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.theme = session, theme
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        head = QHBoxLayout()
        self.parts, self.against = QComboBox(), QComboBox()
        for box, name, letters in (
            (self.parts, "What the picture shows", 20),
            (self.against, "Which plan it is compared with", 13),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(letters)
            box.currentIndexChanged.connect(self.show_picture)
            head.addWidget(box)
        self._legend_row = QWidget()
        FlowLayout(self._legend_row, gap=10, line_gap=2)
        head.addSpacing(10)
        head.addWidget(self._legend_row, 1)
        column.addLayout(head)
        self.months = MonthsChart(theme, "Energy by month", "", "kWh")
        self.charge = ChargeChart(theme, "Charge of the battery", "", "% of capacity")
        self.duration = DurationChart(theme, "PV power, from most to least", "hours of the year", "kW DC")
        self._charts = (self.months, self.charge, self.duration)
        for chart in self._charts:
            column.addWidget(chart, 2)
        self.words = label("", "quiet", wrap=True)
        column.addWidget(self.words)

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme = theme
        for chart in self._charts:
            chart.set_theme(theme, scale)
            chart.setFixedHeight(int(170 * scale))

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
        wanted = [*PARTS, *([("By box, for itself", "boxes")] if called else [])]
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
        self._fill(self.parts, wanted)
        self._fill(self.against, others)

    @staticmethod
    def _fill(box: QComboBox, wanted: Sequence[tuple[str, str]]) -> None:
        if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] == list(wanted):
            return
        chosen = box.currentData()
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
        chart: QWidget = {"bands": self.charge, "window": self.charge, "clipping": self.duration}.get(kind, self.months)
        for each in self._charts:
            each.setVisible(each is chart)
        self.against.setEnabled(kind in ("month", "hour", "period", "bands"))
        self._legend(())
        self.words.setText("")
        if kind == "clipping":
            self._show_clipping(result.facts, made)
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
            self.words.setText(" ".join([*back, *(f.words for f in failures(session.plan, session.job.cards()))]))
        elif kind == "days":
            rows = facts.battery_months[rest]
            shown = [
                ("full", [float(row.filled_days) for row in rows], "battery"),
                ("down to what is kept", [float(row.emptied_days) for row in rows], "lost"),
            ]
            names = MONTHS
            head, unit, per = "month", "days", 1.0
        else:
            by: By = kind  # type: ignore[assignment]
            parts = year_parts(made.flow, session.calendar(), by, session.job.tariff, session.store)
            less = self._other_parts(by)
            shown = [
                (name, [p.energy_wh[column] - less.get(p.name, {}).get(column, 0.0) for p in parts], hue)
                for name, column, hue in SHOWN
            ]
            names = tuple(p.name.removesuffix(":00") for p in parts)
            head, unit, per = kind, "kWh", 1000.0
            if less:
                self.words.setText("Bars are this plan less the other: above the line it has more.")
        self._legend((name, hue) for name, _, hue in shown)
        self.months.set_unit(unit)
        self.months.setAccessibleName(f"{'Energy' if unit == 'kWh' else 'Battery days'} by {head}")
        self.months.show_parts(head, names, shown, per)

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
        found = window_year(session.plan, session.job.cards(), session.calendar(), made, index, node_id)
        self.charge.setVisible(found is not None)
        if found is None:
            self.words.setText("A later slot holds in all of its hours.")
            return
        self._legend([("from the charge before to the charge after", "battery")])
        self.charge.show_window(found)
        self.words.setText(window_words(found))

    def _show_clipping(self, f: YearFacts, made: PlanFlow) -> None:
        session = self.session
        node = next(n for n in session.plan.nodes if n.id == most_clipped_node(f))
        limit = inverter_pass_w(node, session.job.cards())
        self.duration.show_duration(duration(made, node.id, limit))
        clipped = (
            f"{show(f.clipped_wh, 'energy_wh', 0)} a year or more are clipped"
            if f.clipped_wh >= 500
            else "nothing worth a word is clipped"
        )
        caught = f", {show(f.caught_wh, 'energy_wh', 0)} more were caught by the battery" if f.caught_wh >= 500 else ""
        self.words.setText(
            f"In all of the plan {clipped}{caught}. The picture is of {node.name}, which passes {show(limit, 'power_w', 1)} DC."
        )
        self._legend((("passed on", "sun"), ("caught by the battery", "battery"), ("lost", "lost")), hatched="lost")
