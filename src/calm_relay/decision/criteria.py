"""What plans are weighed by: computed figures with a unit, each with a value function that is said, by purposes of the brief.

A value function is a straight line from the figure that is worth nothing to the one that is worth all, cut off at both ends. The
anchors do not depend on the other plans, so that a plan taken out of the comparison changes nothing among the rest.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.decision.brief import essential_mean_w
from calm_relay.decision.compare import PlanRow
from calm_relay.decision.words import LIFE_YEARS
from calm_relay.job.brief_models import Purpose
from calm_relay.job.costs import equipment
from calm_relay.job.models import Job, Plan
from calm_relay.money.counted import counted, kind_of
from calm_relay.plant.chain import usable_wh
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.registry import Finding
from calm_relay.simulation.failures import failures
from calm_relay.simulation.paths import storage_paths
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.study import PlanResult

OUTAGE_H = 24.0  # carried where the brief names no outage
TRIP_W = 1000.0  # at which round trips are compared
YEARS_OF_BILL = 5.0  # what 20 years are worth is held against so many of today's bills; ours
VERDICT_VALUE = {"within": 1.0, "tight": 0.6, "not known": 0.0, "over": 0.0}


@dataclass(frozen=True)
class Weighed:
    """All that is known of a plan when it is weighed."""

    job: Job
    plan: Plan
    row: PlanRow
    today: PlanRow
    result: PlanResult

    def verdict_of(self, check: str) -> Finding | None:
        """Return a check's worst finding; None where it does not apply."""
        order = ("over", "not known", "tight", "within")
        found = [f for f in self.result.findings if f.check == check and f.verdict in order]
        return min(found, key=lambda f: order.index(f.verdict), default=None)


@dataclass(frozen=True)
class Valued:
    """A plan's figure under one criterion: as text, and what it is worth. [0 to 1]; None where it does not apply."""

    criterion: str
    words: str
    purpose: Purpose
    figure: float | None
    text: str
    value: float | None
    line: str


@dataclass(frozen=True)
class Criterion:
    """A figure, the purpose it serves, and the two ends of its value function.

    `figure` returns None where it does not apply, NaN where it is not known: that is worth nothing. `ends` returns the figure
    worth nothing and the one worth all.
    """

    key: str
    words: str
    purpose: Purpose
    kind: str
    figure: Callable[[Weighed], float | None]
    ends: Callable[[Weighed], tuple[float, float]]
    text: Callable[[Weighed], str] | None = None

    def of(self, w: Weighed) -> Valued:
        """Return a plan's figure and what it is worth."""
        figure = self.figure(w)
        nothing, whole = self.ends(w)
        line = f"worth nothing at {self._shown(nothing)}, all at {self._shown(whole)}, straight between"
        text: str
        value: float | None
        if figure is None:
            text, value = "–", None
        elif figure != figure:
            figure, text, value = None, "not known", 0.0
        else:
            value = 1.0 if whole == nothing else min(1.0, max(0.0, (figure - nothing) / (whole - nothing)))
            text = self.text(w) if self.text is not None else self._shown(figure)
        return Valued(
            criterion=self.key, words=self.words, purpose=self.purpose, figure=figure, text=text, value=value, line=line
        )  # fmt: skip

    def _shown(self, figure: float) -> str:
        if self.kind == "yes_no":
            return "yes" if figure >= 1 else "no"
        return f"{figure:g}" if self.kind == "count" else show(figure, self.kind)


NAN = float("nan")


def _bill(w: Weighed) -> float:
    return max(1.0, abs(w.today.bill))


def _cost(w: Weighed) -> float | None:
    return NAN if w.row.cost is None or w.row.cost_at_least else w.row.cost


def _payback(w: Weighed) -> float | None:
    if w.plan.id == w.job.plans[0].id:
        return None
    if w.row.cost is None or w.row.cost_at_least:
        return NAN
    return float(LIFE_YEARS) if w.row.payback_years is None else w.row.payback_years


def _payback_text(w: Weighed) -> str:
    return "never" if w.row.payback_years is None else show(w.row.payback_years, "years")


def _worth(w: Weighed) -> float | None:
    if w.plan.id == w.job.plans[0].id:
        return 0.0
    return NAN if w.row.npv is None or w.row.cost_at_least else w.row.npv


def _trip(w: Weighed) -> float | None:
    ways = storage_paths(plant_of(w.job, w.plan), TRIP_W)
    return max((way.passes_frac for way in ways), default=None)


