"""The registry of checks; a finding is plain data with arithmetic, margin, remedies and source. `runner` runs them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

from calm_relay.job.edits import Edit
from calm_relay.job.models import Job, Plan
from calm_relay.job.pages import PAGE_KEYS
from calm_relay.library.book import CardBook
from calm_relay.packs.pack import Pack
from calm_relay.plant.resolve import resolve
from calm_relay.plant.whole import Plant
from calm_relay.rules.offers import offered
from calm_relay.units import SCALES
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.tariff.bill import Bill
    from calm_relay.year.facts import YearFacts

Verdict = Literal["within", "tight", "over", "not known", "note"]
YES_NO = "yes_no"  # quantity of what holds or does not: value and limit are 0 and 1, and there is no margin
VERDICT_ORDER: tuple[Verdict, ...] = ("over", "not known", "tight", "within", "note")


@dataclass(frozen=True)
class Remedy:
    """What would clear a finding: words with the number, and the edits that do it (none: it cannot be applied here)."""

    text: str
    edits: tuple[Edit, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Return the remedy as plain data."""
        return {"text": self.text, "edits": [edit.as_dict() for edit in self.edits]}


@dataclass(frozen=True)
class Finding:
    """What a check found of one subject.

    `value` and `limit` are in core units of `quantity`; `sense` says whether the limit is a most or a least.
    """

    check: str
    title: str
    subject: str
    verdict: Verdict
    quantity: str
    value: float | None
    limit: float | None
    sense: Literal["most", "least"]
    arithmetic: str
    source: str
    margin: float | None = None
    remedies: tuple[Remedy, ...] = ()
    pack: str = ""
    cost: str = ""
    waived: str = ""

    @property
    def short(self) -> str:
        """The check's short title."""
        return REGISTRY[self.check].short if self.check in REGISTRY else self.title

    @property
    def heading(self) -> str:
        """The check and what it is of; the site as a whole is not named."""
        return self.title if self.subject in ("", "site") else f"{self.title}: {self.subject}"

    @property
    def word(self) -> str:
        """Return the verdict as it is said: past its limit it is over or short; where that only costs, above or short."""
        if self.waived and self.verdict == "over":
            return "waived"
        if self.value is None or self.limit is None or self.verdict not in ("over", "tight") or self.quantity == YES_NO:
            return self.verdict
        gap = self.limit - self.value if self.sense == "most" else self.value - self.limit
        if gap >= -1e-9 * max(1.0, abs(self.limit)):
            return self.verdict
        return "short" if self.sense == "least" else "over" if self.verdict == "over" else "above"

    @property
    def page(self) -> str:
        """Key of the page that answers for it; empty where no such check is registered."""
        return REGISTRY[self.check].page if self.check in REGISTRY else ""

    @property
    def figure(self) -> str:
        """Value and limit with one unit: 'value of limit', or 'value for limit' where it is a least; empty without them."""
        if self.value is None or self.limit is None:
            return ""
        if self.quantity == YES_NO:
            return "yes" if self.value >= self.limit else "no"
        small = self.quantity == "money" and max(abs(self.value), abs(self.limit)) < 10
        thin = self.quantity == "fraction" and max(abs(self.value), abs(self.limit)) < 0.1
        decimals = 1 if self.quantity in ("power_w", "apparent_va") or thin else 3 if small else None
        joint = "of" if self.sense == "most" else "for"
        return f"{show(self.value, self.quantity, decimals, with_unit=False)} {joint} {show(self.limit, self.quantity, decimals)}"

    def as_dict(self) -> dict[str, Any]:
        """Return the finding as plain data for ``--json``."""

        return {
            "check": self.check,
            "title": self.title,
            "subject": self.subject,
            "verdict": self.verdict,
            "word": self.word,
            "quantity": self.quantity,
            "unit": CORE_UNITS[self.quantity],
            "shown_unit": SCALES[self.quantity].unit if self.quantity in SCALES else "",
            "value": self.value,
            "limit": self.limit,
            "sense": self.sense,
            "margin_frac": self.margin,
            "arithmetic": self.arithmetic,
            "remedies": [remedy.as_dict() for remedy in self.remedies],
            "source": self.source,
            "pack": self.pack,
            "cost": self.cost,
            "waived": self.waived,
        }


