"""What several parts of the job document share: short types, and the reference to a long series."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from calm_relay.library.cards import Record
from calm_relay.units import ClockH, Quantity

Note = Annotated[str, Field(max_length=2000)]
HourOfDay = ClockH
Months = Annotated[tuple[Annotated[int, Field(ge=1, le=12)], ...], Field(max_length=12)]
Declared = Literal["not_known", "yes", "no"]
Share = Annotated[float, Quantity("fraction"), Field(ge=0, lt=1)]


class SeriesRef(Record):
    """A long series kept outside the models, found by content (``sha256``) or, in a plain ``.json`` job, by relative path."""

    sha256: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")] | None = None
    path: Annotated[str, Field(min_length=1, max_length=200)] | None = None
    rows: Annotated[int, Field(ge=1, le=10_000_000)]
    step_s: Annotated[int, Field(ge=1, le=86_400)]
    unit: Literal["W", "W/m2", "°C", "m/s", "per_kwh"] = "W"
    column: Annotated[str, Field(min_length=1, max_length=80)] = "power_w"

    @model_validator(mode="after")
    def _one_place(self) -> SeriesRef:
        if (self.sha256 is None) == (self.path is None):
            raise ValueError("a series is named either by sha256 or by path")
        return self
