"""Advice on settings: slots that overlap or draw from the grid, reserve against mode, limiter's set-point, legacy cut-off."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from calm_relay.calendar import in_window
from calm_relay.job.control_models import GRID_CHARGING, Slot
from calm_relay.job.edits import Edit
from calm_relay.plant import chain
from calm_relay.rules.registry import COUNTS, CheckContext, Finding, Remedy, check, finding, note, unknown
from calm_relay.tariff.prices import cheap_window
from calm_relay.units import format_quantity as show

QUARTERS = np.arange(96) / 4.0
CLEAR_HZ = 0.5  # of a legacy inverter's trip, so that it lets go for certain; common practice


@check(
    "settings.target", "Slot's target against the charge it finds", page="plans", needs={"grid", "plan", "year"},
    short="Slot's target",
    source="simulated year: charge at which the slot begins on the mean, against its target; below it the grid is drawn",
)  # fmt: skip
def target(c: CheckContext) -> Iterator[Finding]:
    """The target of a slot at dear hours against the charge it begins with: what lacks is bought there."""
    assert c.facts is not None
    if c.job.tariff.seasons or c.job.tariff.hourly_import is not None:
        return
    window = cheap_window(c.job.tariff)
    for i, slot in enumerate(c.plan.controls.slots):
        found = c.facts.windows.get(i)
        if slot.kind not in GRID_CHARGING or found is None or (window is not None and _inside(slot, window)):
            continue
        for row in c.plant.banked:
            year = found.nodes.get(row.station.id)
            if year is None:
                continue
            lacks = max(0.0, slot.target_soc_frac - year.begins_frac) * chain.capacity_wh(row.bank)
            line = (
                f"it begins at {year.begins_frac * 100:.0f} % on the mean, its target is {slot.target_soc_frac * 100:.0f} %: "
                f"{show(lacks, 'energy_wh', 1)} a day from the grid unless sun brings it"
            )
            edits = (Edit(c.path(f"controls.slots[{i}].kind"), "surplus_only"),)
            subject = f"{row.station.name}, {slot.title}"
            yield finding(
                c, "settings.target", subject, "fraction", slot.target_soc_frac, year.begins_frac, "most", line, soft=True,
                tight=COUNTS, remedies=[Remedy("surplus only: keep the charge, buy nothing for it", edits)],
            )  # fmt: skip


def _inside(slot: Slot, window: tuple[float, float]) -> bool:
    here = in_window(QUARTERS, slot.start_h, slot.end_h)
    return bool(np.all(in_window(QUARTERS, *window)[here]))


@check(
    "settings.overlap", "Slots that overlap", page="plans", needs={"plan"}, short="Slots overlap",
    source="the plan's slots by clock hours, days, months and inverters; the later line wins",
)  # fmt: skip
def overlap(c: CheckContext) -> Iterator[Finding]:
    """Hours of each slot that a later line takes."""
    slots = c.plan.controls.slots
    if len(slots) < 2:
        return
    for i, slot in enumerate(slots):
        here = in_window(QUARTERS, slot.start_h, slot.end_h)
        taken = np.zeros(96, dtype=bool)
        by = []
        for later in slots[i + 1 :]:
            both = here & in_window(QUARTERS, later.start_h, later.end_h)
            if both.any() and _same_days(slot, later) and _same_nodes(slot, later):
                taken |= both
                by.append(later)
        hours = float(np.count_nonzero(taken)) / 4.0
        names = " and ".join(later.title for later in by)
        line = f"{hours:g} h of it belong to {names}, the later line" if by else "0 h of it belong to a later line"
        remedies = []
        if by and not taken.all() and hours < np.count_nonzero(here) / 4.0:
            end = by[0].start_h
            if in_window(np.array([(end - 0.25) % 24.0]), slot.start_h, slot.end_h)[0] and end != slot.start_h:
                remedies.append(Remedy(f"{slot.title} until {end:g} h", (Edit(c.path(f"controls.slots[{i}].end_h"), end),)))
        yield finding(
            c, "settings.overlap", f"line {i + 1}, {slot.title}", "hours_h", hours, 0.0, "most", line, soft=True, tight=COUNTS,
            remedies=[*remedies, Remedy("slots that follow one another")],
        )  # fmt: skip


def _same_days(one: Slot, other: Slot) -> bool:
    days = one.days == other.days or "every" in (one.days, other.days)
    return days and (not one.months or not other.months or bool(set(one.months) & set(other.months)))


def _same_nodes(one: Slot, other: Slot) -> bool:
    return not one.nodes or not other.nodes or bool(set(one.nodes) & set(other.nodes))


@check(
    "settings.reserve", "Reserve against the slots", page="plans", needs={"grid", "plan"}, short="Reserve and slots",
    source="a reserve at or above a slot's target leaves the slot nothing to do; arithmetic on the settings",
)  # fmt: skip
def reserve(c: CheckContext) -> Iterator[Finding]:
    """The largest reserve against the lowest target of a slot, and against the charge in use: above it a battery stands still."""
    most = max(c.plan.controls.reserve_by_month(c.job.site.place.latitude_deg))
    if not any(True for _ in c.plant.banked):
        return
    for row in c.plant.banked:
        low, high = chain.soc_window(row.bank)
        targets = [s.target_soc_frac for s in c.plan.controls.slots if s.kind in GRID_CHARGING and s.holds_for(row.station.id)]
        limit = min([high, *targets])
        if most <= low and not targets:
            continue
        what = "the lowest target of a slot" if targets and limit < high else "the top of the charge in use"
        line = f"a reserve of {most * 100:.0f} % against {limit * 100:.0f} %, {what}"
        names = ("reserve_soc_frac", *(f"reserve_{s}_soc_frac" for s in ("winter", "spring", "summer", "autumn")))
        low_enough = max(low, limit - 0.2)
        edits = tuple(
            Edit(c.path(f"controls.{name}"), low_enough) for name in names if (getattr(c.plan.controls, name) or 0.0) > low_enough
        )
        yield finding(
            c, "settings.reserve", row.station.name, "fraction", most, limit, "most", line, soft=True,
            remedies=[Remedy(f"a reserve of {low_enough * 100:.0f} %", edits)],
        )  # fmt: skip


@check(
    "settings.limiter", "Set-point of the limiter", page="plans", needs={"grid", "plan"}, short="Limiter",
    source="what is drawn on purpose may not be more than what may go out, or nothing goes out at all; arithmetic",
)  # fmt: skip
def limiter(c: CheckContext) -> Iterator[Finding]:
    """The set-point drawn from the grid against an export cap above nothing; the figure to be typed at the limiter."""
    cap, bias = c.plant.caps.export_w, c.plan.controls.meter_bias_w
    if cap is None or cap <= 0 or not c.plan.nodes:
        return
    line = f"a cap of {show(cap, 'power_w', 2)} less {bias:g} W: the limiter is set to {show(max(0.0, cap - bias), 'power_w', 2)}"
    yield finding(
        c, "settings.limiter", "limiter", "power_w", bias, cap, "most", line, soft=True,
        remedies=[Remedy("no set-point beside the cap", (Edit(c.path("controls.meter_bias_w"), 0.0),))],
    )  # fmt: skip


@check(
    "settings.cut-off", "Cut-off frequency for legacy inverters", page="plans", needs={"plan"}, short="Cut-off frequency",
    source="a legacy inverter lets go only above its trip: half a hertz beyond it, common practice; the cards",
)  # fmt: skip
def cut_off(c: CheckContext) -> Iterator[Finding]:
    """The frequency to which the forming inverter has to go so that PV that only trips lets go, where such PV stands behind it."""
    if not c.plant.forming:
        return
    for node in c.plant.pv_behind:
        record = node.fitting.frequency
        if record is None:
            yield unknown(c, "settings.cut-off", node.name, f"at which frequency {node.model.name} lets go: its papers")
        elif record.droop_frac is None:
            trip = min(t.frequency_hz for t in record.trips)
            yield note(
                c, "settings.cut-off", node.name,
                f"it only trips, at {trip:g} Hz: set the forming inverter's cut-off to {trip + CLEAR_HZ:g} Hz, if loads stand it",
            )  # fmt: skip
        else:
            yield note(
                c, "settings.cut-off", node.name, f"it falls back from {record.start_hz or 0.0:g} Hz: no cut-off is needed for it"
            )
