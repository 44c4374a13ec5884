"""The chains of limits between battery and inverter: every link by name, the weakest wins. Watts are DC at the terminals."""

from __future__ import annotations

import math
from dataclasses import dataclass

from calm_relay.plant.bank import Bank, Cells
from calm_relay.plant.sharing import bank_limit_a
from calm_relay.plant.unit import Unit

LOW_VOLTAGE_V = 120.0  # ripple-free direct current, IEC 61140 (from memory)


@dataclass(frozen=True)
class Link:
    """One link of a chain: its name, the DC watts it carries (None: the card does not say) and how that follows."""

    name: str
    dc_w: float | None
    how: str
    of_amps: bool = False  # amps times the bank's nominal volts


def stack_voltage_v(bank: Bank) -> float:
    """Return nominal volts of the bank: in series the volts add. [V]"""
    return bank.cells.voltage_nominal_v * (bank.modules if bank.cells.stacking == "series" else 1)


@dataclass(frozen=True)
class StackVolts:
    """A bank's volts: empty, at the lowest charge in use, and full. [V]"""

    empty_v: float
    floor_v: float
    full_v: float


def stack_volts(bank: Bank, floor_frac: float = 0.0) -> StackVolts:
    """Return a bank's volts; between empty and full they are taken to follow the charge in a straight line (ours)."""
    times = bank.modules if bank.cells.stacking == "series" else 1
    empty, full = (v * times for v in bank.cells.window_v)
    return StackVolts(empty, empty + floor_frac * (full - empty), full)


def under_load_v(unit: Unit, bank: Bank) -> tuple[float, float] | None:
    """Return (volts, amps) of a bank at its lowest charge in use while the inverter makes its AC rating; None: resistance unknown.

    The amps are those of the rating at that voltage, at most what the inverter's battery input and the bank carry: V·I stays the
    power while V falls by I·R. [V], [A]
    """
    ohms = bank_ohms(bank)
    if ohms is None:
        return None
    low, _ = soc_window(bank)
    volts = stack_volts(bank, low).floor_v
    power = unit.dc_w(unit.ac_rated_w)
    room = volts * volts - 4.0 * ohms * power
    amps = (volts - math.sqrt(room)) / (2.0 * ohms) if room > 0 else volts / (2.0 * ohms)
    limits = (unit.discharge_max_a, bank_amps(bank, bank.cells.discharge_max_a))
    amps = min([amps, *(a for a in limits if a is not None)])
    return volts - amps * ohms, amps


def modules_fit(unit: Unit, cells: Cells, modules: int, floor_frac: float = 0.0) -> bool:
    """Return whether so many modules are a bank the card allows and the unit's battery input carries, full and at the floor."""
    volts = stack_volts(Bank(cells, modules), floor_frac)
    inside = unit.battery_voltage_min_v <= volts.floor_v and volts.full_v <= unit.battery_voltage_max_v
    return cells.modules_min <= modules <= cells.modules_max and inside


def module_counts(unit: Unit, cells: Cells) -> list[int]:
    """Return the numbers of modules of a card that are a bank the unit's battery input carries, at the card's lowest charge."""
    return [n for n in range(cells.modules_min, cells.modules_max + 1) if modules_fit(unit, cells, n, cells.soc_min_frac)]


def branch_ohms(bank: Bank) -> tuple[float, ...] | None:
    """Return the resistance of each parallel branch, its leads included; None where it is not known or there is one branch. [Ω]

    Leads are said for each branch or for none; without them all are alike.
    """
    if bank.cells.stacking != "parallel" or bank.modules < 2 or bank.cells.internal_resistance_ohm is None:
        return None
    leads = bank.leads_ohm if len(bank.leads_ohm) == bank.modules else (0.0,) * bank.modules
    return tuple(bank.cells.internal_resistance_ohm + lead for lead in leads)


def most_modules(unit: Unit, cells: Cells, now: int, floor_frac: float) -> int:
    """Return how many modules the card and the unit's battery input carry at most, not fewer than there are now."""
    return max((m for m in range(now, cells.modules_max + 1) if modules_fit(unit, cells, m, floor_frac)), default=now)


def bank_amps(bank: Bank, per_module_a: float | None) -> float | None:
    """Return the bank's amps: in parallel the amps add, shared by resistance (D20); in series they do not multiply. [A]"""
    if per_module_a is None:
        return None
    if bank.cells.stacking != "parallel":
        return per_module_a
    ohms = branch_ohms(bank)
    return per_module_a * bank.modules if ohms is None else bank_limit_a(ohms, per_module_a)


def end_amps(unit: Unit, bank: Bank, *, charging: bool) -> float | None:
    """Return the amps that may flow into a bank or out of it, the lesser of its own and the unit's; None: neither card says. [A]"""
    own, units = (bank.cells.charge_max_a, unit.charge_max_a) if charging else (bank.cells.discharge_max_a, unit.discharge_max_a)
    return min([a for a in (bank_amps(bank, own), units) if a is not None], default=None)


def is_low_voltage(bank: Bank) -> bool:
    """Return whether a bank is of low voltage, at which amps limit at volts that follow the charge: up to 120 V full. [bool]"""
    return stack_volts(bank).full_v <= LOW_VOLTAGE_V


def bank_ohms(bank: Bank) -> float | None:
    """Return the resistance of a bank; None where the card does not say its module's. [Ω]"""
    if bank.cells.internal_resistance_ohm is None:
        return None
    if bank.cells.stacking == "series":
        return bank.cells.internal_resistance_ohm * bank.modules
    ohms = branch_ohms(bank) or (bank.cells.internal_resistance_ohm,)
    return 1.0 / sum(1.0 / r for r in ohms)


