"""Year: where the chosen plan's energy came from and went, month by month, and what clipping took."""

from __future__ import annotations

import weakref
from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.decision.words import clipping_words, weather_words
from calm_relay.simulation.pack import inverter_pass_w
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.charts import DurationChart, MonthsChart
from calm_relay.ui.views.ribbon_view import RibbonView
from calm_relay.ui.widgets import Swatch, clear_layout, label
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.boxes import box_uses
from calm_relay.year.pictures import duration, most_clipped_node, ribbon
from calm_relay.year.when import By, year_parts

if TYPE_CHECKING:
    from calm_relay.job.models import Plan
    from calm_relay.job.tariff_models import Tariff
    from calm_relay.year.facts import YearFacts
    from calm_relay.year.plan_flow import PlanFlow

PARTS: tuple[tuple[str, By], ...] = (("By month", "month"), ("By hour of the day", "hour"), ("By price period", "period"))
SHOWN = (
    ("house", "load_w", "house"), ("PV at AC", "pv_ac_w", "sun"), ("import", "import_w", "grid"),
    ("from batteries", "battery_to_house_w", "battery"),
)  # fmt: skip


class YearPage(QWidget):
    """Figures only; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session, self.theme, self.scale = session, theme, 1.0
        self._shown: weakref.ref[PlanFlow] | None = None  # never what keeps a year's series alive
        self._of: tuple[Plan, Tariff] | None = None  # what names and price periods were taken from
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 12, 16, 14)
        column.setSpacing(6)
        self._title = label("", "title")
        self.words_label = label("", "quiet", wrap=True)
        column.addWidget(self._title)
        column.addWidget(self.words_label)
        self.ribbon = RibbonView(theme)
        column.addWidget(self.ribbon, 3)
        head = QHBoxLayout()
        self.parts = QComboBox()
        self.parts.setAccessibleName("What the year is divided by")
        self.parts.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.parts.setMinimumContentsLength(20)
        self.parts.currentIndexChanged.connect(self._show_parts)
        head.addWidget(self.parts)
        self._month_legend = QWidget()
        FlowLayout(self._month_legend, gap=10, line_gap=2)
        head.addSpacing(14)
        head.addWidget(self._month_legend, 1)
        column.addLayout(head)
        self.months = MonthsChart(theme, "Energy by month", "", "kWh")
        column.addWidget(self.months, 2)
        column.addWidget(label("Clipping", "heading"))
        self._clip_words = label("", "quiet", wrap=True)
        column.addWidget(self._clip_words)
        self.duration = DurationChart(theme, "PV power, from most to least", "hours of the year", "kW DC")
        column.addWidget(self.duration, 2)
        self._clip_legend = QWidget()
        FlowLayout(self._clip_legend, gap=10, line_gap=2)
        column.addWidget(self._clip_legend)
        session.answers_changed.connect(self.refresh)

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme, self.scale, self._shown = theme, scale, None
        self.ribbon.set_theme(theme, scale)
        for chart in (self.months, self.duration):
            chart.set_theme(theme, scale)
        self.months.setFixedHeight(int(176 * scale))
        self._legend(
            self._clip_legend, (("passed on", "sun"), ("caught by the battery", "battery"), ("lost", "lost")), hatched="lost"
        )
        self.refresh()

    def _legend(self, holder: QWidget, rows: Iterable[tuple[str, str]], hatched: str = "") -> None:
        """Show names with their hues, one of them hatched."""
        layout = holder.layout()
        assert layout is not None
        clear_layout(layout)
        for name, hue in rows:
            layout.addWidget(Swatch(name, self.theme.color(hue), hatch=name == hatched))

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen plan's year; an older one is dimmed as a whole."""
        if not self.isVisible():
            return
        session = self.session
        plan, result, made = session.plan, session.fresh(session.chosen), session.made()
        self._title.setText("Today's system: the year" if plan.letter == "Today" else f"{plan.letter}  {plan.name}: the year")
        fresh = result is not None and made is not None
        for widget in (self.months, self.duration, self._clip_words, self.words_label):
            widget.setEnabled(fresh)
        if not fresh:
            error = session.errors.get(session.chosen)
            self.words_label.setText(f"The year could not be run: {error}" if error else "Updating the year…")
            last = session.last(session.chosen)
            if last is not None:
                self.ribbon.show_ribbon(ribbon(last.facts), dim=True)
            return
        assert result is not None
        assert made is not None
        of = (plan, session.job.tariff)
        if self._shown is not None and self._shown() is made and self._of == of:
            return
        self._shown, self._of = weakref.ref(made), of
        f = result.facts
        self.words_label.setText(
            f"Self-sufficiency {show(f.self_sufficiency_frac, 'fraction')}, own use of PV {show(f.own_use_frac, 'fraction')}"
            + (f", {f.full_cycles:.0f} full cycles" if f.usable_wh else "")
            + f". Weather is {weather_words(session.job)}; {clipping_words(session.job)}."
            + (f" Rests on {count_words(len(self.session.assumed()), 'assumed value')}." if self.session.assumed() else "")
        )
        self.ribbon.show_ribbon(ribbon(f), dim=False)
        self._offer_parts(f, {n.id: n.name for n in plan.nodes})
        self._show_parts()
        node = next((n for n in plan.nodes if n.id == most_clipped_node(f)), None)
        self.duration.setVisible(node is not None)
        if node is None:
            self._clip_words.setText("There is no PV in this plan.")
            return
        limit = inverter_pass_w(node, session.job.cards())
        self.duration.show_duration(duration(made, node.id, limit))
        clipped = (
            f"{show(f.clipped_wh, 'energy_wh', 0)} a year or more are clipped"
            if f.clipped_wh >= 500
            else "nothing worth a word is clipped"
        )
        caught = f", {show(f.caught_wh, 'energy_wh', 0)} more were caught by the battery" if f.caught_wh >= 500 else ""
        self._clip_words.setText(
            f"In all of the plan {clipped}{caught}. The picture is of {node.name}, which passes {show(limit, 'power_w', 1)} DC."
        )

    def _offer_parts(self, facts: YearFacts, names: dict[str, str]) -> None:
        """Offer what the year can be divided by, and the days of each battery; what is chosen stays."""
        wanted = [
            *PARTS,
            *([("By box, for itself", "boxes")] if names else []),
            *((f"Days of the battery, {names[node]}", f"days {node}") for node in facts.battery_months),
        ]
        if [(self.parts.itemText(i), self.parts.itemData(i)) for i in range(self.parts.count())] == wanted:
            return
        chosen = self.parts.currentData()
        self.parts.blockSignals(True)
        self.parts.clear()
        for text, key in wanted:
            self.parts.addItem(text, key)
        self.parts.setCurrentIndex(max(0, self.parts.findData(chosen)))
        self.parts.blockSignals(False)

    def _show_parts(self) -> None:
        """Show the bars of what is chosen: energies of each part of the year, or on how many days a battery was full and empty."""
        session = self.session
        result, made, by = session.fresh(session.chosen), session.made(), self.parts.currentData()
        if result is None or made is None or by is None:
            return
        if by == "boxes":
            uses, called = box_uses(result.facts), {node.id: node.name for node in session.plan.nodes}
            names: tuple[str, ...] = tuple(called[use.node_id] for use in uses)
            shown = [
                ("inverting", [use.inverter_loss_wh for use in uses], "sun"),
                ("charging", [use.charger_loss_wh for use in uses], "grid"),
                ("in the cells", [use.cell_loss_wh for use in uses], "battery"),
                ("standby", [use.standby_wh for use in uses], "house"),
            ]
            head, unit, per = "box", "kWh", 1000.0
        elif by.startswith("days "):
            rows = result.facts.battery_months[by.removeprefix("days ")]
            shown = [
                ("full", [float(row.filled_days) for row in rows], "battery"),
                ("down to what is kept", [float(row.emptied_days) for row in rows], "lost"),
            ]
            names = MONTHS
            head, unit, per = "month", "days", 1.0
        else:
            parts = year_parts(made.flow, session.calendar(), by, session.job.tariff, session.store)
            shown = [(name, [p.energy_wh[column] for p in parts], hue) for name, column, hue in SHOWN]
            names = tuple(p.name.removesuffix(":00") for p in parts)
            head, unit, per = by, "kWh", 1000.0
        self._legend(self._month_legend, ((name, hue) for name, _, hue in shown))
        self.months.set_unit(unit)
        self.months.setAccessibleName(f"{'Energy' if unit == 'kWh' else 'Battery days'} by {head}")
        self.months.show_parts(head, names, shown, per)
