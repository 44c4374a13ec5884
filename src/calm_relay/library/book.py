"""Cards by id, asked for by what they are to be: the one place that tells kinds of cards apart."""

from __future__ import annotations

from typing import TypeVar

from calm_relay.errors import BadInput, Fault
from calm_relay.library.cards import (
    AcUnit,
    BatteryCard,
    BatteryInverterCard,
    Card,
    CardBase,
    ChargeControllerCard,
    GeneratorCard,
    HybridCard,
    InverterCard,
    ModuleCard,
    ModuleInverterCard,
    OptimizerCard,
    PvInverterCard,
    TimerChargerCard,
    TransferCard,
)

Kind = TypeVar("Kind", bound=CardBase)


class CardBook(dict[str, Card]):
    """Cards by id. Every reader raises BadInput where a card is of another kind than is asked for."""

    def _typed(self, card_id: str, kind: type[Kind], words: str) -> Kind:
        card = self[card_id]
        if not isinstance(card, kind):
            raise BadInput([Fault("", f"library[{card_id}]", f"this is a {card.kind.replace('_', ' ')}", f"name {words}")])
        return card

    def inverter(self, card_id: str) -> InverterCard:
        """Return an inverter of any kind."""
        self._typed(card_id, AcUnit, "an inverter")
        card = self[card_id]
        assert isinstance(card, PvInverterCard | ModuleInverterCard | HybridCard | BatteryInverterCard)
        return card

    def timer_charger(self, card_id: str) -> TimerChargerCard:
        """Return a charger on a time switch."""
        return self._typed(card_id, TimerChargerCard, "a timer charger")

    def controller(self, card_id: str) -> ChargeControllerCard:
        """Return a charge controller."""
        return self._typed(card_id, ChargeControllerCard, "a charge controller")

    def generator(self, card_id: str) -> GeneratorCard:
        """Return a generator set."""
        return self._typed(card_id, GeneratorCard, "a generator")

    def module(self, card_id: str) -> ModuleCard:
        """Return a PV module."""
        return self._typed(card_id, ModuleCard, "a module")

    def battery(self, card_id: str) -> BatteryCard:
        """Return a battery module."""
        return self._typed(card_id, BatteryCard, "a battery")

    def transfer(self, card_id: str) -> TransferCard:
        """Return a transfer device."""
        return self._typed(card_id, TransferCard, "a transfer device")

    def optimizer(self, card_id: str | None) -> OptimizerCard | None:
        """Return an optimizer; None where none is named."""
        return None if not card_id else self._typed(card_id, OptimizerCard, "an optimizer")

    def modules(self) -> dict[str, ModuleCard]:
        """Return all modules by id."""
        return {i: card for i, card in self.items() if isinstance(card, ModuleCard)}

    def optimizers(self) -> dict[str, OptimizerCard]:
        """Return all optimizers by id."""
        return {i: card for i, card in self.items() if isinstance(card, OptimizerCard)}

    def inverters(self) -> dict[str, InverterCard]:
        """Return all inverters by id."""
        return {i: self.inverter(i) for i, card in self.items() if isinstance(card, AcUnit)}

    def batteries(self) -> dict[str, BatteryCard]:
        """Return all battery modules by id."""
        return {i: card for i, card in self.items() if isinstance(card, BatteryCard)}

    def generators(self) -> dict[str, GeneratorCard]:
        """Return all generator sets by id."""
        return {i: card for i, card in self.items() if isinstance(card, GeneratorCard)}

    def controllers(self) -> dict[str, ChargeControllerCard]:
        """Return all charge controllers by id."""
        return {i: card for i, card in self.items() if isinstance(card, ChargeControllerCard)}

    def transfers(self) -> dict[str, TransferCard]:
        """Return all transfer devices by id."""
        return {i: card for i, card in self.items() if isinstance(card, TransferCard)}


def book_of(*groups: tuple[Card, ...]) -> CardBook:
    """Return cards by id; of like ids the last stands."""
    return CardBook({card.id: card for cards in groups for card in cards})
