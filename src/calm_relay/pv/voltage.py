"""String voltages and currents at the limits, in closed form (figures of the trade; tables come from the rule pack)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from calm_relay.library.cards import ModuleCard
from calm_relay.plant.station import Module

if TYPE_CHECKING:
    from calm_relay.job.sky_models import Face

# Heat loss coefficient by mounting, W/(m²·K): common practice.
MOUNTING_U_W_PER_M2_K = {"rack": 29.0, "ventilated": 25.0, "close_roof": 20.0, "insulated": 15.0}
ABSORBED_FRAC = 0.9
# Light on the rear over light on the front where none is typed: 0.10 to 0.15 on a rack, common practice; little close to a roof.
REAR_RATIO_FRAC = {"rack": 0.12, "ventilated": 0.0, "close_roof": 0.0, "insulated": 0.0}

Rows = tuple[tuple[float, float], ...]
ColdBy = Literal["coefficient", "table", "higher"]


@dataclass(frozen=True)
class LitFace:
    """What of a roof face the power of strings on it reads, beside its light: mounting, shade, light on the rear. [0 to 1]"""

    mounting: str
    shade_loss_frac: float
    shade_table: tuple[tuple[float, ...], ...] | None
    rear_ratio_frac: float | None


def lit_face(face: Face) -> LitFace:
    """Return a face as strings on it see it."""
    return LitFace(face.mounting, face.shade_loss_frac, face.shade_table, face.rear_ratio_frac)


def cold_voc_factor(low_c: float, table: Rows) -> float | None:
    """Return a pack's factor on the open voltage at `low_c`; 1 at 25 °C and above, None below the table's last band. [1]

    `table` has (lowest °C of a band, factor), the warmest band first.
    """
    if low_c >= 25.0:
        return 1.0
    return next((factor for bottom, factor in table if low_c > bottom - 1e-9), None)


def cold_voc_v(module: ModuleCard | Module, modules: int, low_c: float, table: Rows, by: ColdBy = "coefficient") -> float | None:
    """Return a string's open-circuit voltage at `low_c`; None where the table ends. [V]

    By the card's coefficient, where it has none by `table`; by the table whatever the card says; or by the higher of the two.
    """
    by_card = None
    if module.beta_voc_per_c is not None:
        by_card = modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (low_c - 25.0))
    if by_card is not None and by == "coefficient":
        return by_card
    factor = cold_voc_factor(low_c, table)
    by_table = None if factor is None else modules * module.voc_stc_v * factor
    if by_card is None or by_table is None or by == "table":
        return by_table
    return max(by_card, by_table)


def cell_rise_k(irradiance_w_per_m2: float, efficiency_frac: float, mounting: str) -> float:
    """Return the cell's rise over air: 0.9·(1 − η)·G/u. [K]"""
    return ABSORBED_FRAC * (1.0 - efficiency_frac) * irradiance_w_per_m2 / MOUNTING_U_W_PER_M2_K[mounting]


def beta_vmp_per_c(module: ModuleCard | Module) -> float:
    """Return the working voltage's coefficient: the card's, else γ_pmp − α_isc (β_voc would overstate the hot voltage). [1/K]"""
    if module.beta_vmp_per_c is not None:
        return module.beta_vmp_per_c
    return module.gamma_pmp_per_c - module.alpha_isc_per_c


def hot_vmp_v(module: ModuleCard | Module, modules: int, cell_c: float) -> float:
    """Return a string's working voltage at a hot cell temperature. [V]"""
    return modules * module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (cell_c - 25.0))


def rear_gain_frac(module: ModuleCard | Module, face: Face | LitFace) -> float:
    """Return what light on the rear adds to power and current: rear ratio × bifaciality; 0 for one-sided modules."""
    ratio = REAR_RATIO_FRAC[face.mounting] if face.rear_ratio_frac is None else face.rear_ratio_frac
    return ratio * (module.bifaciality_frac or 0.0)


def start_voltage_v(module: ModuleCard | Module, modules: int, cell_c: float) -> float | None:
    """Return a string's open-circuit voltage at a hot cell temperature; None without the module's coefficient. [V]"""
    if module.beta_voc_per_c is None:
        return None
    return modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (cell_c - 25.0))
