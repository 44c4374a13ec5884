"""The open job as the window knows it: document, chosen plan, and the study's answers with their generation."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from calm_relay.job.container import OpenedJob, save_job
from calm_relay.job.history import Document
from calm_relay.job.models import Job, Plan
from calm_relay.rules.edits import Edit, apply_edits
from calm_relay.rules.registry import CheckContext, Finding, run_checks
from calm_relay.ui.runner import Answer, StudyRunner

if TYPE_CHECKING:
    from calm_relay.stages import PlanFlow
    from calm_relay.study import PlanResult


class Session(QObject):
    """One job being worked on. Pages read it and call :meth:`edit`; they hold no job data of their own.

    `answers_changed` follows every change of job, plan or figures, once: what shows figures listens to it alone.
    """

    job_changed = Signal()
    plan_chosen = Signal()
    answers_changed = Signal()
    progress = Signal(str)
    problem = Signal(str)

    def __init__(self, opened: OpenedJob, path: Path | None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.document = Document(opened.job)
        self.store = opened.store
        self.path = path
        self.stamp = opened.stamp
        self.chosen = opened.job.plans[min(1, len(opened.job.plans) - 1)].id
        self.answers: dict[str, Answer] = {}
        self.errors: dict[str, str] = {}
        self._made: tuple[int, str, PlanFlow] | None = None
        self._quick: dict[str, tuple[Job, tuple[Finding, ...]]] = {}
        self._asked = opened.job
        self.runner = StudyRunner(self.store, self)
        self.runner.answered.connect(self._answered)
        self.runner.failed.connect(self._failed)
        self.runner.progress.connect(self.progress)
        self.runner.idle.connect(self._idle)
        self.document.observe(self._document_changed)

    @property
    def job(self) -> Job:
        """The present state of the job."""
        return self.document.job

    @property
    def plan(self) -> Plan:
        """The plan being looked at."""
        return self.job.plan(self.chosen)

    # --- asking
    def start(self) -> None:
        """Ask the study for the first time."""
        self.runner.ask(self.job, self.chosen)

    def fresh(self, plan_id: str) -> PlanResult | None:
        """Return a plan's results if they belong to the present state of the job."""
        answer = self.answers.get(plan_id)
        return answer.result if answer and answer.generation == self.runner.generation else None

    def last(self, plan_id: str) -> PlanResult | None:
        """Return a plan's last results, stale or not."""
        answer = self.answers.get(plan_id)
        return answer.result if answer else None

    def all_fresh(self) -> bool:
        """Return whether every plan's results belong to the present state."""
        return all(self.fresh(plan.id) is not None for plan in self.job.plans)

    def made(self) -> PlanFlow | None:
        """Return the series of the chosen plan, if they belong to the present state."""
        if self._made and self._made[0] == self.runner.generation and self._made[1] == self.chosen:
            return self._made[2]
        return None

    def quick_findings(self, plan_id: str) -> tuple[Finding, ...]:
        """Return the findings that need no year, computed at once."""
        kept = self._quick.get(plan_id)
        if kept is None or kept[0] is not self.job:
            context = CheckContext(self.job, self.job.plan(plan_id), self.job.cards(), None)
            kept = self._quick[plan_id] = (self.job, run_checks(context, needs_year=False))
        return kept[1]

    def _answered(self, answer: Answer) -> None:
        if answer.generation != self.runner.generation:
            return
        self.answers[answer.plan_id] = answer
        self.errors.pop(answer.plan_id, None)
        if answer.made is not None:
            self._made = (answer.generation, answer.plan_id, answer.made)
            self.answers[answer.plan_id] = Answer(answer.generation, answer.plan_id, answer.result, None)
        self.answers_changed.emit()

    def _failed(self, generation: int, plan_id: str, message: str) -> None:
        if generation == self.runner.generation:
            self.errors[plan_id] = message
            self.problem.emit(message)
            self.answers_changed.emit()

    def _idle(self, generation: int) -> None:
        if generation == self.runner.generation:
            self.progress.emit("")
            self.answers_changed.emit()

    # --- changing
    def choose(self, plan_id: str) -> None:
        """Look at another plan."""
        if plan_id != self.chosen:
            self.chosen = plan_id
            self._made = None
            self.runner.ask(self.job, self.chosen)
            self.plan_chosen.emit()
            self.answers_changed.emit()

    def edit(self, label: str, edits: Sequence[Edit], *, merge: str | None = None) -> None:
        """Apply edits as one named entry of the history; raises BadInput and changes nothing on a fault."""
        self.document.edit(label, lambda job: apply_edits(job, edits), merge=merge, validated=True)

    def change_plans(self, label: str, plans: tuple[Plan, ...]) -> None:
        """Replace the list of plans as one named entry."""
        self.document.edit(label, lambda job: job.model_copy(update={"plans": plans}))

    def _document_changed(self) -> None:
        if self.chosen not in {plan.id for plan in self.job.plans}:
            self.chosen = self.job.plans[-1].id
        if self.job is not self._asked:
            self._asked = self.job
            self.runner.ask(self.job, self.chosen)
        self.job_changed.emit()
        self.answers_changed.emit()

    def save(self, path: Path) -> None:
        """Save to `path`; raises BadInput with the file as it was."""
        job = self.job
        self.stamp = save_job(path, job, self.store)
        self.path = path
        self.document.mark_saved(job)

    def changed_on_disk(self) -> bool:
        """Return whether the file was changed by someone else since it was read or saved."""
        if self.path is None or self.stamp is None:
            return False
        try:
            status = self.path.stat()
        except OSError:
            return False
        return (status.st_mtime_ns, status.st_size) != self.stamp

    def close(self) -> None:
        """Stop the worker."""
        self.runner.close()
