"""What is known of a roof's directions, as plain data: yields of faces, and a map of other tilts and directions."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import Job
from calm_relay.job.sky_models import Face
from calm_relay.pv.fit import fit_modules
from calm_relay.rules.offers import offered


@dataclass(frozen=True)
class FaceYield:
    """DC energy of one kilowatt of modules on a face, the usual losses by name, by month. [kWh/kWp]"""

    face: str
    module: str
    months_kwh_per_kwp: tuple[float, ...]

    @property
    def year_kwh_per_kwp(self) -> float:
        """The year's yield. [kWh/kWp]"""
        return sum(self.months_kwh_per_kwp)


@dataclass(frozen=True)
class DirectionMap:
    """Yield by tilt and direction at a place, with a face's mounting and without its shade. [°], [kWh/kWp]"""

    tilts_deg: tuple[float, ...]
    azimuths_deg: tuple[float, ...]
    kwh_per_kwp: tuple[tuple[float, ...], ...]

    @property
    def best(self) -> tuple[float, float, float]:
        """Tilt, azimuth and yield of the best direction of the map. [°], [°], [kWh/kWp]"""
        rows = [
            (value, tilt, azimuth)
            for tilt, row in zip(self.tilts_deg, self.kwh_per_kwp, strict=True)
            for azimuth, value in zip(self.azimuths_deg, row, strict=True)
        ]
        value, tilt, azimuth = max(rows, key=lambda row: row[0])
        return tilt, azimuth, value


def fit_words(job: Job, face: Face) -> str:
    """Return how many modules fit on a face of typed size: of the card that lies there, and the most watts of any other."""
    cards = offered(job).modules()
    used = [g.module for plan in job.plans for node in plan.nodes for g in node.strings if g.face == face.id and g.module in cards]
    if not cards or fit_modules(face, next(iter(cards.values()))) is None:
        return ""
    mine = cards[used[0]] if used else next(iter(cards.values()))
    best = max(cards.values(), key=lambda card: fit.power_stc_w if (fit := fit_modules(face, card)) else 0.0)
    parts = [f"{card.name}: {fit.words}" for card in dict.fromkeys((mine, best)) if (fit := fit_modules(face, card)) is not None]
    return "fits " + "; ".join(parts)
