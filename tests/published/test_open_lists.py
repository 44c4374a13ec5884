"""Open lists that the pvlib package carries: cards by row number, our DC model against the single-diode model, inverters' terms.

Source: the CEC module and inverter lists of 2019-03-05 in pvlib's `data` folder (open data). No names are printed.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pvlib
import pytest

from calm_relay.equipment.columns import required_of
from calm_relay.equipment.files import read_cards
from calm_relay.equipment.open_list import card_of_row
from calm_relay.errors import BadInput, NotFeasible
from calm_relay.library.cards import ModuleCard, PvInverterCard
from calm_relay.plant.unit import unit_of

DATA = Path(pvlib.__file__).parent / "data"
CONDITIONS = ((1000.0, 25.0), (1000.0, 55.0), (800.0, 45.0), (400.0, 30.0), (200.0, 20.0))  # W/m², °C of the cell


def rows_of(name: str) -> pd.DataFrame:
    return pd.read_csv(DATA / name, skiprows=[1, 2], dtype=str, keep_default_na=False)


def test_our_dc_model_against_the_single_diode_model_of_300_modules():
    """The spread is stated: our model knows no weak-light behaviour, so it is a little high at 200 W/m² and near elsewhere."""
    rows = rows_of("sam-library-cec-modules-2019-03-05.csv")
    whole = rows[(rows.Length != "") & (rows.Width != "")]
    picked = whole.iloc[np.linspace(0, len(whole) - 1, 300).astype(int)]
    off = {condition: [] for condition in CONDITIONS}
    for number, (_, row) in enumerate(picked.iterrows()):
        card = card_of_row("module", row.to_dict(), "list", f"row {number}")
        assert isinstance(card, ModuleCard)
        assert card.system_voltage_max_v is None, "the list does not say it"
        n = {key: float(row[key]) for key in ("alpha_sc", "a_ref", "I_L_ref", "I_o_ref", "R_sh_ref", "R_s", "Adjust")}
        for light, cell in CONDITIONS:
            curve = pvlib.pvsystem.calcparams_cec(light, cell, n["alpha_sc"], n["a_ref"], n["I_L_ref"], n["I_o_ref"], n["R_sh_ref"],
                                                  n["R_s"], n["Adjust"])  # fmt: skip
            theirs = float(pvlib.pvsystem.max_power_point(*curve, method="newton")["p_mp"])
            ours = card.power_stc_w * light / 1000.0 * (1.0 + card.gamma_pmp_per_c * (cell - 25.0))
            off[light, cell].append(ours / theirs - 1.0)
    for (light, cell), rows_off in off.items():
        middle, spread = float(np.median(rows_off)), float(np.quantile(np.abs(rows_off), 0.95))
        assert len(rows_off) == 300
        assert abs(middle) < (0.005 if light >= 800 else 0.02 if light >= 400 else 0.05), (light, cell, middle)
        assert spread < (0.02 if light >= 800 else 0.05 if light >= 400 else 0.08), (light, cell, spread)


def test_inverters_of_the_open_list_become_cards_that_meet_their_model():
    rows = rows_of("sam-library-cec-inverters-2019-03-05.csv")
    worst, taken = [], 0
    for number in range(0, len(rows), 41):
        row = rows.iloc[number]
        try:
            card = card_of_row("pv_inverter", row.to_dict(), "list", f"row {number}")
        except (BadInput, NotFeasible):
            continue
        assert isinstance(card, PvInverterCard)
        taken += 1
        numbers = {key: float(row[key]) for key in ("Pdco", "Paco", "Vdco", "Pso", "C0", "C1", "C2", "C3", "Pnt")}
        dc = np.array([0.15, 0.3, 0.6, 0.9]) * numbers["Pdco"]
        theirs = pvlib.inverter.sandia(np.full(4, numbers["Vdco"]), dc, numbers)
        worst.append(float(np.abs(unit_of(card).ac_w(dc) / theirs - 1.0).max()))
    assert taken > 60
    assert np.quantile(worst, 0.95) < 0.005


def test_an_open_list_is_read_by_its_columns_and_by_words_of_the_name(tmp_path):
    text = (DATA / "sam-library-cec-modules-2019-03-05.csv").read_text(encoding="utf-8").splitlines()
    whole = [line for line in text[3:400] if line.split(",")[6] and line.split(",")[7]][:3]
    path = tmp_path / "list.csv"
    path.write_text("\n".join([*text[:3], *whole]), encoding="utf-8")
    assert len(read_cards(path)) == 3
    word = whole[1].split(",")[0]
    assert len(read_cards(path, word)) == 1
    with pytest.raises(BadInput, match="no row of the list"):
        read_cards(path, "no such words")
    path.write_text("\n".join([*text[:3], whole[0].replace(whole[0].split(",")[6], "", 1)]), encoding="utf-8")
    with pytest.raises(BadInput, match=r"row 4, column Length"):
        read_cards(path)
    with pytest.raises(BadInput, match="name the ones you want"):
        read_cards(DATA / "sam-library-cec-modules-2019-03-05.csv")
    assert "system_voltage_max_v" not in required_of("module")
