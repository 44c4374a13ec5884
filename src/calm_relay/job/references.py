"""References of a job: every id that is used must exist once, and fit where it is used.

Works on plain data, so that the faults of a job whose fields are wrong elsewhere are still all named at once.
"""

from __future__ import annotations

import difflib
import zoneinfo
from collections.abc import Iterator
from typing import Any

from calm_relay.errors import BadInput, Fault
from calm_relay.packs.conductors import own_tables, shipped_tables
from calm_relay.packs.pack import OWN, SHIPPED, own_pack

_INVERTER_KINDS = ("pv_inverter", "module_inverter", "hybrid", "battery_inverter")
_WITH_PV = ("pv_inverter", "module_inverter", "hybrid")
_WITH_BATTERY = ("hybrid", "battery_inverter")
_ON_BANK = (
    ("controller", "charge_controller", "charge controllers stand"),
    ("timer_charger", "timer_charger", "a timer charger stands"),
)
MAX_BATTERY_SIDE_NODES = 4


def _rows(data: Any, key: str) -> list[dict[str, Any]]:
    rows = data.get(key) if isinstance(data, dict) else None
    return [row for row in rows if isinstance(row, dict)] if isinstance(rows, list | tuple) else []


class _Unread(list[str]):
    """Names of a table that is itself at fault: anything may stand in it, so that one fault is told once."""

    def __contains__(self, _: object) -> bool:
        return True


def _names(data: Any, key: str) -> list[str]:
    rows = data.get(key, ()) if isinstance(data, dict) else None
    return [str(row.get("id")) for row in _rows(data, key)] if isinstance(rows, list | tuple) else _Unread()


def _near(name: object, known: list[str]) -> str:
    close = difflib.get_close_matches(str(name), known, n=1)
    if close:
        return f"did you mean '{close[0]}'?"
    return "use one of: " + ", ".join(known) if known else "add it first"


def _a(noun: object) -> str:
    return f"{'an' if str(noun)[:1] in 'aeiou' else 'a'} {noun}"


def reference_faults(data: dict[str, Any], file: str) -> list[Fault]:
    """Return every fault of reference in a job given as plain data."""
    faults: list[Fault] = []

    def fault(field: str, problem: str, remedy: str) -> None:
        faults.append(Fault(file, field, problem, remedy))

    cards = {str(row.get("id")): row for row in _rows(data, "library")}
    faces = _names(data, "faces")
    appliances = _names(data.get("house", {}), "appliances")
    known_cards = _names(data, "library")
    plans = _rows(data, "plans")
    for face in _rows(data, "faces"):
        rows = face.get("horizon")
        given = [p.get("azimuth_deg") for p in rows if isinstance(p, dict)] if isinstance(rows, list | tuple) else []
        for azimuth in sorted({a for a in given if isinstance(a, int | float) and given.count(a) > 1}):
            problem = f"the horizon has {given.count(azimuth)} points at {azimuth:g}°"
            fault(f"faces[{face.get('id')}].horizon", problem, "give each azimuth once")
    for where, ids in (
        ("library", known_cards),
        ("faces", faces),
        ("house.appliances", appliances),
        ("plans", [str(row.get("id")) for row in plans]),
    ):
        for twice in sorted({i for i in ids if ids.count(i) > 1}):
            fault(f"{where}[{twice}].id", f"the id '{twice}' stands {ids.count(twice)} times", "give each its own id")

    site = data.get("site")
    place = site.get("place") if isinstance(site, dict) else None
    zone = place.get("time_zone") if isinstance(place, dict) else None
    if isinstance(zone, str) and zone:
        try:
            zoneinfo.ZoneInfo(zone)
        except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
            fault("site.place.time_zone", f"there is no time zone '{zone}'", "use a name like 'Pacific/Auckland'")

    faults += _rule_faults(data, file)

    circuits, spots = _names(site, "circuits"), [str(row.get("place")) for row in _rows(site, "spots")]
    for twice in sorted({i for i in circuits if circuits.count(i) > 1}):
        fault(f"site.circuits[{twice}].id", f"the id '{twice}' stands {circuits.count(twice)} times", "give each its own id")
    for twice in sorted({i for i in spots if spots.count(i) > 1}):
        fault("site.spots", f"the place '{twice}' stands {spots.count(twice)} times", "say all of a place in one row")
    for plan in plans:
        for node in _rows(plan, "nodes"):
            reused = node.get("reuses")
            if isinstance(reused, str) and reused not in circuits:
                at = f"plans[{plan.get('id')}].nodes[{node.get('id')}].reuses"
                fault(at, f"there is no old circuit '{reused}'", _near(reused, list(circuits)))

    for field, problem, remedy in _tariff_faults(data.get("tariff")):
        fault(f"tariff.{field}", problem, remedy)
    for plan in plans:
        for field, problem, remedy in _plan_faults(plan, cards, known_cards, faces, appliances):
            fault(f"plans[{plan.get('id')}].{field}", problem, remedy)
    return faults


