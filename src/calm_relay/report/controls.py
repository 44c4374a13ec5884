"""How the batteries of a plan are run, in sentences: what the controller sees, what it holds, and each slot."""

from __future__ import annotations

from typing import Any

from calm_relay.job.control_models import slot_words
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.report.slot_day import slot_day, slot_day_text
from calm_relay.study import Study
from calm_relay.tariff.prices import hourly_of
from calm_relay.units import format_quantity as show

ORDERS = {
    "like_units": "Like units share in proportion; of unlike ones the best round trip gives first.",
    "priority": "Batteries give and take in the plan's order.",
    "best_round_trip": "The battery with the best round trip gives and takes first.",
    "in_proportion": "All batteries share in proportion.",
}
ROOM = {
    "foresight": "Room is kept for what will be clipped in the day, as if the day were known: the most that any forecast could do.",
    "yesterday": "Room is kept for what was clipped the day before: what a controller without a forecast can do.",
}


def control_sentences(job: Job, plan: Plan) -> tuple[str, ...]:
    """Return what the controls of a plan do, a sentence each, slots by their hours."""
    c = plan.controls
    if plan.off_grid:
        least = show(c.reserve_soc_frac, "fraction")
        kept = f"below {least} loads are not served, so that what forms the grid is there in the morning"
        asleep = "Slots, set-point, peak target and room for what is clipped are off without a grid."
        return "Sun and battery serve the whole house.", f"Kept for the morning: {kept}.", asleep, ORDERS[c.battery_order]
    out = []
    if c.sensor == "device":
        out.append(
            "The sensor stands at the transfer device: what lies on the grid side is not seen, and nothing goes out past it."
        )
    else:
        out.append("The sensor stands at the meter: the whole house is served.")
    if c.meter_bias_w:
        out.append(f"The set-point leaves {show(c.meter_bias_w, 'power_w')} to the grid.")
    cap = plant_of(job, plan).caps.export_w
    if cap is not None:
        response = c.export_response_s
        after = "after a time not typed yet" if response is None else f"within {show(response, 'seconds_s')}"
        means = "shorter peaks than a step of the simulation are not in its means"
        out.append(f"Export above {show(cap, 'power_w')} is cut {after}; {means}.")
    if c.peak_target_w is not None:
        kept = f"energy below {show(c.peak_hold_soc_frac, 'fraction')} is kept for what lies above it"
        out.append(f"Import is held below {show(c.peak_target_w, 'power_w')}; {kept}, and charging never breaks it.")
    if c.leave_room in ROOM:
        out.append(ROOM[c.leave_room])
    reserves = c.reserve_by_month(job.site.place.latitude_deg)
    low, high = (show(v, "fraction") for v in (min(reserves), max(reserves)))
    out.append(f"Reserve for outages: {low if low == high else f'{low} to {high} by season'}.")
    out.append(ORDERS[c.battery_order])
    days = {"every": "", "weekdays": " on weekdays", "weekends": " at weekends"}
    out += [f"{slot.start_h:g} to {slot.end_h:g} h{days[slot.days]}: {slot_words(slot)}" for slot in c.slots]
    return tuple(out)


SHOWN_DAYS = tuple((month, weekend) for month in (1, 4, 7, 10) for weekend in (False, True))  # a month of each season


def controls_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return the controls of a plan as plain data, with the sentences, and with days of its slots where it has some."""
    hourly = hourly_of(job.tariff, study.store)
    return {
        "plan": plan.id, "letter": plan.letter, "name": plan.name, "controls": plan.controls.model_dump(mode="json"),
        "sentences": list(control_sentences(job, plan)),
        "days": [
            line
            for month, weekend in (SHOWN_DAYS if plan.controls.slots else ())
            for line in slot_day_text(slot_day(job, plan, month, weekend=weekend, hourly=hourly))
        ],
    }  # fmt: skip


def controls_text(data: dict[str, Any], _names: dict[str, str]) -> list[str]:
    """Return the sentences under the plan's name."""
    return [f"{data['letter']}  {data['name']}", *(f"   {line}" for line in (*data["sentences"], *data["days"]))]
