"""What an inverter is electrically: one record for every kind, of one unit, or of like ones side by side as one.

Ratings are those of the whole; what a card states of one unit (a voltage, a share, a table) is never multiplied.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

from calm_relay.library.base import LossTerms, Tracker, Watts
from calm_relay.library.cards import AcUnit, ChargeControllerCard, InverterCard, TimerChargerCard
from calm_relay.plant.same import same

# Powers, amps and idle losses of like units side by side add up.
EXTENSIVE = (
    "ac_rated_w", "night_w", "phase_max_w", "leg_max_w", "ac_in_max_w", "charge_max_w", "discharge_max_w", "charge_max_a",
    "discharge_max_a", "pv_and_ac_charge_max_w", "grid_port_max_w", "backup_port_max_w", "offgrid_continuous_va", "offgrid_peak_va",
    "startable_lra_a", "fault_current_a", "absorb_max_w", "pass_through_a",
)  # fmt: skip
CONTROLLER_EFFICIENCY_FRAC = 0.97  # a charge controller whose card is silent; common practice, from memory


@dataclass(frozen=True)
class Controllers:
    """Charge controllers on a low-voltage bank: how many, what each gives there, and at which efficiency. [A], [0 to 1]

    `charger_max_a`, `charger_max_w` are what the inverter's own charger gives, which the bank's sum does not show.
    """

    count: int
    out_a: float
    efficiency_frac: float
    efficiency_assumed: bool
    charger_max_a: float | None
    charger_max_w: float | None


@dataclass(frozen=True)
class Unit:
    """An inverter's electrical figures; None where its card is silent. Powers at the battery are DC watts at its terminals.

    Figures of battery terminals are None, and of PV inputs empty, on what has none. `kind` is the card's.
    """

    kind: str
    ac_rated_w: float
    loss: LossTerms
    phases: int
    battery_terminals: bool
    pv_inputs: bool
    per_module: bool
    controllable: bool
    night_w: float | None = None
    phase_max_w: float | None = None
    leg_max_w: float | None = None
    # --- PV inputs
    dc_voltage_max_v: float = 0.0
    trackers: tuple[Tracker, ...] = ()
    trackers_paralleled: bool = False
    back_feed_a: float | None = None
    pv_dc_max_w: float | None = None
    dc_ac_ratio_max: float | None = None
    dc_ac_ratio_max_with_battery: float | None = None
    pv_to_battery_max_w: float | None = None
    branch_units_max: int | None = None
    # --- battery terminals
    ac_in_max_w: float | None = None
    charge_loss: LossTerms | None = None
    charge_max_w: float | None = None
    discharge_max_w: float | None = None
    charge_max_a: float | None = None
    discharge_max_a: float | None = None
    battery_voltage_min_v: float = 0.0
    battery_voltage_max_v: float = 0.0
    pv_and_ac_charge_max_w: float | None = None
    grid_port_max_w: float | None = None
    backup_port_max_w: float | None = None
    grid_forming: bool = False
    offgrid_continuous_va: float | None = None
    offgrid_peak_va: float | None = None
    offgrid_peak_s: float | None = None
    startable_lra_a: float | None = None
    fault_current_a: float | None = None
    absorb_max_w: float | None = None
    absorb_ratio: float = 1.0
    pass_through_a: float | None = None
    controllers: Controllers | None = None

    def unit_count(self, count: int) -> int:
        """Return how many units share a station's strings: `count` where each has one module, else one."""
        return count if self.per_module else 1

    def together(self, count: int) -> Unit:
        """Return as many like units side by side on one bank as one unit: powers, amps and idle losses times their number.

        At like shares the loss keeps its three-term form: idle times the number, the same part of the flow.
        """
        if count == 1:
            return self
        more = {name: value * count for name in EXTENSIVE if (value := getattr(self, name)) is not None}
        for name in ("loss", "charge_loss"):
            terms = getattr(self, name)
            if terms is not None:
                more[name] = terms.model_copy(update={"p_self_w": terms.p_self_w * count})
        return replace(self, **more)

    def ratio_limit(self, has_battery: bool) -> float | None:
        """Return the DC-to-AC limit with or without a battery; None where the card has none. [W/W]"""
        if has_battery and self.dc_ac_ratio_max_with_battery is not None:
            return self.dc_ac_ratio_max_with_battery
        return self.dc_ac_ratio_max

    @property
    def trackers_each(self) -> int:
        """How many trackers one charge controller has; all of them without controllers."""
        return len(self.trackers) // (1 if self.controllers is None else self.controllers.count)

    @property
    def standby(self) -> tuple[float, bool]:
        """The standby draw, and whether it is assumed: a third of p_self where the card is silent (definitions D4). [W]"""
        return (self.loss.p_self_w / 3.0, True) if self.night_w is None else (self.night_w, False)

    def ac_w(self, dc_w: Watts) -> Watts:
        """Return AC watts for DC watts; no upper limit. [W]"""
        return self.loss.out_w(dc_w, self.ac_rated_w)

    def dc_w(self, ac_w: float) -> float:
        """Return the DC watts that AC watts take. [W]"""
        return self.loss.in_w(ac_w, self.ac_rated_w)

    def output_w(self, dc_w: float) -> float:
        """Return the AC watts made of DC watts, at most the AC rating. [W]"""
        return min(float(self.ac_w(dc_w)), self.ac_rated_w)

    @property
    def passes_dc_w(self) -> float:
        """The DC watts that it passes at its AC rating. [W]"""
        return self.dc_w(self.ac_rated_w)

    @property
    def charger_loss(self) -> LossTerms:
        """The charger's loss terms: its own, else the inverter's with the ends exchanged (definitions D4)."""
        return self.charge_loss or self.loss

    @property
    def charger_in_max_w(self) -> float:
        """The AC input limit; the AC rating where the card has none (assumed). [W]"""
        return self.ac_rated_w if self.ac_in_max_w is None else self.ac_in_max_w

    def charger_dc_w(self, ac_w: float) -> float:
        """Return the DC watts the charger delivers from AC watts. [W]"""
        return float(self.charger_loss.out_w(ac_w, self.ac_rated_w))

    def charger_ac_w(self, dc_w: float) -> float:
        """Return the AC watts the charger draws to deliver DC watts. [W]"""
        return self.charger_loss.in_w(dc_w, self.ac_rated_w)


