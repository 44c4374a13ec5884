"""The tariff in the job document: periods, seasons, tiers, demand. Nothing here computes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import HourOfDay, SeriesRef
from calm_relay.library.cards import Id, Name, Record
from calm_relay.units import EnergyWh, PricePerKwh, Quantity


class Period(Record):
    """A price period of a tariff; without an export price of its own the tariff's holds."""

    id: Id
    name: Name
    import_price_per_kwh: PricePerKwh
    export_price_per_kwh: PricePerKwh | None = None


WeekGrid = Annotated[tuple[Annotated[tuple[Id, ...], Field(min_length=24, max_length=24)], ...], Field(min_length=7, max_length=7)]


class Season(Record):
    """The months of a season and its week: seven days from Monday, 24 clock hours each, period ids."""

    id: Id
    name: Name
    months: Annotated[tuple[Annotated[int, Field(ge=1, le=12)], ...], Field(min_length=1, max_length=12)]
    week: WeekGrid


class Tier(Record):
    """Import of a calendar month up to `up_to_wh` costs `add_per_kwh` on top of its period's price; None: all that is left."""

    up_to_wh: EnergyWh | None = None
    add_per_kwh: PricePerKwh


class DemandCharge(Record):
    """A price on the highest mean power of each month, taken over the settlement interval (15 min where it is instant)."""

    price_per_kw_month: Annotated[float, Quantity("money"), Field(ge=0)]
    start_h: HourOfDay = 0.0
    end_h: HourOfDay = 0.0
    weekdays_only: bool = False


class Tariff(Record):
    """Prices by clock time, export price, standing and other charges. Money is in the job's currency.

    Without `seasons` two prices hold: the cheap one in its window, else the other. With them every hour of the week has its period.
    """

    name: Name
    currency: Annotated[str, Field(min_length=1, max_length=4)] = "$"
    import_price_per_kwh: PricePerKwh
    cheap_price_per_kwh: PricePerKwh
    cheap_start_h: HourOfDay
    cheap_end_h: HourOfDay
    export_price_per_kwh: PricePerKwh
    standing_per_day: Annotated[float, Quantity("price_per_day"), Field(ge=0)] = 0.0
    periods: Annotated[tuple[Period, ...], Field(max_length=12)] = ()
    seasons: Annotated[tuple[Season, ...], Field(max_length=6)] = ()
    holidays: Annotated[tuple[Annotated[str, Field(pattern=r"^\d{2}-\d{2}$")], ...], Field(max_length=40)] = Field(
        default=(), description="MM-DD, priced like a Sunday"
    )
    tiers: Annotated[tuple[Tier, ...], Field(max_length=6)] = ()
    demand: DemandCharge | None = None
    minimum_per_month: Annotated[float, Quantity("money"), Field(ge=0)] = 0.0
    tax_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=1)] = 0.0
    tax_on_export: bool = Field(default=False, description="whether the tax is on the export credit too, so that it raises it")
    credit_over: Literal["nothing", "month", "year"] = Field(
        default="nothing", description="span within which a kWh exported cancels one bought in the same price period"
    )
    settlement_min: Literal[0, 15, 30, 60] = 0
    netting: Literal["summed", "each"] = Field(
        default="summed", description="a three-phase meter adds its phases before it counts, or counts each by itself"
    )
    import_growth_frac: Annotated[float, Quantity("fraction"), Field(ge=-0.2, le=0.3)] = Field(
        default=0.0, description="how all but the export price grows a year, from year 2"
    )
    export_growth_frac: Annotated[float, Quantity("fraction"), Field(ge=-0.2, le=0.3)] = 0.0
    hourly_import: SeriesRef | None = Field(
        default=None, description="import price of every hour, money per kWh, in place of periods"
    )
    hourly_export: SeriesRef | None = Field(
        default=None, description="export price of every hour, money per kWh, in place of all other export prices"
    )
