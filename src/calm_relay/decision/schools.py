"""Which loads stand behind a plan's transfer device, and the schools of backing a house up: whole, essential panel, shedding."""

from __future__ import annotations

from calm_relay.job.models import Job, Plan, Transfer

BACKGROUND = "background"
USUAL_DIVERSITY = 0.8  # of loads that plausibly run together; common practice, picked by the user


def with_backed_up(job: Job, plan: Plan, load_id: str, *, on: bool) -> Transfer:
    """Return a plan's transfer device with a load put behind it or taken out; a whole house becomes a list of what it held.

    Raises ValueError where the plan has no transfer device.
    """
    if plan.transfer is None:
        raise ValueError("no transfer device")
    every = [load.id for load in job.house.appliances] + [BACKGROUND]
    now = set(every) if plan.transfer.backed_up == "whole_house" else set(plan.transfer.listed)
    now = now | {load_id} if on else now - {load_id}
    if now == set(every):
        return plan.transfer.model_copy(update={"backed_up": "whole_house", "listed": ()})
    return plan.transfer.model_copy(update={"backed_up": "listed", "listed": tuple(i for i in every if i in now)})


def schools(job: Job, plan: Plan) -> tuple[tuple[str, Plan, bool], ...]:
    """Return the ways to back a house up: as planned, whole, essential, whole and shed. Each: name, plan, if loads are shed."""
    if plan.transfer is None:
        return (("as planned", plan, False),)
    essential = tuple(load.id for load in job.house.counted if load.essential)
    whole = replace_transfer(plan, plan.transfer.model_copy(update={"backed_up": "whole_house", "listed": ()}))
    panel = replace_transfer(plan, plan.transfer.model_copy(update={"backed_up": "listed", "listed": essential}))
    return (
        ("as planned", plan, False), ("whole house", whole, False), ("essential panel", panel, False),
        ("whole house, shedding", whole, True),
    )  # fmt: skip


def replace_transfer(plan: Plan, transfer: Transfer) -> Plan:
    """Return a plan with another transfer device."""
    return plan.model_copy(update={"transfer": transfer})