CORE_UNITS = {
    "voltage_v": "V", "power_w": "W", "current_a": "A", "apparent_va": "VA", "energy_wh": "Wh", "ratio": "1", "count": "1",
    "fraction": "1", "years": "years", "money": "money", "hours_h": "h",
    "temperature_c": "°C", "yes_no": "1", "length_m": "m", "mass_kg": "kg", "area_cm2": "cm²",
}  # fmt: skip


@dataclass(frozen=True)
class CheckContext:
    """What a check may read; `facts` is None for checks that need no year. `chosen_pack` stands in for the one the job names.

    `known` are the cards at hand beside the job's own copies. Without `advise` no remedy is looked for: only verdicts are wanted.
    `bills` are today's and the plan's; `survived` is the share of the brief's season from which the brief's outage is survived, its
    length [h] and the season.
    """

    job: Job
    plan: Plan
    cards: CardBook
    facts: YearFacts | None
    chosen_pack: Pack | None = None
    known: CardBook | None = None
    advise: bool = True
    bills: tuple[Bill, Bill] | None = None
    survived: tuple[float, float, str] | None = None

    @cached_property
    def offered(self) -> CardBook:
        """The cards that remedies may propose: known ones (the shipped where none are handed in) that suit the job."""
        return offered(self.job, self.known)

    @cached_property
    def plant(self) -> Plant:
        """The plan resolved."""
        return resolve(self.job, self.plan, self.cards)

    @cached_property
    def pack(self) -> Pack:
        """The pack in force: the one handed in, else the one the job names."""
        return self.chosen_pack or self.job.rules()

    def path(self, rest: str) -> str:
        """Return a path inside the plan."""
        return f"plans[{self.plan.id}].{rest}"

    def cost(self, limit: str) -> str:
        """Return what a limit cost in the year, in words; empty while the year is not known, or where it cost nothing."""
        use = self.facts.limits.get(limit) if self.facts is not None else None
        if use is None or use.hours_h <= 0:
            return ""
        bound = "at least " if limit.startswith("ac_limit") and self.job.site.sky_measured_within_s(300) else ""
        held = f" · {bound}{use.held_wh / 1000:.0f} kWh a year held back" if use.held_wh >= 500 else ""
        return f"{use.hours_h:.0f} h a year at it{held}"


CheckFunction = Callable[[CheckContext], Iterable[Finding]]


@dataclass(frozen=True)
class Check:
    """A registered check."""

    id: str
    title: str
    short: str
    page: str
    needs: frozenset[str]
    source: str
    run: CheckFunction


NEEDS = frozenset({"plan", "year", "outage", "grid", "bill"})
REGISTRY: dict[str, Check] = {}


def check(
    check_id: str, title: str, *, page: str, needs: set[str], source: str, short: str = ""
) -> Callable[[CheckFunction], CheckFunction]:
    """Register a check under an id that never changes.

    Parameters
    ----------
    page : str
        Key of the page that answers for it (`job.pages`): its mark in the work order shows what is over.
    needs : set of 'plan', 'year', 'outage', 'grid', 'bill'
        What it reads; what needs no more than the plan is computed at once. 'grid': it is asked only where a grid stands;
        'bill': only with the bills of today's system and the plan at hand.
    source : str
        Where its rule comes from.
    short : str
        Its name in tight rooms; the title otherwise.

    Raises
    ------
    ValueError
        Where the id is taken, or a page or a need is not known.
    """
    if check_id in REGISTRY:
        raise ValueError(f"check '{check_id}' is registered twice")
    if page not in PAGE_KEYS or not needs or needs - NEEDS:
        raise ValueError(f"check '{check_id}' names page '{page}' and needs {sorted(needs)}: one of them is not known")

    def register(function: CheckFunction) -> CheckFunction:
        REGISTRY[check_id] = Check(
            id=check_id, title=title, short=short or title, page=page, needs=frozenset(needs), source=source, run=function
        )
        return function

    return register


