"""The tables the cards are made from: CSV files beside this one, a row a card, figures as designers set them."""

from __future__ import annotations

import csv
import io
from importlib import resources
from typing import Any

SUPPLIES = {
    "single": ("single_phase", "three_phase"), "split": ("split_phase",), "three": ("three_phase",),
}  # fmt: skip


def _value(text: str) -> Any:
    if text in ("yes", "no"):
        return text == "yes"
    try:
        number = float(text)
    except ValueError:
        return text or None
    return int(number) if number.is_integer() and "." not in text else number


def rows(name: str) -> list[dict[str, Any]]:
    """Return the rows of a table by column: numbers, yes and no, text; None for an empty cell."""
    text = resources.files("calm_relay.equipment.making").joinpath(f"tables/{name}.csv").read_text(encoding="utf-8")
    return [{key: _value(cell) for key, cell in row.items()} for row in csv.DictReader(io.StringIO(text))]
