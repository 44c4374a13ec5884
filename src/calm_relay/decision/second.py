"""What a plan's batteries add to today's: energy, power or both, in a sentence."""

from __future__ import annotations

from calm_relay.job.models import Job, Plan
from calm_relay.plant import chain
from calm_relay.plant.resolve import plant_of
from calm_relay.units import format_quantity as show

SMALL_WH, SMALL_W = 50.0, 5.0


def bank_power(job: Job, plan: Plan) -> tuple[float, float]:
    """Return what a plan's batteries hold between their limits, and what they give at AC. [Wh, W]"""
    energy = power = 0.0
    for row in plant_of(job, plan).banked:
        energy += chain.usable_wh(row.bank)
        at_terminals = chain.terminals_limit_w(chain.discharge_chain(row.unit, row.bank))
        power += row.unit.ac_rated_w if at_terminals is None else row.unit.output_w(at_terminals)
    return energy, power


def adds_words(job: Job, plan: Plan) -> str:
    """Return what a plan's batteries add to those of today's system; empty where today has none, or nothing changes."""
    today = job.plans[0]
    had, had_w = bank_power(job, today)
    holds, gives_w = bank_power(job, plan)
    more, more_w = holds - had, gives_w - had_w
    if plan.id == today.id or had <= 0 or (abs(more) < SMALL_WH and abs(more_w) < SMALL_W):
        return ""
    words = {True: "more", False: "less"}
    energy = f"{show(abs(more), 'energy_wh')} {words[more > 0]} usable" if abs(more) >= SMALL_WH else "as much energy"
    power = f"{show(abs(more_w), 'power_w', 1)} {words[more_w > 0]} at AC" if abs(more_w) >= SMALL_W else "as much power"
    both = "energy and power" if more > SMALL_WH and more_w > SMALL_W else "energy alone" if more > SMALL_WH else "power alone"
    gain = f": {both}" if more > SMALL_WH or more_w > SMALL_W else ""
    return f"Beside today's battery {energy}, {power}{gain}."
