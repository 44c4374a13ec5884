"""How the batteries of a plan are run: slots by the clock, reserve by season, order of several batteries."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.calendar import MONTHS, season_of_months
from calm_relay.job.common_models import HourOfDay, Months
from calm_relay.library.cards import Id, Record
from calm_relay.units import Fraction, PowerW, Quantity, format_quantity

SlotKind = Literal["charge_from_grid", "surplus_only", "hold", "clipped_only", "discharge_to_grid", "timer"]


class Slot(Record):
    """A daily time slot in clock hours. Past midnight is allowed; a later slot wins where two overlap.

    `charge_from_grid` draws `power_w` at AC until `target_soc_frac` is reached and keeps that as the floor;
    `surplus_only` keeps it as the floor without drawing from the grid; `hold` neither charges nor discharges; `clipped_only`
    charges from what the inverter cannot pass alone; `discharge_to_grid` gives `power_w` at AC, house included, down to the floor;
    `timer` charges with `power_w` by the clock whatever sun and meter say, up to the target.
    """

    kind: SlotKind
    start_h: HourOfDay
    end_h: HourOfDay
    months: Months = ()
    days: Literal["every", "weekdays", "weekends"] = Field(default="every", description="the day on which its clock time falls")
    nodes: Annotated[tuple[Id, ...], Field(max_length=24)] = Field(
        default=(), description="inverters it holds for; empty: all with a battery"
    )
    power_w: PowerW = 0.0
    target_soc_frac: Fraction = 1.0
    floor_soc_frac: Fraction = 0.0

    @property
    def title(self) -> str:
        """Return what a list calls this slot: its hours, and its days where they are not all."""
        return f"slot {self.start_h:g}–{self.end_h:g} h{'' if self.days == 'every' else f' on {self.days}'}"

    def holds_for(self, node_id: str) -> bool:
        """Return whether a node follows this slot."""
        return not self.nodes or node_id in self.nodes


GRID_CHARGING = ("charge_from_grid", "timer")  # kinds of slot that draw from the grid
SLOT_DEFAULTS = {"kind": "charge_from_grid", "start_h": 0.0, "end_h": 4.0, "power_w": 2000.0, "target_soc_frac": 0.8}
_SLOT_WORDS = {
    "charge_from_grid": "Below {target} it draws {power} at AC from the grid, sun or not, surplus counted in; then it keeps it.",
    "timer": "Below {target} it draws {power} at AC by the clock, whatever sun, meter and import limit say; then it keeps it.",
    "surplus_only": "Charges from surplus alone and keeps {target}.",
    "discharge_to_grid": "Gives {power} at AC, house included, up to the export limit, down to its floor; charges clipped PV only.",
    "clipped_only": "Charges only what the inverter cannot pass; serves the house.",
    "hold": "Neither charges nor discharges.",
}


def slot_words(slot: Slot) -> str:
    """Return in a sentence what a slot does."""
    power, target = format_quantity(slot.power_w, "power_w"), format_quantity(slot.target_soc_frac, "fraction")
    when = f"In {', '.join(MONTHS[m - 1] for m in slot.months)}. " if slot.months else ""
    where = f" For {', '.join(slot.nodes)} only." if slot.nodes else ""
    return when + _SLOT_WORDS[slot.kind].format(power=power, target=target) + where


BatteryOrder = Literal["like_units", "priority", "best_round_trip", "in_proportion"]


class Controls(Record):
    """Settings of the battery inverters of a plan.

    `battery_order`: like units share in proportion and the best round trip gives first (`like_units`), or one rule for all.
    """

    reserve_soc_frac: Fraction = 0.0
    reserve_winter_soc_frac: Fraction | None = Field(default=None, description="None: the common reserve; likewise the others")
    reserve_spring_soc_frac: Fraction | None = None
    reserve_summer_soc_frac: Fraction | None = None
    reserve_autumn_soc_frac: Fraction | None = None
    slots: Annotated[tuple[Slot, ...], Field(max_length=8)] = ()
    battery_order: BatteryOrder = "like_units"
    meter_bias_w: Annotated[float, Quantity("power_w"), Field(ge=0, le=500)] = Field(
        default=0.0, description="what the set-point leaves to the grid on purpose, so that nothing leaks out"
    )

    sensor: Literal["meter", "device"] = Field(
        default="meter", description="where the controller measures; device: nothing upstream of the backup side is seen or served"
    )
    export_response_s: Annotated[float, Quantity("seconds_s"), Field(gt=0, le=600)] | None = Field(
        default=None, description="seconds until an export above its limit is cut, from the inverter's manual; None: not known"
    )
    peak_target_w: PowerW | None = Field(default=None, description="import that peak shaving holds; None: no peak shaving")
    peak_hold_soc_frac: Fraction = Field(default=1.0, description="charge below which energy is kept for peaks above the target")
    leave_room: Literal["no", "foresight", "yesterday"] = Field(
        default="no", description="keep room for what will be clipped: as the day will be, or as yesterday was"
    )

    island_stop_soc_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = Field(
        default=0.95, description="in an outage AC-coupled PV stops charging at this charge between the limits"
    )
    island_start_soc_frac: Fraction = Field(default=0.9, description="and starts again below this one")
    island_restart_soc_frac: Fraction = Field(
        default=0.05, description="charge between the limits at which a bank that ran empty serves its loads again"
    )
    island_keep_soc_frac: Fraction = Field(
        default=0.0, description="charge kept in an outage so that the inverters are there in the morning; 0: nothing is kept"
    )

    def reserve_by_month(self, latitude_deg: float) -> tuple[float, ...]:
        """Return the reserve of each month, by the seasons of the hemisphere. (12,) [0 to 1]"""
        out = [self.reserve_soc_frac] * 12
        for season, months in season_of_months(latitude_deg).items():
            own = getattr(self, f"reserve_{season}_soc_frac")
            for month in months if own is not None else ():
                out[month - 1] = own
        return tuple(out)
