"""What a generator set gives where it stands, and what it burns."""

from __future__ import annotations

from calm_relay.library.cards import GeneratorCard
from calm_relay.plant.whole import Generator


def derated_va(card: GeneratorCard | Generator, altitude_m: float, air_c: float) -> float:
    """Return what a set gives at a height and in the heat: 3.5 % less per 300 m above 300 m, 1 % per 5.5 °C above 25 °C. [VA]

    Common practice.
    """
    height = 0.035 * max(0.0, altitude_m - 300.0) / 300.0
    heat = 0.01 * max(0.0, air_c - 25.0) / 5.5
    return card.rated_va * max(0.0, 1.0 - height - heat)


def litres_per_h(card: GeneratorCard | Generator, share_frac: float) -> float | None:
    """Return the fuel at a share of the rating, straight through full and half load; None where the card is silent. [l/h]"""
    full, half = card.fuel_full_l_per_h, card.fuel_half_l_per_h
    if full is None:
        return None
    if half is None:
        return full * (0.3 + 0.7 * share_frac)  # a third of it idling, common practice
    return max(0.0, 2.0 * half - full + 2.0 * (full - half) * share_frac)
