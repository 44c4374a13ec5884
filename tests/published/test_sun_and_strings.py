"""Sun, diffuse split and string voltages against published values; each names its source."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pandas as pd
import pytest

from calm_relay.calendar import year_calendar
from calm_relay.library.cards import ModuleCard
from calm_relay.library.shipped import shipped_card
from calm_relay.packs.pack import pack_named
from calm_relay.pv.limits import fuse_for
from calm_relay.pv.voltage import cell_rise_k, cold_voc_factor, cold_voc_v, hot_vmp_v
from calm_relay.weather.solar import mid_step_times, split_diffuse, sun_position

PACK = pack_named("international")


def test_sun_position_of_the_published_worked_example():
    # Reda and Andreas, NREL/TP-560-34302, worked example: 2003-10-17 12:30:30 UTC−7, 820 mbar, 11 °C, ΔT 67 s.
    times = pd.DatetimeIndex([dt.datetime(2003, 10, 17, 19, 30, 30, tzinfo=dt.UTC)])
    where = sun_position(times, 39.742476, -105.1786, 1830.14, pressure=82_000.0, temperature=11.0, delta_t=67.0)
    assert where["apparent_zenith"][0] == pytest.approx(50.11162, abs=2e-4)
    assert where["zenith"][0] == pytest.approx(50.12795, abs=2e-4)
    assert where["azimuth"][0] == pytest.approx(194.34024, abs=2e-4)


def test_sun_is_taken_at_mid_step_of_local_standard_time():
    # Definitions D1: row 0 of a 5-min year in Auckland (UTC+12 standard) is centred on 00:02:30, 31 December 12:02:30 UTC.
    times = mid_step_times(year_calendar(2025, "Pacific/Auckland"))
    assert times[0] == pd.Timestamp("2024-12-31 12:02:30", tz="UTC")
    # A half-hour zone: Adelaide is UTC+9:30 in standard time though January has daylight saving.
    assert mid_step_times(year_calendar(2025, "Australia/Adelaide"))[0] == pd.Timestamp("2024-12-31 14:32:30", tz="UTC")


def test_diffuse_split_of_erbs():
    # Erbs, Klein and Duffie (1982) through pvlib: GHI 500 W/m², zenith 60°, day 173: DHI 88.9 W/m².
    dni, dhi = split_diffuse(np.array([500.0]), np.array([60.0]), np.array([173]))
    assert dhi[0] == pytest.approx(88.9, abs=0.1)
    assert dhi[0] + dni[0] * np.cos(np.radians(60.0)) == pytest.approx(500.0, abs=0.1)


# NEC table 690.7(A), crystalline silicon, from memory.
@pytest.mark.parametrize(
    ("low_c", "factor"),
    [
        (24, 1.02), (20, 1.02), (19, 1.04), (10, 1.06), (9, 1.08), (0, 1.10), (-1, 1.12), (-5, 1.12), (-6, 1.14), (-10, 1.14),
        (-11, 1.16), (-20, 1.18), (-21, 1.20), (-26, 1.21), (-31, 1.23), (-36, 1.25), (-40, 1.25), (-41, None), (26, 1.0),
    ],
)  # fmt: skip
def test_cold_voltage_factors(low_c, factor):
    assert cold_voc_factor(low_c, PACK.rows("cold_voc")) == factor


def module(**change: object) -> ModuleCard:
    card = shipped_card("module-430")
    assert isinstance(card, ModuleCard)
    return card.model_copy(update=change)


def test_cold_voltage_by_hand():
    # By hand: 14 × 41.0 V × (1 − 0.0027 × (−10 − 25)) = 574 × 1.0945 = 628.2 V; with the table 574 × 1.14 = 654.4 V.
    card = module(voc_stc_v=41.0, beta_voc_per_c=-0.0027)
    assert cold_voc_v(card, 14, -10, PACK.rows("cold_voc")) == pytest.approx(628.243, abs=1e-3)
    assert cold_voc_v(module(voc_stc_v=41.0, beta_voc_per_c=None), 14, -10, PACK.rows("cold_voc")) == pytest.approx(
        654.36, abs=1e-2
    )


# Cell rise at 1000 W/m² and 21 % by mounting, common practice: about 25/28/36/47 K.
@pytest.mark.parametrize(("mounting", "rise"), [("rack", 24.5), ("ventilated", 28.4), ("close_roof", 35.6), ("insulated", 47.4)])
def test_cell_rise_by_mounting(mounting, rise):
    assert cell_rise_k(1000.0, 0.21, mounting) == pytest.approx(rise, abs=0.1)


def test_string_fuse_factor_and_standard_size():
    # NEC 690.8 and 690.9, from memory: 1.25 × 1.25 = 1.5625; by hand 1.5625 × 10.1 A = 15.8 A, so 16 A, with a 20 A module.
    assert PACK.value("string_fuse_factor") == pytest.approx(1.25 * 1.25)
    assert fuse_for(PACK, 10.1, 20.0) == 16.0
    assert fuse_for(PACK, 14.0, 20.0) is None, "21.9 A is more than the module's 20 A"


def test_hot_working_voltage_uses_gamma_less_alpha_not_beta():
    # By hand: 8 × 33.0 V × (1 + (−0.0034 − 0.0005)·(70 − 25)) = 264 × 0.8245 = 217.7 V.
    card = module(vmp_stc_v=33.0, gamma_pmp_per_c=-0.0034, alpha_isc_per_c=0.0005, beta_voc_per_c=-0.0025)
    assert hot_vmp_v(card, 8, 70.0) == pytest.approx(217.668, abs=1e-3)
