"""A generator set in an outage: what it gives where it stands, its fuel, and when it starts and stops by the battery's charge."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import in_window
from calm_relay.plant.whole import Generator
from calm_relay.year.generator_figures import derated_va, litres_per_h

Array = NDArray[np.float64]
USUAL_LEAST_FRAC = 0.3  # of its rating, below which a set loafs; common practice


@dataclass(frozen=True)
class GeneratorSet:
    """A set as a drill runs it: watts it gives, and by which charge, in which hours and for how long."""

    card: Generator
    gives_w: float
    start_frac: float
    stop_frac: float
    quiet_start_h: float | None
    quiet_end_h: float | None
    locks_pv_out: bool

    @property
    def least_w(self) -> float:
        """What it should be loaded with at least. [W]"""
        least = USUAL_LEAST_FRAC if self.card.least_load_frac is None else self.card.least_load_frac
        return least * self.card.rated_va * self.card.power_factor_frac

    def quiet(self, clock_hour: Array) -> NDArray[np.bool_]:
        """Return which clock hours are quiet ones. (steps,) [yes or no]"""
        if self.quiet_start_h is None or self.quiet_end_h is None:
            return np.zeros(len(clock_hour), dtype=bool)
        return in_window(clock_hour, self.quiet_start_h, self.quiet_end_h)


def generator_set(card: Generator, altitude_m: float, air_c: float) -> GeneratorSet:
    """Return a set as it runs at a height and an air temperature. [m], [°C]"""
    return GeneratorSet(
        card=card,
        gives_w=derated_va(card, altitude_m, air_c) * card.power_factor_frac,
        start_frac=card.start_soc_frac,
        stop_frac=card.stop_soc_frac,
        quiet_start_h=card.quiet_start_h,
        quiet_end_h=card.quiet_end_h,
        locks_pv_out=card.pv_locked_out == "yes",
    )


class SetCourse:
    """A set in the course of an outage: whether it runs, what it burnt, when it starts and stops by charge, hours and tank."""

    def __init__(self, unit: GeneratorSet, clock_hour: Array, step_h: float) -> None:
        self.unit, self.step_h = unit, step_h
        self.quiet = unit.quiet(clock_hour)
        self.running, self.litres, self._gave_wh, self._steps = False, 0.0, 0.0, 0

    @property
    def dry(self) -> bool:
        """Whether the tank is empty."""
        return self.unit.card.tank_l is not None and self.litres >= self.unit.card.tank_l - 1e-9

    def burnt_l(self, gave_w: Array) -> Array:
        """Return the fuel of each step; none where the card is silent. (steps,) [l]"""
        half, full = litres_per_h(self.unit.card, 0.5), litres_per_h(self.unit.card, 1.0)
        if half is None or full is None:
            return np.zeros(len(gave_w))
        share = gave_w / max(self.unit.gives_w, 1e-9)
        burnt: Array = np.maximum(0.0, full + 2.0 * (full - half) * (share - 1.0)) * self.step_h
        return burnt

    def first_turn(self, begin: int, charge: Array, gave_w: Array) -> int | None:
        """Return the first of these steps after which it starts, or stops; None where it does not."""
        if self.running:
            tank = self.unit.card.tank_l
            burnt = np.cumsum(self.burnt_l(gave_w)) + self.litres
            empty = np.zeros(len(charge), dtype=bool) if tank is None else burnt >= tank - 1e-9
            turns = (charge >= self.unit.stop_frac) | self.quiet[begin : begin + len(charge)] | empty
        else:
            turns = (charge < self.unit.start_frac) & ~self.quiet[begin : begin + len(charge)]
            if self.dry:
                return None
        at = np.flatnonzero(turns)
        return int(at[0]) if len(at) else None

    def turns_now(self, step: int, charge: float) -> bool:
        """Return whether it starts or stops after a step that is done."""
        if self.running:
            return charge >= self.unit.stop_frac or bool(self.quiet[step]) or self.dry
        return charge < self.unit.start_frac and not self.quiet[step] and not self.dry

    def account(self, gave_w: Array) -> None:
        """Take in what it gave in steps that are done. [W]"""
        self.litres += float(self.burnt_l(gave_w).sum())
        self._gave_wh += float(gave_w.sum()) * self.step_h
        self._steps += len(gave_w)

    def turn(self, step: int, charge: float) -> str:
        """Start or stop; returns what is said of it, with the charge it happens at."""
        self.running = not self.running
        if self.running:
            self._gave_wh, self._steps = 0.0, 0
            return f"the generator starts at {charge * 100:.0f} % of charge"
        why = "the tank is empty" if self.dry else "quiet hours begin" if self.quiet[step] else "the battery is charged"
        mean_w = self._gave_wh / max(self._steps * self.step_h, 1e-9)
        loafs = f"; it gave {mean_w / 1000:.1f} kW on the mean, less than the {self.unit.least_w / 1000:.1f} kW it wants"
        return f"the generator stops: {why}, {charge * 100:.0f} %{loafs if mean_w < self.unit.least_w else ''}"
