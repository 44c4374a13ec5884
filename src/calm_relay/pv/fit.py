"""How many modules fit on a face: rows and columns of the better of two ways to turn them, inside the setbacks typed."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.sky_models import Face
from calm_relay.library.cards import ModuleCard

CLAMP_GAP_M = 0.02  # between modules, common practice


@dataclass(frozen=True)
class Fit:
    """Modules that fit: across the eave, up the slope, which way they stand, and their watts at STC."""

    modules: int
    across: int
    up: int
    upright: bool
    power_stc_w: float

    @property
    def words(self) -> str:
        """The fit in words."""
        way = "upright" if self.upright else "lying"
        return f"{self.modules} ({self.up} × {self.across} {way}, {self.power_stc_w / 1000:.2f} kWp)"


def fit_modules(face: Face, module: ModuleCard) -> Fit | None:
    """Return the better of both ways to lay modules on a face; None where its size is not typed.

    The face is a rectangle of `eave_m` by `slope_m`, `setback_m` kept free on every side, 20 mm between modules.
    """
    if face.eave_m is None or face.slope_m is None:
        return None
    wide, high = (max(0.0, side - 2.0 * face.setback_m) for side in (face.eave_m, face.slope_m))
    fits = []
    for upright in (True, False):
        across_m, up_m = (module.width_m, module.length_m) if upright else (module.length_m, module.width_m)
        across, up = (int((room + CLAMP_GAP_M) / (size + CLAMP_GAP_M) + 1e-9) for room, size in ((wide, across_m), (high, up_m)))
        fits.append(Fit(across * up, across, up, upright, across * up * module.power_stc_w))
    return max(fits, key=lambda fit: fit.modules)


def face_room(face: Face, module: ModuleCard) -> int | None:
    """Return how many modules of a card a face takes: as typed, else as they fit, else None."""
    if face.room_modules is not None:
        return face.room_modules
    fit = fit_modules(face, module)
    return None if fit is None else fit.modules
