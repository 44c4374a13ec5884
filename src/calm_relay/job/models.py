"""The job document: frozen models, flat lists, stable ids, units in names. Nothing here computes."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.brief_models import Brief
from calm_relay.job.common_models import Declared, HourOfDay, Note, SeriesRef, Share
from calm_relay.job.control_models import Controls
from calm_relay.job.cost_models import Choice, CostLine, Finance, Rebate
from calm_relay.job.house_models import House, SeriesLoad
from calm_relay.job.site_models import (
    Board,
    CableRun,
    MountingSpot,
    NetworkRule,
    OldCircuit,
    OwnFile,
    PackOverride,
    Protection,
    Supply,
)
from calm_relay.job.sky_models import ClearSkyWeather, Face, Place, Weather, WeatherFile
from calm_relay.job.tariff_models import Tariff
from calm_relay.library.book import CardBook, book_of
from calm_relay.library.cards import Card, Id, MountingPlace, Name, Record
from calm_relay.packs.pack import OWN, Pack, own_pack, pack_named
from calm_relay.units import (
    CurrentA,
    Fraction,
    PowerW,
    Quantity,
    TemperatureC,
    VoltageV,
)

SCHEMA_VERSION: Literal[11] = 11

Ohms = Annotated[float, Quantity("resistance_ohm"), Field(ge=0, le=1)]


class Site(Record):
    """Place, supply, weather and the network's limits."""

    place: Place
    supply: Supply
    weather: Weather = ClearSkyWeather()
    network: NetworkRule = NetworkRule()
    board: Board = Board()
    supply_run: CableRun | None = Field(default=None, description="from the board to the supply terminals; None: not known")
    circuits: Annotated[tuple[OldCircuit, ...], Field(max_length=12)] = Field(
        default=(), description="circuits that stand and could be used again"
    )
    spots: Annotated[tuple[MountingSpot, ...], Field(max_length=4)] = Field(
        default=(), description="what is known of the mounting places, one of each kind"
    )
    export_limit_w: PowerW | None = None
    import_limit_w: PowerW | None = None
    dc_ceiling_v: VoltageV | None = Field(default=None, description="highest DC voltage the local rule allows here; None: none")
    record_low_c: TemperatureC | None = None
    low_method: Literal["record_low", "lowest_expected", "mean_yearly_minimum"] = "record_low"
    design_high_c: TemperatureC | None = None
    hot_cell_c: TemperatureC | None = Field(
        default=None, description="hottest cell; None: the design high and the rise by mounting"
    )
    cold_voltage_by: Literal["coefficient", "table", "higher"] = Field(
        default="coefficient",
        description="of the module's card, its place taken by the pack's table where it has none; or the higher",
    )

    def spot(self, place: str | None) -> MountingSpot | None:
        """Return what is known of a mounting place; None: nothing is."""
        return next((spot for spot in self.spots if spot.place == place), None)

    def sky_measured_within_s(self, step_s: int) -> bool:
        """Return whether the sun was measured at a simulation's step [s] or finer: only then is what is clipped a lower bound."""
        return isinstance(self.weather, WeatherFile) and self.weather.ghi.step_s <= step_s


class NamedLosses(Record):
    """What a string loses, by name; they multiply. With module-level electronics the mismatch is left out."""

    soiling_frac: Annotated[tuple[Share, ...], Field(min_length=12, max_length=12)] = (0.02,) * 12
    mismatch_frac: Share = 0.02
    wiring_frac: Share = 0.02
    connections_frac: Share = 0.005
    light_induced_frac: Share = 0.015
    nameplate_frac: Share = 0.01
    availability_frac: Share = 0.03


class MeasuredString(Record):
    """What was measured on a string of the group, one string alone, and under which sun."""

    voc_v: VoltageV
    isc_a: CurrentA
    irradiance_w_per_m2: Annotated[float, Quantity("irradiance_w_per_m2"), Field(ge=200, le=1400)]
    module_c: TemperatureC


