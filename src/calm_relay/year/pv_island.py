"""The AC-coupled PV of a plan with the grid gone: its curve, what the battery side absorbs, and three situations told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import ValidationError

from calm_relay.errors import BadInput, Fault
from calm_relay.library.base import FrequencyRecord
from calm_relay.packs.pack import Pack
from calm_relay.plant.chain import capacity_wh
from calm_relay.plant.whole import Plant
from calm_relay.units import format_quantity as show
from calm_relay.year.frequency import FrequencyRun, Thresholds, simulate
from calm_relay.year.outage import check_outage

RUN_S = 900
DROP_AT_S = 120
FULL = Thresholds(0.95, 0.90)  # stop and start of charging, common practice


def curve_of(pack: Pack, name: str) -> FrequencyRecord:
    """Return a pack's frequency curve; raises BadInput where there is none of this name, or its figures make none."""
    row = pack.curve(name)[0]
    try:
        return FrequencyRecord.model_validate(row)
    except ValidationError as error:
        what = f"its figures make no curve ({error.errors()[0]['msg'].lower()})"
        raise BadInput([Fault(f"pack {pack.id}", f"frequency.{name}", what, "see definitions D17")]) from error


@dataclass(frozen=True)
class PvIsland:
    """AC-coupled PV behind the transfer device: rating, what the forming side absorbs [W], its bank [Wh], the curve and its source.

    `absorb_assumed`: the card is silent, and the AC input limit is taken.
    """

    rated_w: float
    absorb_w: float
    absorb_assumed: bool
    capacity_wh: float
    record: FrequencyRecord
    curve: str


def pv_island(plant: Plant, pack: Pack, curve: str = "") -> PvIsland | None:
    """Return a plan's AC-coupled PV on the backup side; None where there is none.

    The curve is the one named of the pack, else the inverter card's own, else that of an older inverter without a droop.
    Raises NotFeasible where nothing forms a grid, BadInput for a curve that is not there.
    """
    check_outage(plant)
    here = plant.pv_behind
    if not here:
        return None
    own = next((s.fitting.frequency for s in here if s.fitting.frequency is not None), None)
    sixty = plant.lines.kind == "split_phase"
    name = curve or ("" if own is not None else f"trips-only-{60 if sixty else 50}")
    record = own if own is not None and not curve else curve_of(pack, name)
    said = "the inverter card's own curve" if not name else f"{pack.curve(name)[1]}"
    if not curve and own is None:
        said += ", assumed since the card has no curve"
    rows = plant.forming
    absorb = sum(row.unit.charger_in_max_w if row.unit.absorb_max_w is None else row.unit.absorb_max_w for row in rows)
    return PvIsland(
        rated_w=sum(s.each.ac_rated_w * s.strings_units for s in here),
        absorb_w=absorb,
        absorb_assumed=any(row.unit.absorb_max_w is None for row in rows),
        capacity_wh=sum(capacity_wh(row.bank) for row in rows),
        record=record,
        curve=said,
    )


def situations(island: PvIsland, load_w: float) -> dict[str, FrequencyRun]:
    """Return a quarter of an hour in full sun with a full bank, with half of it, and with the load dropping to a tenth. [W]"""
    sun, load = np.full(RUN_S, island.rated_w), np.full(RUN_S, load_w)
    drop = load.copy()
    drop[DROP_AT_S:] = 0.1 * load_w
    common: dict[str, Any] = {"capacity_wh": island.capacity_wh, "thresholds": FULL}
    rated, absorb = island.rated_w, island.absorb_w
    return {
        "full bank": simulate(island.record, sun, rated, load, absorb, charge_frac=0.98, **common),
        "half full": simulate(island.record, sun, rated, load, absorb, charge_frac=0.5, **common),
        "load drops": simulate(island.record, sun, rated, drop, absorb, charge_frac=0.5, **common),
    }


def island_words(island: PvIsland, load_w: float) -> list[str]:
    """Return what happens to the AC-coupled PV, a sentence a situation."""
    assumed = " (assumed: its AC input)" if island.absorb_assumed else ""
    head = (
        f"{show(island.rated_w, 'power_w')} of AC-coupled PV, the battery side absorbs {show(island.absorb_w, 'power_w')}{assumed}"
    )
    out = [f"{head}; curve: {island.curve}. Full sun, {show(load_w, 'power_w')} of load, a quarter of an hour:"]
    return [*out, *(f"{name[:1].upper()}{name[1:]}: {run.words}." for name, run in situations(island, load_w).items())]
