# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"
"""Counts and sums over a year's columns, compiled: each goes through the steps once, and makes no series on the way."""

from __future__ import annotations

from calm_relay.simulation.kernel.jit import compiled


@compiled
def steps_at_limit(watts, more, energy_wh, start_wh, capacity_wh, limit, parts, near):
    """Count the steps in which a battery takes or gives `watts` and `more`, (T,) or none, of at least `near` of its limit. [number]

    `limit` is (most, at empty, more at full) as of `pack.battery_limit_line`, at the charge that the step begins with; `parts` (T
    or 1,) is what of it the cells' temperature leaves. `energy_wh` (T,) is the energy at the end of steps.
    """
    count, before = 0, start_wh
    most, empty, rise = limit
    for t in range(len(watts)):
        now = watts[t] + more[t] if len(more) > 0 else watts[t]
        if now > 0.0:
            part = parts[t] if len(parts) > 1 else parts[0]
            if now >= near * min(most, empty + rise * (before / capacity_wh)) * part:
                count += 1
        before = energy_wh[t]
    return count


@compiled
def add_by(which, weights, here, sums, counts):
    """Add up `weights` (T,), and count steps, by the group `which` (T,) of each step, where `here` (T,)."""
    for t in range(len(which)):
        if here[t]:
            sums[which[t]] += weights[t]
            counts[which[t]] += 1


@compiled
def offered_by_day(stored, from_ac, pv_charge, charge, spare, part, lost, room_w, loss, out):
    """Put into `out` (days,) what an array offers a battery, as it arrives in the cells, the steps of each day summed. [W]

    It offers PV that is stored, and what could be of `part` of what is `spare` and of what is `lost` (T,) or none, up to the room.
    `stored` is PV from its own strings, `from_ac` what it takes at AC, of which PV has the part `pv_charge` / `charge` of all.
    `loss` are eta_c, the loss by the square of the power and the fixed one of `storing.StoringLoss`.
    """
    eta, square, fixed = loss
    per_day = len(stored) // len(out)
    for day in range(len(out)):
        total = 0.0
        for t in range(day * per_day, (day + 1) * per_day):
            more = spare[t] * part
            if len(lost) > 0:
                more += lost[t]
            if more <= 0.0 and stored[t] <= 0.0 and from_ac[t] <= 0.0:
                continue
            offer = stored[t] + min(more, max(0.0, room_w - stored[t] - from_ac[t]))
            if from_ac[t] > 0.0 and charge[t] > 1e-9:
                offer += from_ac[t] * (pv_charge[t] / charge[t])
            if offer > 0.0:
                total += max(0.0, eta * offer - square * offer * offer - fixed)
        out[day] = total