def _times(amps: float | None, volts: float) -> float | None:
    return None if amps is None else amps * volts


def battery_links(bank: Bank, *, charging: bool) -> list[Link]:
    """Return the links of the battery itself: its modules' current at the bank's volts, and what its card says of the bank."""
    volts = stack_voltage_v(bank)
    amps = bank_amps(bank, bank.cells.charge_max_a if charging else bank.cells.discharge_max_a)
    links = [
        Link(
            "battery module current", _times(amps, volts), f"{amps:g} A × {volts:g} V" if amps else "not on the card", of_amps=True
        )
    ]
    bank_w = bank.cells.bank_charge_max_w if charging else bank.cells.bank_discharge_max_w
    return [*links, Link("battery bank limit", bank_w, "from the battery's card")] if bank_w is not None else links


def unit_links(unit: Unit, volts: float, *, charging: bool) -> list[Link]:
    """Return the links of the inverter's battery input, in DC watts at the terminals."""
    word = "charge" if charging else "discharge"
    watts, amps = (unit.charge_max_w, unit.charge_max_a) if charging else (unit.discharge_max_w, unit.discharge_max_a)
    links = []
    if charging and unit.pv_and_ac_charge_max_w is not None:
        links.append(Link("PV and AC charging together", unit.pv_and_ac_charge_max_w, "from the inverter's card"))
    if watts is not None:
        links.append(Link(f"inverter battery {word} power", watts, "from the inverter's card"))
    if amps is not None:
        whose = "controllers and charger" if charging and unit.controllers is not None else f"inverter battery {word}"
        links.append(Link(f"{whose} current", amps * volts, f"{amps:g} A × {volts:g} V", of_amps=True))
    return links


def charger_limit_w(most_w: float | None, most_a: float | None, volts: float) -> float | None:
    """Return what a charger gives at the bank by its own watts and amps; None: its card says neither. [W]"""
    return min([w for w in (most_w, _times(most_a, volts)) if w is not None], default=None)


def charge_chain(unit: Unit, bank: Bank) -> list[Link]:
    """Return every link that limits charging, the charger's AC input last."""
    volts = stack_voltage_v(bank)
    ac = unit.charger_in_max_w
    last = Link("charger AC input", unit.charger_dc_w(ac), f"{ac / 1000:.2f} kW at AC, after the charger's loss")
    if unit.controllers is not None:
        together = unit.controllers.count * unit.controllers.out_a * volts
        last = Link(
            "charger and controllers", unit.charger_dc_w(ac) + together, f"{ac / 1000:.2f} kW at AC beside the controllers' sun"
        )
    return [*battery_links(bank, charging=True), *unit_links(unit, volts, charging=True), last]


def discharge_chain(unit: Unit, bank: Bank) -> list[Link]:
    """Return every link that limits discharging, the inverter's AC rating last."""
    volts = stack_voltage_v(bank)
    dc = unit.dc_w(unit.ac_rated_w)
    last = Link("inverter AC rating", dc, f"{unit.ac_rated_w / 1000:.2f} kW at AC, before the inverter's loss")
    return [*battery_links(bank, charging=False), *unit_links(unit, volts, charging=False), last]


def raised_w(links: list[Link]) -> float | None:
    """Return the watts that a chain would gain if its weakest link alone were raised; None where fewer than two are known. [W]"""
    known = sorted(link.dc_w for link in links if link.dc_w is not None)
    return known[1] - known[0] if len(known) > 1 else None


def weakest(links: list[Link]) -> Link:
    """Return the link with the least known watts; the first unknown one when none is known."""
    known = [link for link in links if link.dc_w is not None]
    return min(known, key=lambda link: link.dc_w or 0.0) if known else links[0]


def terminals_limit_w(links: list[Link], *, without_amps: bool = False) -> float | None:
    """Return the DC limit at the battery terminals: the least of all links but the last (the AC end); None if unknown. [W]"""
    known = [link.dc_w for link in links[:-1] if link.dc_w is not None and not (without_amps and link.of_amps)]
    return min(known) if known else None


def capacity_wh(bank: Bank) -> float:
    """Return what a bank holds from empty to full (definitions D3): C·SoH, all modules. [Wh]"""
    return bank.cells.capacity_wh * bank.modules * bank.state_of_health_frac


def usable_wh(bank: Bank) -> float:
    """Return usable energy (definitions D3): (SoC_max − SoC_min)·C·SoH. [Wh]"""
    low, high = soc_window(bank)
    return (high - low) * capacity_wh(bank)


def soc_window(bank: Bank) -> tuple[float, float]:
    """Return (SoC_min, SoC_max) in force: the choice within the card's window. [0 to 1]"""
    low = bank.cells.soc_min_frac if bank.soc_min_frac is None else max(bank.soc_min_frac, bank.cells.soc_min_frac)
    high = bank.cells.soc_max_frac if bank.soc_max_frac is None else min(bank.soc_max_frac, bank.cells.soc_max_frac)
    return low, high


def controllers_of(unit: Unit, bank: Bank | None) -> tuple[int, float, float] | None:
    """Return (trackers each, W in at their output limit, efficiency) of a unit's charge controllers; None: it has none.

    The output is amps at the bank's nominal volts (assumed; volts follow the charge), at the top of their window without a bank.
    """
    made = unit.controllers
    if made is None:
        return None
    volts = unit.battery_voltage_max_v if bank is None else stack_voltage_v(bank)
    return unit.trackers_each, made.out_a * volts / made.efficiency_frac, made.efficiency_frac


def full_power_a(unit: Unit, bank: Bank) -> float:
    """Return the amps at full AC power and the lowest charge in use. [A]"""
    low, _ = soc_window(bank)
    return unit.passes_dc_w / stack_volts(bank, low).floor_v
