"""Checks of the places on the wall: water, sun, rooms, distances, weight, air for lead-acid, space to work."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from calm_relay.job.edits import Edit
from calm_relay.job.site_models import MountingSpot
from calm_relay.library.base import BoxCard
from calm_relay.plant import chain
from calm_relay.plant.station import BatteryRow, Box, Model
from calm_relay.rules.checks_bank import PLACES
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, declared, finding, unknown
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.cells import place_range_c

ROOMS = {
    "not_said": "not said", "utility": "a utility room", "living": "a living room", "bedroom": "a bedroom", "loft": "a loft",
    "escape_route": "an escape route",
}  # fmt: skip
LEAD_CELL_V = 2.0
SHADED = ("1 of 1 shaded, as declared", "0 of 1 shaded, as declared: the sun falls on it")
WALLS = ("1 of 1 walls does not burn, as declared", "0 of 1 walls: it may burn, as declared")
BY_SITE = "the electrician and the local rules on rooms decide"


@dataclass(frozen=True)
class InUse:
    """A mounting place that a plan uses: what is known of it, the banks that stand there, and the boxes with how many of each."""

    place: str
    spot: MountingSpot | None
    banks: tuple[BatteryRow, ...]
    boxes: tuple[tuple[Model, Box, int], ...]

    @property
    def name(self) -> str:
        """The place in words."""
        return PLACES[self.place]


def places_in_use(c: CheckContext) -> list[InUse]:
    """Return the places at which banks and inverters of a plan stand."""
    banks: dict[str, list[BatteryRow]] = {}
    boxes: dict[str, list[tuple[Model, Box, int]]] = {}
    for row in c.plant.banked:
        if row.bank.place is not None:
            banks.setdefault(row.bank.place, []).append(row)
            boxes.setdefault(row.bank.place, []).append((row.battery.model, row.battery.box, row.bank.modules))
    for station in c.plant.stations:
        if station.place is not None and not station.each.per_module:
            boxes.setdefault(station.place, []).append((station.model, station.box, station.count))
    return [
        InUse(place, c.job.site.spot(place), tuple(banks.get(place, ())), tuple(rows))
        for place, rows in sorted(boxes.items(), key=lambda item: list(PLACES).index(item[0]))
    ]


def _spots(c: CheckContext, *, banks: bool = False) -> Iterator[tuple[InUse, MountingSpot]]:
    """Yield the places in use of which something is known; `banks`: only where batteries stand."""
    for used in places_in_use(c):
        if used.spot is not None and (used.banks or not banks):
            yield used, used.spot


def _path(c: CheckContext, used: InUse, field: str) -> str:
    index = next(i for i, spot in enumerate(c.job.site.spots) if spot.place == used.place)
    return f"site.spots[{index}].{field}"


@check(
    "place.known", "What is known of the place", page="site", needs={"plan"}, short="Place looked at",
    source="rooms, water, distances, wall and air of each place that a plan uses: looked at on site",
)  # fmt: skip
def known(c: CheckContext) -> Iterator[Finding]:
    """Whether anything is known of each place that the plan uses, and where its inverters hang."""
    for used in places_in_use(c):
        if used.spot is None:
            yield unknown(c, "place.known", used.name, "room, water, distances, wall and air of the place: look at it on site")
        else:
            yield finding(c, "place.known", used.name, YES_NO, 1.0, 1.0, "least", "1 of 1 looked at", tight=COUNTS)
    homeless = [n.name for n in c.plan.nodes if n.place is None and not c.cards.inverter(n.card).per_module]
    if homeless and c.job.site.spots:
        yield unknown(c, "place.known", ", ".join(homeless), "where the inverters hang: choose their place")


@check(
    "place.flood", "Above the highest water", page="site", needs={"plan"}, short="Flood height",
    source="lowest edge of what hangs there above the highest water known; the pack's margin",
)  # fmt: skip
def flood(c: CheckContext) -> Iterator[Finding]:
    """The lowest edge of what hangs at a place against the highest water and the pack's margin."""
    margin = c.pack.value("flood_above_least_m")
    for used, spot in _spots(c):
        if spot.flood_m is None or (spot.lowest_m is None and spot.flood_m > 0):
            what = "the highest water known there" if spot.flood_m is None else "the lowest edge of what hangs there"
            yield unknown(c, "place.flood", used.name, f"{what}: ask and measure on site")
            continue
        limit = spot.flood_m + margin if spot.flood_m > 0 else 0.0
        lowest = spot.lowest_m or 0.0
        line = (
            f"lowest edge at {lowest:g} m; water to {spot.flood_m:g} m and {margin:g} m more" if spot.flood_m > 0
            else "water to 0 m: none is known there"
        )  # fmt: skip
        yield finding(
            c, "place.flood", used.name, "length_m", lowest, limit, "least", line, tight=COUNTS,
            remedies=[Remedy(f"hung {limit:.2f} m above the floor", (Edit(_path(c, used, "lowest_m"), round(limit + 0.005, 2)),))],
            source=c.pack.source("flood_above_least_m"),
        )  # fmt: skip


