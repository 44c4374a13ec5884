"""How warm a bank's cells are through the year, by where it stands; and what that leaves of its limits."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.models import Node, Site
from calm_relay.job.site_models import MountingSpot
from calm_relay.library.battery_card import BatteryCard
from calm_relay.packs.pack import Pack

Array = NDArray[np.float64]


def place_range_c(site: Site, place: str, pack: Pack) -> tuple[float | None, float | None]:
    """Return the lowest and highest air temperature at a mounting place; None where the site's extreme is not typed. [°C]

    What was measured at the place goes before the site's extremes.
    """
    spot = site.spot(place)
    low, high = _range_by_site(site, place, pack)
    return (low if spot is None or spot.low_c is None else spot.low_c, high if spot is None or spot.high_c is None else spot.high_c)


def _range_by_site(site: Site, place: str, pack: Pack) -> tuple[float | None, float | None]:
    if place == "indoors":
        return pack.value("place_indoors_low_c"), pack.value("place_indoors_high_c")
    warmer, hotter = _moves_k(place, pack)
    low = None if site.record_low_c is None else site.record_low_c + warmer
    return low, None if site.design_high_c is None else site.design_high_c + hotter


def _moves_k(place: str, pack: Pack) -> tuple[float, float]:
    """Return by how much a place is warmer than the air on the coldest night and on the hottest day. [K]"""
    if place == "garage":
        return pack.value("place_garage_low_k"), pack.value("place_garage_high_k")
    return 0.0, pack.value("place_outdoors_high_k") if place == "outdoors" else pack.value("place_sheltered_high_k")


def cells_c(air_c: Array, place: str, pack: Pack, step_h: float) -> Array:
    """Return the cells' temperature at a mounting place, (steps,). [°C]

    The air's mean over the hours that a bank's mass needs, moved as the place moves the extremes, in a straight line between the
    year's coldest and hottest; indoors it is held within the room's range (ours; the moves and hours are the pack's).
    """
    inside = place in ("indoors", "garage")
    hours = pack.value("place_inside_lag_h") if inside else pack.value("place_outdoors_lag_h")
    mean = trailing_mean(air_c, hours, step_h)
    if place == "indoors":
        held: Array = np.clip(mean, pack.value("place_indoors_low_c"), pack.value("place_indoors_high_c"))
        return held
    cold, hot = float(air_c.min()), float(air_c.max())
    warmer, hotter = _moves_k(place, pack)
    along = np.clip((mean - cold) / (hot - cold), 0.0, 1.0) if hot > cold else np.zeros_like(mean)
    moved: Array = mean + warmer + (hotter - warmer) * along
    return moved


def trailing_mean(values: Array, hours: float, step_h: float) -> Array:
    """Return each step's mean over the hours up to it, its own included; the year is a ring. (steps,) [any]"""
    width = max(1, round(hours / step_h))
    ring = np.concatenate((values[-width + 1 :], values)) if width > 1 else values
    total = np.concatenate(([0.0], np.cumsum(ring)))
    mean: Array = (total[width:] - total[:-width]) / width
    return mean


def limits_by_warmth(
    node: Node, battery: BatteryCard, air_c: Array, pack: Pack, step_h: float, spot: MountingSpot | None = None
) -> tuple[Array, Array, Array] | None:
    """Return what is left of a bank's charge and discharge limits, and its heating, (steps,) each. [0 to 1, 0 to 1, W]

    None where the place is not chosen, or where the cells are never cold or warm enough to matter. A heater draws its
    watts while the cells would be colder than where it starts, and holds them there. Extremes measured at the place bound it.
    """
    if node.battery is None or node.battery.place is None:
        return None
    warmth = cells_c(air_c, node.battery.place, pack, step_h)
    if spot is not None and (spot.low_c is not None or spot.high_c is not None):
        warmth = np.clip(warmth, spot.low_c, spot.high_c)
    heat = np.zeros_like(warmth)
    if battery.heating_w > 0 and battery.heating_below_c is not None:
        cold = warmth < battery.heating_below_c
        heat[cold] = battery.heating_w
        warmth = np.maximum(warmth, battery.heating_below_c)
    charge, give = battery.charge_shares(warmth), battery.discharge_shares(warmth)
    ones = np.ones_like(warmth)
    made = ones if charge is None else charge, ones if give is None else give, heat
    return made if heat.any() or any((part < 1.0).any() for part in made[:2]) else None
