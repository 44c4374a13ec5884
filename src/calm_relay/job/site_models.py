"""The site's electrics in the job document: supply, network, board, runs of cable, old circuits, places on the wall."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import Declared, Note
from calm_relay.library.cards import Id, MountingPlace, Name, Record
from calm_relay.units import CurrentA, LengthM, PowerW, Quantity, TemperatureC, VoltageV


class Supply(Record):
    """The supply at the meter. `phases` of a split-phase supply is 1 (its 240 V)."""

    kind: Literal["single_phase", "split_phase", "three_phase"] = "single_phase"
    voltage_v: VoltageV = 230.0
    service_a: CurrentA

    @property
    def phases(self) -> int:
        """Return 3 for a three-phase supply, else 1."""
        return 3 if self.kind == "three_phase" else 1


class NetworkRule(Record):
    """How the network operator counts inverters, and the sum it allows without a further permission."""

    counting: Literal["sum_of_ac_ratings", "by_kind", "registered_export"] = "sum_of_ac_ratings"
    sum_limit_w: PowerW | None = None
    pv_limit_w: PowerW | None = Field(default=None, description="counted by kind: of all units with a PV input")
    battery_limit_w: PowerW | None = Field(default=None, description="counted by kind: of units without a PV input")
    registered_w: PowerW | None = Field(default=None, description="counted by export: what is registered")
    phase_limit_w: PowerW | None = Field(default=None, description="of AC ratings on one phase; a three-phase unit counts a third")
    dc_ac_ratio_max: Annotated[float, Quantity("ratio"), Field(gt=0, le=10)] | None = None
    rebate_dc_ac_ratio_max: Annotated[float, Quantity("ratio"), Field(gt=0, le=10)] | None = Field(
        default=None,
        description="array over inverters up to which a rebate is paid; passing it costs the rebate and is not forbidden",
    )
    export_share_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=2)] | None = Field(
        default=None, description="most export as a share of the array's STC watts; None: no such rule"
    )
    dynamic_least_w: PowerW | None = Field(
        default=None, description="to what the network may lower the export at any time; None: it does not"
    )
    power_factor: Annotated[float, Quantity("ratio"), Field(ge=0.8, le=1)] = Field(
        default=1.0, description="fixed power factor that the network asks of inverters"
    )
    transfer_approved: Declared = Field(default="not_known", description="the operator agreed to the transfer device")
    source: Note = "typed by the user; the network operator decides"

    def ratio_limits(self) -> tuple[tuple[str, float], ...]:
        """Return the DC-to-AC ratios that are typed, each by who sets it: network, rebate. [1]"""
        rows = (("network", self.dc_ac_ratio_max), ("rebate", self.rebate_dc_ac_ratio_max))
        return tuple((name, limit) for name, limit in rows if limit is not None)


class CableRun(Record):
    """A cable from one place to another: how long, which size of the pack's table, how it lies, what protects it."""

    length_m: LengthM | None = Field(default=None, description="one way; None: not measured")
    size: Annotated[str, Field(max_length=20)] = Field(default="", description="as the pack's table names it; empty: not known")
    method: Annotated[str, Field(max_length=40)] = Field(default="", description="how it lies, by the table; empty: its usual one")
    ambient_c: Annotated[float, Quantity("temperature_c"), Field(ge=-20, le=80)] = 30.0
    grouped: Annotated[int, Quantity("count"), Field(ge=1, le=20)] = Field(default=1, description="loaded cables side by side")
    protected_a: CurrentA | None = Field(default=None, description="the breaker that protects it; None: not known")


class Board(Record):
    """The main board: its breaker, busbar, the breakers on it, and the highest volts measured at the supply."""

    main_breaker_a: CurrentA | None = None
    busbar_a: CurrentA | None = None
    breakers_a: CurrentA | None = Field(default=None, description="all load and source breakers added up, the main one left out")
    highest_supply_v: VoltageV | None = Field(default=None, description="highest volts measured with little load; None: not known")
    free_ways: Annotated[int, Quantity("count"), Field(ge=0, le=60)] | None = Field(
        default=None, description="breakers that can still be added; None: not counted"
    )
    earthing: Literal["not_known", "tn_s", "tn_c_s", "tt"] = Field(
        default="not_known", description="who gives the earth: the supply by its own core, by the neutral, or an electrode here"
    )
    fault_level_a: Annotated[float, Quantity("current_a"), Field(gt=0, le=200_000)] | None = Field(
        default=None, description="prospective short-circuit current at the board; None: not known"
    )
    breaks_a: Annotated[float, Quantity("current_a"), Field(gt=0, le=200_000)] | None = Field(
        default=None, description="what the board's breakers can interrupt; None: not read yet"
    )


class OldCircuit(Record):
    """A circuit that stands and could carry a new inverter: its cable, how it lies, what protects it."""

    id: Id
    name: Name
    run: CableRun = CableRun()


Room = Literal["not_said", "utility", "living", "bedroom", "loft", "escape_route"]
Metres = Annotated[float, Quantity("length_m"), Field(ge=0, le=100)]


class MountingSpot(Record):
    """What is known of one mounting place: room, water, distances, wall, air. One of each kind."""

    place: MountingPlace
    room: Room = Field(default="not_said", description="what the room is used for")
    flood_m: Metres | None = Field(default=None, description="highest water known there, above the floor; None: not asked")
    lowest_m: Metres | None = Field(default=None, description="lowest edge of what hangs there, above the floor")
    opening_m: Metres | None = Field(default=None, description="to the nearest door, window or vent")
    apart_m: Metres | None = Field(default=None, description="between one battery unit and the next")
    clear_m: Metres | None = Field(default=None, description="free depth from the wall outwards")
    width_m: Metres | None = Field(default=None, description="free width of wall or floor")
    carries_kg: Annotated[float, Quantity("mass_kg"), Field(gt=0, le=50_000)] | None = Field(
        default=None, description="what wall or floor carries"
    )
    backing: Declared = Field(default="not_known", description="what is behind it does not burn")
    vent_cm2: Annotated[float, Quantity("area_cm2"), Field(ge=0, le=100_000)] | None = Field(
        default=None, description="free opening to the outside, for lead-acid"
    )
    in_sun: Declared = Field(default="not_known", description="the sun falls on it")
    low_c: TemperatureC | None = Field(default=None, description="lowest air there; None: by the site and the pack")
    high_c: TemperatureC | None = Field(default=None, description="highest air there")


ResidualType = Literal["not_known", "none", "ac", "a", "f", "b"]


class Protection(Record):
    """What a plan has of protection by place, as declared; local code and the electrician decide."""

    rapid_shutdown: Declared = "not_known"
    arc_fault: Declared = "not_known"
    dc_isolator: Declared = "not_known"
    ac_isolator: Declared = "not_known"
    surge: Declared = "not_known"
    residual_type: ResidualType = Field(default="not_known", description="residual-current device before the inverters")


class OwnFile(Record):
    """A file of rules or tables that the job carries: what it was called, and its text."""

    name: Annotated[str, Field(min_length=1, max_length=120)]
    text: Annotated[str, Field(min_length=1, max_length=200_000)]


class PackOverride(Record):
    """A parameter of the pack changed for one job, with the reason someone wrote."""

    parameter: Annotated[str, Field(min_length=1, max_length=60)]
    value: float
    reason: Annotated[str, Field(min_length=1, max_length=400)]
