"""Stations of a plan: an inverter, or like ones as one, with what hangs on it; electrical, mechanical and paper figures apart."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import MeasuredString, NamedLosses
from calm_relay.job.site_models import CableRun
from calm_relay.library.base import FrequencyRecord
from calm_relay.library.inverter_cards import BackupBreaker
from calm_relay.plant.bank import Bank
from calm_relay.plant.unit import Unit


@dataclass(frozen=True)
class Model:
    """What papers say of a box: the id and kind of its card, its name, its warranty. [years]"""

    id: str
    kind: str
    name: str
    source: str
    warranty_years: float | None
    no_longer_made: bool


@dataclass(frozen=True)
class Box:
    """What a box is on a wall: size, weight, and where it may hang; None, or no places: its sheet does not say. [m], [kg], [°C]"""

    firmware_note: str
    height_m: float | None
    width_m: float | None
    depth_m: float | None
    weight_kg: float | None
    places: tuple[str, ...]
    temperature_min_c: float | None
    temperature_max_c: float | None


@dataclass(frozen=True)
class Fitting:
    """What a box connects to and by what: supplies, terminals [mm²], protocols, lists of its maker; empty or None: not said."""

    supplies: tuple[str, ...] = ()
    lug_min_mm2: float | None = None
    lug_max_mm2: float | None = None
    battery_lug_min_mm2: float | None = None
    battery_lug_max_mm2: float | None = None
    residual_type: str | None = None
    frequency: FrequencyRecord | None = None
    chemistries: tuple[str, ...] = ()
    pairs_with: tuple[str, ...] = ()
    protocols: tuple[str, ...] = ()
    backup_breakers: tuple[BackupBreaker, ...] = ()


@dataclass(frozen=True)
class Life:
    """What a battery module is warranted for, its cycles by depth, rising, and the window its card allows. [Wh], [0 to 1]"""

    depth_life: tuple[tuple[float, float], ...]
    window_frac: float
    warranty_throughput_wh: float | None
    warranty_end_frac: float | None
    warranty_years: float | None


@dataclass(frozen=True)
class BatteryBox:
    """A battery module beside its electrical figures."""

    model: Model
    box: Box
    fitting: Fitting
    life: Life


@dataclass(frozen=True)
class Module:
    """A PV module's electrical figures at STC, and its size; None where its card is silent."""

    power_stc_w: float
    voc_stc_v: float
    vmp_stc_v: float
    isc_stc_a: float
    imp_stc_a: float
    beta_voc_per_c: float | None
    gamma_pmp_per_c: float
    alpha_isc_per_c: float
    beta_vmp_per_c: float | None
    system_voltage_max_v: float | None
    series_fuse_max_a: float | None
    length_m: float
    width_m: float
    bifaciality_frac: float | None

    @property
    def efficiency_frac(self) -> float:
        """Module efficiency at STC (power over area at 1000 W/m²)."""
        return self.power_stc_w / (1000.0 * self.length_m * self.width_m)


@dataclass(frozen=True)
class Optimizer:
    """An optimizer's electrical figures."""

    input_voltage_max_v: float
    input_current_max_a: float
    power_max_w: float
    output_current_max_a: float
    string_voltage_v: float | None
    modules_min: int
    modules_max: int
    string_power_max_w: float | None
    unequal_strings: bool
    loss_frac: float


@dataclass(frozen=True)
class StringRow:
    """Like strings on one tracker, as the light on their face meets them. `face` is the face's id."""

    face: str
    tracker: int
    modules_per_string: int
    parallel_strings: int
    module: Module
    optimizer: Optimizer | None
    age_years: float
    other_loss_frac: float | None
    losses: NamedLosses | None

    @property
    def stc_w(self) -> float:
        """STC power of all of them. [W]"""
        return self.modules_per_string * self.parallel_strings * self.module.power_stc_w


@dataclass(frozen=True)
class Strings:
    """Like strings with their names, fuse and what was measured on one of them."""

    id: str
    row: StringRow
    model: Model
    optimizer: Model | None
    fuse_a: float | None
    measured: MeasuredString | None


@dataclass(frozen=True)
class Converter:
    """What the year sees of a station: one inverter with its bank, on its side of the transfer device.

    `switched`: its charger stands on a time switch; `dc_car` is a load charged on its DC side.
    """

    id: str
    side: str
    unit: Unit
    bank: Bank | None
    dc_car: str | None
    switched: bool

    @property
    def forms(self) -> bool:
        """Whether it makes a grid of its own: able to, on the backup side, with a battery."""
        return self.unit.grid_forming and self.side == "backup" and self.bank is not None


@dataclass(frozen=True)
class Station:
    """An inverter of a plan, `count` like units as one, with all that hangs on it.

    `each` is one unit as its card has it; `shares` how the whole lies on the supply's lines, (lines,), their sum 1; `path` where it
    stands in the document's plan.
    """

    converter: Converter
    name: str
    path: str
    count: int
    each: Unit
    shares: tuple[float, ...]
    strings: tuple[Strings, ...]
    model: Model
    box: Box
    fitting: Fitting
    battery: BatteryBox | None
    beside: tuple[Model, ...]
    line: str
    branches: int
    branch_breaker_a: float | None
    reuses: str | None
    plugged_in: bool
    place: str | None
    run: CableRun | None
    string_run: CableRun | None
    battery_run: CableRun | None

    @property
    def id(self) -> str:
        """The station's id in its plan."""
        return self.converter.id

    @property
    def side(self) -> str:
        """Its side of the transfer device: backup or grid."""
        return self.converter.side

    @property
    def unit(self) -> Unit:
        """All its like units as one, with what stands with them on a low-voltage bank."""
        return self.converter.unit

    @property
    def bank(self) -> Bank | None:
        """Its battery."""
        return self.converter.bank

    @property
    def strings_units(self) -> int:
        """How many units share its strings: each its own where they are module-level, else one."""
        return self.each.unit_count(self.count)

    @property
    def array_stc_w(self) -> float:
        """STC watts of its strings, of module-level inverters of all units. [W]"""
        return self.strings_units * sum(strings.row.stc_w for strings in self.strings)


@dataclass(frozen=True)
class BatteryRow:
    """A station with a battery: its units as one, the bank, and what is said of its modules."""

    station: Station
    unit: Unit
    bank: Bank
    battery: BatteryBox
