"""The shipped cards are made here from stated physics: cells, areas, losses. ``python -m calm_relay.equipment.making`` writes them.

All are invented and generic: no figure is anybody's product. What a law of physics gives is computed (power from cells,
weight from energy, efficiency from loss terms); what designers choose (windows, limits, life) stands in tables, common practice.
"""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

from pydantic import TypeAdapter

from calm_relay.equipment.making.batteries import batteries
from calm_relay.equipment.making.between import between
from calm_relay.equipment.making.boxes import finished
from calm_relay.equipment.making.inverters import inverters
from calm_relay.equipment.making.modules import modules
from calm_relay.library.cards import BatteryCard, BatteryInverterCard, BatterySideUnit, Card, HybridCard
from calm_relay.plant.bank import cells_of

_CARDS: TypeAdapter[tuple[Card, ...]] = TypeAdapter(tuple[Card, ...])


def made_cards() -> tuple[Card, ...]:
    """Return every shipped card: the first ones, which jobs and drafts rest on, in their order, then the rest by kind."""
    kept = json.loads(resources.files("calm_relay.equipment.making").joinpath("kept_cards.json").read_bytes())
    rows = [finished(row) for row in (*kept, *modules(), *inverters(), *batteries(), *between())]
    return listed_together(_CARDS.validate_python(rows))


def listed_together(cards: tuple[Card, ...]) -> tuple[Card, ...]:
    """Return the cards with each inverter's list of batteries: what it charges, talks to and carries; older ones have none."""
    batteries = [card for card in cards if isinstance(card, BatteryCard)]

    def carries(unit: BatterySideUnit, battery: BatteryCard) -> bool:
        empty, full = cells_of(battery).window_v
        counts = range(battery.modules_min, battery.modules_max + 1) if battery.stacking == "series" else (1,)
        inside = any(unit.battery_voltage_min_v <= n * empty and n * full <= unit.battery_voltage_max_v for n in counts)
        return inside and battery.chemistry in unit.chemistries and bool(set(unit.protocols) & set(battery.protocols))

    out: list[Card] = []
    for card in cards:
        if isinstance(card, HybridCard | BatteryInverterCard) and not card.no_longer_made:
            out.append(card.model_copy(update={"pairs_with": tuple(b.id for b in batteries if carries(card, b))}))
        else:
            out.append(card)
    return tuple(out)


def written() -> bytes:
    """Return the data file: one card a line, without what its sheet lacks."""
    lines = [
        json.dumps(card.model_dump(mode="json", exclude_defaults=True) | {"kind": card.kind}, ensure_ascii=False)
        for card in made_cards()
    ]
    return ("[\n" + ",\n".join(lines) + "\n]\n").encode()


def write(path: Path | None = None) -> Path:
    """Write the data file; returns where."""
    path = path or Path(str(resources.files("calm_relay.library").joinpath("shipped_cards.json")))
    path.write_bytes(written())
    return path
