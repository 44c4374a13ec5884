"""A low-voltage bank as a station of its own: a battery inverter with charge controllers, or with a charger on a time switch.

Made of the cards of one node, never stored: to the rest of the program it is one inverter with trackers and battery terminals.
"""

from __future__ import annotations

from calm_relay.library.base import Count, LossTerms
from calm_relay.library.inverter_cards import BatteryInverterCard, BatterySideUnit, HybridCard
from calm_relay.library.other_cards import ChargeControllerCard, TimerChargerCard
from calm_relay.units import CurrentA, Fraction, PowerW


class BankStationCard(HybridCard):
    """A battery inverter with like charge controllers on its bank; its trackers are theirs, counted through.

    `controller_out_a` is what each gives at the bank, at `controller_efficiency_frac`; `charger_max_a`, `charger_max_w` what the
    inverter's own charger gives, which the bank's sum does not show.
    """

    controllers: Count
    controller_out_a: CurrentA
    controller_efficiency_frac: Fraction
    efficiency_assumed: bool = False
    charger_max_a: CurrentA | None = None
    charger_max_w: PowerW | None = None

    @property
    def trackers_each(self) -> int:
        """Return how many trackers one controller has."""
        return len(self.trackers) // self.controllers


CONTROLLER_EFFICIENCY_FRAC = 0.97  # a charge controller whose card is silent; common practice, from memory


def with_timer_charger(unit: BatteryInverterCard, charger: TimerChargerCard) -> BatteryInverterCard:
    """Return the inverter with a charger on a time switch in place of its own; its efficiency is one figure (definitions D4)."""
    eta = charger.peak_efficiency_frac
    loss = unit.charge_loss if eta is None else LossTerms(p_self_w=0.0, a=1.0 / eta - 1.0, b=0.0)
    night = unit.night_w if charger.night_w is None else _night_w(unit) + charger.night_w
    return unit.model_copy(
        update={
            "ac_in_max_w": charger.ac_in_max_w,
            "charge_max_a": charger.charge_max_a,
            "charge_max_w": None,
            "charge_loss": loss,
            "absorb_max_w": 0.0,
            "night_w": night,
            "battery_voltage_min_v": max(unit.battery_voltage_min_v, charger.battery_voltage_min_v),
            "battery_voltage_max_v": min(unit.battery_voltage_max_v, charger.battery_voltage_max_v),
        }
    )


def _night_w(unit: BatterySideUnit) -> float:
    """Return the inverter's standby draw; a third of p_self where its card is silent (definitions D4). [W]"""
    return unit.loss.p_self_w / 3.0 if unit.night_w is None else unit.night_w


def with_controllers(unit: BatterySideUnit, controller: ChargeControllerCard, count: int) -> BankStationCard:
    """Return the inverter and so many charge controllers as one unit: the window both work in, currents that add at the bank."""
    eta = controller.peak_efficiency_frac
    own = {name: getattr(unit, name) for name in BatteryInverterCard.model_fields if name != "kind"}
    amps = None if unit.charge_max_a is None else unit.charge_max_a + count * controller.charge_max_a
    return BankStationCard.model_construct(
        **{
            **own,
            "kind": "hybrid",
            "charge_max_a": amps,
            "charge_max_w": None,
            "night_w": unit.night_w if controller.night_w is None else _night_w(unit) + count * controller.night_w,
            "pv_and_ac_charge_max_w": None,
            "battery_voltage_min_v": max(unit.battery_voltage_min_v, controller.battery_voltage_min_v),
            "battery_voltage_max_v": min(unit.battery_voltage_max_v, controller.battery_voltage_max_v),
            "dc_voltage_max_v": controller.dc_voltage_max_v,
            "trackers": controller.trackers * count,
            "controllers": count,
            "controller_out_a": controller.charge_max_a,
            "controller_efficiency_frac": CONTROLLER_EFFICIENCY_FRAC if eta is None else eta,
            "efficiency_assumed": eta is None,
            "charger_max_a": unit.charge_max_a,
            "charger_max_w": unit.charge_max_w,
        }
    )
