"""Which plan leads: gates, the brief's weights, every criterion with its worth, the spread of the money, and why."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from calm_relay.decision.brief import PURPOSES, WEIGHT_WORDS, weigh_edits, weight_of
from calm_relay.decision.chosen import with_choice
from calm_relay.decision.money_words import chosen_words, figures_of, ranges_words, spread_words
from calm_relay.decision.words import weather_words
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.pages.figures_part import gate_rows
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.decision.choosing import Standing
    from calm_relay.decision.ranges import Spread
    from calm_relay.ui.pages.standing import StandingPage

MONEY_ROWS: tuple[tuple[str, str, str], ...] = (
    ("saving", "Saving a year, 10 to 90 % of cases", "money"), ("npv", "Worth of 20 years, 10 to 90 %", "money"),
    ("payback_years", "Payback, 10 to 90 %", "years"),
)  # fmt: skip
NAMES = dict(PURPOSES)


class LeadPart:
    """The weights are the brief's: what is set here is set there."""

    table: PlanTable  # made when the part is first shown: a widget without a parent may be collected by the wrong thread

    def __init__(self, page: StandingPage) -> None:
        self._page = page
        self._shown: object = None
        self.weights: dict[str, QComboBox] = {}

    def shape(self) -> object:
        return "lead"

    def build(self) -> None:
        page = self._page
        self.because = page.words("", "plain")
        self.chosen = page.words("", "strong")
        self.choose_button = page.button("Choose a plan…", self._choose)
        self.state = label("", "quiet", wrap=True)
        page.flow(self.choose_button)
        page.add(self.state)
        boxes = []
        self.weights = {}
        for key, words in PURPOSES:
            box = ClosedList()
            box.setAccessibleName(f"Weight: {words}")
            box.addItems(list(WEIGHT_WORDS))
            box.activated.connect(lambda value, k=key, w=words: self._weigh(k, w, value))
            holder = QWidget()
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 8, 0)
            name = label(words)
            name.setBuddy(box)
            row.addWidget(name)
            row.addWidget(box)
            self.weights[key] = box
            boxes.append(holder)
        page.heading("What counts")
        page.flow(*boxes)
        self.table = PlanTable("Which plan leads", page.theme, page.scale)
        self._shown = None
        page.add(self.table)
        told = page.words("", "strong")
        self.table.told.connect(told.setText)
        self.spread_words = page.words("")
        self.rests = page.words("")

    # --- showing
    def show_figures(self) -> None:
        page = self._page
        brief = page.session.job.brief
        for key, box in self.weights.items():
            with QSignalBlocker(box):
                box.setCurrentIndex(weight_of(brief, key))
        job = page.session.job
        self.rests.setText(f"First year at 5 min, weather {weather_words(job)}. Money in {job.tariff.currency}.")
        standing = page.standing()
        for widget in (self.table, self.because, self.spread_words):
            widget.setEnabled(standing is not None)
        self.state.setText(page.progress_words())
        self.state.setVisible(bool(self.state.text()))
        said = chosen_words(page.session.job)
        self.chosen.setText(said)
        self.chosen.setVisible(bool(said))
        if standing is None or self._shown is standing:
            return
        self._shown = standing
        self.because.setText("\n".join(standing.verdict.because))
        self.table.show_rows([f"{r.letter}\n{r.name}" for r in standing.rows], self._rows(standing))
        self.spread_words.setText("" if standing.ranges is None else ranges_words(page.session.job, standing.ranges))

    def _rows(self, standing: Standing) -> list[Row]:
        verdict = standing.verdict
        by_plan = {scored.row.plan_id: scored for scored in verdict.plans}
        order = [by_plan[row.plan_id] for row in standing.rows]
        lead = verdict.leader
        scores = tuple(
            Cell(f"{s.score * 100:.0f}", s.score, "accent", tip="leads" if s is lead else s.row.gate or "") for s in order
        )
        out = [*gate_rows(standing.rows), Row("Points of 100", scores, head=True, tip="the weighted mean of the purposes below")]
        out += self._money_rows(standing)
        for purpose, weight in verdict.weights.items():
            if weight <= 0:
                continue
            worth = tuple(Cell(f"{s.purposes[purpose] * 100:.0f}", s.purposes[purpose], "accent") for s in order)
            tip = "the mean of the values below; what does not apply is left out, what is not known is worth nothing"
            out.append(Row(f"{NAMES[purpose]}, {weight * 100:.0f} %", worth, head=True, tip=tip))
            for i, first in enumerate(order[0].values):
                if first.purpose != purpose:
                    continue
                values = [s.values[i] for s in order]
                cells = tuple(
                    Cell(v.text, v.value, "quiet", tip="" if v.value is None else f"worth {v.value * 100:.0f} of 100: {v.line}")
                    for v in values
                )
                out.append(Row(f"   {first.words}", cells, tip=first.line))
        return out

    def _money_rows(self, standing: Standing) -> list[Row]:
        """Return the spreads of the money, each drawn between the lowest and the highest of all plans."""
        ranges = standing.ranges
        if ranges is None:
            return []
        out = []
        for field, text, kind in MONEY_ROWS:
            spreads: list[Spread | None] = []
            for row in standing.rows:
                found = ranges.of_plan(row.plan_id)
                spreads.append(None if found is None else getattr(found, field))
            known = [at for s in spreads if s is not None for at in (s.p10, s.p90) if at is not None]
            low, high = min([0.0, *known]), max([0.0, *known])
            span = max(high - low, 1e-9)
            cells = []
            for spread in spreads:
                if spread is None or spread.p50 is None or spread.p10 is None:
                    cells.append(Cell("–" if spread is None else "never", tip=spread_words(spread, kind)))
                    continue
                far = high if spread.p90 is None else spread.p90
                ends = ((spread.p10 - low) / span, (far - low) / span)
                cells.append(Cell(show(spread.p50, kind), spread=ends, tip=spread_words(spread, kind)))
            out.append(Row(text, tuple(cells)))
        leads = [(0, 0) if (r := ranges.of_plan(row.plan_id)) is None else (r.leads, r.cases) for row in standing.rows]
        out.append(Row("Best in money in", tuple(Cell(f"{a} of {b}", a / b if b else None, "accent") for a, b in leads)))
        return out

    # --- changing
    def _weigh(self, key: str, words: str, value: int) -> None:
        brief = self._page.session.job.brief
        if weight_of(brief, key) == value:
            return
        self._page.session.edit(f"{words}: {WEIGHT_WORDS[value]}", weigh_edits(brief, key, value))

    def _choose(self) -> None:
        page = self._page
        standing = page.standing()
        if standing is None:
            page.session.problem.emit("The figures are still being worked out: choose when they stand.")
            return
        from calm_relay.ui.choice_dialog import ChoiceDialog

        dialog = ChoiceDialog(standing.rows, standing.verdict, page)
        page.session.dialogs.show(dialog)
        if dialog.result() != dialog.DialogCode.Accepted:
            return
        row = next(r for r in standing.rows if r.plan_id == dialog.plan_id)
        figures = figures_of(row, page.session.job.tariff.currency)
        job = with_choice(page.session.job, row.plan_id, dialog.reason, figures, datetime.now())
        page.change(f"Plan {row.letter} chosen", job)
