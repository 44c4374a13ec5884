"""Oversizing of the chosen plan: ratios by limit, the duration curve, what clips where and when, the next module, now or later."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel, QWidget

from calm_relay.decision.gains import MoreModules, NowOrLater, clip_rows, inverters_with_strings, ratio_rows
from calm_relay.decision.words import clipped_amount, clipping_words, guess_words
from calm_relay.job.edits import Edit
from calm_relay.job.models import LaterModules
from calm_relay.plant.resolve import plant_of
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.flow_layout import FlowLayout
from calm_relay.ui.views.charts import DurationChart
from calm_relay.ui.views.limit_bars import LimitBar, LimitBars
from calm_relay.ui.views.month_bars import MonthBars
from calm_relay.ui.widgets import Swatch, label
from calm_relay.units import format_quantity as show
from calm_relay.year.pictures import duration

if TYPE_CHECKING:
    from calm_relay.job.models import Plan
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel
    from calm_relay.year.facts import YearFacts

LEGEND = (("passed on", "sun", False), ("caught by the battery", "battery", False), ("lost", "lost", True))
LATER = ("modules", "after_years", "module_cost", "visit_cost")
WORTH_WH = 500.0


class OversizingPart:
    """Figures of the chosen plan; the only fields are the modules that may come."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page
        self.inverter = ""

    def shape(self) -> object:
        plan = self._page.session.plan
        nodes = tuple((n.id, n.name, tuple(g.tracker for g in n.strings)) for n in plan.nodes)
        return plan.id, nodes, plan.later is None

    def build(self) -> None:
        page, session = self._page, self._page.session
        nodes = inverters_with_strings(session.job, session.plan)
        if not nodes:
            page.words("No inverter of this plan carries modules. Add strings first.", "teach")
            return
        page.heading("DC-to-AC ratio against each limit")
        self.ratios = LimitBars("Ratios", page.theme, page.scale)
        page.flow(self.ratios)
        page.heading("From most to least")
        self.choice = ClosedList()
        self.choice.setAccessibleName("Inverter shown")
        for node in nodes:
            self.choice.addItem(node.name, node.id)
        self.choice.setCurrentIndex(max(0, self.choice.findData(self.inverter)))
        self.choice.activated.connect(self._chosen)
        self._curve_words = label("", "quiet")
        page.flow(self.choice, self._curve_words)
        self.chart = DurationChart(page.theme, "PV power, from most to least", "hours of the year", "kW DC")
        self.chart.set_theme(page.theme, page.scale)
        page.add(self.chart)
        legend = QWidget()
        flow = FlowLayout(legend, gap=10, line_gap=2)
        for name, hue, hatch in LEGEND:
            flow.addWidget(Swatch(name, page.theme.color(hue), hatch=hatch))
        page.add(legend)
        page.heading("What is clipped, by month")
        self.clip_words = page.words("")
        self._clips: list[tuple[MonthBars, QLabel]] = []
        for _ in clip_names(session.plan):
            bars, words = MonthBars("Clipped by month", page.theme, page.scale, hue="lost"), label("", "quiet")
            self._clips.append((bars, words))
            page.flow(bars, words)
        page.heading("The next module")
        self.next_words = page.words("")
        if session.plan.later is None:
            page.heading("Now or later", ("Modules may come later", self.plan_later))
            page.words("Set today's price of more modules against a second visit in some years.")
        else:
            page.heading("Now or later", ("No modules later", self._no_later))
            page.flow(*(page.cell(f"plans[{session.plan.id}].later.{name}", chars=9) for name in LATER))
            self.later_words = page.words("", "strong")

    # --- showing
    def show_figures(self) -> None:
        page, session = self._page, self._page.session
        job, plan = session.job, session.plan
        if not inverters_with_strings(job, plan):
            return
        rows = []
        for row in ratio_rows(job, plan):
            against = "no limit named" if row.limit is None else f"of {row.limit:g}"
            off = "" if row.in_force else ", not in force"
            words = f"{row.ratio:.2f} {against}, {row.limit_name}{off}"
            rows.append(LimitBar(row.subject, words, row.ratio, row.limit, "over" if row.in_force else "unknown"))
        self.ratios.show_bars(rows)
        made, result = session.made(), session.fresh(plan.id)
        for part in (self.chart, self.clip_words, self._curve_words, self.next_words):
            part.setEnabled(made is not None)
        if made is not None and result is not None:
            node = plan.node(self.choice.currentData())
            limit = plant_of(job, plan).station(node.id).unit.passes_dc_w
            self.chart.show_duration(duration(made, node.id, limit))
            self._curve_words.setText(f"passes {show(limit, 'power_w', 1)} DC; {clipping_words(job)}")
            self._show_clips(result.facts)
        self._show_gains()
        page.updateGeometry()

    def _show_clips(self, facts: YearFacts) -> None:
        rows = clip_rows(facts, self._page.session.plan)
        top = max((max(row.months_wh) for row in rows), default=0.0) / 1000
        caught = f"; batteries caught {show(facts.caught_wh, 'energy_wh', 0)} more" if facts.caught_wh >= WORTH_WH else ""
        total = sum(row.year_wh for row in rows)
        job = self._page.session.job
        amount = f"{clipped_amount(job)} {show(total, 'energy_wh', 0)} a year in all{caught}"
        self.clip_words.setText(f"{amount[:1].upper()}{amount[1:]}. {guess_words(job)}".strip())
        for (bars, words), row in zip(self._clips, rows, strict=False):
            clipped = row.year_wh >= WORTH_WH
            bars.setVisible(clipped)
            bars.show_months([wh / 1000 for wh in row.months_wh], max(top, 1e-6), "kWh")
            amount = f"{show(row.year_wh, 'energy_wh', 0)} a year in {row.hours_h:.0f} h" if clipped else "nothing worth a word"
            words.setText(f"{row.subject}: {amount}" if row.kind == "tracker" else f"{row.subject}, {row.kind}: {amount}")

    def _show_gains(self) -> None:
        session = self._page.session
        job, plan = session.job, session.plan
        nodes = [n.id for n in inverters_with_strings(job, plan)]

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.oversizing import more_modules, now_or_later

            gains = tuple(more_modules(study, job, plan, node, 1, cancelled) for node in nodes)
            later = None
            if plan.later is not None:
                later = now_or_later(study, job, plan, nodes[-1], plan.later, cancelled)
            return gains, later

        key = f"oversizing {plan.id}"
        found = session.extra(key, work)
        kept = found or session.last_extra(key)
        if not isinstance(kept, tuple):
            self.next_words.setText("The next module is being simulated…" if kept is None else str(kept))
            return
        gains, later = kept
        self.next_words.setEnabled(found is not None)
        lines = [_gain_words(gain, job.tariff.currency) for gain in gains if isinstance(gain, MoreModules)]
        self.next_words.setText("\n".join(lines))
        if plan.later is not None and isinstance(later, NowOrLater):
            self.later_words.setEnabled(found is not None)
            self.later_words.setText(later_words(later, job.tariff.currency))

    def _chosen(self, _: int) -> None:
        self.inverter = str(self.choice.currentData())
        self.show_figures()

    # --- changing
    def plan_later(self) -> None:
        """Let modules come later, with figures to be typed over."""
        plan = self._page.session.plan
        later = LaterModules(modules=4, after_years=3.0, module_cost=150.0, visit_cost=600.0)
        self._page.session.edit("Modules may come later", [Edit(f"plans[{plan.id}].later", later.model_dump())])

    def _no_later(self) -> None:
        self._page.session.edit("No modules later", [Edit(f"plans[{self._page.session.plan.id}].later", None)])


def clip_names(plan: Plan) -> list[str]:
    """Return a name for every line of clipping: each tracker and the AC limit of each inverter with strings."""
    out = []
    for node in plan.nodes:
        if node.strings:
            out += [f"{node.id}/{tracker}" for tracker in sorted({g.tracker for g in node.strings})] + [node.id]
    return out


def _gain_words(gain: MoreModules, currency: str) -> str:
    return (
        f"At {gain.node}: of {show(gain.offered_wh, 'energy_wh', 0)} a year that it offers, {show(gain.used_wh, 'energy_wh', 0)} "
        f"reach house, battery or grid and {show(max(0.0, gain.clipped_wh), 'energy_wh', 0)} are clipped; worth {currency} "
        f"{show(gain.saving, 'money')} a year."
    )


def later_words(both: NowOrLater, currency: str) -> str:
    def money(value: float) -> str:
        return f"{currency} {show(value, 'money')}"

    return (
        f"{both.more.modules} modules, worth {money(both.more.saving)} a year: now {money(both.now_net)}, later "
        f"{money(both.later_net)} over {both.years} years after what they cost. {both.words[:1].upper()}{both.words[1:]}."
    )
