"""The one runner of checks: it brings the groups in, runs them and orders what they found."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Collection, Iterable
from dataclasses import replace

from calm_relay.errors import BadInput
from calm_relay.job.edits import apply_edits
from calm_relay.rules import (
    checks_array,
    checks_bank,
    checks_battery,
    checks_blackout,
    checks_board,
    checks_brief,
    checks_duties,
    checks_energy,
    checks_island,
    checks_limits,
    checks_match,
    checks_modules,
    checks_money,
    checks_motor,
    checks_network,
    checks_operator,
    checks_pairing,
    checks_place,
    checks_protection,
    checks_rooms,
    checks_service,
    checks_settings,
    checks_strings,
    checks_window,
    checks_wiring,
)
from calm_relay.rules.memory import Memory
from calm_relay.rules.registry import NEEDS, REGISTRY, VERDICT_ORDER, Check, CheckContext, Finding, Remedy, unknown

# Findings of like verdict and margin stand in this order of groups.
GROUPS = (
    checks_limits,
    checks_island,
    checks_battery,
    checks_window,
    checks_pairing,
    checks_match,
    checks_bank,
    checks_place,
    checks_service,
    checks_wiring,
    checks_board,
    checks_network,
    checks_operator,
    checks_motor,
    checks_blackout,
    checks_protection,
    checks_energy,
    checks_settings,
    checks_rooms,
    checks_duties,
    checks_brief,
    checks_strings,
    checks_array,
    checks_modules,
    checks_money,
)
LAST = ("decide", "blackout")  # pages whose findings stand after the limits of like verdict
_ORDER = {group.__name__: index for index, group in enumerate(GROUPS)}


def all_checks() -> tuple[Check, ...]:
    """Return every check, in the order of the groups."""
    return tuple(sorted(REGISTRY.values(), key=lambda entry: _ORDER.get(entry.run.__module__, len(_ORDER))))


def run_checks(
    context: CheckContext, ready: frozenset[str] | set[str] = NEEDS, weighed: Collection[str] | None = None
) -> tuple[Finding, ...]:
    """Run the checks that need no more than is `ready` (all: 'plan', 'year', 'outage'), and a grid where there is one; tightest
    first.

    A check that fails inside is 'not known' with the reason, never 'within'. A remedy that would put another check of the plan
    over its limit stands as advice that says so, and cannot be applied. To try remedies takes longer than to check: with `weighed`
    only those of the checks named are tried, and the others stand as words.
    """
    found = _run(context, ready, _MEMORY.begin(context))
    if weighed is not None:
        found = [f if f.check in weighed else replace(f, remedies=tuple(Remedy(r.text) for r in f.remedies)) for f in found]
    if any(remedy.edits for f in found for remedy in f.remedies):
        by_plan = {entry.id for entry in all_checks() if entry.needs <= {"plan", "grid"}}
        over = {(f.check, f.subject) for f in found if f.verdict == "over" and f.check in by_plan}
        found = [replace(f, remedies=tuple(_weighed(context, remedy, over) for remedy in f.remedies)) for f in found]
    return tuple(sorted(found, key=_tightness))


def _weighed(context: CheckContext, remedy: Remedy, over: set[tuple[str, str]]) -> Remedy:
    """Return a remedy that makes no other check of the plan worse as it is, else the same words with what it would bring.

    What needs no year is asked at once and again with the year: what was tried on a job is kept while that job is looked at.
    """
    if not remedy.edits:
        return remedy
    tried = _TRIED.of(context)
    key = repr((remedy, sorted(over)))
    found = tried.get(key)
    if found is None:
        found = tried[key] = _tried(context, remedy, over)
    return found


class _Tried:
    """Remedies tried, by the job, plan and pack they were tried on; the last few jobs only."""

    def __init__(self, most: int = 4) -> None:
        self._most = most
        self._kept: OrderedDict[tuple[int, str, int], tuple[CheckContext, dict[str, Remedy]]] = OrderedDict()
        self._lock = threading.Lock()

    def of(self, context: CheckContext) -> dict[str, Remedy]:
        """Return what was tried on a context's job; the job is held, so that its place in memory names it."""
        key = (id(context.job), context.plan.id, id(context.chosen_pack))
        with self._lock:
            if key not in self._kept:
                bare = replace(context, facts=None)
                self._kept[key] = bare, {}
                while len(self._kept) > self._most * MOST_PLANS:
                    self._kept.popitem(last=False)
            self._kept.move_to_end(key)
            return self._kept[key][1]


MOST_PLANS = 8  # of a job that are looked at together
_TRIED = _Tried()
_MEMORY = Memory()


def _tried(context: CheckContext, remedy: Remedy, over: set[tuple[str, str]]) -> Remedy:
    try:
        job = apply_edits(context.job, remedy.edits)
    except BadInput:
        return Remedy(remedy.text)
    tried = replace(context, job=job, plan=job.plan(context.plan.id), cards=job.cards(), facts=None, advise=False)
    then = _run(tried, {"plan"}, lambda entry: entry.run(tried))
    brought = next((f for f in then if f.verdict == "over" and (f.check, f.subject) not in over), None)
    return remedy if brought is None else Remedy(f"{remedy.text}; then {brought.title} is {brought.word}")


def _run(context: CheckContext, ready: frozenset[str] | set[str], ask: Callable[[Check], Iterable[Finding]]) -> list[Finding]:
    """Return what the checks find that need no more than is ready; `ask` runs one of them."""
    waived = {w.check: w.reason for w in context.plan.waived}
    found: list[Finding] = []
    here = (set(ready) | {"grid"}) - ({"grid"} if context.plan.off_grid else set()) - ({"bill"} if context.bills is None else set())
    here -= {"outage"} if context.survived is None else set()
    for entry in all_checks():
        if not entry.needs <= here:
            continue
        try:
            rows = list(ask(entry))
        except Exception as error:  # noqa: BLE001 - whatever went wrong inside, the verdict must not be 'within'
            rows = [unknown(context, entry.id, "", f"it could not be checked ({type(error).__name__}: {error})", entry.source)]
        reason = waived.get(entry.id, "")
        found += [replace(row, waived=reason) for row in rows] if reason else rows
    return found


def _tightness(finding: Finding) -> tuple[int, bool, float]:
    """Return the place of a finding: by verdict, limits before money and outages, the tightest first."""
    margin = finding.margin if finding.margin is not None else (-1.0 if finding.verdict == "over" else 9.0)
    return VERDICT_ORDER.index(finding.verdict), finding.page in LAST, margin
