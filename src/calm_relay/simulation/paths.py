"""What of a kilowatt-hour arrives, by the way it takes through a plan: each path with both its ends named, at a stated power."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from calm_relay.plant.station import BatteryRow
from calm_relay.plant.whole import Plant
from calm_relay.simulation.storing import bank_loss

DC_END, AC_END, GRID_END = "DC at the trackers", "AC at the load", "AC at the meter"


@dataclass(frozen=True)
class Step:
    """One stage of a path: its name and what it passes. [0 to 1]"""

    name: str
    passes_frac: float


@dataclass(frozen=True)
class Path:
    """A way through a plan and its battery node: where it starts and ends, its stages in order, and AC watts at its end."""

    node: str
    name: str
    start: str
    end: str
    end_w: float
    steps: tuple[Step, ...]

    @property
    def passes_frac(self) -> float:
        """What arrives of what starts. [0 to 1]"""
        out = 1.0
        for step in self.steps:
            out *= step.passes_frac
        return out

    @property
    def arithmetic(self) -> str:
        """The product in words and figures."""
        product = " · ".join(f"{step.passes_frac:.3f} {step.name}" for step in self.steps)
        return f"{product} = {self.passes_frac:.3f}, from {self.start} to {self.end}, {self.end_w / 1000:.2f} kW arriving"

    def as_dict(self) -> dict[str, Any]:
        """Return the path as plain data."""
        return {
            "node": self.node, "name": self.name, "start": self.start, "end": self.end, "end_w": self.end_w,
            "passes_frac": self.passes_frac,
            "steps": [{"name": s.name, "passes_frac": s.passes_frac} for s in self.steps], "arithmetic": self.arithmetic,
        }  # fmt: skip


def storage_paths(plant: Plant, ac_w: float) -> tuple[Path, ...]:
    """Return the ways into each battery and out to the load, when `ac_w` watts (at most the rating) arrive at the load.

    Stages are taken one after the other at the watts that flow through them; the battery's loss is that of the
    power, where its card says at which current its round trip was measured.
    From own strings by DC; from PV inverters by AC, one path for each; from the grid.
    """
    out: list[Path] = []
    for row in plant.banked:
        out += _of(row, plant, min(ac_w, row.unit.ac_rated_w))
    return tuple(out)


def _of(row: BatteryRow, plant: Plant, ac_w: float) -> list[Path]:
    unit = row.unit
    given = unit.dc_w(ac_w)
    inverter = Step("inverter", ac_w / given)
    loss = bank_loss(unit, row.bank)
    into = loss.into_w(loss.leaves_w(given))
    cells = Step("battery there and back", given / into)
    drawn = unit.charger_ac_w(into)
    charger = Step("charger", into / drawn)
    where, at = row.station.name, row.station.id
    paths = []
    steps: tuple[Step, ...]
    if row.station.strings:
        steps = (cells, inverter)
        paths.append(Path(node=at, name=f"own strings to {where}, by DC", start=DC_END, end=AC_END, end_w=ac_w, steps=steps))
    for node in plant.pv_only:
        if not node.strings:
            continue
        made = min(drawn, node.unit.ac_rated_w)
        pv = Step("PV inverter", made / node.unit.dc_w(made))
        name, steps = f"{node.name} to {where}, by AC", (pv, charger, cells, inverter)
        paths.append(Path(node=at, name=name, start=DC_END, end=AC_END, end_w=ac_w, steps=steps))
    steps = (charger, cells, inverter)
    paths.append(Path(node=at, name=f"grid to {where}", start=GRID_END, end=AC_END, end_w=ac_w, steps=steps))
    return paths
