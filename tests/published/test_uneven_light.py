"""Strings in part shadow and unlike strings in parallel, against the curves of pvlib's single-diode model."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from pvlib import pvsystem

from calm_relay.job.models import NamedLosses, StringGroup
from calm_relay.job.sky_models import HorizonPoint
from calm_relay.library.book import book_of
from calm_relay.library.cards import ModuleCard, OptimizerCard
from calm_relay.library.shipped import shipped_card
from calm_relay.plant.resolve import optimizer_of, string_row
from calm_relay.pv.array import GroupInput, best_voltage_v, combined_loss_frac, group_dc_w, parallel_loss_w
from calm_relay.pv.shade import horizon_elevation_deg, light_for_power, sky_view_frac
from calm_relay.pv.voltage import LitFace
from calm_relay.weather.solar import PlaneOfArray

# A made-up 60-cell module by its five parameters; its card's four points are those of the same curve.
CURVE = {"photocurrent": 9.5, "saturation_current": 1e-10, "resistance_series": 0.3, "resistance_shunt": 400.0, "nNsVth": 1.5}
POINTS = {name: float(value) for name, value in pvsystem.singlediode(**CURVE).items()}
BYPASS_V = 0.5


def module() -> ModuleCard:
    card = shipped_card("module-385")
    assert isinstance(card, ModuleCard)
    return card.model_copy(
        update={
            "voc_stc_v": POINTS["v_oc"], "vmp_stc_v": POINTS["v_mp"], "isc_stc_a": POINTS["i_sc"], "imp_stc_a": POINTS["i_mp"],
            "power_stc_w": POINTS["p_mp"], "alpha_isc_per_c": 0.0005, "beta_voc_per_c": -0.0029, "gamma_pmp_per_c": -0.0037,
        }
    )  # fmt: skip


def five(light: float, cell_c: float) -> tuple[float, ...]:
    """Return the five parameters at light and cell temperature (De Soto et al. 2006, through pvlib)."""
    return tuple(float(v) for v in pvsystem.calcparams_desoto(light, cell_c, 0.0005 * POINTS["i_sc"], 1.5, 9.5, 1e-10, 400.0, 0.3))


def string_watts(lights: list[float], cell_c: float = 45.0) -> float:
    """Return the most a string of modules gives, each with an ideal bypass of half a volt."""
    amps = np.linspace(0.001, 12.0, 4000)
    volts = np.zeros_like(amps)
    for light in lights:
        photo, dark, series, shunt, thermal = five(light, cell_c)
        one = pvsystem.v_from_i(amps, photo, dark, series, shunt, thermal)
        volts += np.maximum(np.where(np.isnan(one), -BYPASS_V, one), -BYPASS_V)
    return float((amps * volts).max())


@pytest.mark.parametrize(("beam", "diffuse"), [(700.0, 200.0), (300.0, 250.0), (800.0, 80.0)])
@pytest.mark.parametrize("shaded", [0, 1, 3, 6, 9, 12])
def test_a_string_in_part_shadow_gives_what_its_curves_give(beam: float, diffuse: float, shaded: int):
    # Twelve modules, some in shadow; pvlib's single diode with bypass. The rule leaves the bypass's half volt out: 1.6 %.
    whole = string_watts([beam + diffuse] * 12)
    curves = string_watts([diffuse] * shaded + [beam + diffuse] * (12 - shaded)) / whole
    rule = light_for_power(np.array([beam]), np.array([diffuse]), np.array([shaded / 12]), each_module=False)[0]
    assert rule / (beam + diffuse) == pytest.approx(curves, abs=0.016)
    own = light_for_power(np.array([beam]), np.array([diffuse]), np.array([shaded / 12]), each_module=True)[0]
    assert own >= rule - 1e-9
    assert own == pytest.approx(beam * (1 - shaded / 12) + diffuse)


def group(modules: int, face: str = "a") -> StringGroup:
    return StringGroup(id="s", face=face, module="module-385", tracker=1, modules_per_string=modules, other_loss_frac=0.0)


def item(light: float, modules: int, face: str = "a") -> GroupInput:
    lit = PlaneOfArray(np.array([light]), np.array([0.0]))
    lies_on = LitFace("rack", 0.0, None, None)
    return GroupInput(string_row(group(modules, face), book_of((module(),))), lies_on, lit)


def pair_loss(sets: list[tuple[float, float, int]]) -> float:
    """Return what strings of (light, cell °C, modules) lose in parallel, of what each alone gives."""
    volts = np.linspace(40.0, 520.0, 6000)
    together, apart = np.zeros_like(volts), 0.0
    for light, cell_c, modules in sets:
        amps = np.maximum(0.0, pvsystem.i_from_v(volts / modules, *five(light, cell_c)))
        together += amps
        apart += float((amps * volts).max())
    return 1.0 - float((together * volts).max()) / apart


@pytest.mark.parametrize(
    ("one", "other", "within"),
    [
        pytest.param((900.0, 12, "a"), (300.0, 12, "b"), 0.004, id="two faces, the same strings"),
        pytest.param((900.0, 12, "a"), (100.0, 12, "b"), 0.004, id="two faces, one nearly dark"),
        pytest.param((900.0, 12, "a"), (900.0, 11, "a"), 0.006, id="one module fewer"),
        pytest.param((900.0, 12, "a"), (900.0, 10, "a"), 0.015, id="two modules fewer"),
    ],
)
def test_unlike_strings_in_parallel_lose_what_their_curves_lose(one, other, within):
    items, air = [item(*one), item(*other)], np.array([20.0])
    power = [group_dc_w(i, air)[0] for i in items]
    lost = parallel_loss_w(items, power, air)
    assert lost is not None
    ours = float(lost[0] / (power[0][0] + power[1][0]))
    rise = 0.9 * (1 - module().efficiency_frac) / 29.0
    sets = [(light, 20.0 + rise * light, modules) for light, modules, _ in (one, other)]
    curves = pair_loss(sets)
    assert ours > 0
    assert ours == pytest.approx(curves, abs=within)
    assert parallel_loss_w([item(900.0, 12), item(900.0, 12)], power, air) is None


def test_best_voltage_follows_the_single_diode_down_to_dim_light():
    for light in (100.0, 300.0, 600.0, 1000.0):
        cell = 20.0 + 0.9 * (1 - module().efficiency_frac) / 29.0 * light
        photo, dark, series, shunt, thermal = five(light, cell)
        curves = 12 * float(pvsystem.singlediode(photo, dark, series, shunt, thermal)["v_mp"])
        assert best_voltage_v(item(light, 12), np.array([20.0]))[0] == pytest.approx(curves, rel=0.025)


def test_losses_by_name_combine_as_pvwatts_does():
    # NREL/TP-6A20-62641 (2014), from memory: 2/3/2/2/0.5/1.5/1/0/3 % give 14.08 %. Our names leave its shading (3 %) out.
    named = combined_loss_frac(NamedLosses())
    assert 1 - (1 - named) * (1 - 0.03) == pytest.approx(0.1408, abs=5e-5)


@pytest.mark.parametrize("height", [0.0, 10.0, 30.0, 60.0])
def test_sky_over_an_even_horizon(height: float):
    # Analytic: an even horizon of elevation h leaves cos² h of an evenly bright sky to a flat plane.
    even = tuple(HorizonPoint(azimuth_deg=a, elevation_deg=height) for a in (0, 90, 180, 270))
    assert sky_view_frac(even, 0.0, 0.0) == pytest.approx(np.cos(np.radians(height)) ** 2, abs=2e-3)


def test_horizon_is_joined_all_round():
    points = (HorizonPoint(azimuth_deg=350, elevation_deg=10), HorizonPoint(azimuth_deg=30, elevation_deg=20))
    asked = np.array([350.0, 0.0, 10.0, 30.0, 190.0])
    assert horizon_elevation_deg(points, asked) == pytest.approx([10.0, 12.5, 15.0, 20.0, 15.0])
    assert horizon_elevation_deg((), asked) == pytest.approx([0.0] * 5)


def test_optimizers_below_their_least_count_are_silent_and_cost_their_own_loss():
    card = OptimizerCard(
        id="opt", name="Optimizer", input_voltage_max_v=60, input_current_max_a=15, power_max_w=500, output_current_max_a=15,
        string_voltage_v=380, modules_min=8, modules_max=20, loss_frac=0.015,
    )  # fmt: skip
    bare = item(800.0, 10)
    with_it = replace(bare, group=replace(bare.group, optimizer=optimizer_of(card)))
    air = np.array([20.0])
    assert group_dc_w(with_it, air)[0][0] == pytest.approx(group_dc_w(bare, air)[0][0] * 0.985)
    short = replace(with_it, group=replace(with_it.group, modules_per_string=7))
    assert group_dc_w(short, air)[0][0] == 0.0
    assert group_dc_w(with_it, air)[1][0] == pytest.approx(group_dc_w(with_it, air)[0][0] / 380)
