"""Broken cloud within the hour: a seeded process that is the same sky at every step.

It is drawn at 5 min. A longer step holds its means, a shorter one adds what the process does within 5 min. What is in it and
what is not stands in docs/weather.md.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS

Array = NDArray[np.float64]
CLOUD_MINUTES = 20.0  # correlation time of the process
DRAWN_S = 300
DEPTH = 0.55  # of the ratio to clear sky, at half-clear


def first_order(rng: np.random.Generator, count: int, lag: float) -> Array:
    """Return a normal first-order process of unit variance. (count,) [1]"""
    noise = rng.standard_normal(count) * np.sqrt(1.0 - lag * lag)
    out = np.empty(count)
    value = rng.standard_normal()
    for i, step in enumerate(noise.tolist()):
        value = lag * value + step
        out[i] = value
    return out


def flicker(rng: np.random.Generator, seed: int, step_s: int) -> Array:
    """Return the process at a step, −1 to 1: a year's steps from 60 s to an hour. (steps,) [1]"""
    drawn = first_order(rng, DAYS * 86_400 // DRAWN_S, _lag(DRAWN_S))
    if step_s >= DRAWN_S:
        means: Array = np.tanh(drawn).reshape(-1, step_s // DRAWN_S).mean(axis=1)
        return means
    parts = DRAWN_S // step_s
    within = first_order(np.random.default_rng((seed, step_s)), len(drawn) * parts, _lag(step_s)).reshape(-1, parts)
    within -= within.mean(axis=1, keepdims=True)
    held = 1.0 - float(within.var())  # of unit variance, what the 5-min means hold
    fine: Array = np.tanh((drawn[:, None] + within / np.sqrt(held)).ravel())
    return fine


def depth_of(ratio: Array) -> Array:
    """Return how far the process moves a ratio to clear sky: nothing when overcast or clear, most half-way. [1]"""
    out: Array = DEPTH * np.clip(4.0 * ratio * (1.05 - ratio), 0.0, 1.0)
    return out


def _lag(step_s: int) -> float:
    return float(np.exp(-step_s / 60.0 / CLOUD_MINUTES))
