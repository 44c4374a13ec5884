"""The chains of limits between battery and inverter: every link by name, the weakest wins. Watts are DC at the terminals."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import BatteryChoice
from calm_relay.library.cards import BatteryCard, BatterySideUnit


@dataclass(frozen=True)
class Link:
    """One link of a chain: its name, the DC watts it carries (None: the card does not say) and how that follows."""

    name: str
    dc_w: float | None
    how: str


def stack_voltage_v(card: BatteryCard, modules: int) -> float:
    """Return nominal volts of the bank: in series the volts add. [V]"""
    return card.voltage_nominal_v * (modules if card.stacking == "series" else 1)


@dataclass(frozen=True)
class StackVolts:
    """A bank's volts: empty, at the lowest charge in use, and full. [V]"""

    empty_v: float
    floor_v: float
    full_v: float


def stack_volts(card: BatteryCard, modules: int, floor_frac: float = 0.0) -> StackVolts:
    """Return a bank's volts; between empty and full they are taken to follow the charge in a straight line (ours)."""
    times = modules if card.stacking == "series" else 1
    empty, full = (v * times for v in card.window_v)
    return StackVolts(empty, empty + floor_frac * (full - empty), full)


def modules_fit(unit: BatterySideUnit, card: BatteryCard, modules: int, floor_frac: float = 0.0) -> bool:
    """Return whether so many modules are a bank the card allows and the unit's battery input carries, full and at the floor."""
    volts = stack_volts(card, modules, floor_frac)
    inside = unit.battery_voltage_min_v <= volts.floor_v and volts.full_v <= unit.battery_voltage_max_v
    return card.modules_min <= modules <= card.modules_max and inside


def bank_amps(card: BatteryCard, modules: int, per_module_a: float | None) -> float | None:
    """Return the bank's amps: in parallel the amps add, in series they do not multiply. [A]"""
    if per_module_a is None:
        return None
    return per_module_a * (modules if card.stacking == "parallel" else 1)


def charge_amps(unit: BatterySideUnit, battery: BatteryCard, choice: BatteryChoice) -> float | None:
    """Return the amps that may flow into a bank, the lesser of its own and the unit's; None: neither card says. [A]"""
    known = [a for a in (bank_amps(battery, choice.modules, battery.charge_max_a), unit.charge_max_a) if a is not None]
    return min(known, default=None)


def _links(
    amps: float | None, volts: float, bank_w: float | None, unit_w: float | None, unit_a: float | None, word: str
) -> list[Link]:
    def product(a: float | None) -> float | None:
        return None if a is None else a * volts

    links = [Link("battery module current", product(amps), f"{amps:g} A × {volts:g} V" if amps else "not on the card")]
    if bank_w is not None:
        links.append(Link("battery bank limit", bank_w, "from the battery's card"))
    if unit_w is not None:
        links.append(Link(f"inverter battery {word} power", unit_w, "from the inverter's card"))
    if unit_a is not None:
        links.append(Link(f"inverter battery {word} current", product(unit_a), f"{unit_a:g} A × {volts:g} V"))
    return links


def charge_chain(unit: BatterySideUnit, battery: BatteryCard, choice: BatteryChoice) -> list[Link]:
    """Return every link that limits charging, the charger's AC input last."""
    volts = stack_voltage_v(battery, choice.modules)
    amps = bank_amps(battery, choice.modules, battery.charge_max_a)
    links = _links(amps, volts, battery.bank_charge_max_w, unit.charge_max_w, unit.charge_max_a, "charge")
    ac = unit.charger_in_max_w
    links.append(Link("charger AC input", unit.charger_dc_w(ac), f"{ac / 1000:.2f} kW at AC, after the charger's loss"))
    return links


def discharge_chain(unit: BatterySideUnit, battery: BatteryCard, choice: BatteryChoice) -> list[Link]:
    """Return every link that limits discharging, the inverter's AC rating last."""
    volts = stack_voltage_v(battery, choice.modules)
    amps = bank_amps(battery, choice.modules, battery.discharge_max_a)
    links = _links(amps, volts, battery.bank_discharge_max_w, unit.discharge_max_w, unit.discharge_max_a, "discharge")
    dc = unit.dc_w(unit.ac_rated_w)
    links.append(Link("inverter AC rating", dc, f"{unit.ac_rated_w / 1000:.2f} kW at AC, before the inverter's loss"))
    return links


def weakest(links: list[Link]) -> Link:
    """Return the link with the least known watts; the first unknown one when none is known."""
    known = [link for link in links if link.dc_w is not None]
    return min(known, key=lambda link: link.dc_w or 0.0) if known else links[0]


def terminals_limit_w(links: list[Link]) -> float | None:
    """Return the DC limit at the battery terminals: the least of all links but the last (the AC end); None if unknown. [W]"""
    known = [link.dc_w for link in links[:-1] if link.dc_w is not None]
    return min(known) if known else None


def usable_wh(battery: BatteryCard, choice: BatteryChoice) -> float:
    """Return usable energy (definitions D3): (SoC_max − SoC_min)·C·SoH. [Wh]"""
    low, high = soc_window(battery, choice)
    return (high - low) * battery.capacity_wh * choice.modules * choice.state_of_health_frac


def soc_window(battery: BatteryCard, choice: BatteryChoice) -> tuple[float, float]:
    """Return (SoC_min, SoC_max) in force: the choice within the card's window. [0 to 1]"""
    low = battery.soc_min_frac if choice.soc_min_frac is None else max(choice.soc_min_frac, battery.soc_min_frac)
    high = battery.soc_max_frac if choice.soc_max_frac is None else min(choice.soc_max_frac, battery.soc_max_frac)
    return low, high
