"""Storing loss by power, Peukert's rule and absorption: by hand, and against sums of a different shape. Sources beside each."""

from __future__ import annotations

import math

import numpy as np
import pytest

from calm_relay.job.models import BatteryChoice
from calm_relay.library.cards import BatteryCard, LossTerms
from calm_relay.plant.bank import bank_of
from calm_relay.simulation.storing import absorption_end_frac, loss_of, storing_loss

# Made up: 51.2 V, 5.12 kWh, 10 mΩ, 95 % round trip at 50 A.
CARD = BatteryCard(
    id="x", name="x", source="made up", capacity_wh=5120.0, voltage_nominal_v=51.2, dc_round_trip_frac=0.95,
    internal_resistance_ohm=0.010, round_trip_at_a=50.0,
)  # fmt: skip
ONE = BatteryChoice(card="x", modules=1)


def test_at_the_cards_current_the_round_trip_is_the_cards():
    """Definitions D3: η_c = η_d = the root of the round trip, at the card's rate: 50 A × 51.2 V = 2,560 W."""
    loss = storing_loss(bank_of(CARD, ONE), 0.010, 51.2, 5000.0)
    assert loss.arrives_w(2560.0) == pytest.approx(2560.0 * math.sqrt(0.95))
    assert loss.leaves_w(2560.0) == pytest.approx(2560.0 / math.sqrt(0.95))


def test_ohmic_loss_follows_the_square_of_the_current():
    """By Ohm's law: 10 mΩ at 100 A lose 100 W, at 50 A 25 W, at 25 A 6.25 W; what is lost beside it is in proportion."""
    loss = storing_loss(bank_of(CARD, ONE), 0.010, 51.2, 5000.0)
    lost = [watts - loss.arrives_w(watts) for watts in (51.2 * amps for amps in (100.0, 50.0, 25.0))]
    beside = 2560.0 * (1.0 - math.sqrt(0.95)) - 25.0
    assert lost == pytest.approx([100.0 + 2.0 * beside, 25.0 + beside, 6.25 + 0.5 * beside])
    assert storing_loss(bank_of(CARD, ONE), None, 51.2, 5000.0).take_square_per_w == 0.0, (
        "without a resistance the round trip holds"
    )


def test_a_dc_stage_costs_most_at_light_load():
    """Three-term form (Schmidt and Sauer, 1996): 12 W fixed, 1 % of the rating at the rating, linear as the round trip leaves."""
    stage = LossTerms(p_self_w=12.0, a=0.01, b=0.01)
    card = CARD.model_copy(update={"internal_resistance_ohm": None, "dc_stage_loss": stage, "dc_stage_rated_w": 2560.0})
    loss = storing_loss(bank_of(card, ONE), None, 51.2, 5000.0)
    part = [loss.arrives_w(watts) / watts for watts in (100.0, 640.0, 2560.0)]
    assert part[0] < part[1] < part[2]
    assert part[2] == pytest.approx(math.sqrt(0.95))
    fixed_and_square = [(12.0 + 0.01 * watts**2 / 2560.0) / watts for watts in (100.0, 640.0)]
    rest = 1.0 - math.sqrt(0.95) - (12.0 + 25.6) / 2560.0
    assert part[:2] == pytest.approx([1.0 - x - rest for x in fixed_and_square])


def test_figures_that_contradict_each_other_keep_the_round_trip():
    card = CARD.model_copy(update={"dc_round_trip_frac": 0.99})  # 25 of 2,560 W are ohmic alone, one way
    loss = storing_loss(bank_of(card, ONE), 0.010, 51.2, 5000.0)
    assert loss.eta_c == pytest.approx(1.0)
    assert loss.arrives_w(2560.0) == pytest.approx(2560.0 * math.sqrt(0.99))


@pytest.mark.parametrize("watts", [20.0, 300.0, 2560.0, 4800.0])
def test_there_and_back_are_inverses(watts):
    card = CARD.model_copy(update={"dc_stage_loss": LossTerms(p_self_w=8.0, a=0.0, b=0.005)})
    loss = storing_loss(bank_of(card, ONE), 0.010, 51.2, 5000.0)
    assert loss.into_w(loss.arrives_w(watts)) == pytest.approx(watts)
    assert loss.given_w(loss.leaves_w(watts)) == pytest.approx(watts)
    record = {
        "eta_c": loss.eta_c, "eta_d": loss.eta_d, "take_square_per_w": loss.take_square_per_w,
        "give_square_per_w": loss.give_square_per_w, "store_self_w": loss.self_w,
    }  # fmt: skip
    series = np.array([watts, 0.0])
    assert loss_of(record).arrives_w(series) == pytest.approx([loss.arrives_w(watts), 0.0])  # type: ignore[arg-type]
    assert loss_of(record).leaves_w(series) == pytest.approx([loss.leaves_w(watts), 0.0])  # type: ignore[arg-type]


def test_peukert():
    """W. Peukert, 1897: t = H·(C/(I·H))^k. 100 Ah at 20 h, k 1.2: at 25 A 2.9 h, 72.5 Ah, not 4 h and 100 Ah."""
    hours = 20.0 * (100.0 / (25.0 * 20.0)) ** 1.2
    assert hours == pytest.approx(2.899, abs=0.001)
    card = CARD.model_copy(
        update={
            "chemistry": "lead-acid", "capacity_wh": 1200.0, "voltage_nominal_v": 12.0, "dc_round_trip_frac": 1.0,
            "internal_resistance_ohm": None, "peukert_exponent": 1.2,
        }
    )  # fmt: skip
    loss = storing_loss(bank_of(card, ONE), None, 12.0, 300.0)  # 25 A at 12 V is the most it gives
    assert 1200.0 / loss.leaves_w(300.0) == pytest.approx(hours)
    assert 1200.0 / loss.leaves_w(0.05 * 60.0) == pytest.approx(1200.0 / 3.0, rel=0.01), "hardly any at a trickle"


@pytest.mark.parametrize(("hours", "width", "limit"), [(4.0, 1000.0, 600.0), (3.0, 2000.0, 900.0)])
def test_absorption_takes_its_hours(hours, width, limit):
    """Bulk at the limit, then absorption at falling current (common practice), here added up second by second."""
    end, energy, seconds = absorption_end_frac(hours, width, limit), 0.0, 0
    while energy < width - 1e-6 * width and seconds < 1e6:
        energy += limit * (1.0 - (1.0 - end) * energy / width) / 3600.0
        seconds += 1
    assert seconds / 3600.0 == pytest.approx(hours, rel=0.002)
    assert absorption_end_frac(1.0, 1000.0, 900.0) == 1.0, "the limit itself takes longer"
