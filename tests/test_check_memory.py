"""A check is run again where something it read has changed, and only there; what is remembered is what it would find."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job
from calm_relay.rules import runner
from calm_relay.rules.memory import Memory
from calm_relay.rules.registry import NEEDS, CheckContext, Finding
from calm_relay.units import use_units
from tests.test_study import leaves, poisoned


def remembered(memory: Memory, context: CheckContext) -> list[Finding]:
    return runner._run(context, NEEDS, memory.begin(context))


def afresh(context: CheckContext) -> list[Finding]:
    return runner._run(context, NEEDS, lambda entry: entry.run(context))


def whole(job: Job, result: Any, bills: Any) -> CheckContext:
    return CheckContext(job, job.plan("C"), job.cards(), result.facts, bills=bills, survived=(0.5, 12.0, "winter"))


def test_poisoned_fields_change_what_is_remembered_wherever_they_change_what_is_found(demo, quarter):
    result = quarter.plan_result(demo, demo.plan("C"))
    bills = quarter.bill(demo, demo.plans[0]), result.bill
    memory, base = Memory(), whole(demo, result, bills)
    first = afresh(base)
    assert remembered(memory, base) == first
    kinds: dict[str, tuple[str, Any]] = {}  # of cards a few: which one is read is told no finer than the whole library
    for path, value in leaves(demo.model_dump(mode="json"), ""):
        if not path.startswith("library") or "hybrid-" in path:
            kinds[re.sub(r"\[[^\]]*\]", "[]", path)] = path, value
    tried = moved = 0
    for path, value in kinds.values():
        try:
            job = apply_edits(demo, [Edit(path, poisoned(value))])
            context = whole(job, result, bills)
            context.pack  # noqa: B018 - a pack that is not there ends every check
        except (BadInput, KeyError):
            continue
        expected = afresh(context)
        assert remembered(memory, context) == expected, path
        tried += 1
        moved += expected != first
    assert tried > 150
    assert moved > 30
    assert remembered(memory, base) == first
    other = replace(base, facts=replace(result.facts, backup_peak_va=99e3), bills=None)
    assert remembered(memory, other) == afresh(other)
    try:
        use_units("north_american")
        assert remembered(memory, base) == afresh(base), "texts made in other units"
    finally:
        use_units("metric")


def test_only_what_reads_a_changed_field_is_run_again(demo, quarter, monkeypatch):
    result = quarter.plan_result(demo, demo.plan("C"))
    memory, ran = Memory(), []
    watched = tuple(replace(entry, run=lambda c, e=entry: (ran.append(e.id), e.run(c))[1]) for entry in runner.all_checks())
    monkeypatch.setattr(runner, "all_checks", lambda: watched)
    bills = quarter.bill(demo, demo.plans[0]), result.bill
    remembered(memory, whole(demo, result, bills))
    every = len(ran)
    ran.clear()
    remembered(memory, whole(demo, result, bills))
    assert not ran
    remembered(memory, whole(apply_edits(demo, [Edit("tariff.import_price_per_kwh", 0.41)]), result, bills))
    assert 0 < len(ran) < every // 4