def _rule_faults(data: dict[str, Any], file: str) -> Iterator[Fault]:
    """Return what is wrong with the rules of a job: the pack it names, its own pack and its own tables, with their own lines."""
    pack, known = data.get("pack", SHIPPED[0]), list(shipped_tables())
    for name in ("own_pack", "own_tables"):
        row = data.get(name)
        if not isinstance(row, dict) or not isinstance(row.get("text"), str) or not isinstance(row.get("name"), str):
            continue
        try:
            if name == "own_pack":
                own_pack(row["text"], row["name"])
            else:
                known += own_tables(row["text"], row["name"])
        except BadInput as error:
            for one in error.faults:
                yield Fault(file, f"{name}: {one.file} {one.field}".strip(), one.problem, one.remedy)
            return
    if pack == OWN and data.get("own_pack") is None:
        yield Fault(file, "pack", "the job carries no pack of its own", "read a pack file, or name a shipped one")
    elif isinstance(pack, str) and pack not in (*SHIPPED, OWN):
        yield Fault(file, "pack", f"there is no rule pack '{pack}'", _near(pack, list(SHIPPED)))
    chosen = data.get("cable_table")
    if isinstance(chosen, str) and chosen and chosen not in known:
        yield Fault(file, "cable_table", f"there is no table '{chosen}'", _near(chosen, known))


def _tariff_faults(tariff: Any) -> Iterator[tuple[str, str, str]]:
    """Every month in one season, every cell of a week in a period that is there."""
    seasons = _rows(tariff, "seasons")
    if not seasons:
        return
    known = _names(tariff, "periods")
    counted = [m for s in seasons for m in (s.get("months") or ()) if isinstance(m, int)]
    for month in range(1, 13):
        if counted.count(month) != 1:
            times = "is in no season" if month not in counted else f"is in {counted.count(month)} seasons"
            yield "seasons", f"month {month} {times}", "put every month in one season"
            break
    for season in seasons:
        week = season.get("week")
        cells = {c for day in week if isinstance(day, list | tuple) for c in day} if isinstance(week, list | tuple) else set()
        for cell in sorted(str(c) for c in cells if c not in known):
            yield f"seasons[{season.get('id')}].week", f"there is no period '{cell}'", _near(cell, known)


def _window_faults(battery: dict[str, Any], card: Any, place: str) -> Iterator[tuple[str, str, str]]:
    """Yield the fault of a battery's window that is closed: each end as typed, else as the card has it."""
    own = card if isinstance(card, dict) else {}
    ends = []
    for name, default, pick in (("soc_min_frac", 0.0, max), ("soc_max_frac", 1.0, min)):
        typed, of_card = battery.get(name), own.get(name, default)
        if not isinstance(of_card, int | float) or not isinstance(typed, int | float | None):
            return
        ends.append(of_card if typed is None else pick(typed, of_card))
    low, high = ends
    if low >= high:
        name = "soc_min_frac" if battery.get("soc_min_frac") is not None else "soc_max_frac"
        where = (
            ""
            if battery.get("soc_min_frac") is not None and battery.get("soc_max_frac") is not None
            else " with the card's own end"
        )
        problem = f"the window from {low * 100:g} % to {high * 100:g} %{where} holds nothing"
        yield f"{place}.{name}", problem, "make the lower end less than the upper one"


