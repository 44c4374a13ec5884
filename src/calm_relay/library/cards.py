"""Every kind of card, told apart by `kind`. A figure the data sheet lacks is None, and what rests on it is then 'not known'."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from calm_relay.library.base import (
    CardBase,
    EfficiencyPoint,
    FrequencyRecord,
    FrequencyTrip,
    Id,
    LossTerms,
    MountingPlace,
    Name,
    Record,
    SupplyKind,
    Tracker,
    Watts,
)
from calm_relay.library.battery_card import BatteryCard, Chemistry
from calm_relay.library.inverter_cards import (
    AcUnit,
    BackupBreaker,
    BatteryInverterCard,
    BatterySideUnit,
    HybridCard,
    ModuleInverterCard,
    PvInverterCard,
)
from calm_relay.library.other_cards import ChargeControllerCard, GeneratorCard, MeterCard, TimerChargerCard, TransferCard
from calm_relay.library.pv_cards import ModuleCard, OptimizerCard

__all__ = [
    "AcUnit",
    "BackupBreaker",
    "BatteryCard",
    "BatteryInverterCard",
    "BatterySideUnit",
    "Card",
    "CardBase",
    "ChargeControllerCard",
    "Chemistry",
    "EfficiencyPoint",
    "FrequencyRecord",
    "FrequencyTrip",
    "GeneratorCard",
    "HybridCard",
    "Id",
    "InverterCard",
    "LossTerms",
    "MeterCard",
    "ModuleCard",
    "ModuleInverterCard",
    "MountingPlace",
    "Name",
    "OptimizerCard",
    "PvInverterCard",
    "Record",
    "SupplyKind",
    "TimerChargerCard",
    "Tracker",
    "TransferCard",
    "Watts",
]

Card = Annotated[
    ModuleCard
    | OptimizerCard
    | PvInverterCard
    | ModuleInverterCard
    | HybridCard
    | BatteryInverterCard
    | BatteryCard
    | TransferCard
    | ChargeControllerCard
    | TimerChargerCard
    | GeneratorCard
    | MeterCard,
    Field(discriminator="kind"),
]
InverterCard = PvInverterCard | ModuleInverterCard | HybridCard | BatteryInverterCard