COUNTS = "ratio-within"  # a threshold's name for plain counts, where meeting the limit is no near miss


def judge(
    pack: Pack, quantity: str, value: float, limit: float, sense: Literal["most", "least"], tight: str | None = None
) -> tuple[Verdict, float | None]:
    """Return verdict and margin (definitions D13); equality is within (tight where the pack's threshold says so).

    NaN or an infinite value is 'not known'. With a limit of 0 the margin has no fraction.
    """
    if not math.isfinite(value) or math.isnan(limit):
        return "not known", None
    gap = limit - value if sense == "most" else value - limit
    rounding = 1e-9 * max(1.0, abs(limit))
    if gap < -rounding:
        return "over", gap / abs(limit) if limit else None
    margin = None if limit == 0 or math.isinf(limit) or quantity == YES_NO else max(0.0, gap) / abs(limit)
    threshold = pack.tight_frac(tight or quantity)
    if margin is not None and (margin < threshold or (gap <= rounding and tight != COUNTS)):
        return "tight", margin
    return "within", margin


def finding(
    context: CheckContext,
    check_id: str,
    subject: str,
    quantity: str,
    value: float,
    limit: float,
    sense: Literal["most", "least"],
    arithmetic: str,
    *,
    remedies: Iterable[Remedy] = (),
    tight: str | None = None,
    soft: bool = False,
    cost: str = "",
    source: str | None = None,
) -> Finding:
    """Return a judged finding; remedies are asked for where it is over. `soft`: past the limit it is 'tight', for it only costs."""
    entry = REGISTRY[check_id]
    verdict, margin = judge(context.pack, quantity, value, limit, sense, tight)
    kept = tuple(remedies) if verdict == "over" and context.advise else ()
    if soft and verdict == "over":
        verdict = "tight"
    return Finding(
        check=check_id,
        title=entry.title,
        subject=subject,
        verdict=verdict,
        quantity=quantity,
        value=value,
        limit=limit,
        sense=sense,
        arithmetic=arithmetic,
        source=source or entry.source,
        margin=margin,
        remedies=kept,
        pack=context.pack.id,
        cost=cost,
    )


def unknown(context: CheckContext, check_id: str, subject: str, missing: str, source: str | None = None) -> Finding:
    """Return a 'not known' finding that says what to look up or measure."""
    return _in_words(context, check_id, subject, "not known", f"not known: {missing}", source)


def declared(
    context: CheckContext,
    check_id: str,
    subject: str,
    value: str,
    ask: str,
    line: str | tuple[str, str],
    remedy: Remedy,
    *,
    good: str = "yes",
    soft: bool = False,
    source: str | None = None,
) -> Finding:
    """Return the finding of what somebody declares: as it should be (`good`), not so, or not known with what to look up.

    `line` is what is said of it; two where they differ by whether it is as it should be.
    """
    if value == "not_known":
        return unknown(context, check_id, subject, ask, source)
    said = line if isinstance(line, str) else line[value != good]
    return finding(
        context, check_id, subject, YES_NO, float(value == good), 1.0, "least", said, soft=soft, tight=COUNTS, remedies=[remedy],
        source=source,
    )  # fmt: skip


def note(context: CheckContext, check_id: str, subject: str, text: str) -> Finding:
    """Return a finding that only says something."""
    return _in_words(context, check_id, subject, "note", text)


def _in_words(
    context: CheckContext, check_id: str, subject: str, verdict: Verdict, text: str, source: str | None = None
) -> Finding:
    """Return a finding that has neither value nor limit."""
    entry = REGISTRY[check_id]
    return Finding(
        check=check_id,
        title=entry.title,
        subject=subject,
        verdict=verdict,
        quantity="ratio",
        value=None,
        limit=None,
        sense="most",
        arithmetic=text,
        source=source or entry.source,
        pack=context.pack.id,
    )