def _plan_faults(
    plan: dict[str, Any],
    cards: dict[str, dict[str, Any]],
    known_cards: list[str],
    faces: list[str],
    appliances: list[str],
) -> Iterator[tuple[str, str, str]]:
    nodes = _rows(plan, "nodes")
    ids = [str(node.get("id")) for node in nodes]
    for twice in sorted({i for i in ids if ids.count(i) > 1}):
        yield f"nodes[{twice}].id", f"the id '{twice}' stands {ids.count(twice)} times", "give each node its own id"
    for i, slot in enumerate(_rows(plan.get("controls"), "slots")):
        named = slot.get("nodes")
        for node_id in named if isinstance(named, list | tuple) else ():
            if isinstance(node_id, str) and node_id not in ids:
                yield f"controls.slots[{i}].nodes", f"there is no inverter '{node_id}' in this plan", _near(node_id, ids)

    def card(card_id: object, kinds: tuple[str, ...], field: str) -> Iterator[tuple[str, str, str]]:
        fitting = [i for i, row in cards.items() if row.get("kind") in kinds]
        if not isinstance(card_id, str):
            return
        if card_id not in known_cards:
            yield field, f"there is no card '{card_id}' in the job's library", _near(card_id, fitting)
        elif card_id in cards and cards[card_id].get("kind") not in kinds:
            kind = cards[card_id].get("kind")
            yield field, f"the card '{card_id}' is {_a(kind)}, not {_a(' or '.join(kinds))}", _near(card_id, fitting)

    battery_side = 0
    for node in nodes:
        place = f"nodes[{node.get('id')}]"
        yield from card(node.get("card"), _INVERTER_KINDS, f"{place}.card")
        kind = cards.get(str(node.get("card")), {}).get("kind")
        battery_side += kind in _WITH_BATTERY
        car = node.get("dc_car")
        if isinstance(car, str) and car not in appliances:
            yield f"{place}.dc_car", f"there is no load '{car}'", _near(car, appliances)
        if car is not None and kind in _INVERTER_KINDS and kind not in _WITH_BATTERY:
            yield f"{place}.dc_car", f"a {kind} has no DC side for a car charger", "name it on a hybrid or battery inverter"
        if car is not None and [n.get("dc_car") for n in nodes].count(car) > 1:
            yield f"{place}.dc_car", f"the load '{car}' is charged at more than one inverter", "name it once"
        strings = _rows(node, "strings")
        trackers = cards.get(str(node.get("card")), {}).get("trackers")
        for name, own, words in _ON_BANK:
            if node.get(name) is None:
                continue
            yield from card(node[name], (own,), f"{place}.{name}")
            if kind in _INVERTER_KINDS and kind != "battery_inverter":
                yield f"{place}.{name}", f"{words} on a bank, and a {kind} has its own", "put it on a battery inverter"
            elif name == "controller":
                each = cards.get(str(node[name]), {}).get("trackers")
                count = node.get("controllers", 1)
                trackers = list(each) * count if isinstance(each, list | tuple) and isinstance(count, int) else None
        if strings and kind in _INVERTER_KINDS and kind not in _WITH_PV and node.get("controller") is None:
            yield f"{place}.strings", f"a {kind} has no PV input", "move the strings to a node with trackers, or add a controller"
        if node.get("battery") is not None and kind in _INVERTER_KINDS and kind not in _WITH_BATTERY:
            yield (
                f"{place}.battery",
                f"a {kind} has no battery terminals",
                "put the battery on a hybrid or battery inverter",
            )
        if kind in _WITH_BATTERY and kind in _WITH_PV and node.get("count", 1) != 1:
            yield f"{place}.count", "hybrids do not come as several like units: each has its own strings", "add one node for each"
        if plan.get("off_grid") and node.get("side") != "backup":
            yield f"{place}.side", "the plan has no grid, so no grid side", "use 'backup'"
        if node.get("side") == "backup" and not plan.get("transfer") and not plan.get("off_grid"):
            yield (
                f"{place}.side",
                "the plan has no transfer device, so no backup side",
                "use 'grid', or add a transfer device",
            )
        for string in strings:
            at = f"{place}.strings[{string.get('id')}]"
            yield from card(string.get("module"), ("module",), f"{at}.module")
            if string.get("optimizer") is not None:
                yield from card(string["optimizer"], ("optimizer",), f"{at}.optimizer")
                if kind == "module_inverter":
                    yield f"{at}.optimizer", "a module-level inverter is its own optimizer", "take one of the two out"
            if isinstance(string.get("face"), str) and string["face"] not in faces:
                yield f"{at}.face", f"there is no roof face '{string['face']}'", _near(string["face"], faces)
            tracker = string.get("tracker")
            if isinstance(trackers, list | tuple) and isinstance(tracker, int) and tracker > len(trackers):
                yield (
                    f"{at}.tracker",
                    f"the card has {len(trackers)} trackers, not {tracker}",
                    f"use 1 to {len(trackers)}",
                )
        battery = node.get("battery")
        if isinstance(battery, dict):
            yield from card(battery.get("card"), ("battery",), f"{place}.battery.card")
            yield from _window_faults(battery, cards.get(str(battery.get("card"))), f"{place}.battery")
    if battery_side > MAX_BATTERY_SIDE_NODES:
        yield (
            "nodes",
            f"{battery_side} battery or hybrid inverters; the simulation carries {MAX_BATTERY_SIDE_NODES}",
            "use fewer, larger ones",
        )
    generator = plan.get("generator")
    if isinstance(generator, dict):
        yield from card(generator.get("card"), ("generator",), "generator.card")
    transfer = plan.get("transfer")
    if plan.get("off_grid") and transfer:
        yield "transfer", "the plan has no grid, so nothing to transfer from", "take the transfer device out"
    if isinstance(transfer, dict):
        yield from card(transfer.get("card"), ("transfer",), "transfer.card")
        listed = transfer.get("listed")
        for load in listed if isinstance(listed, list | tuple) else ():
            if load != "background" and load not in appliances:
                yield f"transfer.listed[{load}]", f"there is no load '{load}'", _near(load, ["background", *appliances])