class StringGroup(Record):
    """`parallel_strings` strings of `modules_per_string` modules on one tracker (numbered from 1)."""

    id: Id
    face: Id
    module: Id
    tracker: Annotated[int, Quantity("count"), Field(ge=1, le=8)]
    modules_per_string: Annotated[int, Quantity("count"), Field(ge=1, le=60)]
    parallel_strings: Annotated[int, Quantity("count"), Field(ge=1, le=20)] = 1
    age_years: Annotated[float, Quantity("years"), Field(ge=0, le=50)] = 0.0
    other_loss_frac: Share | None = Field(default=None, description="one figure in place of the losses by name; None: by name")
    fuse_a: CurrentA | None = Field(default=None, description="string fuse fitted in each string; None: none")
    optimizer: Id | None = Field(default=None, description="an optimizer card on every module; None: none")
    losses: NamedLosses | None = Field(default=None, description="losses by name; None: the usual set")
    measured: MeasuredString | None = None


class BatteryChoice(Record):
    """Modules of one battery card on a node, with the window in use."""

    card: Id
    modules: Annotated[int, Quantity("count"), Field(ge=1, le=64)]
    state_of_health_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = 1.0
    soc_min_frac: Fraction | None = None
    soc_max_frac: Fraction | None = None
    place: MountingPlace | None = Field(default=None, description="where the bank stands; None: not known yet")
    leads_ohm: Annotated[tuple[Ohms, ...], Field(max_length=64)] = Field(
        default=(), description="leads and joints of each parallel branch, there and back; empty: all alike, assumed"
    )


class Node(Record):
    """One inverter with what hangs on its DC side.

    Module-level inverters come as `count` like units of one module each, battery inverters as `count` like units on one bank. A
    low-voltage bank may carry charge controllers, whose trackers are counted through, and a charger on a time switch. A car may be
    charged on the DC side of an inverter with battery terminals: what the load draws is then DC.
    """

    id: Id
    name: Name
    card: Id
    side: Literal["backup", "grid"] = "grid"
    count: Annotated[int, Quantity("count"), Field(ge=1, le=200)] = 1
    line: Literal["auto", "all", "1", "2", "3"] = Field(
        default="auto", description="the phase of a three-phase supply it is on; auto: all for what has three, else the first"
    )
    strings: Annotated[tuple[StringGroup, ...], Field(max_length=24)] = ()
    battery: BatteryChoice | None = None
    branches: Annotated[int, Quantity("count"), Field(ge=1, le=40)] = 1
    branch_breaker_a: CurrentA | None = Field(default=None, description="breaker of each branch circuit of module-level inverters")
    controller: Id | None = Field(default=None, description="charge controllers on the bank, all of this card; None: none")
    controllers: Annotated[int, Quantity("count"), Field(ge=1, le=8)] = 1
    dc_car: Id | None = Field(
        default=None, description="a load of the house that is charged on this inverter's DC side; None: none"
    )
    timer_charger: Id | None = Field(
        default=None, description="a charger on a time switch in place of the inverter's own; None: none"
    )
    run: CableRun | None = Field(default=None, description="from the inverter to the board; None: not known")
    reuses: Id | None = Field(default=None, description="an old circuit of the site that takes it to the board; None: a new cable")
    plugged_in: bool = Field(default=False, description="connected by a plug, not wired to the board")
    place: MountingPlace | None = Field(default=None, description="where the inverter hangs; None: not known yet")
    string_run: CableRun | None = Field(default=None, description="from a string to the inverter; None: not known")
    battery_run: CableRun | None = Field(default=None, description="from the battery to the inverter; None: not known")


class Transfer(Record):
    """What joins the backup side to the grid side, and which loads stand behind it."""

    card: Id
    backed_up: Literal["whole_house", "listed"] = "listed"
    listed: Annotated[tuple[Id, ...], Field(max_length=61)] = ()
    neutral_bond: Declared = Field(
        default="not_known", description="exactly one neutral-earth bond in the island, open with the grid; the card may say it"
    )
    residual_current: Declared = Field(default="not_known", description="residual-current protection on every backup circuit")
    earth_electrode: Declared = Field(
        default="not_known", description="an earth electrode of its own, or an earth that stays when the grid goes"
    )
    largest_breaker_a: CurrentA | None = Field(default=None, description="largest breaker of a backup circuit; None: not known")
    breaker_trips_at: Annotated[float, Quantity("ratio"), Field(ge=2, le=30)] = Field(
        default=10.0, description="times its rating at which it trips at once, at the most; 5 for type B, 10 for C, 20 for D"
    )


