"""Records of equal content as one object, and their content as plain data: what a result is kept by."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

from pydantic import BaseModel

R = TypeVar("R")
MOST = 4000
_KEPT: OrderedDict[Any, Any] = OrderedDict()
_LOCK = threading.Lock()


def same(record: R) -> R:
    """Return the record of this content that was made first: an edit leaves what it does not touch the same object."""
    with _LOCK:
        found: R = _KEPT.setdefault((type(record), record), record)
        if len(_KEPT) > MOST:
            _KEPT.popitem(last=False)
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
