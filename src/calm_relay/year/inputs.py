"""What a plan's year is run from, as arguments: it can't read more, and its content is what a year is kept by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from calm_relay.job.control_models import Controls
from calm_relay.job.house_models import Appliance, House
from calm_relay.job.site_models import MountingSpot
from calm_relay.packs.pack import Pack
from calm_relay.plant.lines import Lines, Shares, background_shares, shares_of
from calm_relay.plant.offgrid import offgrid_lines_va
from calm_relay.plant.station import Converter
from calm_relay.plant.whole import Caps, Plant


@dataclass(frozen=True)
class SurplusLoad:
    """A load that takes PV surplus at its rank: how much at once and at least, between which hours, its days' end. [W], [h]"""

    id: str
    rank: str
    running_w: float
    surplus_least_w: float
    surplus_start_h: float
    surplus_end_h: float
    window_end_h: float


@dataclass(frozen=True)
class PlaceAir:
    """The air at a mounting place beside that of the site, by the pack; what was measured there bounds it. [°C], [K], [h]

    `held_c`: the range a room is kept in; None: it follows the air, so much warmer on the coldest night and the hottest day.
    """

    lag_h: float
    held_c: tuple[float, float] | None
    warmer_k: tuple[float, float]
    low_c: float | None
    high_c: float | None


@dataclass(frozen=True)
class FlowInputs:
    """What a plan's year reads beside DC power, the house's year, the air and the calendar.

    `backed_up` are ids of the loads on the backup side, None: all; `kept_off` those that batteries never feed; `reserves` (12,) of
    the months; `places` the air where the banks stand. [W], [0 to 1]
    """

    converters: tuple[Converter, ...]
    controls: Controls
    reserves: tuple[float, ...]
    transfer_w: float | None
    caps: Caps
    off_grid: bool
    backed_up: frozenset[str] | None
    kept_off: tuple[str, ...]
    surplus: tuple[SurplusLoad, ...]
    places: tuple[tuple[str, PlaceAir], ...]


def place_air(place: str, pack: Pack, spot: MountingSpot | None) -> PlaceAir:
    """Return the air at a mounting place by the pack's figures."""
    inside = place in ("indoors", "garage")
    held = (pack.value("place_indoors_low_c"), pack.value("place_indoors_high_c")) if place == "indoors" else None
    return PlaceAir(
        lag_h=pack.value("place_inside_lag_h") if inside else pack.value("place_outdoors_lag_h"),
        held_c=held,
        warmer_k=(0.0, 0.0) if held else place_moves_k(place, pack),
        low_c=None if spot is None else spot.low_c,
        high_c=None if spot is None else spot.high_c,
    )


def place_moves_k(place: str, pack: Pack) -> tuple[float, float]:
    """Return by how much a place is warmer than the air on the coldest night and on the hottest day. [K]"""
    if place == "garage":
        return pack.value("place_garage_low_k"), pack.value("place_garage_high_k")
    return 0.0, pack.value("place_outdoors_high_k") if place == "outdoors" else pack.value("place_sheltered_high_k")


def _surplus(load: Appliance) -> SurplusLoad:
    return SurplusLoad(
        id=load.id,
        rank=load.surplus,
        running_w=load.running_w,
        surplus_least_w=load.surplus_least_w,
        surplus_start_h=load.surplus_start_h,
        surplus_end_h=load.surplus_end_h,
        window_end_h=load.window_end_h,
    )


def flow_inputs(
    plant: Plant,
    house: House,
    latitude_deg: float,
    spot: Callable[[str], MountingSpot | None],
    rules: Callable[[], Pack],
) -> FlowInputs:
    """Return what a plan's year reads; `rules` gives the pack in force where a bank's place asks for it."""
    places = sorted({row.bank.place for row in plant.banked if row.bank.place is not None})
    pack = rules() if places else None
    return FlowInputs(
        converters=tuple(station.converter for station in plant.stations),
        controls=plant.controls,
        reserves=plant.controls.reserve_by_month(latitude_deg),
        transfer_w=None if plant.transfer is None or plant.transfer.pass_through_a is None else plant.transfer.limit_w,
        caps=plant.caps,
        off_grid=plant.off_grid,
        backed_up=plant.backed_up,
        kept_off=tuple(load.id for load in house.counted if not load.fed_by_batteries),
        surplus=tuple(_surplus(load) for load in house.counted if load.surplus != "no"),
        places=() if pack is None else tuple((place, place_air(place, pack, spot(place))) for place in places),
    )


@dataclass(frozen=True)
class LineInputs:
    """How a plan and its house lie on the supply's lines. Shares (lines,) each; stations as (id, side, shares). [A]

    `offgrid_va`: what is made on each line with the grid gone, None: not known, or nothing is; `device_a` what the device passes.
    """

    lines: Lines
    stations: tuple[tuple[str, str, Shares], ...]
    loads: tuple[tuple[str, Shares], ...]
    background: Shares
    factors: tuple[tuple[str, float], ...]
    off_grid: bool
    has_device: bool
    device_a: float | None
    service_a: float
    backed_up: frozenset[str] | None
    offgrid_va: tuple[float, ...] | None

    @property
    def one(self) -> bool:
        """Whether all flows on one line, as the year itself has it; without a grid nothing passes a meter there."""
        return self.lines.count == 1 and not self.off_grid


def line_inputs(plant: Plant, house: House, service_a: float) -> LineInputs:
    """Return how a plan and its house lie on the supply's lines."""
    count, device = plant.lines.count, plant.transfer
    return LineInputs(
        lines=plant.lines,
        stations=tuple((station.id, station.side, station.shares) for station in plant.stations),
        loads=tuple((load.id, shares_of(load.line, count)) for load in house.counted),
        background=background_shares(house, count),
        factors=tuple((load.id, load.power_factor) for load in house.counted),
        off_grid=plant.off_grid,
        has_device=device is not None,
        device_a=None if device is None else device.pass_through_a,
        service_a=service_a,
        backed_up=plant.backed_up,
        offgrid_va=offgrid_lines_va(plant),
    )


@dataclass(frozen=True)
class FactInputs:
    """What the facts of a year read beside the year itself.

    `north`: the place lies north of the equator; `guessed`: its weather is a guess; `coarse_step_s`: of a metered house whose
    interval hides short peaks; `factors` of every load, those that are still to come too.
    """

    lines: LineInputs
    converters: tuple[Converter, ...]
    controls: Controls
    caps: Caps
    factors: tuple[tuple[str, float], ...]
    north: bool
    guessed: bool
    coarse_step_s: int | None


def fact_inputs(plant: Plant, lines: LineInputs, house: House, latitude_deg: float, *, guessed: bool) -> FactInputs:
    """Return what the facts of a plan's year read."""
    return FactInputs(
        lines=lines,
        converters=tuple(station.converter for station in plant.stations),
        controls=plant.controls,
        caps=plant.caps,
        factors=tuple((load.id, load.power_factor) for load in house.appliances),
        north=latitude_deg >= 0,
        guessed=guessed,
        coarse_step_s=house.coarse_step_s,
    )