@check(
    "place.unit", "Inverter may hang there", page="plans", needs={"plan"}, short="Inverter's place",
    source="the inverter's card: places its maker allows",
)  # fmt: skip
def unit(c: CheckContext) -> Iterator[Finding]:
    """Whether each inverter's card allows the place that was chosen."""
    for node in c.plan.nodes:
        card = c.cards.inverter(node.card)
        if node.place is None:
            continue
        if not card.places:
            yield unknown(c, "place.unit", node.name, f"where {card.name} may hang: see its manual")
            continue
        words = ", ".join(PLACES[p] for p in card.places)
        line = f"it hangs {PLACES[node.place]}; the card allows {count_words(len(card.places), 'place')}: {words}"
        at = c.path(f"nodes[{node.id}].place")
        yield finding(
            c, "place.unit", node.name, YES_NO, float(node.place in card.places), 1.0, "least", line, tight=COUNTS,
            remedies=[Remedy(f"hang it {PLACES[p]}", (Edit(at, p),)) for p in card.places],
        )  # fmt: skip


@check(
    "place.unit-temperature", "Temperature at the inverter's place", page="plans", needs={"plan"}, short="Inverter's air",
    source="the place's extremes, measured or by the site and the pack; the inverter's card",
)  # fmt: skip
def unit_temperature(c: CheckContext) -> Iterator[Finding]:
    """Lowest and highest air at each inverter's place against what its card allows."""
    for node in c.plan.nodes:
        card = c.cards.inverter(node.card)
        if node.place is None:
            continue
        low, high = place_range_c(c.job.site, node.place, c.pack)
        for word, value, limit, sense in (
            ("lowest", low, card.temperature_min_c, "least"), ("highest", high, card.temperature_max_c, "most"),
        ):  # fmt: skip
            subject = f"{node.name}, {word}"
            if value is None or limit is None:
                missing = "the site's record low or design high" if value is None else "the card's range of temperature"
                yield unknown(c, "place.unit-temperature", subject, missing)
                continue
            line = f"{word} {show(value, 'temperature_c')} {PLACES[node.place]}; the card works to {show(limit, 'temperature_c')}"
            better = [p for p in card.places if _inside(c, card, p)]
            yield finding(
                c, "place.unit-temperature", subject, "temperature_c", value, limit, "most" if sense == "most" else "least", line,
                remedies=[Remedy(f"hang it {PLACES[p]}", (Edit(c.path(f"nodes[{node.id}].place"), p),)) for p in better]
                or [Remedy("shade, air, or a unit made for it")],
            )  # fmt: skip


def _inside(c: CheckContext, card: BoxCard, place: str) -> bool:
    low, high = place_range_c(c.job.site, place, c.pack)
    cold, warm = card.temperature_min_c, card.temperature_max_c
    return low is not None and high is not None and cold is not None and warm is not None and low >= cold and high <= warm


@check(
    "place.sun", "Out of the sun", page="site", needs={"plan"}, short="Sun on the box",
    source="a box in the sun is warmer than the air, gives less and ages faster; common practice",
)  # fmt: skip
def sun(c: CheckContext) -> Iterator[Finding]:
    """Whether the sun falls on what hangs outdoors."""
    for used, spot in _spots(c):
        if used.place in ("outdoors", "outdoors_sheltered"):
            yield declared(
                c, "place.sun", used.name, spot.in_sun, "whether the sun falls on it: look at noon", SHADED,
                Remedy("a roof or a shaded wall"), good="no", soft=True,
            )  # fmt: skip


@check(
    "place.room", "Rooms that are not allowed", page="site", needs={"plan"}, short="Room",
    source="rooms in which batteries may not stand; the pack",
)  # fmt: skip
def room(c: CheckContext) -> Iterator[Finding]:
    """Whether batteries stand in a room that the pack forbids."""
    forbidden, source = [str(r) for r in c.pack.items("forbidden_rooms")], c.pack.list_["forbidden_rooms"][1]
    for used, spot in _spots(c, banks=True):
        if used.place not in ("indoors", "garage"):
            continue
        if spot.room == "not_said":
            yield unknown(c, "place.room", used.name, "what the room is used for", source)
            continue
        named = f"{int(spot.room in forbidden)} of {len(forbidden)} that are not allowed ({', '.join(ROOMS[r] for r in forbidden)})"
        line = f"{ROOMS[spot.room]}, {named}; {BY_SITE}"
        yield finding(
            c, "place.room", used.name, YES_NO, float(spot.room not in forbidden), 1.0, "least", line, tight=COUNTS, source=source,
            remedies=[Remedy("another room or place")],
        )  # fmt: skip


