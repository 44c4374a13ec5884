"""All figures of the plans side by side, gates first, a bar in each cell."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.decision.words import clipping_words, compare_lines, compare_text, weather_words
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row

if TYPE_CHECKING:
    from calm_relay.decision.choosing import Standing
    from calm_relay.decision.compare import PlanRow
    from calm_relay.ui.pages.standing import StandingPage

TONES = {
    "bill": "grid", "saving": "accent", "import_wh": "grid", "export_wh": "grid", "self_sufficiency_frac": "sun",
    "own_use_frac": "sun", "clipped_wh": "lost", "caught_wh": "battery", "held_by_cap_wh": "lost",
    "unserved_wh": "over", "usable_wh": "battery",
    "full_cycles": "battery", "offgrid_va": "battery",
}  # fmt: skip


def gate_rows(rows: tuple[PlanRow, ...]) -> list[Row]:
    """Return the rows that stand above all figures: whether a plan may be recommended, and how its checks stand."""
    gates = tuple(
        Cell("closed" if r.gate else "open", color="over" if r.gate else "within", tip=r.gate or "no check is over") for r in rows
    )
    counted = tuple(Cell(f"{r.over} · {r.tight} · {r.not_known}") for r in rows)
    return [Row("Gate", gates), Row("Over · tight · not known", counted)]


class FiguresPart:
    """One row a figure; nothing is typed here."""

    table: PlanTable  # made when the part is first shown: a widget without a parent may be collected by the wrong thread

    def __init__(self, page: StandingPage) -> None:
        self._page = page
        self._shown: object = None

    def shape(self) -> object:
        return "figures"

    def build(self) -> None:
        page = self._page
        self._state = page.words("")
        self.table = PlanTable("Comparison of plans", page.theme, page.scale)
        self._shown = None
        page.add(self.table)

    def show_figures(self) -> None:
        page = self._page
        standing = page.standing()
        self.table.setEnabled(standing is not None)
        job = page.session.job
        if standing is not None and self._shown is not standing:
            self._shown = standing
            self.table.show_rows([f"{r.letter}\n{r.name}" for r in standing.rows], self._rows(standing))
        said = (
            f"One simulated year each at 5 min, weather {weather_words(job)}. Money in {job.tariff.currency}. "
            f"{clipping_words(job).capitalize()}. Ctrl+C copies the table."
        )
        self._state.setText(page.progress_words() or said if standing is None else said)

    def _rows(self, standing: Standing) -> list[Row]:
        out = gate_rows(standing.rows)
        for field, text, kind in compare_lines(self._page.session.job):
            values = [getattr(row, field) for row in standing.rows]
            most = max((abs(float(v)) for v in values if v is not None), default=0.0)
            cells = []
            for row, value in zip(standing.rows, values, strict=True):
                bar = max(0.0, float(value)) / most if value is not None and most > 0 and field in TONES else None
                cells.append(Cell(compare_text(row, field, kind), bar, TONES.get(field, "")))
            out.append(Row(text, tuple(cells)))
        return out
