"""Quick sums of the trade, each with its own arithmetic: shown beside the simulation, and used before there is one."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

NIGHT_SHARE_LOW, NIGHT_SHARE_HIGH = 0.6, 0.8  # of daily use, a school of sizing; common practice


@dataclass(frozen=True)
class Sum:
    """A figure in a core unit, its kind of quantity, the line that makes it, and why a simulation says otherwise."""

    name: str
    value: float
    quantity: str
    arithmetic: str
    parts: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Return the sum as plain data."""
        return asdict(self)


def window_draws(power_w: float, hours_h: float, efficiency_frac: float) -> tuple[Sum, Sum]:
    """Return what a charge window draws at AC and what it stores. [Wh]"""
    drawn = power_w * hours_h
    line = f"{power_w / 1000:g} kW × {hours_h:g} h = {drawn / 1000:.4g} kWh"
    stored = f"{drawn / 1000:.4g} kWh × {efficiency_frac:g} = {drawn * efficiency_frac / 1000:.4g} kWh"
    return Sum("drawn at AC", drawn, "energy_wh", line), Sum("stored", drawn * efficiency_frac, "energy_wh", stored)


def terminals_give(amps_a: float, volts_v: float, hours_h: float) -> Sum:
    """Return what a current at the battery's terminals brings in some hours. [Wh]"""
    energy = amps_a * volts_v * hours_h
    return Sum("at the terminals", energy, "energy_wh", f"{amps_a:g} A × {volts_v:g} V × {hours_h:g} h = {energy / 1000:.4g} kWh")


def backup_hours(
    usable_wh: float, load_w: float, efficiency_frac: float = 1.0, idle_w: float = 0.0, auxiliary_w: float = 0.0
) -> Sum:
    """Return how long a battery carries a steady load: C/(P/η + idle + auxiliaries). [h]"""
    drawn = load_w / efficiency_frac + idle_w + auxiliary_w
    parts = f"{load_w:.0f} W" if efficiency_frac == 1.0 else f"{load_w:.0f} W / {efficiency_frac:g}"
    parts += "".join(f" + {watts:g} W" for watts in (idle_w, auxiliary_w) if watts)
    hours = usable_wh / drawn
    return Sum("backup time", hours, "hours_h", f"{usable_wh / 1000:g} kWh / ({parts}) = {hours:.1f} h")


def night_battery(day_wh: float, after_sunset_wh: float) -> tuple[Sum, Sum, Sum]:
    """Return battery sizes by night use and by 60 to 80 % of daily use. [Wh]"""
    low, high = NIGHT_SHARE_LOW * day_wh, NIGHT_SHARE_HIGH * day_wh
    return (
        Sum("by night use", after_sunset_wh, "energy_wh", f"{after_sunset_wh / 1000:.1f} kWh are used after sunset"),
        Sum("60 % of daily use", low, "energy_wh", f"0.6 × {day_wh / 1000:.1f} kWh = {low / 1000:.1f} kWh"),
        Sum("80 % of daily use", high, "energy_wh", f"0.8 × {day_wh / 1000:.1f} kWh = {high / 1000:.1f} kWh"),
    )


def heat_pump(heat_wh: float, cop: float) -> Sum:
    """Return the electricity of a heat pump for some heat. [Wh]"""
    energy = heat_wh / cop
    return Sum("heat pump", energy, "energy_wh", f"{heat_wh / 1000:g} kWh of heat / COP {cop:g} = {energy / 1000:g} kWh")


def heat_pump_from_fuel(fuel_wh: float, boiler_frac: float, cop: float) -> Sum:
    """Return the electricity of a heat pump in place of a boiler. [Wh]"""
    energy = fuel_wh * boiler_frac / cop
    line = f"{fuel_wh / 1000:g} kWh of fuel × {boiler_frac:g} / COP {cop:g} = {energy / 1000:g} kWh"
    return Sum("heat pump in place of the boiler", energy, "energy_wh", line)