def _least(
    c: CheckContext, check_id: str, used: InUse, field: str, value: float | None, rule: tuple[float | None, str], ask: str,
    words: str, fix: str,
) -> Iterator[Finding]:  # fmt: skip
    """Yield a distance against the pack's least, (value, name); nothing where the pack has no such rule."""
    limit, key = rule
    if limit is None:
        return
    if value is None:
        yield unknown(c, check_id, used.name, f"{ask}: measure on site", c.pack.source(key))
        return
    line = f"{words} {value:g} m, at least {limit:g} m"
    yield finding(
        c, check_id, used.name, "length_m", value, limit, "least", line, tight=COUNTS, source=c.pack.source(key),
        remedies=[Remedy(f"{fix} {limit:g} m", (Edit(_path(c, used, field), limit),))],
    )  # fmt: skip


@check(
    "place.opening", "Distance to doors and windows", page="site", needs={"plan"}, short="To openings",
    source="from batteries to the nearest door, window or vent; the pack",
)  # fmt: skip
def opening(c: CheckContext) -> Iterator[Finding]:
    """The distance from batteries to the nearest opening against the pack's least."""
    for used, spot in _spots(c, banks=True):
        outdoors = used.place in ("outdoors", "outdoors_sheltered")
        rule = (c.pack.get("opening_least_m"), "opening_least_m")
        own = c.pack.get("opening_outdoors_least_m")
        if outdoors and own is not None:
            rule = (own, "opening_outdoors_least_m")
        yield from _least(
            c, "place.opening", used, "opening_m", spot.opening_m, rule, "the distance to the nearest door, window or vent",
            "to the nearest opening", "moved to a distance of",
        )  # fmt: skip


@check(
    "place.apart", "Distance between battery units", page="site", needs={"plan"}, short="Between units",
    source="between one battery unit and the next; the pack, or what the maker tested",
)  # fmt: skip
def apart(c: CheckContext) -> Iterator[Finding]:
    """The distance between banks at one place against the pack's least, where several stand there."""
    for used, spot in _spots(c, banks=True):
        units = sum(row.bank.modules if row.bank.cells.stacking == "parallel" else 1 for row in used.banks)
        if units > 1:
            rule = (c.pack.get("apart_least_m"), "apart_least_m")
            yield from _least(
                c, "place.apart", used, "apart_m", spot.apart_m, rule, "the distance between battery units",
                f"{count_words(units, 'unit')} apart by", "set apart by",
            )  # fmt: skip


@check(
    "place.clear", "Space to work in front", page="site", needs={"plan"}, short="Space in front",
    source="free depth from the wall, less the deepest box, against the pack's least",
)  # fmt: skip
def clear(c: CheckContext) -> Iterator[Finding]:
    """Free depth in front of the deepest box at a place against the pack's least."""
    limit = c.pack.value("clear_depth_least_m")
    for used, spot in _spots(c):
        deepest = max((box.depth_m for _, box, _ in used.boxes if box.depth_m is not None), default=None)
        if spot.clear_m is None or deepest is None:
            what = "free depth from the wall: measure on site" if spot.clear_m is None else "how deep the boxes are: their sheets"
            yield unknown(c, "place.clear", used.name, what)
            continue
        left = spot.clear_m - deepest
        line = f"{spot.clear_m:g} m from the wall less {deepest:g} m of the deepest box = {left:.2f} m"
        yield finding(
            c, "place.clear", used.name, "length_m", left, limit, "least", line, tight=COUNTS,
            source=c.pack.source("clear_depth_least_m"),
            remedies=[Remedy(f"{limit + deepest:.2f} m kept free", (Edit(_path(c, used, "clear_m"), limit + deepest),))],
        )  # fmt: skip


def _sum_of(boxes: tuple[tuple[Model, Box, int], ...], figure: str) -> tuple[float, list[str]]:
    """Return the sum of a figure over boxes, and the names of those that are silent."""
    silent = [model.name for model, box, _ in boxes if getattr(box, figure) is None]
    return sum((getattr(box, figure) or 0.0) * count for _, box, count in boxes), silent


