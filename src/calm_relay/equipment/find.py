"""Finding a card by words and figures: 'three phase 10 kW 2 trackers', 'lfp 5 kWh', 'module 430'."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from calm_relay.equipment.labels import CHOICES, KINDS
from calm_relay.library.cards import (
    AcUnit,
    BatteryCard,
    BatterySideUnit,
    Card,
    ChargeControllerCard,
    GeneratorCard,
    MeterCard,
    ModuleCard,
    OptimizerCard,
    TimerChargerCard,
    TransferCard,
)

NEAR_FRAC = 0.051  # a figure is met by cards within a twentieth of it
# unit → what it is in core units; the quantity it is a figure of
UNITS = {
    "w": ("power", 1.0), "kw": ("power", 1e3), "wp": ("power", 1.0), "kwp": ("power", 1e3), "va": ("power", 1.0),
    "kva": ("power", 1e3), "wh": ("energy", 1.0), "kwh": ("energy", 1e3), "v": ("volts", 1.0), "a": ("amps", 1.0),
    "ah": ("charge", 1.0),
}  # fmt: skip
COUNTED = {"tracker": "trackers", "trackers": "trackers", "phase": "phases", "phases": "phases", "mppt": "trackers"}
NUMBERS = {"single": 1, "one": 1, "two": 2, "three": 3, "four": 4}
_FIGURE = re.compile(r"^(\d+(?:[.,]\d+)?)([a-z]*)$")


@dataclass(frozen=True)
class Wish:
    """One thing a search asks for: a word, or a figure of a quantity. [core unit of the quantity]"""

    word: str = ""
    quantity: str = ""
    value: float = 0.0


def wishes(text: str) -> tuple[Wish, ...]:
    """Return what a search's words ask for; a number before a unit or a counted noun is a figure."""
    words = re.sub(r"[-/,;]+(?=\s)|\s-\s", " ", text.casefold()).replace("-phase", " phase").split()
    out: list[Wish] = []
    at = 0
    while at < len(words):
        word, after = words[at], words[at + 1] if at + 1 < len(words) else ""
        number = NUMBERS.get(word)
        match = _FIGURE.match(word)
        if number is not None and after in COUNTED:
            out.append(Wish(quantity=COUNTED[after], value=float(number)))
            at += 2
            continue
        if match is not None:
            value, unit = float(match.group(1).replace(",", ".")), match.group(2)
            taken = 1
            if not unit and (after in UNITS or after in COUNTED):
                unit, taken = after, 2
            if unit in UNITS:
                quantity, size = UNITS[unit]
                out.append(Wish(quantity=quantity, value=value * size))
                at += taken
                continue
            if unit in COUNTED:
                out.append(Wish(quantity=COUNTED[unit], value=value))
                at += taken
                continue
        out.append(Wish(word=word))
        at += 1
    return tuple(out)


def figures(card: Card) -> Iterator[tuple[str, float]]:
    """Yield what a card is found by: each with its quantity, in core units."""
    if isinstance(card, ModuleCard):
        yield "power", card.power_stc_w
        if card.system_voltage_max_v is not None:
            yield "volts", card.system_voltage_max_v
    if isinstance(card, OptimizerCard):
        yield "power", card.power_max_w
    if isinstance(card, AcUnit):
        yield "power", card.ac_rated_w
        yield "phases", float(card.phases)
        trackers = getattr(card, "trackers", ())
        if trackers:
            yield "trackers", float(len(trackers))
            yield "volts", card.dc_voltage_max_v
    if isinstance(card, BatterySideUnit):
        yield "volts", card.battery_voltage_max_v
    if isinstance(card, BatteryCard):
        yield "energy", card.capacity_wh
        yield "volts", card.voltage_nominal_v
        yield "charge", card.capacity_wh / card.voltage_nominal_v
    if isinstance(card, ChargeControllerCard):
        yield "amps", card.charge_max_a
        yield "volts", card.dc_voltage_max_v
    if isinstance(card, TimerChargerCard):
        yield "amps", card.charge_max_a
        yield "power", card.ac_in_max_w
        yield "volts", card.battery_voltage_max_v
    if isinstance(card, GeneratorCard):
        yield "power", card.rated_va
    if isinstance(card, MeterCard):
        yield "amps", card.current_max_a
    if isinstance(card, TransferCard) and card.pass_through_a is not None:
        yield "amps", card.pass_through_a


def _words(card: Card) -> str:
    more = f" {card.chemistry}" if isinstance(card, BatteryCard) else ""
    more += "".join(f" {CHOICES[kind]}" for kind in getattr(card, "supplies", ()))
    return f"{card.name} {card.id} {KINDS[card.kind]} {card.kind.replace('_', ' ')}{more}".casefold().replace("-", " ")


def fits(card: Card, wanted: Iterable[Wish]) -> bool:
    """Return whether a card meets every wish: a word stands in its name, id, kind or chemistry, a figure is near one of its own."""
    have, said = tuple(figures(card)), _words(card)
    for wish in wanted:
        if wish.word:
            if wish.word.replace("-", " ") not in said:
                return False
        elif not any(q == wish.quantity and _near(v, wish) for q, v in have):
            return False
    return True


def _near(value: float, wish: Wish) -> bool:
    if wish.quantity in ("phases", "trackers"):
        return value == wish.value
    return abs(value - wish.value) <= NEAR_FRAC * wish.value + 1e-9


def find_cards(cards: Iterable[Card], text: str) -> list[Card]:
    """Return the cards that meet a search, in their own order; all of them for an empty one."""
    wanted = wishes(text)
    return [card for card in cards if fits(card, wanted)]
