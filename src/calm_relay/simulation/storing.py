"""What storing loses by power, on series: what arrives in the cells, and what leaves them (definitions D3, decision 85)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from calm_relay.library.base import Watts
from calm_relay.plant import chain
from calm_relay.plant.bank import Bank
from calm_relay.plant.unit import Unit


@dataclass(frozen=True)
class StoringLoss:
    """Storing at P watts at the terminals: charging puts c·P − κ_c·P² − p₀ into the cells, giving takes P/d + κ_d·P² + p₀.

    Attributes
    ----------
    eta_c, eta_d : float
        c and d: the part that does not hang on the power. [0 to 1]
    take_square_per_w, give_square_per_w : float
        κ_c and κ_d. [1/W]
    self_w : float
        p₀, what the DC stage draws while it runs. [W]
    """

    eta_c: float
    eta_d: float
    take_square_per_w: float = 0.0
    give_square_per_w: float = 0.0
    self_w: float = 0.0

    def arrives_w(self, into_w: Watts) -> Watts:
        """Return what arrives in the cells of what charges at the terminals, a number or an array. [W]"""
        # Several banks side by side have arrays of them; of one bank, NumPy is slow to tell whether a number is nothing.
        if not any(beside if isinstance(beside, float) else np.any(beside) for beside in (self.take_square_per_w, self.self_w)):
            return self.eta_c * into_w
        lost: Any = self.take_square_per_w * into_w**2 + np.where(into_w > 0, self.self_w, 0.0)
        return cast("Watts", np.maximum(0.0, self.eta_c * into_w - lost))

    def leaves_w(self, given_w: Watts, beside_w: Watts | float = 0.0) -> Watts:
        """Return what leaves the cells for what goes into the inverter, and for standby and auxiliaries beside it. [W]"""
        lost: Any = self.give_square_per_w * given_w**2 + np.where(given_w > 0, self.self_w, 0.0)
        leaves: Watts = (given_w + beside_w) / self.eta_d + lost
        return leaves

    def into_w(self, arrives_w: float) -> float:
        """Return what must charge at the terminals so that so much arrives; where that cannot be, what brings most. [W]"""
        ask, square = arrives_w + self.self_w, self.take_square_per_w
        if square <= 0.0:
            return ask / self.eta_c
        return (self.eta_c - math.sqrt(max(0.0, self.eta_c**2 - 4.0 * square * ask))) / (2.0 * square)

    def given_w(self, leaves_w: float) -> float:
        """Return what so much from the cells gives at the terminals. [W]"""
        have, square = max(0.0, leaves_w - self.self_w), self.give_square_per_w
        return 2.0 * have / (1.0 / self.eta_d + math.sqrt(1.0 / self.eta_d**2 + 4.0 * square * have))


def loss_of(record: np.void | NDArray[np.void]) -> StoringLoss:
    """Return the storing loss that a kernel's node, or several side by side, are run with."""
    names = ("eta_c", "eta_d", "take_square_per_w", "give_square_per_w", "store_self_w")
    return StoringLoss(*(cast("float", record[name]) for name in names))


def bank_loss(unit: Unit, bank: Bank) -> StoringLoss:
    """Return the storing loss of a bank behind an inverter, at the bank's nominal volts."""
    most = chain.terminals_limit_w(chain.discharge_chain(unit, bank))
    return storing_loss(bank, chain.bank_ohms(bank), chain.stack_voltage_v(bank), math.inf if most is None else most)


def storing_loss(bank: Bank, ohms: float | None, volts: float, most_w: float) -> StoringLoss:
    """Return a bank's storing loss.

    A card that says at which current its round trip was measured, and its resistance or its DC stage, has a loss that follows the
    power: P²·R/V² of the cells, p₀ + b·P²/P_rated of the stage; the rest is in proportion, so that at the card's current the round
    trip is the card's (for equal power in and out). Else the round trip holds at every power (definitions D3). Lead-acid: what a
    discharge takes grows with the power by Peukert's rule, in a straight line to its value at the bank's limit (ours).

    Parameters
    ----------
    ohms : float or None
        Resistance of the bank. [Ω]
    volts : float
        Nominal volts of the bank. [V]
    most_w : float
        The most that the bank gives. [W]
    """
    card = bank.cells
    one_way = card.one_way_frac
    loss = StoringLoss(one_way, one_way)
    branches = bank.modules if card.stacking == "parallel" else 1
    stage = card.dc_stage_loss
    if card.round_trip_at_a is not None and (ohms is not None or stage is not None):
        rate = card.round_trip_at_a * branches * volts
        rated = rate if card.dc_stage_rated_w is None else card.dc_stage_rated_w
        square = (0.0 if ohms is None else ohms / volts**2) + (0.0 if stage is None else stage.b / rated)
        own = 0.0 if stage is None else stage.p_self_w
        at_rate = square * rate + own / rate
        if at_rate > 1.0 - one_way:  # the card's figures contradict each other: its round trip is the one that holds
            square, own, at_rate = (part * (1.0 - one_way) / at_rate for part in (square, own, at_rate))
        loss = StoringLoss(min(1.0, one_way + at_rate), 1.0 / max(1.0, 1.0 / one_way - at_rate), square, square, own)
    if card.peukert_exponent is not None and card.peukert_exponent > 1.0 and math.isfinite(most_w):
        usual = card.capacity_wh * bank.modules / card.capacity_hours_h
        more = max(0.0, (most_w / usual) ** (card.peukert_exponent - 1.0) - 1.0)
        loss = StoringLoss(
            loss.eta_c,
            loss.eta_d,
            loss.take_square_per_w,
            loss.give_square_per_w + more / (loss.eta_d * most_w),
            loss.self_w,
        )
    return loss


def absorption_end_frac(hours_h: float, width_wh: float, limit_w: float) -> float:
    """Return the part of the charge limit that is left at full, so that the way there takes so many hours. [0 to 1]

    The limit falls in a straight line with the charge: from L to e·L over W Wh takes W/L · ln(1/e)/(1 − e) hours.
    """
    ask = hours_h * limit_w / width_wh if width_wh > 0 else 0.0
    if ask <= 1.0:  # with the full limit it takes longer
        return 1.0
    low, high = 1e-4, 1.0 - 1e-9
    for _ in range(60):
        middle = math.sqrt(low * high)
        if math.log(1.0 / middle) / (1.0 - middle) > ask:
            low = middle
        else:
            high = middle
    return high
