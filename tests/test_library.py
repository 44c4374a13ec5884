"""The shipped library: what its script makes, with physics that holds, limits in order, and enough for every kind of supply."""

from __future__ import annotations

import itertools
from importlib import resources

import numpy as np
import pytest

from calm_relay.equipment.efficiency import card_fit
from calm_relay.equipment.making import written
from calm_relay.equipment.making.batteries import CELL
from calm_relay.library.cards import (
    AcUnit,
    BatteryCard,
    BatterySideUnit,
    Card,
    GeneratorCard,
    HybridCard,
    ModuleCard,
    TransferCard,
)
from calm_relay.library.shipped import shipped_cards
from calm_relay.plant.bank import cells_of
from calm_relay.rules.offers import connects

CARDS = shipped_cards()
CLASSES = ("pv_inverter", "module_inverter", "hybrid", "battery_inverter", "transfer", "timer_charger", "generator", "meter")


def of(kind: type) -> list:
    return [card for card in CARDS if isinstance(card, kind)]


def test_the_file_is_what_the_script_makes():
    assert resources.files("calm_relay.library").joinpath("shipped_cards.json").read_bytes() == written()
    assert 110 <= len(CARDS) <= 160
    assert len({card.id for card in CARDS}) == len({card.name for card in CARDS}) == len(CARDS)
    assert {card.source for card in CARDS} == {"invented, generic"}


@pytest.mark.parametrize("kind", CLASSES)
@pytest.mark.parametrize("supply", ["single_phase", "split_phase", "three_phase"])
def test_at_least_three_cards_of_each_class_fit_each_supply(kind, supply):
    assert sum(card.kind == kind and connects(card, supply) for card in CARDS) >= 3


@pytest.mark.parametrize("card", of(ModuleCard), ids=lambda card: card.id)
def test_a_module_keeps_to_physics(card: ModuleCard):
    assert card.power_stc_w == pytest.approx(card.vmp_stc_v * card.imp_stc_a, rel=0.01)
    assert 0.70 < card.power_stc_w / (card.voc_stc_v * card.isc_stc_a) < 0.86, "fill factor of silicon and thin film"
    assert 0.75 < card.vmp_stc_v / card.voc_stc_v < 0.88
    assert 0.10 < card.efficiency_frac < 0.25, "above 27 % no single junction of silicon in a module"
    assert card.beta_voc_per_c is not None
    # A colder cell gives more power by more volts and hardly less current: γ lies below β of the open volts and above −0.5 %/K.
    assert -0.005 < card.gamma_pmp_per_c <= card.beta_voc_per_c + card.alpha_isc_per_c + 1e-9
    assert card.series_fuse_max_a is None or card.series_fuse_max_a >= 1.25 * card.isc_stc_a
    assert card.weight_kg is not None
    assert 9 < card.weight_kg / (card.length_m * card.width_m) < 17


@pytest.mark.parametrize("card", of(AcUnit), ids=lambda card: card.id)
def test_an_inverter_keeps_its_limits_in_order(card: AcUnit):
    fit = card_fit(card)
    assert fit is not None
    assert fit.worst_frac < 1e-4, "the sheet's efficiencies are those of its loss"
    assert 0.85 < (card.european_efficiency_frac or 0) <= (card.peak_efficiency_frac or 0) < 0.995
    assert card.night_w is not None
    assert card.night_w <= max(1.0, 0.35 * card.loss.p_self_w)
    for tracker in getattr(card, "trackers", ()):
        assert tracker.mppt_min_v < (tracker.start_v or tracker.mppt_min_v + 1) < tracker.mppt_max_v < card.dc_voltage_max_v + 1
        assert tracker.short_circuit_current_a > tracker.working_current_a
        assert tracker.mppt_max_v * tracker.working_current_a * len(card.trackers) >= 0.9 * card.ac_rated_w, "it can be fed"
    if isinstance(card, HybridCard):
        assert (card.dc_ac_ratio_max or 0) <= (card.dc_ac_ratio_max_with_battery or 9)
    if isinstance(card, BatterySideUnit):
        assert card.battery_voltage_min_v < card.battery_voltage_max_v
        assert card.grid_forming == (card.offgrid_continuous_va is not None)
        assert (card.offgrid_continuous_va or 0) <= (card.offgrid_peak_va or 0)
        breakers = [row.breaker_a for row in card.backup_breakers]
        assert breakers == sorted(breakers)
    assert card.lug_min_mm2 is not None
    assert card.lug_max_mm2 is not None
    assert card.lug_min_mm2 < card.lug_max_mm2


