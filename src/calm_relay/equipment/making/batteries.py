"""Battery modules from cells: volts and amp-hours, cells in series, resistance that falls with amp-hours, life by chemistry."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from calm_relay.equipment.making.table import rows

# Volts of a cell; resistance times amp-hours [Ω·Ah]; share lost beside resistance on a round trip (common practice).
CELL = {
    "LFP": (3.2, 0.075, 0.010), "NMC": (3.65, 0.065, 0.008), "lead-acid": (2.0, 0.16, 0.13), "lead-gel": (2.0, 0.20, 0.12),
    "lead-flooded": (2.0, 0.15, 0.15),
}  # fmt: skip
# Of terminals, fuse and switch of a module [Ω].
WIRING_OHM = {
    "LFP": 0.003,
    "NMC": 0.003,
    "lead-acid": 0.0004,
    "lead-gel": 0.0003,
    "lead-flooded": 0.0004,
}
# Cycles by depth: lithium typical of its warranties; gel 650 at 80 % and about 3,250 at 15 % (common practice); others likewise.
LIFE = {
    "LFP": ((1.0, 5000), (0.8, 6800), (0.5, 11500)),
    "NMC": ((1.0, 3600), (0.8, 5200), (0.5, 9700)),
    "lead-acid": ((0.8, 450), (0.5, 800), (0.3, 1400)),
    "lead-gel": ((0.8, 650), (0.5, 1030), (0.15, 3250)),
    "lead-flooded": ((0.8, 900), (0.5, 1600), (0.2, 4000)),
}
# Share of the current allowed by temperature of the cells, common practice for each chemistry.
CHARGE_BY_C = {
    "LFP": ((0, 0.0), (5, 0.3), (15, 1.0), (45, 1.0), (55, 0.3)),
    "NMC": ((0, 0.0), (5, 0.25), (20, 1.0), (40, 1.0), (50, 0.4)),
    "lead-acid": ((-10, 0.3), (10, 1.0), (40, 1.0), (50, 0.5)),
    "lead-gel": ((-10, 0.3), (10, 1.0), (40, 1.0), (50, 0.5)),
    "lead-flooded": ((-10, 0.3), (10, 1.0), (40, 1.0), (50, 0.6)),
}
DISCHARGE_BY_C = {
    "LFP": ((-20, 0.2), (0, 0.8), (10, 1.0), (55, 1.0)),
    "NMC": ((-20, 0.2), (0, 0.7), (10, 1.0), (50, 1.0)),
    "lead-acid": ((-15, 0.5), (20, 1.0), (50, 1.0)),
    "lead-gel": ((-15, 0.5), (20, 1.0), (50, 1.0)),
    "lead-flooded": ((-15, 0.4), (20, 1.0), (50, 1.0)),
}
# Capacity at a faster discharge by Peukert's rule, and hours of absorption after the bulk of a charge (both common practice).
PEUKERT = {"lead-acid": 1.15, "lead-gel": 1.12, "lead-flooded": 1.25}
ABSORPTION_H = 4.0
DC_STAGE_FRAC = 0.985  # each way, where the module has a converter of its own

WORDS = {"LFP": "LFP", "NMC": "NMC", "lead-acid": "Lead", "lead-gel": "Lead-gel", "lead-flooded": "Lead, flooded"}


def _curve(rows: tuple[tuple[float, float], ...]) -> list[dict[str, float]]:
    return [{"temperature_c": t, "share_frac": share} for t, share in rows]


def round_trip_frac(chemistry: str, cells: int, amp_hours: float, rate_per_h: float, *, stage: bool) -> float:
    """Return the DC round trip at a rate: ohmic loss both ways, what the chemistry loses beside it, a DC stage twice. [0 to 1]"""
    volts, per_ah, beside = CELL[chemistry]
    ohms = cells * per_ah / amp_hours + WIRING_OHM[chemistry]
    drop = rate_per_h * amp_hours * ohms / (cells * volts)
    return (1.0 - drop) / (1.0 + drop) * (1.0 - beside) * (DC_STAGE_FRAC**2 if stage else 1.0)


def batteries() -> Iterator[dict[str, Any]]:
    """Yield the battery modules' card data."""
    for row in rows("batteries"):
        chemistry, cells, ah, charge, give = (row[n] for n in ("chemistry", "cells", "amp_hours", "charge_rate", "discharge_rate"))
        low = row["soc_from"]
        nominal, per_ah, _ = CELL[chemistry]
        volts, wh = nominal * cells, nominal * cells * ah
        lithium = chemistry in ("LFP", "NMC")
        size = f"{wh / 1000:.1f} kWh, {volts:.0f} V" if lithium or cells > 1 else f"{ah} Ah, {volts:.0f} V"
        deepest = 1.0 - low
        cycles = next(c for depth, c in LIFE[chemistry] if depth <= deepest + 1e-9)
        yield {
            "kind": "battery", "id": row["id"], "name": f"{WORDS[chemistry]} {row['words']} {size}", "chemistry": chemistry,
            "capacity_wh": round(wh, 1), "soc_min_frac": low, "cells_in_series": cells, "voltage_nominal_v": round(volts, 2),
            "stacking": row["stacking"], "modules_min": row["fewest"], "modules_max": row["most"],
            "charge_max_a": round(charge * ah, 1),
            "discharge_max_a": round(give * ah, 1),
            "internal_resistance_ohm": round(cells * per_ah / ah + WIRING_OHM[chemistry], 5),
            "dc_round_trip_frac": round(round_trip_frac(chemistry, cells, ah, charge, stage=row["stage"]), 3),
            "round_trip_at_a": round(charge * ah, 1),
            "peukert_exponent": PEUKERT.get(chemistry), "absorption_h": None if lithium else ABSORPTION_H,
            "taper_soc_frac": 0.95 if lithium else 0.8, "taper_end_frac": 0.05, "auxiliary_w": row["auxiliary_w"],
            "charge_over_temperature": _curve(CHARGE_BY_C[chemistry]),
            "discharge_over_temperature": _curve(DISCHARGE_BY_C[chemistry]),
            "depth_life": [{"depth_frac": depth, "cycles": c} for depth, c in LIFE[chemistry]],
            "warranty_throughput_wh": round(0.6 * cycles * deepest * wh, -4) if lithium else None,
            "warranty_years": row["years"], "no_longer_made": row["old"],
        }  # fmt: skip