class GeneratorChoice(Record):
    """The generator set of a plan, and what is declared of it."""

    card: Id
    pv_locked_out: Declared = Field(
        default="not_known", description="AC-coupled PV is locked out while it runs, or it is held loaded"
    )
    bypass: Declared = Field(default="not_known", description="a manual bypass feeds the house while the inverter is out")
    start_soc_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=0.95)] = Field(
        default=0.2, description="charge between the battery's limits below which a set with automatic start starts in an outage"
    )
    stop_soc_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = 0.8
    quiet_start_h: HourOfDay | None = Field(default=None, description="hours in which it must not run; None: none")
    quiet_end_h: HourOfDay | None = None


class LaterModules(Record):
    """Modules that may come: how many, when, what each costs, and what the second visit costs."""

    modules: Annotated[int, Quantity("count"), Field(ge=1, le=400)] = 4
    after_years: Annotated[float, Quantity("years"), Field(ge=0, le=30)] = 3.0
    module_cost: Annotated[float, Quantity("money"), Field(ge=0)] = 0.0
    visit_cost: Annotated[float, Quantity("money"), Field(ge=0)] = 0.0


class Plan(Record):
    """A whole system as it would stand. The graph is derived; there are no free edges to wire wrongly."""

    id: Id
    letter: Annotated[str, Field(min_length=1, max_length=6)]
    name: Name
    note: Note = ""
    nodes: Annotated[tuple[Node, ...], Field(max_length=24)] = ()
    transfer: Transfer | None = None
    off_grid: bool = Field(default=False, description="no grid stands at the meter: the inverters make the supply all year")
    generator: GeneratorChoice | None = None
    controls: Controls = Controls()
    costs: Annotated[tuple[CostLine, ...], Field(max_length=60)] = ()
    costs_for: dict[str, int] = Field(
        default_factory=dict,
        description="how many of each card the costs were made for; empty: not noted, the costs are taken to hold",
    )
    waived: Annotated[tuple[Waiver, ...], Field(max_length=60)] = ()
    later: LaterModules | None = None
    protection: Protection = Protection()

    @property
    def backed_up(self) -> frozenset[str] | None:
        """Ids of the loads on the backup side; None: the whole house, as without a grid; empty: none."""
        if self.off_grid:
            return None
        if self.transfer is None:
            return frozenset()
        return None if self.transfer.backed_up == "whole_house" else frozenset(self.transfer.listed)

    def node(self, node_id: str) -> Node:
        """Return the inverter of this id; raises KeyError."""
        for node in self.nodes:
            if node.id == node_id:
                return node
        raise KeyError(node_id)

    @property
    def has_backup_side(self) -> bool:
        """Whether anything stands on a backup side: behind a transfer device, or because there is no grid."""
        return self.off_grid or self.transfer is not None


class Waiver(Record):
    """A check set aside for one plan, with the reason someone wrote."""

    check: Annotated[str, Field(min_length=1, max_length=60)]
    reason: Annotated[str, Field(min_length=3, max_length=400)]


class LogEntry(Record):
    """One line of the append-only log."""

    time: Annotated[str, Field(max_length=40)]
    author: Annotated[str, Field(max_length=60)]
    text: Note


class FieldMark(Record):
    """Where a value comes from, when it is neither typed nor a card's: assumed by the program, or measured on site."""

    path: Annotated[str, Field(min_length=1, max_length=200)]
    source: Literal["assumed", "measured"]


