"""String voltages and currents at the limits, in closed form (handbook figures of the trade; NEC table from memory)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.library.cards import ModuleCard

if TYPE_CHECKING:
    from calm_relay.job.models import Face

# Heat loss coefficient by mounting, W/(m²·K): common practice.
MOUNTING_U_W_PER_M2_K = {"rack": 29.0, "ventilated": 25.0, "close_roof": 20.0, "insulated": 15.0}
ABSORBED_FRAC = 0.9
# Light on the rear over light on the front where none is typed: 0.10 to 0.15 on a rack, common practice; little close to a roof.
REAR_RATIO_FRAC = {"rack": 0.12, "ventilated": 0.0, "close_roof": 0.0, "insulated": 0.0}

# NEC table 690.7(A), crystalline silicon, from memory: (lowest temperature of the band in °C, factor).
COLD_VOC_FACTORS: tuple[tuple[float, float], ...] = (
    (20, 1.02), (15, 1.04), (10, 1.06), (5, 1.08), (0, 1.10), (-5, 1.12), (-10, 1.14), (-15, 1.16), (-20, 1.18),
    (-25, 1.20), (-30, 1.21), (-35, 1.23), (-40, 1.25),
)  # fmt: skip


def cold_voc_factor(low_c: float) -> float | None:
    """Return the table factor for crystalline silicon at `low_c`; 1 at 25 °C and above, None below −40 °C."""
    if low_c >= 25.0:
        return 1.0
    for bottom, factor in COLD_VOC_FACTORS:
        if low_c > bottom - 1e-9 or (bottom == 20 and low_c >= 20):
            return factor
    return None


def cold_voc_v(module: ModuleCard, modules: int, low_c: float) -> float | None:
    """Return a string's open-circuit voltage at the record low air temperature; None where the table ends. [V]"""
    if module.beta_voc_per_c is not None:
        return modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (low_c - 25.0))
    factor = cold_voc_factor(low_c)
    return None if factor is None else modules * module.voc_stc_v * factor


def cell_rise_k(irradiance_w_per_m2: float, efficiency_frac: float, mounting: str) -> float:
    """Return the cell's rise over air: 0.9·(1 − η)·G/u. [K]"""
    return ABSORBED_FRAC * (1.0 - efficiency_frac) * irradiance_w_per_m2 / MOUNTING_U_W_PER_M2_K[mounting]


def beta_vmp_per_c(module: ModuleCard) -> float:
    """Return the coefficient of the working voltage: γ_pmp − α_isc (β_voc would overstate the hot voltage)."""
    return module.gamma_pmp_per_c - module.alpha_isc_per_c


def hot_vmp_v(module: ModuleCard, modules: int, cell_c: float) -> float:
    """Return a string's working voltage at a hot cell temperature. [V]"""
    return modules * module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (cell_c - 25.0))


def rear_gain_frac(module: ModuleCard, face: Face) -> float:
    """Return what light on the rear adds to power and current: rear ratio × bifaciality; 0 for one-sided modules."""
    ratio = REAR_RATIO_FRAC[face.mounting] if face.rear_ratio_frac is None else face.rear_ratio_frac
    return ratio * (module.bifaciality_frac or 0.0)


def short_circuit_a(module: ModuleCard, face: Face) -> float:
    """Return a string's short-circuit current at STC, light on the rear counted in. [A]"""
    return module.isc_stc_a * (1.0 + rear_gain_frac(module, face))


def working_a(module: ModuleCard, face: Face) -> float:
    """Return a string's working current at STC, light on the rear counted in. [A]"""
    return module.imp_stc_a * (1.0 + rear_gain_frac(module, face))


def start_voltage_v(module: ModuleCard, modules: int, cell_c: float) -> float | None:
    """Return a string's open-circuit voltage at a hot cell temperature; None without the module's coefficient. [V]"""
    if module.beta_voc_per_c is None:
        return None
    return modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (cell_c - 25.0))