def _caught(w: Weighed) -> float | None:
    above = w.row.caught_wh + w.row.clipped_wh
    return None if above < 1000.0 else w.row.caught_wh / above


def _fills(w: Weighed) -> float | None:
    rows = [fill.share_of_days_frac for seasons in w.result.facts.fill.values() for fill in seasons.values()]
    return sum(rows) / len(rows) if rows else None


def _evening(w: Weighed) -> float | None:
    return w.row.evening_hours_over_h


def _outage_h(w: Weighed) -> float:
    return w.job.brief.longest_h or OUTAGE_H


def _carried(w: Weighed) -> float | None:
    """Hours that a full bank carries the mean of what must stay on; nothing where nothing stays lit."""
    need = essential_mean_w(w.job.house)
    if need <= 0:
        return None
    if not w.row.lit:
        return 0.0
    return sum(usable_wh(row.bank) for row in plant_of(w.job, w.plan).banked) / need


def _start(w: Weighed) -> float | None:
    if not w.row.lit:
        return 0.0 if essential_mean_w(w.job.house) > 0 else None
    found = [f for f in map(w.verdict_of, ("backup.motor-start", "backup.start-from-battery")) if f is not None]
    return min((VERDICT_VALUE[f.verdict] for f in found), default=None)


def _start_text(w: Weighed) -> str:
    if not w.row.lit:
        return "none"
    found = [f for f in map(w.verdict_of, ("backup.motor-start", "backup.start-from-battery")) if f is not None]
    return min(found, key=lambda f: VERDICT_VALUE[f.verdict]).word


def _exported(w: Weighed) -> float | None:
    return w.row.export_wh if not w.plan.off_grid else None


def _lost_share(w: Weighed) -> float:
    """Return the largest share of the plan's PV and battery that one box takes with it, or all where the backup stops."""
    rows = failures(plant_of(w.job, w.plan))
    pv, energy = sum(r.pv_stc_w for r in rows), sum(r.battery_wh for r in rows)
    worst = 0.0
    for row in rows:
        parts = [share for part, whole in ((row.pv_stc_w, pv), (row.battery_wh, energy)) if whole > 0 for share in [part / whole]]
        worst = max(worst, sum(parts) / len(parts) if parts else 0.0, 1.0 if row.backup in ("all", "dark") else 0.0)
    return worst


def _network(w: Weighed) -> float | None:
    found = w.verdict_of("network.inverter-sum")
    return None if found is None else 0.0 if found.verdict in ("over", "not known") or found.word == "above" else 1.0


def _roof(w: Weighed) -> float:
    what = counted(w.job, w.plan)
    return 0.0 if any(kind_of(w.job.card(card)) == "modules" for card in (*what.added, *what.taken_out)) else 1.0


def _reuse(w: Weighed) -> float | None:
    had = equipment(w.job.plans[0])
    boxes = {card: n for card, n in had.items() if kind_of(w.job.card(card)) != "modules"}
    if not boxes:
        return None
    now = equipment(w.plan)
    return sum(min(n, now.get(card, 0)) for card, n in boxes.items()) / sum(boxes.values())


def _grows(w: Weighed) -> float | None:
    """Battery modules that may still be added to the banks of the plan; none where there is no bank."""
    return float(sum(max(0, row.bank.cells.modules_max - row.bank.modules) for row in plant_of(w.job, w.plan).banked))


def _warranty(w: Weighed) -> float | None:
    if w.plan.id == w.job.plans[0].id or not counted(w.job, w.plan).added:
        return None
    return NAN if w.row.warranty_years is None else w.row.warranty_years


def _unserved(w: Weighed) -> float | None:
    return w.row.unserved_wh if w.plan.off_grid else None