@pytest.mark.parametrize("card", of(BatteryCard), ids=lambda card: card.id)
def test_a_battery_keeps_to_its_cells(card: BatteryCard):
    empty, full = cells_of(card).window_v
    assert empty < card.voltage_nominal_v < full
    assert card.cells_in_series is not None
    assert card.voltage_nominal_v == pytest.approx(card.cells_in_series * CELL[card.chemistry][0], rel=0.01)
    amp_hours = card.capacity_wh / card.voltage_nominal_v
    assert card.charge_max_a is not None
    assert card.discharge_max_a is not None
    assert 0.1 <= card.charge_max_a / amp_hours <= card.discharge_max_a / amp_hours <= 1.3
    assert card.internal_resistance_ohm is not None
    drop = card.charge_max_a * card.internal_resistance_ohm / card.voltage_nominal_v
    assert card.dc_round_trip_frac <= (1 - drop) / (1 + drop), "no better than its resistance lets it be"
    assert (card.dc_round_trip_frac > 0.92) == (not card.is_lead)
    assert card.soc_max_frac - card.soc_min_frac <= (0.6 if card.is_lead else 1.0)
    depths, cycles = zip(*sorted((row.depth_frac, row.cycles) for row in card.depth_life), strict=True)
    assert all(np.diff(cycles) < 0), "deeper cycles are fewer"
    assert card.is_lead or all(np.diff(np.multiply(depths, cycles)) < 1e-9), "lithium delivers more in all when cycled less deep"
    shares = [row.share_frac for row in card.charge_over_temperature]
    assert max(shares) == 1.0
    assert card.is_lead or shares[0] == 0.0, "lithium takes no charge in the frost"
    assert card.weight_kg is not None
    assert 7 < card.weight_kg / (card.capacity_wh / 1000) < 40


def test_fuel_and_ranges_of_the_rest():
    for card in of(GeneratorCard):
        assert card.fuel_half_l_per_h < card.fuel_full_l_per_h < 2 * card.fuel_half_l_per_h, "half load burns more than half"
        assert (card.peak_va or 0) >= card.rated_va
    amps = {card.pass_through_a for card in of(TransferCard)}
    assert min(amps) <= 40
    assert max(amps) >= 200


def scale_free(card: Card) -> tuple[float, ...]:
    """A card's figures without its size: powers over the largest power, volts over the largest volts, and so on."""
    groups: dict[str, list[float]] = {}

    def take(name: str, value: object) -> None:
        if isinstance(value, dict):
            for key, inner in value.items():
                take(key, inner)
        elif isinstance(value, list | tuple):
            groups.setdefault("count", []).append(float(len(value)))
            for inner in value:
                take(name, inner)
        elif isinstance(value, float | int):
            groups.setdefault(name.rpartition("_")[2], []).append(float(value))

    take("", card.model_dump(exclude={"height_m", "width_m", "depth_m", "weight_kg", "warranty_years"}))
    out: list[float] = []
    for unit in sorted(groups):
        row = np.array(groups[unit])
        largest = float(np.abs(row).max())
        out += [*(row / largest if unit in ("w", "v", "a", "va", "wh", "kg", "mm2", "m") and largest > 0 else row)]
    return tuple(out)


def test_no_two_cards_differ_only_by_scale():
    for kind in {card.kind for card in CARDS}:
        rows = [(card.id, scale_free(card)) for card in CARDS if card.kind == kind]
        for (a, one), (b, two) in itertools.combinations(rows, 2):
            assert len(one) != len(two) or not np.allclose(one, two, rtol=0.005), (a, b)
