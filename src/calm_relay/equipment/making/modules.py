"""PV modules from cells: volts a cell, current density, fill factor, cells in series and strings in parallel, area and packing.

`tables/cells.csv` has each technology at standard test conditions (typical, from memory): open volts, density of the short-circuit
current [A/m²], fill factor, working volts over open ones, coefficients a kelvin; thin film is a junction of a monolithic module.
`tables/modules.csv` has the modules: cells in series, strings in parallel, area of a cell [m²], share of the face that is cell.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import Any

from calm_relay.equipment.making.table import rows

Row = dict[str, Any]
KG_PER_M2 = {1: 10.9, 2: 13.6}  # one pane of 3.2 mm and a foil; two of 2 mm; with frame


@cache
def cells() -> dict[str, Row]:
    """Return the cell technologies by name."""
    return {row["cell"]: row for row in rows("cells")}


def figures(row: Row) -> Row:
    """Return a module's card data from its cells. Power is cell volts × density × area × fill factor, summed over the cells."""
    cell = cells()[row["cell"]]
    isc = cell["jsc_a_per_m2"] * row["cell_m2"] * row["parallel"]
    voc = cell["voc_v"] * row["series"]
    power = round(voc * isc * cell["fill_frac"] / 5.0) * 5.0
    vmp = cell["vmp_of_voc"] * voc
    area = row["cell_m2"] * row["series"] * row["parallel"] / row["packing_frac"]
    return {
        "kind": "module", "id": row["id"], "name": f"Module {power:.0f} W, {row['words']}", "power_stc_w": power,
        "voc_stc_v": round(voc, 2), "vmp_stc_v": round(vmp, 2), "isc_stc_a": round(isc, 2), "imp_stc_a": round(power / vmp, 2),
        "beta_voc_per_c": cell["beta_voc"], "gamma_pmp_per_c": cell["gamma_pmp"], "alpha_isc_per_c": cell["alpha_isc"],
        "system_voltage_max_v": row["system_v"], "series_fuse_max_a": row["fuse_a"], "length_m": round(area / row["width_m"], 3),
        "width_m": row["width_m"], "weight_kg": round(KG_PER_M2[row["glass"]] * area, 1), "bifaciality_frac": row["rear_frac"],
        "warranty_years": row["years"], "no_longer_made": row["old"],
    }  # fmt: skip


def modules() -> Iterator[Row]:
    """Yield the modules' card data, and two optimizers' beside those that were first."""
    yield from map(figures, rows("modules"))
    yield {
        "kind": "optimizer", "id": "optimizer-700", "name": "Optimizer 700 W, 400 V", "input_voltage_max_v": 75,
        "input_current_max_a": 20, "power_max_w": 700, "output_current_max_a": 18, "string_voltage_v": 400, "modules_min": 8,
        "modules_max": 24, "string_power_max_w": 7200, "unequal_strings": True, "loss_frac": 0.012, "warranty_years": 25,
    }  # fmt: skip
    yield {
        "kind": "optimizer", "id": "optimizer-350", "name": "Optimizer 350 W, older", "input_voltage_max_v": 48,
        "input_current_max_a": 11, "power_max_w": 350, "output_current_max_a": 15, "string_voltage_v": 350, "modules_min": 8,
        "modules_max": 25, "string_power_max_w": 5250, "unequal_strings": True, "loss_frac": 0.02, "warranty_years": 25,
        "no_longer_made": True,
    }  # fmt: skip
