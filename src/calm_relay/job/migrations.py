"""Forward migrations of the job file, one small function a version; each is tested with a file of that version."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import SCHEMA_VERSION

Migration = Callable[[dict[str, Any]], dict[str, Any]]
_MIGRATIONS: dict[int, Migration] = {}


def migration(version: int) -> Callable[[Migration], Migration]:
    """Register a function that takes job data of `version` to `version + 1`."""

    def register(function: Migration) -> Migration:
        _MIGRATIONS[version] = function
        return function

    return register


@migration(1)
def _reserve_becomes_a_fraction(data: dict[str, Any]) -> dict[str, Any]:
    """Version 1 kept the reserve in percent and called the export price a feed-in price."""
    out = dict(data)
    tariff = dict(out.get("tariff") or {})
    if "feed_in_per_kwh" in tariff:
        tariff["export_price_per_kwh"] = tariff.pop("feed_in_per_kwh")
    out["tariff"] = tariff
    plans = []
    for plan in out.get("plans") or ():
        controls = dict(plan.get("controls") or {})
        if "reserve_soc_percent" in controls:
            controls["reserve_soc_frac"] = controls.pop("reserve_soc_percent") / 100.0
        plans.append({**plan, "controls": controls})
    out["plans"] = plans
    return out


@migration(2)
def _only_additions(data: dict[str, Any]) -> dict[str, Any]:
    """Version 3 added horizon, shade table, optimizers, losses by name and modules to come; nothing changed its meaning."""
    return data


@migration(3)
def _only_additions_again(data: dict[str, Any]) -> dict[str, Any]:
    """Version 4 added phases, loads to come, loads on surplus, netting and price growth; nothing changed its meaning."""
    return data


@migration(4)
def _orders_of_batteries(data: dict[str, Any]) -> dict[str, Any]:
    """Version 5 added the rule pack, orders of batteries, losses by name where none is typed; a negative bias meant nothing."""
    plans = []
    for plan in data.get("plans") or ():
        controls = dict(plan.get("controls") or {}) if isinstance(plan, dict) else {}
        if controls.get("battery_order") == "best_round_trip":
            controls["battery_order"] = "like_units"
        if isinstance(controls.get("meter_bias_w"), int | float) and controls["meter_bias_w"] < 0:
            controls["meter_bias_w"] = 0.0
        plans.append({**_one_figure(plan), "controls": controls} if isinstance(plan, dict) else plan)
    return {**data, "plans": plans}


def _one_figure(plan: dict[str, Any]) -> dict[str, Any]:
    """Return a plan whose strings say their one loss figure, which was 5 % where none was typed, unless they name losses."""

    def string(group: Any) -> Any:
        if not isinstance(group, dict):
            return group
        figure = None if group.get("losses") else group.get("other_loss_frac", 0.05)
        return {**group, "other_loss_frac": figure}

    def node(row: Any) -> Any:
        strings = row.get("strings") if isinstance(row, dict) else None
        return {**row, "strings": [string(group) for group in strings]} if isinstance(strings, list) else row

    nodes = plan.get("nodes")
    return {**plan, "nodes": [node(row) for row in nodes]} if isinstance(nodes, list) else plan


@migration(5)
def _only_additions_to_cards(data: dict[str, Any]) -> dict[str, Any]:
    """Version 6 added kinds and figures of cards, a battery's place and its leads; nothing changed its meaning."""
    return data


@migration(6)
def _only_additions_to_plans(data: dict[str, Any]) -> dict[str, Any]:
    """Version 7 added plans without a grid, charge controllers, timer chargers and a generator; nothing changed its meaning."""
    return data


@migration(7)
def _only_additions_to_costs(data: dict[str, Any]) -> dict[str, Any]:
    """Version 8 added cost lines that count, rebates, the later years and the chosen plan; a line stays a fixed amount."""
    return data


@migration(8)
def _only_additions_to_outages(data: dict[str, Any]) -> dict[str, Any]:
    """Version 9 added shedding by charge, thresholds of an outage, what protects an island, named outages; nothing changed."""
    return data


@migration(9)
def _only_additions_of_wiring(data: dict[str, Any]) -> dict[str, Any]:
    """Version 10 added the board, cable runs, and figures of the pack changed for one job; nothing changed its meaning."""
    return data


@migration(10)
def _only_additions_of_places(data: dict[str, Any]) -> dict[str, Any]:
    """Version 11 added places on the wall, old circuits, protection, more of the network's rules; nothing changed its meaning."""
    return data


def migrate(data: dict[str, Any], file: str) -> tuple[dict[str, Any], int]:
    """Return job data at the present version, and the version it came in.

    Raises
    ------
    BadInput
        When the version is missing, not a whole number, or newer than this program knows.
    """
    version = data.get("schema_version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise BadInput([Fault(file, "schema_version", "there is no usable schema version", f"write {SCHEMA_VERSION}")])
    if version > SCHEMA_VERSION:
        raise BadInput(
            [
                Fault(
                    file,
                    "schema_version",
                    f"version {version} is newer than this program reads ({SCHEMA_VERSION})",
                    "open it with a newer program; nothing was changed",
                )
            ]
        )
    came_in = version
    while version < SCHEMA_VERSION:
        data = {**_MIGRATIONS[version](data), "schema_version": version + 1}
        version += 1
    return data, came_in
