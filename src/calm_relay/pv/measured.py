"""What was measured on a string, against what its modules should give under the same sun."""

from __future__ import annotations

import math
from dataclasses import dataclass

from calm_relay.job.models import MeasuredString, StringGroup
from calm_relay.library.cards import ModuleCard
from calm_relay.pv.array import AGE_LOSS_PER_YEAR, curve_terms

BETA_TYPICAL_PER_C = -0.0028  # crystalline silicon, common practice, where the card has no coefficient


@dataclass(frozen=True)
class Comparison:
    """Expected and measured values of one string, and the deviations as fractions of the expected. [V], [A]"""

    expected_voc_v: float
    expected_isc_a: float
    voc_deviation_frac: float
    isc_deviation_frac: float
    voc_stc_v: float


def compare_measured(measured: MeasuredString, group: StringGroup, module: ModuleCard, gain_frac: float = 0.0) -> Comparison:
    """Return a measurement beside what is expected at its light and module temperature.

    Isc in proportion to light, by α and age; Voc by β and by the logarithm of light, a·ln(G/1000) per module with a of
    ``pv.array.curve_terms``. `voc_stc_v` is the measured voltage brought back to STC, per module.
    """
    beta = BETA_TYPICAL_PER_C if module.beta_voc_per_c is None else module.beta_voc_per_c
    n, warm = group.modules_per_string, measured.module_c - 25.0
    a, _ = curve_terms(module)
    dim = a * math.log(measured.irradiance_w_per_m2 / 1000.0)
    voc = n * (module.voc_stc_v * (1.0 + beta * warm) + dim)
    aged = max(0.0, 1.0 - AGE_LOSS_PER_YEAR * group.age_years)
    isc = module.isc_stc_a * (1.0 + gain_frac) * measured.irradiance_w_per_m2 / 1000.0
    isc *= (1.0 + module.alpha_isc_per_c * warm) * aged
    return Comparison(
        voc, isc, measured.voc_v / voc - 1.0, measured.isc_a / isc - 1.0, (measured.voc_v / n - dim) / (1.0 + beta * warm)
    )
