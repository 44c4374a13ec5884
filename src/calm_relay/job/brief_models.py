"""The brief in the job document: what the battery is for. Nothing here computes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import Note
from calm_relay.library.cards import Name, Record
from calm_relay.units import Fraction, HoursH, Quantity

Purpose = Literal["lower_bills", "own_use", "ride_through", "zero_export", "off_grid", "new_loads", "simple"]


class PurposeWeight(Record):
    """How much a purpose matters: 0 no matter, 4 above all."""

    purpose: Purpose
    weight: Annotated[int, Quantity("count"), Field(ge=0, le=4)]


ContractEnd = Literal["inverter_taken_out", "battery_added", "modules_added", "modules_taken_out"]


class Contract(Record):
    """An old feed-in or generation contract, when it ends by itself, and what would end it before."""

    name: Name
    ends: Annotated[str, Field(max_length=20)] = ""
    ended_by: Annotated[str, Field(max_length=200)] = ""
    ends_with: Annotated[tuple[ContractEnd, ...], Field(max_length=4)] = Field(
        default=(), description="what in a plan would end it, checked against every plan"
    )
    pays_per_year: Annotated[float, Quantity("money"), Field(ge=0)] = Field(
        default=0.0, description="what it pays a year above what the tariff would pay; 0: nothing is said"
    )


class NamedOutage(Record):
    """An outage to be tried on every plan: a name, when it begins (clock of local standard time), how long, under how much sun."""

    name: Name
    month: Annotated[int, Quantity("count"), Field(ge=1, le=12)]
    day: Annotated[int, Quantity("count"), Field(ge=1, le=31)]
    hour: Annotated[int, Quantity("count"), Field(ge=0, le=23)] = 17
    hours_h: Annotated[float, Quantity("hours_h"), Field(gt=0, le=336)]
    sun_frac: Fraction = Field(default=1.0, description="what of that day's sun comes through: a storm lets less")


class Brief(Record):
    """What the battery is for. `purposes` are those with any weight; without `weights` they all count alike."""

    purposes: tuple[Purpose, ...] = ()
    weights: Annotated[tuple[PurposeWeight, ...], Field(max_length=7)] = ()
    outage_hours_h: HoursH = 0.0
    outage_longest_h: HoursH | None = None
    outages_per_year: Annotated[float, Quantity("count"), Field(ge=0, le=365)] | None = None
    outage_season: Literal["any", "winter", "spring", "summer", "autumn"] = "any"
    outages: Annotated[tuple[NamedOutage, ...], Field(max_length=8)] = Field(
        default=(), description="outages with a name, tried on every plan"
    )
    budget: Annotated[float, Quantity("money"), Field(ge=0)] | None = None
    keep: Annotated[str, Field(max_length=400)] = ""
    contracts: Annotated[tuple[Contract, ...], Field(max_length=6)] = ()
    note: Note = ""

    @property
    def longest_h(self) -> float:
        """The longest outage spoken of; 0: none is. [h]"""
        return max(self.outage_hours_h, self.outage_longest_h or 0.0)
