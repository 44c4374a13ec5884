"""A card being typed: figures as text with their units, by column; what is wrong or missing, and the card once it is whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from calm_relay.equipment.columns import EFFICIENCIES, card_from, card_row, fields_of, groups_of, id_of, missing_of, required_of
from calm_relay.equipment.efficiency import card_fit
from calm_relay.equipment.labels import label_of
from calm_relay.equipment.shown import cell_text, parsed_figure
from calm_relay.errors import BadInput, Fault
from calm_relay.library.cards import AcUnit, Card

# What stands last: the box and its papers.
ABOUT = (
    "height_m", "width_m", "depth_m", "weight_kg", "places", "temperature_min_c", "temperature_max_c", "warranty_years",
    "firmware_note", "no_longer_made", "source",
)  # fmt: skip
FIRST_ROWS = 1  # of a numbered group that a card cannot be without


@dataclass
class TypedCard:
    """Texts by column, empty where the sheet says nothing; `rows` is how many rows of each numbered group are shown.

    `kept` has text and figure of what was there: a text left alone keeps its figure to the last digit.
    """

    kind: str
    texts: dict[str, str] = field(default_factory=dict)
    rows: dict[str, int] = field(default_factory=dict)
    card_id: str = ""
    kept: dict[str, tuple[str, Any]] = field(default_factory=dict)

    def columns(self) -> list[str]:
        """Return the columns to show: what the card cannot be without first, then the rest, with the rows that groups have."""
        needed = required_of(self.kind)
        rest = [name for name in fields_of(self.kind) if name not in needed and name not in ("kind", "id", "name")]
        first = [name for name in EFFICIENCIES if name in rest]
        plain = [name for name in rest if name not in first and name not in ABOUT]
        order = (*needed, *first, *plain, *(name for name in ABOUT if name in rest))
        return [column for column in order if self._shown(column)]

    def _shown(self, column: str) -> bool:
        group, number = group_of(column)
        least = FIRST_ROWS if any(name.startswith(f"{group}.1.") for name in required_of(self.kind)) else 0
        return not group or number <= max(self.rows.get(group, 0), least)

    def groups(self) -> tuple[str, ...]:
        """Return the numbered groups that can have another row."""
        most: dict[str, int] = {}
        for name in fields_of(self.kind):
            group, number = group_of(name)
            if group:
                most[group] = max(most.get(group, 0), number)
        return tuple(g for g in groups_of(self.kind) if self.shown_rows(g) < most[g])

    def shown_rows(self, group: str) -> int:
        """Return how many rows of a group are shown."""
        return max((group_of(c)[1] for c in self.columns() if group_of(c)[0] == group), default=0)

    def add_row(self, group: str) -> list[str]:
        """Show another row of a group, its figures begun with those of the row before; returns its columns."""
        now = self.shown_rows(group)
        self.rows[group] = now + 1
        new = [c for c in self.columns() if group_of(c) == (group, now + 1)]
        for column in new:
            before = column.replace(f"{group}.{now + 1}.", f"{group}.{now}.", 1)
            if self.texts.get(before) and group == "trackers":
                self.texts[column] = self.texts[before]
        return new

    def values(self) -> tuple[dict[str, Any], dict[str, str]]:
        """Return the figures that can be read, in core units, and what is wrong with the others, each by column."""
        good: dict[str, Any] = {}
        wrong: dict[str, str] = {}
        for column, text in self.texts.items():
            if not text.strip() or column not in fields_of(self.kind):
                continue
            if column in self.kept and self.kept[column][0] == text:
                good[column] = self.kept[column][1]
                continue
            try:
                good[column] = parsed_figure(self.kind, column, text)
            except BadInput as error:
                wrong[column] = "; ".join(f"{fault.problem}; {fault.remedy}" for fault in error.faults)
        return good, wrong

    def missing(self) -> list[str]:
        """Return the columns a card of this kind still needs."""
        good, wrong = self.values()
        return [name for name in missing_of(self.kind, {**good, **wrong}) if name != "name"]

    def card(self) -> Card:
        """Return the card; raises BadInput with a fault for each figure that is wrong or missing."""
        name = self.texts.get("name", "").strip()
        good, wrong = self.values()
        if wrong:
            raise BadInput([Fault("", column, *words.split("; ", 1)) for column, words in wrong.items()])
        good |= {"name": name, "id": self.card_id or id_of(name) or "card"}
        good.setdefault("source", "typed")
        return card_from(self.kind, good, "")

    def faults(self) -> dict[str, str]:
        """Return what is wrong, by column, beside what is missing."""
        _, wrong = self.values()
        if wrong or self.missing() or not self.texts.get("name", "").strip():
            return wrong
        try:
            self.card()
        except BadInput as error:
            return {fault.field: f"{fault.problem}; {fault.remedy}" for fault in error.faults}
        return {}

    def said(self) -> str:
        """Return in a sentence how far the card is."""
        wrong, missing = self.faults(), self.missing()
        if wrong:
            return "; ".join(f"{label_of(c) if c in fields_of(self.kind) else c}: {words}" for c, words in list(wrong.items())[:3])
        wants = [label_of(name) for name in missing] + ([] if self.texts.get("name", "").strip() else ["Name"])
        if wants:
            more = f" and {len(wants) - 6} more" if len(wants) > 6 else ""
            return f"Still wanted: {', '.join(wants[:6])}{more}."
        card = self.card()
        fit = card_fit(card) if isinstance(card, AcUnit) else None
        if fit is None or any(name.startswith("loss.") for name in self.texts if self.texts[name].strip()):
            return "It can be put on the shelf."
        terms = fit.terms
        return (
            f"It can be put on the shelf. Loss fitted to the efficiencies: {terms.p_self_w:.1f} W fixed, "
            f"{terms.a * 100:.2f} % linear, {terms.b * 100:.2f} % square; at most {fit.worst_frac * 100:.2f} % off."
        )


def group_of(column: str) -> tuple[str, int]:
    """Return the numbered group a column belongs to and its row, from 1; ('', 0) for none."""
    parts = column.split(".")
    at = next((i for i, part in enumerate(parts) if part.isdigit()), None)
    return ("", 0) if at is None else (".".join(parts[:at]), int(parts[at]))


def typed_card(card: Card) -> TypedCard:
    """Return a card as text to be typed over."""
    row = card_row(card)
    texts = typed_texts(card.kind, row)
    kept = {name: (text, _figure(card, name)) for name, text in texts.items() if name != "name"}
    return TypedCard(card.kind, texts, _rows(row), card.id, kept)


def _figure(card: Card, column: str) -> Any:
    """Return a card's figure by its column."""
    here: Any = card.model_dump()
    for step in column.split("."):
        here = here[int(step) - 1] if step.isdigit() else here[step]
    return list(here) if isinstance(here, tuple) else here


def typed_texts(kind: str, row: Mapping[str, str]) -> dict[str, str]:
    """Return a row of cells as people see them, by column."""
    return {name: cell_text(kind, name, cell) for name, cell in row.items() if name not in ("kind", "id")}


def _rows(row: Mapping[str, str]) -> dict[str, int]:
    out: dict[str, int] = {}
    for name in row:
        group, number = group_of(name)
        if group:
            out[group] = max(out.get(group, 0), number)
    return out
