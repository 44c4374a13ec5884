"""Records of equal content as one object, and their content as plain data: what a result is kept by."""

from __future__ import annotations

import threading
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar
from weakref import WeakKeyDictionary, ref

from pydantic import BaseModel

R = TypeVar("R")
_KEPT: WeakKeyDictionary[Any, ref[Any]] = WeakKeyDictionary()
_LOCK = threading.Lock()


def same(record: R) -> R:
    """Return the record of this content that is alive already: an edit leaves what it does not touch the same object."""
    with _LOCK:
        kept = _KEPT.get(record)
        found: R | None = None if kept is None else kept()
        if found is None:
            _KEPT[record] = ref(record)
            return record
    return found


def plain(value: Any) -> Any:
    """Return records, tuples and sets as plain lists, in the order of their fields: data for a key."""
    if value is None or isinstance(value, str | int | float):
        return value
    if is_dataclass(value):
        return [plain(getattr(value, field.name)) for field in fields(value)]
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, frozenset):
        return sorted(value)
    return [plain(one) for one in value]