@check(
    "place.width", "Room for all boxes side by side", page="site", needs={"plan"}, short="Width",
    source="widths of inverters and banks against the free width; stacked modules stand on one another; the cards",
)  # fmt: skip
def width(c: CheckContext) -> Iterator[Finding]:
    """What the boxes at a place take side by side against the free width there."""
    for used, spot in _spots(c):
        stacked = {row.battery.model.id for row in used.banks if row.bank.cells.stacking == "series"}
        side_by_side = tuple((model, box, 1 if model.id in stacked else count) for model, box, count in used.boxes)
        total, silent = _sum_of(side_by_side, "width_m")
        if spot.width_m is None or silent:
            what = f"the width of {', '.join(silent)}: see the sheet" if silent else "free width: measure on site"
            yield unknown(c, "place.width", used.name, what)
            continue
        words = " + ".join(
            f"{f'{count} × ' if count > 1 else ''}{model.name} {box.width_m:g} m" for model, box, count in side_by_side
        )
        yield finding(
            c, "place.width", used.name, "length_m", total, spot.width_m, "most", f"{words} = {total:.2f} of {spot.width_m:g} m",
            tight=COUNTS, remedies=[Remedy("another wall, or part of it elsewhere")],
        )  # fmt: skip


@check(
    "place.weight", "Wall or floor carries it", page="site", needs={"plan"}, short="Weight",
    source="weights of the cards against what wall or floor carries; looked at on site",
)  # fmt: skip
def weight(c: CheckContext) -> Iterator[Finding]:
    """What stands and hangs at a place against what wall or floor carries."""
    for used, spot in _spots(c):
        total, silent = _sum_of(used.boxes, "weight_kg")
        if spot.carries_kg is None or silent:
            what = f"the weight of {', '.join(silent)}: see the sheet" if silent else "what wall or floor carries: look on site"
            yield unknown(c, "place.weight", used.name, what)
            continue
        words = " + ".join(f"{f'{count} × ' if count > 1 else ''}{box.weight_kg:g} kg" for _, box, count in used.boxes)
        line = f"{words} = {total:g} of {spot.carries_kg:g} kg"
        yield finding(
            c, "place.weight", used.name, "mass_kg", total, spot.carries_kg, "most", line,
            remedies=[Remedy("a floor stand, a stronger wall, or part of it elsewhere")],
        )  # fmt: skip


@check(
    "place.backing", "What is behind it does not burn", page="site", needs={"plan"}, short="Backing",
    source="non-combustible behind the battery; the pack where it asks for it",
)  # fmt: skip
def backing(c: CheckContext) -> Iterator[Finding]:
    """Whether what stands behind batteries does not burn, where the pack asks for it."""
    if c.pack.choice("backing") != "required":
        return
    for used, spot in _spots(c, banks=True):
        yield declared(
            c, "place.backing", used.name, spot.backing, "what is behind the battery: look on site", WALLS,
            Remedy("a sheet that does not burn, then declare it", (Edit(_path(c, used, "backing"), "yes"),)),
            source=c.pack.list_["backing"][1],
        )  # fmt: skip


@check(
    "place.air", "Air for lead-acid", page="site", needs={"plan"}, short="Ventilation",
    source="Q = 0.05·n·I·C, A = 28·Q, IEC 62485-2, from memory",
)  # fmt: skip
def air(c: CheckContext) -> Iterator[Finding]:
    """Free opening to the outside against what the gas of lead-acid banks asks for while they are boosted."""
    for used, spot in _spots(c, banks=True):
        lead = [row for row in used.banks if row.bank.cells.is_lead]
        if not lead or used.place == "outdoors":
            continue
        flow, words = 0.0, []
        for row in lead:
            vented = row.bank.cells.chemistry in ("lead-acid", "lead-flooded")
            ma = c.pack.value("vent_ma_per_ah_vented") if vented else c.pack.value("vent_ma_per_ah_sealed")
            volts = chain.stack_voltage_v(row.bank)
            cells, ah = volts / LEAD_CELL_V, row.bank.cells.capacity_wh * row.bank.modules / volts
            flow += c.pack.value("vent_factor") * cells * ma / 1000.0 * ah
            words.append(f"{c.pack.value('vent_factor'):g} × {cells:.0f} cells × {ma:g} mA/Ah × {ah:.0f} Ah")
        area = c.pack.value("vent_cm2_per_m3_h") * flow
        if spot.vent_cm2 is None:
            need = f"free opening to the outside: measure it; {area:.0f} cm² are asked for"
            yield unknown(c, "place.air", used.name, need)
            continue
        line = f"{' + '.join(words)} = {flow:.2f} m³/h, {c.pack.value('vent_cm2_per_m3_h'):g} cm² each: {area:.0f} cm²"
        yield finding(
            c, "place.air", used.name, "area_cm2", spot.vent_cm2, area, "least", line, tight=COUNTS,
            source=c.pack.source("vent_factor"),
            remedies=[Remedy(f"an opening of {area:.0f} cm² low and one high", (Edit(_path(c, used, "vent_cm2"), area),))],
        )  # fmt: skip
