"""Figures that a field takes but that are hardly meant: what is usual there, and asking back before one is taken.

Bounds of the models refuse what cannot be; these only doubt. All are ours and wide: what lies outside is nearly always another unit
or a slip of the finger. [core units]
"""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.errors import BadInput, Fault
from calm_relay.job.fields import pattern_of
from calm_relay.units import format_quantity as show

KINDS: dict[str, tuple[float, float]] = {
    "power_w": (1.0, 1e6), "apparent_va": (1.0, 1e6), "energy_wh": (1.0, 1e7), "voltage_v": (5.0, 1500.0),
    "current_a": (0.05, 2000.0), "temperature_c": (-60.0, 90.0), "length_m": (0.05, 1000.0), "price_per_kwh": (-50.0, 50.0),
    "price_per_day": (-1000.0, 1000.0),
    "money": (-1e8, 1e8), "years": (0.0, 60.0),
}  # fmt: skip
PATHS: dict[str, tuple[float, float]] = {
    "site.supply.voltage_v": (100.0, 500.0), "site.supply.service_a": (5.0, 1000.0), "site.record_low_c": (-55.0, 25.0),
    "site.design_high_c": (10.0, 55.0), "site.hot_cell_c": (30.0, 90.0), "site.dc_ceiling_v": (50.0, 1500.0),
    "site.network.dc_ac_ratio_max": (0.5, 3.0), "site.network.rebate_dc_ac_ratio_max": (0.5, 3.0),
    "house.background.energy_wh_per_day": (50.0, 1e6), "house.appliances[].running_w": (1.0, 1e5),
    "house.appliances[].motor.lra_a": (0.5, 1000.0), "house.appliances[].motor.voltage_v": (90.0, 500.0),
    "house.appliances[].balance_c": (0.0, 35.0), "site.weather.temperature_mean_c": (-45.0, 45.0),
    "plans[].nodes[].strings[].fuse_a": (2.0, 100.0), "plans[].nodes[].branch_breaker_a": (5.0, 125.0),
    "site.board.fault_level_a": (50.0, 1e5), "site.board.breaks_a": (500.0, 2e5),
    "site.spots[].flood_m": (0.0, 10.0), "site.spots[].lowest_m": (0.0, 10.0), "site.spots[].carries_kg": (5.0, 20_000.0),
    "faces[].eave_m": (0.5, 200.0), "faces[].slope_m": (0.5, 100.0), "faces[].setback_m": (0.0, 10.0),
}  # fmt: skip


def usual_range(path: str, kind: str | None) -> tuple[float, float] | None:
    """Return the range a field's figures usually lie in, by its path, else by its kind; None: nothing is doubted. [core units]"""
    return PATHS.get(pattern_of(path)) or KINDS.get(kind or "")


def doubt(path: str, kind: str | None, value: float | None) -> tuple[str, str] | None:
    """Return (what is odd, what is usual) of a figure that is hardly meant, in the units in use; None where it may well be.

    Zero says that there is none, and is never doubted.
    """
    usual = usual_range(path, kind)
    if value is None or usual is None or kind is None or value == 0 or usual[0] <= value <= usual[1]:
        return None
    return f"{show(value, kind)} is hardly meant here", f"usual is {show(usual[0], kind)} to {show(usual[1], kind)}"


@dataclass
class AskingBack:
    """Doubts a figure once: the same one given again is taken."""

    asked: tuple[str, float] | None = None

    def settled(self) -> None:
        """Forget the figure asked about: it was put back, or taken."""
        self.asked = None

    def check(self, path: str, kind: str | None, value: float | None) -> None:
        """Raise BadInput for a figure that is hardly meant, unless it is the one just asked about."""
        odd = doubt(path, kind, value)
        if odd is None or value is None or self.asked == (path, value):
            self.asked = None
            return
        self.asked = (path, value)
        raise BadInput([Fault("", path, odd[0], f"{odd[1]}; Enter again takes it as it is")])
