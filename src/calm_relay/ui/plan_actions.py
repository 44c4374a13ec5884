"""What is done with whole plans: drafted, doubled, renamed, moved, taken out, gone through. The window owns one."""

from __future__ import annotations

from typing import Any

from calm_relay.decision.changing import change_pattern
from calm_relay.decision.patterns import PATTERNS, draft_plan
from calm_relay.decision.start_list import start
from calm_relay.errors import BadInput, CalmRelayError
from calm_relay.job.edits import Edit
from calm_relay.job.models import Plan
from calm_relay.job.plans import duplicate_plan, move_plan, remove_plan, rename_plan
from calm_relay.ui.session import Session


class PlanActions:
    """Each is one named entry of the history; what does not go is said, and changes nothing."""

    def __init__(self, window: Any) -> None:
        self._window = window

    @property
    def _session(self) -> Session:
        session: Session = self._window.session
        return session

    def step(self, by: int) -> None:
        """Look at the next plan, or the one before."""
        ids = [plan.id for plan in self._session.job.plans]
        self._session.choose(ids[(ids.index(self._session.chosen) + by) % len(ids)])

    def duplicate(self) -> None:
        """Put a copy of the chosen plan behind the others, and look at it."""
        plans, made = duplicate_plan(self._session.job, self._session.chosen)
        if self._change(f"Duplicate plan {self._session.plan.letter}", plans):
            self._session.choose(made)

    def draft(self, pattern: str) -> None:
        """Draft a candidate plan from today's system, and look at it."""
        session = self._session
        try:
            job, made = draft_plan(session.job, pattern, session.day_wh(), session.known_cards())
            letter = job.plan(made).letter
            session.document.edit(f"Draft plan {letter}, {job.plan(made).name}", lambda _: job)
        except CalmRelayError as error:
            self._window.files.problem(str(error))
            return
        session.choose(made)
        self._window.show_page("plans")

    def start(self) -> None:
        """Ask what stands today and what it should become, make both, and look at the plan: one entry of the history."""
        from calm_relay.ui.start_list_dialog import StartListDialog

        dialog = StartListDialog(self._session, self._window)
        self._window.dialogs.show(dialog)
        if dialog.becomes:
            self.make_start(dialog.stands, dialog.becomes)

    def make_start(self, stands: str, becomes: str) -> None:
        """Make what stands today and the plan it should become."""
        session = self._session
        try:
            job, made = start(session.job, stands, becomes, session.day_wh(), session.known_cards())
            session.document.edit(f"Start: {job.plan(made).letter}, {job.plan(made).name}", lambda _: job)
        except CalmRelayError as error:
            self._window.files.problem(str(error))
            return
        session.choose(made)
        self._window.show_page("plans")

    def change(self, pattern: str) -> None:
        """Make the chosen plan anew by another pattern; what would be dropped is said before anything is."""
        session = self._session
        try:
            job, lost = change_pattern(session.job, session.chosen, pattern, session.day_wh(), session.known_cards())
        except CalmRelayError as error:
            self._window.files.problem(str(error))
            return
        name = {key: text for key, text, _ in PATTERNS}[pattern]
        what = "\n".join(f"· {line}" for line in lost)
        asked = f"Plan {session.plan.letter} becomes '{name}'. This is dropped:\n{what}"
        if lost and not self._window.dialogs.confirm(asked, "Change it"):
            return
        session.document.edit(f"Change plan {session.plan.letter} to {name}", lambda _: job)
        self._window.show_page("plans")

    def rename(self) -> None:
        """Ask for another name."""
        session = self._session
        name = self._window.dialogs.ask_text("Rename plan", "Name of the plan:", session.plan.name)
        if name is not None and name.strip():
            self._change(f"Rename plan {session.plan.letter}", rename_plan(session.job, session.chosen, name.strip()))

    def note(self) -> None:
        """Ask for the plan's note: what it is for, and why it is as it is."""
        session = self._session
        text = self._window.dialogs.ask_text(
            "Note", f"What plan {session.plan.letter} is for, and why it is so:", session.plan.note
        )
        if text is None or text.strip() == session.plan.note:
            return
        try:
            session.edit(f"Note of plan {session.plan.letter}", [Edit(f"plans[{session.chosen}].note", text.strip())])
        except BadInput as error:
            self._window.files.problem(str(error))

    def move(self, by: int) -> None:
        """Move the chosen plan among the others; today's system stays first."""
        session = self._session
        self._change(f"Move plan {session.plan.letter}", move_plan(session.job, session.chosen, by))

    def remove(self) -> None:
        """Take the chosen plan out; undo brings it back."""
        session = self._session
        self._change(f"Remove plan {session.plan.letter}", remove_plan(session.job, session.chosen))

    def _change(self, text: str, plans: tuple[Plan, ...]) -> bool:
        try:
            self._session.change_plans(text, plans)
        except BadInput as error:
            self._window.files.problem(str(error))
            return False
        return True
