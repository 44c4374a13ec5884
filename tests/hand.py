"""Days worked out by hand: one unit, or several, four steps of an hour, constant efficiencies."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import FlowTable, run_case
from tests.cases import packed_case
from tests.reference_step import Around, Slot, Terms, Unit

EIGHTY = Terms(0.0, 0.25, 0.0, 2000.0)  # a constant efficiency of 0.8 is a = 1/η − 1, b = p_self = 0 (definitions D4)


def around(**more: Any) -> Around:
    """Limits and controls of a step, with no limit but those given."""
    return replace(Around(0, 0, 0), **more)


def unit(side: str, night: float, charge: float, discharge: float, **more: Any) -> Unit:
    """A battery of 4 kWh, 0.9 each way, behind an inverter of 2 kW at AC."""
    like: dict[str, Any] = {
        "side": side, "out": EIGHTY, "charger": EIGHTY, "ac_out": 2000, "ac_in": 2000, "night": night, "capacity": 4000,
        "soc_min": 0, "soc_max": 1, "reserve": 0, "charge": charge, "discharge": discharge, "eta_c": 0.9, "eta_d": 0.9,
    }  # fmt: skip
    return Unit(**like | more)


def day(
    units: Unit | list[Unit],
    slots: list[Slot],
    codes: list[int],
    pv: Any,
    ac: np.ndarray,
    a: Around,
    start: Any,
    bank: np.ndarray | None = None,
) -> FlowTable:
    """Run steps of an hour; `pv` (T,) or (T, units), `start` in Wh, all of it from the grid."""
    several = units if isinstance(units, list) else [units]
    dc = np.array(pv, dtype=float).reshape(len(codes), len(several))
    table = [slots] * len(several)
    packed = packed_case(several, table, np.tile(np.array(codes)[:, None], (1, len(several))), dc, ac, a, bank)
    energy = np.atleast_1d(np.array(start, dtype=float))
    return run_case(packed, energy, np.zeros(len(several)))


def check(flow: FlowTable, step: int, node: int = 0, **expected: float) -> None:
    """Hold figures of a step, the plan's and one node's, to what was worked out."""
    row = dict(zip(SYSTEM, flow.system[step], strict=True)) | dict(zip(NODE, flow.nodes[step, node], strict=True))
    for name, value in expected.items():
        assert row[name] == pytest.approx(value, abs=1e-6), (step, name)
