"""Where the names of a stack's layers stand: in the layer where they fit, else beside the stack with a line to it. No Qt here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Layer:
    """A layer by name: its lower and upper edge over the stack's hours, and how wide its name is there. [kW], [h]"""

    name: str
    low: Array
    high: Array
    wide_h: float


@dataclass(frozen=True)
class Placed:
    """A name's middle, and where a line from it ends; None: it stands in its layer. [h], [kW]"""

    layer: int
    x: float
    y: float
    to: tuple[float, float] | None


def place_names(
    hours: Array, layers: Sequence[Layer], line_kw: float, top_kw: float, levels_kw: Sequence[float] = ()
) -> tuple[Placed, ...]:
    """Return a place for each name that has one: none touches another, and each stands in its own layer or above the stack.

    Parameters
    ----------
    hours : ndarray (n,)
        [h]
    layers : sequence of Layer
    line_kw, top_kw : float
        Height of a line of text, and of the picture. [kW]
    levels_kw : sequence of float
        Lines across the picture that no name stands on. [kW]
    """
    taken: list[tuple[float, float, float]] = []  # x, y, half width
    out: list[Placed] = []
    total = layers[-1].high if layers else np.zeros_like(hours)

    def free(x: float, y: float, half: float) -> bool:
        if any(abs(y - level) < 0.55 * line_kw for level in levels_kw):
            return False
        return all(abs(y - b) >= line_kw or abs(x - a) >= half + other for a, b, other in taken)

    for number, layer in enumerate(layers):
        thick, half = layer.high - layer.low, layer.wide_h / 2
        if float(thick.max()) <= 0:
            continue
        order = np.argsort(-thick, kind="stable")
        spot = None
        for at in order[: max(1, len(order) // 2)]:
            x = float(min(max(hours[at], hours[0] + half), hours[-1] - half))
            here = (hours >= x - half) & (hours <= x + half)
            low, high = float(layer.low[here].max()), float(layer.high[here].min())
            y = (low + high) / 2
            if high - low >= line_kw and free(x, y, half):
                spot = Placed(number, x, y, None)
                break
        if spot is None:
            at = int(order[0])
            end = (float(hours[at]), float(layer.low[at] + thick[at] / 2))
            spot = _beside(hours, total, number, end, half, line_kw, top_kw, free)
        if spot is not None:
            out.append(spot)
            taken.append((spot.x, spot.y, half))
    return tuple(out)


def _beside(
    hours: Array,
    total: Array,
    number: int,
    end: tuple[float, float],
    half: float,
    line_kw: float,
    top_kw: float,
    free: Callable[[float, float, float], bool],
) -> Placed | None:
    """Return a place above the stack, as near as may be to where the line ends."""
    xs = np.linspace(hours[0] + half, hours[-1] - half, 60)
    best: tuple[float, Placed] | None = None
    for y in np.arange(top_kw - line_kw / 2, line_kw / 2, -line_kw):
        for x in xs:
            here = (hours >= x - half) & (hours <= x + half)
            if float(total[here].max()) + 0.8 * line_kw > y or not free(float(x), float(y), half):
                continue
            far = abs(float(x) - end[0]) / float(hours[-1] - hours[0]) + 0.3 * abs(float(y) - end[1]) / top_kw
            if best is None or far < best[0]:
                best = far, Placed(number, float(x), float(y), end)
    return None if best is None else best[1]