class Job(Record):
    """One job: everything the program needs to answer for it. Today's system is always the first plan."""

    schema_version: Literal[11] = SCHEMA_VERSION
    id: Id
    name: Name
    made_up: bool = False
    pack: Id = Field(default="international", description="the rule pack that the checks take their figures from")
    pack_reason: Note = Field(default="", description="why this pack holds here")
    overrides: Annotated[tuple[PackOverride, ...], Field(max_length=40)] = Field(
        default=(), description="figures of the pack changed for this job alone"
    )
    own_pack: OwnFile | None = Field(default=None, description="a pack of the user's own, in force where `pack` is 'own'")
    own_tables: OwnFile | None = Field(default=None, description="the user's own tables of conductors, before the shipped ones")
    cable_table: Annotated[str, Field(max_length=60)] = Field(
        default="", description="the table of conductors in force; empty: that of the pack"
    )
    calendar_year: Annotated[int, Quantity("year"), Field(ge=1970, le=2100)] = 2025
    brief: Brief = Brief()
    site: Site
    faces: Annotated[tuple[Face, ...], Field(max_length=24)]
    house: House
    tariff: Tariff
    library: Annotated[tuple[Card, ...], Field(max_length=200)]
    plans: Annotated[tuple[Plan, ...], Field(min_length=1, max_length=12)]
    finance: Finance = Finance()
    rebates: Annotated[tuple[Rebate, ...], Field(max_length=8)] = ()
    choice: Choice | None = None
    log: tuple[LogEntry, ...] = ()
    marks: tuple[FieldMark, ...] = ()

    def plan(self, name: str) -> Plan:
        """Return the plan of this id or letter; raises KeyError."""
        for plan in self.plans:
            if name in (plan.id, plan.letter):
                return plan
        raise KeyError(name)

    def card(self, card_id: str) -> Card:
        """Return the card of this id; raises KeyError."""
        for card in self.library:
            if card.id == card_id:
                return card
        raise KeyError(card_id)

    def rules(self) -> Pack:
        """Return the rule pack in force: the one named, with what was changed for this job; raises BadInput."""
        own = self.own_pack if self.pack == OWN else None
        pack = pack_named(self.pack) if own is None else own_pack(own.text, own.name)
        if self.own_tables is not None or self.cable_table:
            chosen = {"cable_table": ((self.cable_table,), "chosen for this job")} if self.cable_table else {}
            text = "" if self.own_tables is None else self.own_tables.text
            pack = replace(pack, own_tables=text, list_={**pack.list_, **chosen})
        return pack.with_overrides((o.parameter, o.value, o.reason) for o in self.overrides)

    def rules_data(self) -> list[object]:
        """Return what decides the rules in force, as plain data: what a result that reads them rests on."""
        texts = [None if file is None else file.text for file in (self.own_pack, self.own_tables)]
        return [self.pack, [o.model_dump() for o in self.overrides], *texts, self.cable_table]

    def cards(self) -> CardBook:
        """Return the job's cards by id."""
        return book_of(self.library)

    def series_refs(self) -> dict[str, SeriesRef]:
        """Return every series the job names, by the path of its field."""
        out: dict[str, SeriesRef] = {}
        if isinstance(self.house.background, SeriesLoad):
            for name in ("series", "low", "high"):
                ref = getattr(self.house.background, name)
                if ref is not None:
                    out[f"house.background.{name}"] = ref
        for name in ("hourly_import", "hourly_export"):
            ref = getattr(self.tariff, name)
            if ref is not None:
                out[f"tariff.{name}"] = ref
        if isinstance(self.site.weather, WeatherFile):
            for name in ("ghi", "dni", "dhi", "air"):
                ref = getattr(self.site.weather, name)
                if ref is not None:
                    out[f"site.weather.{name}"] = ref
        return out

    def mark_of(self, path: str) -> str:
        """Return where the value at a path comes from: typed, assumed or measured.

        A month of a row is what the row is marked as, or itself; a row is assumed while one of its months is.
        """
        row = re.sub(r"\[\d+\]$", "", path)
        here = [mark.source for mark in self.marks if mark.path in (path, row)]
        inside = [mark.source for mark in self.marks if re.fullmatch(rf"{re.escape(path)}\[\d+\]", mark.path)]
        return next(iter([*here, *sorted(inside)]), "typed")

    def face(self, face_id: str) -> Face:
        """Return the face of this id; raises KeyError."""
        for face in self.faces:
            if face.id == face_id:
                return face
        raise KeyError(face_id)


Plan.model_rebuild()
