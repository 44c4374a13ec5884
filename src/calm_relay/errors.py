"""The few errors a person may meet, each with its place and its remedy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Fault:
    """One thing wrong with what was handed in.

    Attributes
    ----------
    file : str
        The file as the user named it; empty when the fault is not in a file.
    field : str
        Where in it, e.g. ``roof.faces[north].tilt_deg``.
    problem : str
        What is wrong.
    remedy : str
        What would be right.
    """

    file: str
    field: str
    problem: str
    remedy: str

    def line(self) -> str:
        """Return the fault as the one line shown to a person."""
        place = ": ".join(part for part in (self.file, self.field) if part)
        return f"{place}: {self.problem}; {self.remedy}" if place else f"{self.problem}; {self.remedy}"

    def as_dict(self) -> dict[str, str]:
        """Return the fault as plain data for ``--json``."""
        return {"file": self.file, "field": self.field, "problem": self.problem, "remedy": self.remedy}


class CalmRelayError(Exception):
    """Anything the program can explain; its text is fit to show."""


class BadInput(CalmRelayError):
    """Input that cannot be used; nothing was changed."""

    def __init__(self, faults: Sequence[Fault]) -> None:
        self.faults = tuple(faults)
        super().__init__("\n".join(fault.line() for fault in self.faults))


class NotFeasible(CalmRelayError):
    """A request that no value of the inputs at hand can meet."""

    def __init__(self, reason: str, remedy: str) -> None:
        self.reason, self.remedy = reason, remedy
        super().__init__(f"{reason}; {remedy}")


class Cancelled(CalmRelayError):
    """Work that was asked to stop, and did."""
