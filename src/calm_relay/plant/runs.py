"""The runs of a plan: from each inverter to the board and from the board to the supply, with amps, size and volts along the way."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.site_models import CableRun
from calm_relay.packs.conductors import Conductor, ConductorTable, conductor_table
from calm_relay.packs.pack import Pack
from calm_relay.plant.whole import Plant
from calm_relay.wiring.sums import Carries, Way, amps_of, carries, voltage_change_v

TO_SUPPLY = "supply"


@dataclass(frozen=True)
class RunRow:
    """One run: what flows at the most, with the continuous-duty factor, what its size carries, the volts along it. [A], [V]

    `held` and `change_v` are None where length or size are not known.
    """

    id: str
    name: str
    way: Way
    volts: float
    amps: float
    design_a: float
    run: CableRun | None
    held: Carries | None
    change_v: float | None

    @property
    def missing(self) -> str:
        """What is not known of it, in words; empty where all is."""
        if self.run is None:
            return f"length and size of the run {self.name}"
        lacking = [word for word, there in (("length", self.run.length_m), ("size", self.run.size)) if not there]
        return f"{' and '.join(lacking)} of the run {self.name}" if lacking else ""

    def carrying(self, table: ConductorTable) -> list[Conductor]:
        """Return the sizes that carry what flows where the run lies, the smallest first; nothing where no run is known."""
        run = self.run
        if run is None:
            return []
        method = run.method or table.usual(self.design_a)
        return [s for s in table.rows if carries(table, s.name, method, run.ambient_c, run.grouped).amps >= self.design_a]

    def within(self, table: ConductorTable, most_v: float) -> list[Conductor]:
        """Return the sizes along which no more volts are lost over the run's length, the smallest first. [V]"""
        length = 0.0 if self.run is None else self.run.length_m or 0.0
        return [s for s in table.rows if voltage_change_v(self.way, self.amps, length, table.ohm_per_m(s)) <= most_v]


def table_of(pack: Pack) -> ConductorTable:
    """Return the table of conductors that a pack names."""
    return conductor_table(pack.choice("cable_table") or "iec", pack.own_tables)


def run_rows(plant: Plant, pack: Pack) -> tuple[RunRow, ...]:
    """Return the runs of a plan, its inverters' first, then that to the supply.

    The run to the supply carries all inverters together, held by the export limit where there is one. Raises BadInput for a size
    or a method that the pack's table does not have.
    """
    lines, table, out = plant.lines, table_of(pack), []
    factor, total_va = pack.value("continuous_factor"), 0.0
    three = lines.count == 3
    for station in plant.stations:
        va = station.unit.ac_rated_w
        total_va += va
        own: Way = "three" if three and station.each.phases == 3 else "single"
        volts = lines.between_v if own == "three" else lines.supply_v
        amps = amps_of(va, volts, own)
        out.append(run_row(station.id, f"{station.name} to the board", own, volts, amps, factor * amps, station.run, table))
    if not plant.off_grid:
        cap = plant.caps.export_w
        flows = total_va if cap is None else min(total_va, cap)
        way: Way = "three" if three else "single"
        amps = amps_of(flows, lines.between_v, way)
        run = plant.service.run
        out.append(run_row(TO_SUPPLY, "board to the supply", way, lines.between_v, amps, factor * amps, run, table))
    return tuple(out)


def run_row(
    run_id: str, name: str, way: Way, volts: float, amps: float, design_a: float, run: CableRun | None, table: ConductorTable
) -> RunRow:
    """Return a run with what its size carries and the volts along it, as far as size and length are known."""
    held, change = None, None
    if run is not None and run.size:
        held = carries(table, run.size, run.method or table.usual(design_a), run.ambient_c, run.grouped)
        if run.length_m is not None:
            change = voltage_change_v(way, amps, run.length_m, table.ohm_per_m(held.conductor))
    return RunRow(
        id=run_id, name=name, way=way, volts=volts, amps=amps, design_a=design_a, run=run, held=held, change_v=change
    )  # fmt: skip


@dataclass(frozen=True)
class Rise:
    """Volts from the supply terminals to one inverter: each run's part. [V], [1]"""

    name: str
    parts: tuple[tuple[str, float], ...]
    volts: float

    @property
    def volts_v(self) -> float:
        """All of it. [V]"""
        return sum(volts for _, volts in self.parts)

    @property
    def frac(self) -> float:
        """As a share of the nominal volts. [1]"""
        return sum(volts for _, volts in self.parts) / self.volts

    @property
    def words(self) -> str:
        """The arithmetic."""
        parts = " + ".join(f"{name} {volts:.2f} V" for name, volts in self.parts)
        return f"{parts} = {self.volts_v:.2f} V, {self.frac * 100:.2f} % of {self.volts:.0f} V"


def rises(rows: tuple[RunRow, ...]) -> tuple[Rise, ...]:
    """Return the rise to each inverter whose runs are all known; each on its own volts."""
    supply = next((row for row in rows if row.id == TO_SUPPLY), None)
    out = []
    for row in rows:
        if row.id == TO_SUPPLY or row.change_v is None or supply is None or supply.change_v is None:
            continue
        shared = supply.change_v * row.volts / supply.volts
        out.append(Rise(row.name, ((row.name, row.change_v), (supply.name, shared)), row.volts))
    return tuple(out)
