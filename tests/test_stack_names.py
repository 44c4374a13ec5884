"""Names in a stacked picture: each in its own layer or above the stack, none on another or on a level; on random stacks."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.ui.views.stack_names import Layer, place_names


@pytest.mark.parametrize("seed", range(12))
def test_names_touch_neither_each_other_nor_a_level(seed):
    rng = np.random.default_rng(seed)
    hours, low, layers = np.linspace(14, 23, 109), np.zeros(109), []
    for i in range(int(rng.integers(1, 9))):
        thick = np.maximum(0.0, rng.uniform(0, 2) * np.sin((hours - rng.uniform(10, 16)) * rng.uniform(0.4, 1.5)))
        layers.append(Layer(f"load {i}", low, low + thick, float(rng.uniform(0.4, 1.6))))
        low = low + thick
    line, top, levels = 0.45, max(1.0, float(low.max()) * 1.5), [float(low.max()) * 1.1]
    made = place_names(hours, layers, line, top, levels)
    assert len({p.layer for p in made}) == len(made)
    for i, p in enumerate(made):
        layer, half = layers[p.layer], layers[p.layer].wide_h / 2
        here = (hours >= p.x - half) & (hours <= p.x + half)
        assert hours[0] - 1e-9 <= p.x - half
        assert p.x + half <= hours[-1] + 1e-9
        assert all(abs(p.y - level) >= 0.55 * line for level in levels)
        if p.to is None:
            assert layer.low[here].max() <= p.y <= layer.high[here].min()
        else:
            assert p.y > low[here].max()
            at = int(np.abs(hours - p.to[0]).argmin())
            assert layer.low[at] <= p.to[1] <= layer.high[at], "the line ends in the layer it is of"
        for other in made[:i]:
            assert abs(p.y - other.y) >= line - 1e-9 or abs(p.x - other.x) >= half + layers[other.layer].wide_h / 2 - 1e-9
