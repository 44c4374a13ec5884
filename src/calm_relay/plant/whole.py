"""A plan as a whole: what it is made of, in records that hold no document and no card."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from calm_relay.job.control_models import Controls
from calm_relay.job.site_models import Board, CableRun
from calm_relay.plant.lines import Lines
from calm_relay.plant.station import BatteryRow, Box, Fitting, Model, Station


@dataclass(frozen=True)
class Transfer:
    """What joins the backup side to the grid side: amps it passes, what it does in an island, and what is declared of it.

    `limit_w` is V·I·phases; infinity where its card gives no amps. [W], [A], [s]
    """

    model: Model
    box: Box
    fitting: Fitting
    pass_through_a: float | None
    limit_w: float
    switch_s: float | None
    bonds_neutral: bool | None
    generator_input: bool
    whole_house: bool
    neutral_bond: str
    residual_current: str
    earth_electrode: str
    largest_breaker_a: float | None
    breaker_trips_at: float


@dataclass(frozen=True)
class Generator:
    """A generator set and how it is run; None where its card is silent."""

    model: Model
    box: Box
    fitting: Fitting
    rated_va: float
    peak_va: float | None
    power_factor_frac: float
    fuel: str
    fuel_full_l_per_h: float | None
    fuel_half_l_per_h: float | None
    tank_l: float | None
    least_load_frac: float | None
    frequency_min_hz: float | None
    frequency_max_hz: float | None
    auto_start: bool
    pv_locked_out: str
    bypass: str
    start_soc_frac: float
    stop_soc_frac: float
    quiet_start_h: float | None
    quiet_end_h: float | None


@dataclass(frozen=True)
class Service:
    """What the supply brings to the board: its fuse, the run between them, and what stands on the board. [A]"""

    service_a: float
    run: CableRun | None
    board: Board


@dataclass(frozen=True)
class Caps:
    """Limits in force at the meter: export typed or by the array, import, a fixed power factor. None: there is none. [W], [1]"""

    export_w: float | None
    import_w: float | None
    power_factor: float


@dataclass(frozen=True)
class Plant:
    """A plan resolved.

    `backed_up` are ids of the loads on the backup side; None: all. `letter` and `name` are words.
    """

    id: str
    letter: str
    name: str
    off_grid: bool
    lines: Lines
    stations: tuple[Station, ...]
    transfer: Transfer | None
    generator: Generator | None
    controls: Controls
    caps: Caps
    service: Service
    backed_up: frozenset[str] | None

    @property
    def has_backup_side(self) -> bool:
        """Whether anything stands on a backup side: behind a transfer device, or because there is no grid."""
        return self.off_grid or self.transfer is not None

    @cached_property
    def battery_side(self) -> tuple[Station, ...]:
        """Stations with battery terminals, in the plan's order, which is their priority."""
        return tuple(s for s in self.stations if s.unit.battery_terminals)

    @cached_property
    def pv_only(self) -> tuple[Station, ...]:
        """Stations with PV inputs only."""
        return tuple(s for s in self.stations if not s.unit.battery_terminals)

    @cached_property
    def pv_behind(self) -> tuple[Station, ...]:
        """AC-coupled PV of the backup side: PV inputs only, with strings on them."""
        return tuple(s for s in self.pv_only if s.side == "backup" and s.strings)

    @cached_property
    def banked(self) -> tuple[BatteryRow, ...]:
        """Stations that have a battery."""
        return tuple(
            BatteryRow(s, s.unit, s.bank, s.battery)
            for s in self.battery_side
            if s.bank is not None and s.battery is not None
        )  # fmt: skip

    @cached_property
    def forming(self) -> tuple[BatteryRow, ...]:
        """What forms the grid in an outage."""
        return tuple(row for row in self.banked if row.station.converter.forms)

    def station(self, station_id: str) -> Station:
        """Return the station of this id; raises KeyError."""
        for station in self.stations:
            if station.id == station_id:
                return station
        raise KeyError(station_id)
