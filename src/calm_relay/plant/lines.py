"""The lines of a supply: phases of a three-phase one, legs of a split-phase one; and how loads and inverters lie on them."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.house_models import Appliance, House
from calm_relay.job.site_models import Supply
from calm_relay.plant.same import same

COUNT = {"single_phase": 1, "split_phase": 2, "three_phase": 3}
Shares = tuple[float, ...]


@dataclass(frozen=True)
class Lines:
    """What a supply's lines are: how many, and the volts of one against the neutral and of the supply as typed. [V]"""

    kind: str
    supply_v: float

    @property
    def count(self) -> int:
        """How many lines there are: 1, two legs, or three phases."""
        return COUNT[self.kind]

    @property
    def volts_v(self) -> float:
        """Volts of a line against the neutral. [V]"""
        return self.supply_v / (2.0 if self.kind == "split_phase" else 1.0)

    @property
    def names(self) -> tuple[str, ...]:
        """The lines' names."""
        return tuple(f"{'leg' if self.kind == 'split_phase' else 'phase'} {i + 1}" for i in range(self.count))

    @property
    def between_v(self) -> float:
        """Volts between the lines of three phases; of another supply its own. [V]"""
        return self.supply_v * (3.0**0.5 if self.count == 3 else 1.0)

    def watts_of(self, amps: float) -> float:
        """Return what so many amps on every line carry together, V·I·phases; a split phase counts its 240 V once. [W]"""
        return self.supply_v * amps * (3 if self.count == 3 else 1)

    def shares_of(self, line: str) -> Shares:
        """Return how something lies on the lines, their sum 1; a line that the supply does not have counts as the last. [1]"""
        return shares_of(line, self.count)


def lines_of(supply: Supply) -> Lines:
    """Return a supply's lines."""
    return same(Lines(supply.kind, supply.voltage_v))


def shares_of(line: str, count: int) -> Shares:
    """Return how something lies on so many lines, their sum 1; a line that is not there counts as the last. [1]"""
    if line == "all" or count == 1:
        return (1.0 / count,) * count
    at = min(int(line), count) - 1
    return tuple(1.0 if i == at else 0.0 for i in range(count))


def unit_shares(line: str, phases: int, units: int, count: int) -> Shares:
    """Return how an inverter lies on the lines. `auto`: alike on all for what has three phases, or on two legs; else the first.

    (lines,) [0 to 1]     Like units in a number that fills the phases are taken as spread over them.
    """
    if line != "auto":
        return shares_of(line, count)
    spread = count < 3 or phases == 3 or units >= count
    return shares_of("all" if spread else "1", count)


def load_shares(load: Appliance, count: int) -> Shares:
    """Return how a load lies on the lines: what has a three-phase motor on all of them, whatever is said of it. [0 to 1]"""
    three = load.motor is not None and load.motor.phases == 3
    return shares_of("all" if three else load.line, count)


def background_shares(house: House, count: int) -> Shares:
    """Return how the background lies on the lines; typed shares are scaled to a sum of 1. [1]"""
    typed = (house.background_lines_frac or (1.0, 1.0, 1.0))[:count]
    total = sum(typed)
    return tuple(share / total for share in typed) if total > 0 else (1.0 / count,) * count