CRITERIA: tuple[Criterion, ...] = (
    Criterion("saving", "Yearly saving", "lower_bills", "money", figure=lambda w: w.row.saving, ends=lambda w: (0.0, _bill(w))),
    Criterion("cost", "Cost", "lower_bills", "money", figure=_cost, ends=lambda w: (w.job.brief.budget or 10.0 * _bill(w), 0.0)),
    Criterion(
        "payback", "Simple payback", "lower_bills", "years",
        figure=_payback, ends=lambda _: (float(LIFE_YEARS), 0.0), text=_payback_text,
    ),
    Criterion(
        "npv", "Worth today of 20 years", "lower_bills", "money",
        figure=_worth, ends=lambda w: (-YEARS_OF_BILL * _bill(w), YEARS_OF_BILL * _bill(w)),
    ),
    Criterion("round_trip", "Best round trip at 1 kW", "lower_bills", "fraction", figure=_trip, ends=lambda _: (0.7, 0.95)),
    Criterion(
        "self", "Self-sufficiency", "own_use", "fraction",
        figure=lambda w: w.row.self_sufficiency_frac, ends=lambda _: (0.0, 1.0),
    ),
    Criterion("own_use", "Own use of PV", "own_use", "fraction", figure=lambda w: w.row.own_use_frac, ends=lambda _: (0.0, 1.0)),
    Criterion("caught", "Of what is above AC limits, caught", "own_use", "fraction", figure=_caught, ends=lambda _: (0.0, 1.0)),
    Criterion("fills", "Days the array fills the battery", "own_use", "fraction", figure=_fills, ends=lambda _: (0.0, 1.0)),
    Criterion(
        "lit", "Something stays on", "ride_through", "yes_no",
        figure=lambda w: float(w.row.lit), ends=lambda _: (0.0, 1.0),
    ),
    Criterion(
        "carried", "Essentials from a full bank, no sun", "ride_through", "hours_h",
        figure=_carried, ends=lambda w: (0.0, _outage_h(w)),
    ),
    Criterion(
        "start", "Biggest start carried", "ride_through", "yes_no",
        figure=_start, ends=lambda _: (0.0, 1.0), text=_start_text,
    ),
    Criterion("export", "Export", "zero_export", "energy_wh", figure=_exported, ends=lambda w: (max(1000.0, _pv_wh(w)), 0.0)),
    Criterion(
        "off_self", "Self-sufficiency", "off_grid", "fraction",
        figure=lambda w: w.row.self_sufficiency_frac, ends=lambda _: (0.0, 1.0),
    ),
    Criterion(
        "unserved", "Not served", "off_grid", "energy_wh",
        figure=_unserved, ends=lambda w: (0.1 * max(1.0, w.result.facts.system_wh["load_w"]), 0.0),
    ),
    Criterion("evening", "Evening hours over its limit", "new_loads", "hours_h", figure=_evening, ends=lambda _: (200.0, 0.0)),
    Criterion("grows", "Modules the bank may still take", "new_loads", "count", figure=_grows, ends=lambda _: (0.0, 4.0)),
    Criterion("network", "Within the network's sum", "simple", "yes_no", figure=_network, ends=lambda _: (0.0, 1.0)),
    Criterion("boxes", "Boxes", "simple", "count", figure=lambda w: float(w.row.boxes), ends=lambda _: (10.0, 1.0)),
    Criterion("failure", "Stops with the worst box", "simple", "fraction", figure=_lost_share, ends=lambda _: (1.0, 0.0)),
    Criterion("roof", "Roof left alone", "simple", "yes_no", figure=_roof, ends=lambda _: (0.0, 1.0)),
    Criterion("reuse", "Boxes of today kept", "simple", "fraction", figure=_reuse, ends=lambda _: (0.0, 1.0)),
    Criterion("warranty", "Shortest warranty", "simple", "years", figure=_warranty, ends=lambda _: (0.0, 15.0)),
)  # fmt: skip


def _pv_wh(w: Weighed) -> float:
    """PV energy that the plan takes up: of DC strings what goes to inverter and battery, else AC output. [Wh]"""
    facts = w.result.facts
    strings = sum(row["pv_to_inverter_w"] + row["pv_to_battery_w"] for row in facts.nodes_wh.values())
    return strings + sum(row["ac_w"] for row in facts.pv_only_wh.values())


def valued(w: Weighed) -> tuple[Valued, ...]:
    """Return a plan's figures under every criterion."""
    return tuple(criterion.of(w) for criterion in CRITERIA)


def purpose_scores(rows: Sequence[Valued]) -> dict[Purpose, float]:
    """Return what a plan is worth under each purpose: the mean of its criteria that apply, nothing where none does. [0 to 1]"""
    out: dict[Purpose, float] = {}
    for purpose in dict.fromkeys(row.purpose for row in rows):
        known = [row.value for row in rows if row.purpose == purpose and row.value is not None]
        out[purpose] = sum(known) / len(known) if known else 0.0
    return out
