"""A card's figures as people see and type them: in the units in use, by what the models say of each field."""

from __future__ import annotations

import re
from typing import Any, Literal, get_args, get_origin

from calm_relay.equipment.columns import NO, YES, card_row, fields_of, lacking
from calm_relay.equipment.efficiency import card_fit
from calm_relay.equipment.labels import CHOICES, label_of
from calm_relay.errors import BadInput, Fault
from calm_relay.job.fault_words import kind_of_name
from calm_relay.library.cards import AcUnit, Card
from calm_relay.units import SCALES, exact_text, parse_quantity

SMALL_W = 1000.0  # below it watts read better than kilowatts
HIDDEN = ("kind", "name")  # what stands above the figures already
_CHOSEN = {words.casefold(): name for name, words in CHOICES.items()} | {name.casefold(): name for name in CHOICES}
_PER_KELVIN = re.compile(r"^\s*([+\-−]?\d+(?:[.,]\d+)?)\s*(?:%\s*/\s*(?:°?c|k))?\s*$", re.IGNORECASE)


def figure_text(column: str, value: Any) -> str:
    """Return a figure of a card in the unit in use. [text]"""
    name = column.rpartition(".")[2]
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(CHOICES.get(str(part), str(part)) for part in value)
    if not isinstance(value, int | float):
        return CHOICES.get(str(value), str(value))
    if name.endswith("_per_c"):
        return f"{round(value * 100, 6):g} %/°C".replace("-", "−")
    kind = kind_of_name(name)
    if kind == "power_w" and 0 < abs(value) < SMALL_W:
        return f"{value:g} W"
    return f"{value:g}" if kind is None else exact_text(float(value), kind)


def cell_text(kind: str, column: str, cell: str | None) -> str:
    """Return a table's cell of a figure as people see it; 'not known' where it is empty. [text]"""
    if cell is None:
        return "not known"
    plain = fields_of(kind).get(column)
    if plain in (int, float):
        return figure_text(column, float(cell))
    if plain is bool:
        return "yes" if cell in YES else "no"
    return ", ".join(CHOICES.get(part, part) for part in cell.split()) if get_origin(plain) is tuple else CHOICES.get(cell, cell)


SMALL_KINDS = ("module", "optimizer", "module_inverter")  # whose watts sheets print as watts
SMALL_FIGURES = ("p_self_w", "night_w", "auxiliary_w")
SIZES = ("length_m", "width_m", "height_m", "depth_m", "clamp_opening_m")  # sheets print them in millimetres


def bare_unit(kind: str, column: str) -> str:
    """Return the unit that a number without one has for a figure: as data sheets print it, else the one in use. [text]"""
    name, plain = column.rpartition(".")[2], fields_of(kind).get(column)
    if plain not in (int, float):
        return ""
    if name.endswith("_per_c"):
        return "%/°C"
    if name in SIZES:
        return "mm"
    quantity = kind_of_name(name)
    if quantity == "power_w" and (kind in SMALL_KINDS or name in SMALL_FIGURES):
        return "W"
    return SCALES[quantity].unit if quantity in SCALES else ""


def choices_of(kind: str, column: str) -> list[str]:
    """Return the words a figure may be, as people see them; none where it is a number or free text."""
    plain = fields_of(kind).get(column)
    if plain is bool:
        return ["yes", "no"]
    if get_origin(plain) is Literal:
        return [CHOICES.get(str(value), str(value)) for value in get_args(plain)]
    return []


def parsed_figure(kind: str, column: str, text: str) -> Any:
    """Return what a person typed for a figure of a kind of card, in core units.

    Raises
    ------
    BadInput
        When it is no such figure, with an example of what would be.
    """
    name, plain = column.rpartition(".")[2], fields_of(kind).get(column)
    if name.endswith("_per_c"):
        match = _PER_KELVIN.match(text)
        if match is None:
            raise BadInput([Fault("", column, f"'{text}' is no share a kelvin", "type it like '−0.25 %/°C'")])
        return float(match.group(1).replace(",", ".").replace("−", "-")) / 100.0
    if get_origin(plain) is tuple:
        return [_CHOSEN.get(part.strip().casefold(), part.strip()) for part in re.split(r"[,;]", text) if part.strip()]
    if plain is bool:
        if text.strip().casefold() in (*YES, *NO):
            return text.strip().casefold() in YES
        raise BadInput([Fault("", column, f"'{text}' is neither yes nor no", "type yes or no")])
    if get_origin(plain) is Literal and isinstance(get_args(plain)[0], int) and text.strip().isdigit():
        return int(text)
    if plain not in (int, float):
        return _CHOSEN.get(text.strip().casefold(), text.strip()) if get_origin(plain) is Literal else text.strip()
    quantity = kind_of_name(name) or "ratio"
    bare = re.fullmatch(r"\s*[+\-−]?\d*(?:[.,]\d+)?\s*", text) is not None and any(ch.isdigit() for ch in text)
    try:
        number = parse_quantity(f"{text} {bare_unit(kind, column)}" if bare else text, quantity)
    except BadInput as error:
        raise BadInput([Fault("", column, fault.problem, fault.remedy) for fault in error.faults]) from None
    return int(number) if plain is int and number == int(number) else number


def card_lines(card: Card) -> list[str]:
    """Return a card's figures as lines, and what its data sheet lacks."""
    row, data = card_row(card), card.model_dump()
    out = []
    for column in row:
        if column in HIDDEN or not row[column]:
            continue
        here: Any = data
        for step in column.split("."):
            here = here[int(step) - 1] if step.isdigit() else here[step]
        out.append(f"{label_of(column)}: {figure_text(column, here)}")
    lacks = [label_of(name) for name in lacking(card)]
    fit = card_fit(card) if isinstance(card, AcUnit) else None
    if fit is not None:
        out += ["", f"The loss against the sheet's efficiencies: at most {fit.worst_frac * 100:.2f} % off."]
    return [*out, "", f"The data sheet lacks: {', '.join(lacks) or 'nothing'}."]
