"""String voltages and currents at the limits, in closed form (handbook figures of the trade; NEC table from memory)."""

from __future__ import annotations

from calm_relay.library.cards import ModuleCard

# Heat loss coefficient by mounting, W/(m²·K): common practice.
MOUNTING_U_W_PER_M2_K = {"rack": 29.0, "ventilated": 25.0, "close_roof": 20.0, "insulated": 15.0}
ABSORBED_FRAC = 0.9

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
