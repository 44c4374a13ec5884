"""What is known of a roof's directions, as plain data: yields of faces, and a map of other tilts and directions."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class FaceYield:
    """DC energy of one kilowatt of modules on a face, losses of a string as usual (5 %), by month. [kWh/kWp]"""

    face: str
    module: str
    months_kwh_per_kwp: tuple[float, ...]

    @property
    def year_kwh_per_kwp(self) -> float:
        """The year's yield."""
        return sum(self.months_kwh_per_kwp)


@dataclass(frozen=True)
class DirectionMap:
    """Yield by tilt and direction at a place, with a face's mounting and without its shade. [°], [kWh/kWp]"""

    tilts_deg: tuple[float, ...]
    azimuths_deg: tuple[float, ...]
    kwh_per_kwp: tuple[tuple[float, ...], ...]

    @property
    def best(self) -> tuple[float, float, float]:
        """Tilt, azimuth and yield of the best direction of the map."""
        rows = [
            (value, tilt, azimuth)
            for tilt, row in zip(self.tilts_deg, self.kwh_per_kwp, strict=True)
            for azimuth, value in zip(self.azimuths_deg, row, strict=True)
        ]
        value, tilt, azimuth = max(rows, key=lambda row: row[0])
        return tilt, azimuth, value
