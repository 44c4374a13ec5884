"""The commands on single values: setting one field of a job, adding a slot."""

from __future__ import annotations

import argparse
import json
from typing import Any

from calm_relay.cli.shared import chosen_plans, open_job
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.control_models import slot_words
from calm_relay.job.edits import Edit, apply_edits, read_path
from calm_relay.job.fields import FieldInfo, describe
from calm_relay.job.plausible import doubt
from calm_relay.job.sources import typed_edits
from calm_relay.units import format_quantity as show
from calm_relay.units import parse_quantity

YES, NO = ("true", "yes"), ("false", "no")


def set_command(options: argparse.Namespace) -> int:
    """Run `set`."""
    opened = open_job(options.job)
    job = opened.job
    info, before = describe(job, options.path), read_path(job, options.path)
    value = _value(options.path, options.value, info, before)
    if isinstance(value, int | float) and not isinstance(value, bool) and not options.sure:
        odd = doubt(options.path, info.kind, float(value))
        if odd is not None:
            raise BadInput([Fault("", options.path, odd[0], f"{odd[1]}; with --sure it is taken as it is")])
    changed = apply_edits(job, typed_edits(job, options.path, value))
    save_job(options.out, changed, opened.store)
    print(f"{info.label}: {_said(before, info)} to {_said(value, info)}; saved as {options.out}")
    return 0


def _value(path: str, text: str, info: FieldInfo, before: Any) -> Any:
    """Return what a field is to hold, from text as one would type it in the window, or from JSON."""
    if info.optional and text in ("", "none", "null"):
        return None
    if isinstance(before, bool):
        if text.lower() not in YES + NO:
            raise BadInput([Fault("", path, f"'{text}' is neither yes nor no", "write true or false")])
        return text.lower() in YES
    if info.kind is not None and not isinstance(before, list | dict):
        try:
            number = parse_quantity(text, info.kind)
        except BadInput as error:
            raise BadInput([Fault("", path, fault.problem, fault.remedy) for fault in error.faults]) from None
        return int(number) if info.integer and number == int(number) else number
    if info.integer or isinstance(before, list | dict):
        try:
            return json.loads(text)
        except ValueError:
            raise BadInput([Fault("", path, f"'{text[:60]}' is not readable here", "write it as JSON, such as [1, 2]")]) from None
    return text


def _said(value: Any, info: FieldInfo) -> str:
    if value is None:
        return "none"
    if info.kind is not None and isinstance(value, int | float) and not isinstance(value, bool):
        return show(float(value), info.kind)
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict | bool) else str(value)


def add_slot_command(options: argparse.Namespace) -> int:
    """Run `add-slot`."""
    opened = open_job(options.job)
    plans = chosen_plans(opened.job, options)
    if not options.plan or len(plans) != 1:
        raise BadInput([Fault(options.job, "--plan", "a slot belongs to one plan", "name it with --plan")])
    slot: dict[str, Any] = {"kind": options.kind, "days": options.days}
    for name, text, kind in (
        ("start_h", options.start, "clock_h"),
        ("end_h", options.end, "clock_h"),
        ("power_w", options.power, "power_w"),
        ("target_soc_frac", options.target, "fraction"),
        ("floor_soc_frac", options.floor, "fraction"),
    ):
        if text is not None:
            slot[name] = parse_quantity(text, kind)
    slot |= {"months": options.month or [], "nodes": options.node or []}
    changed = apply_edits(opened.job, [Edit(f"plans[{plans[0].id}].controls.slots[+]", slot)])
    save_job(options.out, changed, opened.store)
    print(f"{plans[0].letter}: {slot_words(changed.plan(plans[0].id).controls.slots[-1])} Saved as {options.out}")
    return 0
