"""What is known of all plans for one state of the job, as it comes: the first year, twenty years, ranges, and who leads."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QWidget

from calm_relay.decision.choosing import Standing, standing_of
from calm_relay.ui.pages.parted import PartedPage
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme

if TYPE_CHECKING:
    from calm_relay.decision.ranges import Ranges
    from calm_relay.decision.twenty import TwentyYears
    from calm_relay.job.models import Job
    from calm_relay.study import PlanResult, Study
    from calm_relay.ui.runner import Cancel, Extra

TWENTY, RANGES = "decide: twenty years", "decide: ranges"


class StandingPage(PartedPage):
    """A page in parts about all plans. Later years are worked out off the window's thread, when the page is looked at."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(session, theme, parent)
        self._standing: tuple[Job, object, Standing] | None = None
        self._kept: dict[str, tuple[Job, object]] = {}  # answers by question: another plan chosen is no other job

    def standing(self) -> Standing | None:
        """Return what is known for the present state, asking for what is still to come; None while a plan is being run."""
        session = self.session
        if not session.all_fresh():
            return None
        results: list[tuple[str, PlanResult]] = []
        for plan in session.job.plans:
            result = session.fresh(plan.id)
            assert result is not None
            results.append((plan.id, result))
        twenty, fault = self._twenty(results)
        ranges = self._ranges(results, twenty) if twenty else None
        known = (bool(twenty), ranges is not None, fault)
        job = session.job
        if self._standing is None or self._standing[0] is not job or self._standing[1] != known:
            standing = standing_of(job, dict(results), {row.plan_id: row for row in twenty}, ranges, fault)
            self._standing = job, known, standing
        return self._standing[2]

    def progress_words(self) -> str:
        """Return what is still being worked out; empty where all is there."""
        session = self.session
        done = sum(session.fresh(plan.id) is not None for plan in session.job.plans)
        if done < len(session.job.plans):
            return f"Updating: {done} of {len(session.job.plans)} plans are ready."
        standing = None if self._standing is None else self._standing[2]
        if standing is not None and standing.fault:
            return f"The later years could not be worked out: {standing.fault}"
        if standing is None or not standing.twenty:
            return "The first year is there; twenty years are being worked out."
        return "" if standing.ranges is not None else "Ranges are being worked out."

    # --- the later years, off the window's thread
    def _answer(self, question: str, work: Extra) -> object | None:
        """Return an answer for the present job, asking for it where there is none yet."""
        kept, job = self._kept.get(question), self.session.job
        if kept is not None and kept[0] is job:
            return kept[1]
        answer = self.session.extra(question, work)
        if answer is not None:
            self._kept[question] = job, answer
        return answer

    def _twenty(self, results: Sequence[tuple[str, PlanResult]]) -> tuple[tuple[TwentyYears, ...], str]:
        job = self.session.job

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.twenty import twenty_years

            pairs = [(job.plan(plan_id), result) for plan_id, result in results]
            return twenty_years(study, job, pairs, cancelled=cancelled)

        answer = self._answer(TWENTY, work)
        return (answer, "") if isinstance(answer, tuple) else ((), "" if answer is None else str(answer))

    def _ranges(self, results: Sequence[tuple[str, PlanResult]], twenty: tuple[TwentyYears, ...]) -> Ranges | None:
        job, runner = self.session.job, self.session.runner

        def work(study: Study, cancelled: Cancel) -> object:
            from calm_relay.decision.ranges import ranges

            pairs = [(job.plan(plan_id), result) for plan_id, result in results]

            def told(done: int, whole: int) -> None:
                runner.progress.emit(f"cases of sun, load and prices: {done} of {whole}" if done < whole else "")

            return ranges(study, job, pairs, twenty, cancelled=cancelled, told=told)

        answer = self._answer(RANGES, work)
        return answer if answer is not None and hasattr(answer, "of_plan") else None  # type: ignore[return-value]