_FIELDS = tuple(field.name for field in fields(Unit) if field.name != "controllers")


def unit_of(card: AcUnit | InverterCard, count: int = 1) -> Unit:
    """Return the electrical figures of a card, `count` like units side by side."""
    return same(Unit(**{name: getattr(card, name) for name in _FIELDS if hasattr(card, name)}).together(count))


def with_timer_charger(unit: Unit, charger: TimerChargerCard) -> Unit:
    """Return the inverter with a charger on a time switch in place of its own; its efficiency is one figure (definitions D4)."""
    eta = charger.peak_efficiency_frac
    return replace(
        unit,
        ac_in_max_w=charger.ac_in_max_w,
        charge_max_a=charger.charge_max_a,
        charge_max_w=None,
        charge_loss=unit.charge_loss if eta is None else LossTerms(p_self_w=0.0, a=1.0 / eta - 1.0, b=0.0),
        absorb_max_w=0.0,
        night_w=unit.night_w if charger.night_w is None else unit.standby[0] + charger.night_w,
        battery_voltage_min_v=max(unit.battery_voltage_min_v, charger.battery_voltage_min_v),
        battery_voltage_max_v=min(unit.battery_voltage_max_v, charger.battery_voltage_max_v),
    )


def with_controllers(unit: Unit, controller: ChargeControllerCard, count: int) -> Unit:
    """Return the inverter and so many charge controllers as one unit: the window both work in, currents that add at the bank.

    Their trackers are counted through. To the rest of the program it is one hybrid.
    """
    eta = controller.peak_efficiency_frac
    return replace(
        unit,
        kind="hybrid",
        pv_inputs=True,
        charge_max_a=None if unit.charge_max_a is None else unit.charge_max_a + count * controller.charge_max_a,
        charge_max_w=None,
        night_w=unit.night_w if controller.night_w is None else unit.standby[0] + count * controller.night_w,
        pv_and_ac_charge_max_w=None,
        battery_voltage_min_v=max(unit.battery_voltage_min_v, controller.battery_voltage_min_v),
        battery_voltage_max_v=min(unit.battery_voltage_max_v, controller.battery_voltage_max_v),
        dc_voltage_max_v=controller.dc_voltage_max_v,
        trackers=controller.trackers * count,
        controllers=Controllers(
            count=count,
            out_a=controller.charge_max_a,
            efficiency_frac=CONTROLLER_EFFICIENCY_FRAC if eta is None else eta,
            efficiency_assumed=eta is None,
            charger_max_a=unit.charge_max_a,
            charger_max_w=unit.charge_max_w,
        ),
    )
