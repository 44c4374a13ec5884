"""What stands still when one box of a plan fails, with the grid up and with it gone."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.plant.chain import usable_wh
from calm_relay.plant.whole import Plant
from calm_relay.units import format_quantity as show


@dataclass(frozen=True)
class Failure:
    """A box that fails: PV and battery energy that stop with it, and what becomes of the backup.

    `backup` is 'all' where nothing is backed up any more, 'dark' where that was the only supply, 'part' where other units form
    the grid, else ''.
    """

    node_id: str
    name: str
    pv_stc_w: float
    battery_wh: float
    backup: str

    @property
    def words(self) -> str:
        """Return it as a sentence."""
        stops = [show(self.pv_stc_w, "power_w", 1) + " of PV"] if self.pv_stc_w else []
        stops += [show(self.battery_wh, "energy_wh") + " of battery"] if self.battery_wh else []
        said = (
            f"{' and '.join(stops)} stand still"
            if len(stops) > 1
            else f"{stops[0]} stands still"
            if stops
            else "nothing stands still"
        )
        if self.backup == "all":
            said += ", and nothing is backed up" if stops else ", but nothing is backed up"
        elif self.backup == "dark":
            said += ", and the house is dark" if stops else ", but the house is dark"
        elif self.backup == "part":
            said += ", and the backup has one unit less"
        return f"Without {self.name} {said}."


def failures(plant: Plant) -> tuple[Failure, ...]:
    """Return each inverter's failure, in the plan's order, and the transfer device's last."""
    banks = {row.station.id: usable_wh(row.bank) for row in plant.banked}
    forming = [row.station.id for row in plant.forming]
    out = []
    for node in plant.stations:
        backup = "" if node.id not in forming else "part" if len(forming) > 1 else "dark" if plant.off_grid else "all"
        out.append(Failure(node.id, node.name, node.array_stc_w, banks.get(node.id, 0.0), backup))
    if plant.transfer is not None and forming:
        out.append(Failure("transfer", plant.transfer.model.name, 0.0, 0.0, "all"))
    return tuple(out)
