"""How warm a bank's cells are through the year, by where it stands; and what that leaves of its limits."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.models import Site
from calm_relay.packs.pack import Pack
from calm_relay.plant.bank import Cells, Rows
from calm_relay.year.inputs import PlaceAir, place_moves_k

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
    warmer, hotter = place_moves_k(place, pack)
    low = None if site.record_low_c is None else site.record_low_c + warmer
    return low, None if site.design_high_c is None else site.design_high_c + hotter


def cells_c(air_c: Array, place: PlaceAir, step_h: float) -> Array:
    """Return the cells' temperature at a mounting place, (steps,). [°C]

    The air's mean over the hours that a bank's mass needs, moved as the place moves the extremes, in a straight line between the
    year's coldest and hottest; indoors it is held within the room's range (ours; the moves and hours are the pack's).
    """
    mean = trailing_mean(air_c, place.lag_h, step_h)
    if place.held_c is not None:
        held: Array = np.clip(mean, *place.held_c)
        return held
    cold, hot = float(air_c.min()), float(air_c.max())
    warmer, hotter = place.warmer_k
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


def limits_by_warmth(cells: Cells, air_c: Array, place: PlaceAir, step_h: float) -> tuple[Array, Array, Array] | None:
    """Return what is left of a bank's charge and discharge limits, and its heating, (steps,) each. [0 to 1, 0 to 1, W]

    None where the cells are never cold or warm enough to matter. A heater draws its watts while the cells would be colder than
    where it starts, and holds them there. Extremes measured at the place bound it.
    """
    warmth = cells_c(air_c, place, step_h)
    if place.low_c is not None or place.high_c is not None:
        warmth = np.clip(warmth, place.low_c, place.high_c)
    heat = np.zeros_like(warmth)
    if cells.heating_w > 0 and cells.heating_below_c is not None:
        cold = warmth < cells.heating_below_c
        heat[cold] = cells.heating_w
        warmth = np.maximum(warmth, cells.heating_below_c)
    charge, give = _shares_at(cells.charge_rows, warmth), _shares_at(cells.discharge_over_temperature, warmth)
    made = charge, give, heat
    return made if heat.any() or any((part < 1.0).any() for part in made[:2]) else None


def _shares_at(rows: Rows, warmth_c: Array) -> Array:
    """Return what a table allows at each temperature, nothing outside it; all of it where there is no table. (n,) [0 to 1]"""
    if not rows:
        return np.ones_like(warmth_c)
    shares: Array = np.interp(warmth_c, [row[0] for row in rows], [row[1] for row in rows], left=0.0, right=0.0)
    return shares
