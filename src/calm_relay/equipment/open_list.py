"""Cards of the open column layout in which module and inverter lists are published, as pvlib reads them.

Modules: ``STC``, ``V_oc_ref`` … of the single-diode list. Inverters: ``Paco``, ``Pdco`` … of the Sandia model, whose efficiencies
at nominal volts become loss terms. What such a list does not hold (system voltage, fuse, trackers) stays unknown or is one tracker.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.equipment.columns import card_from, id_of
from calm_relay.equipment.efficiency import fit_points
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.library.cards import Card, LossTerms

MODULE_HEADS = {"Name", "STC", "I_sc_ref", "V_oc_ref", "I_mp_ref", "V_mp_ref", "alpha_sc", "beta_oc", "gamma_r"}
INVERTER_HEADS = {"Name", "Paco", "Pdco", "Vdco", "Pso", "C0", "Vdcmax", "Idcmax", "Mppt_low", "Mppt_high"}
LOADS = (0.1, 0.2, 0.3, 0.5, 0.75, 1.0)
THREE_PHASE_FROM_V = 300.0
THREE_PHASE_V = (208.0, 277.0)


def kind_of_heads(heads: Sequence[str]) -> str | None:
    """Return the kind of card an open list holds by its column names; None where it is no such list."""
    have = set(heads)
    return "module" if have >= MODULE_HEADS else "pv_inverter" if have >= INVERTER_HEADS else None


def is_data(row: Mapping[str, str]) -> bool:
    """Return whether a row holds a card: rows of units and of field names stand under the heading of such lists."""
    try:
        float(row.get("I_sc_ref") or row.get("Paco") or "")
    except ValueError:
        return False
    return True


def card_of_row(kind: str, row: Mapping[str, str], file: str, place: str) -> Card:
    """Return the card of a row; raises BadInput where a figure that a card needs is missing or wrong."""
    numbers = _Numbers(row, file, place)
    values = _module(numbers) if kind == "module" else _inverter(numbers)
    name = " ".join(row["Name"].split())[:60]
    return card_from(kind, {"id": _id(name, place), "name": name, "source": f"open list, {place}", **values}, f"{file}, {place}")


class _Numbers:
    """A row's cells as numbers, each missing one a fault with its row and column."""

    def __init__(self, row: Mapping[str, str], file: str, place: str) -> None:
        self._row, self._file, self._place = row, file, place

    def __getitem__(self, column: str) -> float:
        try:
            return float(self._row[column])
        except (KeyError, ValueError):
            where = f"{self._place}, column {column}"
            raise BadInput([Fault(self._file, where, "there is no number", "complete the row, or leave it out")]) from None

    def text(self, column: str) -> str:
        return self._row.get(column, "").strip()


def _module(n: _Numbers) -> dict[str, Any]:
    return {
        "power_stc_w": n["STC"],
        "voc_stc_v": n["V_oc_ref"],
        "vmp_stc_v": n["V_mp_ref"],
        "isc_stc_a": n["I_sc_ref"],
        "imp_stc_a": n["I_mp_ref"],
        "beta_voc_per_c": n["beta_oc"] / n["V_oc_ref"],
        "gamma_pmp_per_c": n["gamma_r"] / 100.0,
        "alpha_isc_per_c": n["alpha_sc"] / n["I_sc_ref"],
        "length_m": n["Length"],
        "width_m": n["Width"],
    }


def _inverter(n: _Numbers) -> dict[str, Any]:
    rated = n["Paco"]
    volts = float(n.text("Vac")) if re.fullmatch(r"\d+(\.\d+)?", n.text("Vac")) else 0.0
    tracker = {"mppt_min_v": n["Mppt_low"], "mppt_max_v": n["Mppt_high"], "working_current_a": n["Idcmax"]}
    return {
        "ac_rated_w": rated,
        "loss": inverter_terms(rated, n["Pdco"], n["Pso"], n["C0"]).model_dump(),
        "night_w": n["Pnt"] if n.text("Pnt") else None,
        "phases": 3 if volts >= THREE_PHASE_FROM_V or volts in THREE_PHASE_V else 1,
        "dc_voltage_max_v": n["Vdcmax"],
        "trackers": [tracker],
    }


def inverter_terms(paco_w: float, pdco_w: float, pso_w: float, c0_per_w: float) -> LossTerms:
    """Return loss terms for an inverter of the Sandia model (King et al., 2007) at its nominal volts, where C1 to C3 fall away.

    AC = (Paco/(Pdco − Pso) − C0·(Pdco − Pso))·(P_dc − Pso) + C0·(P_dc − Pso)². [W], C0 [1/W]

    Raises
    ------
    NotFeasible
        When no terms meet its efficiencies within a percent.
    """
    dc: NDArray[np.float64] = np.linspace(0.0, 1.15 * pdco_w, 6000)
    span = pdco_w - pso_w
    over = np.maximum(0.0, dc - pso_w)
    ac = (paco_w / span - c0_per_w * span) * over + c0_per_w * over * over
    points = []
    for load in LOADS:
        at = int(np.searchsorted(ac, load * paco_w))
        if at < len(dc) and dc[at] > 0 and 0.3 < ac[at] / dc[at] < 1:
            points.append((float(ac[at]) / paco_w, float(ac[at] / dc[at])))
    if len(points) < 3:
        raise NotFeasible("its figures are no inverter's", "check the row")
    return fit_points(points, paco_w).terms


def _id(name: str, place: str) -> str:
    """Return an id from a name and the row it stands in, which tells like names apart."""
    return f"{id_of(name, 28) or 'card'}-r{re.sub(r'[^0-9]', '', place)}"
