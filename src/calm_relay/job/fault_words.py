"""What is wrong with a value and what would be right, in this program's words: no library's message reaches a person."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cache
from typing import Any, get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo as ModelField

from calm_relay.job.models import Job
from calm_relay.units import Quantity
from calm_relay.units import format_quantity as show

BOUNDS = {
    "greater_than_equal": ("ge", "at least"), "greater_than": ("gt", "more than"), "less_than_equal": ("le", "at most"),
    "less_than": ("lt", "less than"),
}  # fmt: skip
# pattern of a text field → what it takes, with an example
FORMS = {
    r"^\d{2}-\d{2}$": "write month and day, such as 12-25",
    r"^[A-HJ-NPR-V]$": "write one capital letter of a motor's plate, A to V without I, O and Q",
    r"^[0-9a-f]{64}$": "leave it as the program wrote it",
    r"^[a-z0-9][a-z0-9_-]{0,39}$": "write small letters, digits and hyphens, at most 40, such as well-pump",
}
NUMBER = "write a number, such as 4.5"
WHOLE = "write a whole number, such as 4"
KINDS: dict[str, str] = {
    "float_type": NUMBER, "float_parsing": NUMBER,
    "int_type": WHOLE, "int_parsing": WHOLE, "int_from_float": WHOLE, "int_parsing_size": WHOLE,
    "bool_type": "write true or false", "bool_parsing": "write true or false",
    "string_type": 'write text in quotes, such as "Shed"',
    "model_type": "write a group of fields in braces { }", "dict_type": "write a group of fields in braces { }",
    "model_attributes_type": "write a group of fields in braces { }", "list_type": "write a list in brackets [ ]",
    "tuple_type": "write a list in brackets [ ]", "none_required": "write null",
}  # fmt: skip


def words_of(item: Mapping[str, Any], *, shown_units: bool = False) -> tuple[str, str]:
    """Return (what is wrong, what would be right) of one fault that the models found.

    Parameters
    ----------
    item : mapping
        One of ``ValidationError.errors()``.
    shown_units : bool
        Whether numbers stand as people see them in the window; else as they stand in a file, in core units.
    """
    kind, given, context = str(item["type"]), item.get("input"), item.get("ctx") or {}
    said = _short(given)
    if kind == "missing":
        return "it is missing", "write it"
    if kind == "extra_forbidden":
        return "there is no field of this name", "remove it, or check its spelling"
    if kind in BOUNDS:
        name, sign = BOUNDS[kind]
        unit = kind_of_name(_name(item["loc"])) if shown_units else None
        return f"{_number(given, unit)} is outside its range", f"use {sign} {_number(context[name], unit)}"
    if kind in ("too_short", "too_long"):
        bound = context["min_length" if kind == "too_short" else "max_length"]
        return f"it has {_entries(context['actual_length'])}", f"use at {'least' if kind == 'too_short' else 'most'} {bound}"
    if kind in ("string_too_short", "string_too_long"):
        least = kind == "string_too_short"
        return (
            f"{said} has {len(str(given))} letters",
            f"use at {'least' if least else 'most'} {context['min_length' if least else 'max_length']}",
        )
    if kind == "string_pattern_mismatch":
        return f"{said} is written otherwise than this field wants", FORMS.get(
            str(context["pattern"]), "see the example in the docs"
        )
    if kind == "literal_error":
        return f"{said} is none of its choices", f"use one of {_choices(str(context['expected']))}"
    if kind == "finite_number":
        return f"{given} is not a number", "write a finite one, such as 4.5"
    if kind.startswith("union_tag"):
        return (
            "what kind it is does not fit",
            f'write "kind" as one of {_choices(str(context.get("expected_tags", "those of the docs")))}',
        )
    if kind in ("value_error", "assertion_error"):
        problem, _, remedy = str(context.get("error", said)).partition("; ")
        return problem, remedy or "mend it"
    return f"{said} does not fit", KINDS.get(kind, "see what this field takes in the job file's schema")


def _entries(count: int) -> str:
    return "1 entry" if count == 1 else f"{count} entries"


def _name(loc: tuple[int | str, ...]) -> str:
    """Return the last name of a location, without places in a row."""
    return next((step for step in reversed(loc) if isinstance(step, str)), "")


def _short(given: Any) -> str:
    return json.dumps(given, default=str, ensure_ascii=False)[:60]


def _number(value: Any, kind: str | None) -> str:
    if kind is None or isinstance(value, bool) or not isinstance(value, int | float):
        return f"{value:g}" if isinstance(value, int | float) and abs(value) < 1e6 else str(value)
    return show(float(value), kind)


def _choices(expected: str) -> str:
    """Return choices without quotes: ``'a', 'b' or 'c'`` → ``a, b, c``."""
    return ", ".join(part.strip(" '") for part in expected.replace(" or ", ", ").split(",") if part.strip())


def kind_of_name(name: str) -> str | None:
    """Return the kind of quantity of a field by its name; None where it has none, or two records differ."""
    found = _kinds().get(name, frozenset())
    return next(iter(found)) if len(found) == 1 else None


@cache
def _kinds() -> dict[str, frozenset[str]]:
    """Return every field name of the job's records with its kinds of quantity."""
    out: dict[str, set[str]] = {}
    seen: set[type[BaseModel]] = set()

    def walk(record: type[BaseModel]) -> None:
        if record in seen:
            return
        seen.add(record)
        for name, model in record.model_fields.items():
            out.setdefault(name, set()).update(_quantities(model))
            for inner in _records(model.annotation):
                walk(inner)

    walk(Job)
    return {name: frozenset(kinds) for name, kinds in out.items() if kinds}


def _records(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [found for part in get_args(annotation) for found in _records(part)]


def _quantities(part: Any) -> set[str]:
    """Return the kinds of quantity anywhere in a field's type."""
    if isinstance(part, Quantity):
        return {part.kind}
    if isinstance(part, ModelField):
        return (
            _quantities(part.annotation).union(*(_quantities(item) for item in part.metadata))
            if part.metadata
            else _quantities(part.annotation)
        )
    inner = [*get_args(part), *getattr(part, "__metadata__", ())]
    return set().union(*(_quantities(item) for item in inner)) if inner else set()
