"""Costs, rebates, what later years are taken to bring, and the plan that was chosen, in the job document. Nothing computes here."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import Note, Share
from calm_relay.library.cards import Name, Record
from calm_relay.units import EnergyWh, HoursH, Money, Quantity

CostKind = Literal[
    "battery", "inverter", "modules", "transfer", "generator", "wiring", "approvals", "drawings", "cabling", "scaffold", "labour",
    "visit", "taken_out", "other",
]  # fmt: skip
CostBasis = Literal["fixed", "per_piece", "per_kwh", "per_usable_kwh", "per_kw", "per_kwp", "per_hour"]
MOST_LATER_YEARS = 20
Figure = Annotated[float, Quantity("money"), Field(ge=0)]


class CostLine(Record):
    """One line of what a plan costs to build: `amount` is all of it where it is fixed, else the price of one of what it counts.

    Counted is what the plan adds to today's system, so that a line follows its plan; with the kind 'taken_out', what it takes out.
    """

    text: Name
    amount: Money | None = Field(default=None, description="None: nobody priced it yet")
    kind: CostKind = "other"
    basis: CostBasis = "fixed"
    counts: Annotated[str, Field(max_length=60)] = Field(default="", description="per piece: the card whose pieces are counted")
    hours_h: HoursH = Field(default=0.0, description="per hour: hours of labour")
    after_years: Annotated[int, Quantity("count"), Field(ge=0, le=MOST_LATER_YEARS)] = Field(
        default=0, description="the end of the year in which it falls; 0: when it is built"
    )
    source: Annotated[str, Field(max_length=200)] = Field(default="", description="the price list it came from, and its date")


RebateRule = Literal["battery_added", "modules_added", "backed_up", "least_usable_wh", "most_usable_wh", "ratio_most", "stated"]


class RebateCondition(Record):
    """What a rebate asks for: a rule the program checks, or one that is stated, and ticked by whoever read it."""

    rule: RebateRule
    energy_wh: EnergyWh | None = None
    ratio: Annotated[float, Quantity("ratio"), Field(gt=0, le=10)] | None = None
    text: Annotated[str, Field(max_length=200)] = ""
    met: Literal["not_known", "yes", "no"] = "not_known"


class Rebate(Record):
    """Money paid towards a plan: a share of some kinds of cost lines, so much per kWh of battery added, or both; with caps."""

    name: Name
    share_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=1)] = 0.0
    share_of: Annotated[tuple[CostKind, ...], Field(max_length=14)] = Field(default=(), description="empty: of all lines")
    per_kwh: Figure = 0.0
    counts: Literal["usable", "nominal"] = "usable"
    paid_up_to_wh: EnergyWh | None = Field(default=None, description="of battery added; what is beyond earns nothing")
    most: Figure | None = None
    conditions: Annotated[tuple[RebateCondition, ...], Field(max_length=12)] = ()
    source: Annotated[str, Field(max_length=200)] = ""


class Finance(Record):
    """What the later years are taken to bring. Prices of energy grow by the tariff's own figures."""

    discount_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=0.3)] = 0.04
    first_year: Annotated[int, Quantity("year"), Field(ge=1970, le=2100)] | None = Field(
        default=None, description="the calendar year of the first year; None: the job's own"
    )
    upkeep_per_year: Figure = Field(default=0.0, description="of every plan but today's system")
    replace_batteries: bool = Field(
        default=True, description="a battery is replaced at the end of the year in which its capacity falls below the end"
    )
    battery_end_frac: Annotated[float, Quantity("fraction"), Field(ge=0.3, le=0.95)] = Field(
        default=0.6, description="capacity below which a battery is replaced; 60 to 80 % left is common practice"
    )
    battery_price_change_frac: Annotated[float, Quantity("fraction"), Field(ge=-0.2, le=0.2)] = -0.03
    inverter_life_years: Annotated[int, Quantity("count"), Field(ge=1, le=40)] | None = Field(
        default=None, description="inverters that a plan adds are replaced after so many years; None: they are not"
    )
    resilience_per_year: Figure = Field(default=0.0, description="what it is worth to the customer to stay on in an outage")
    co2_kg_per_kwh: Annotated[float, Quantity("ratio"), Field(ge=0, le=3)] | None = None
    sun_spread_frac: Share = Field(default=0.045, description="standard deviation of a year's sun; 4 to 5 % is common practice")
    load_spread_frac: Share = Field(default=0.1, description="what the house may draw more or less, as an even spread")
    growth_spread_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=0.1)] = Field(
        default=0.02, description="what import prices may grow more or less a year, as an even spread"
    )
    cases: Annotated[int, Quantity("count"), Field(ge=5, le=60)] = 15
    seed: Annotated[int, Quantity("count"), Field(ge=0, le=2**31)] = 1


class Choice(Record):
    """The plan that was chosen, why, when, and what the figures were that day."""

    plan: Annotated[str, Field(min_length=1, max_length=60)]
    reason: Annotated[str, Field(min_length=3, max_length=400)]
    time: Annotated[str, Field(max_length=40)]
    figures: Note = ""
