"""The outage that was looked at last: what the relay line shows of it while its plan stands."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.job.models import Plan

if TYPE_CHECKING:
    from calm_relay.year.drill import Drill


@dataclass(frozen=True, eq=False)
class Drilled:
    """The outage that was looked at last, and the minute its clock stands at."""

    generation: int
    plan: Plan
    drill: Drill
    minute: int
    way: str

    @property
    def clock(self) -> str:
        """Where it stands, in words."""
        hours, minutes = divmod(self.minute, 60)
        return f"{hours} h {minutes:02d} min into the outage{f', {self.way}' if self.way else ''}"
