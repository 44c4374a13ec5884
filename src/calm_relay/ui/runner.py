"""Runs the study off the window's thread: the latest question wins, older answers are dropped."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QRunnable, QThread, QThreadPool, QTimer, Signal

from calm_relay.cache import Last
from calm_relay.errors import CalmRelayError, Cancelled
from calm_relay.ui.memory import give_memory_back

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from calm_relay.job.models import Job, Plan
    from calm_relay.job.series import SeriesStore
    from calm_relay.load.house import HouseYear
    from calm_relay.study import PlanResult, Study
    from calm_relay.year.lines import LineFlows
    from calm_relay.year.plan_flow import PlanFlow

Cancel = Callable[[], bool]
Extra = Callable[["Study", Cancel], object]
log = logging.getLogger(__name__)
PAINT_FIRST_MS = 12  # the worker holds Python's lock now and then: what is known at once is painted before it starts
SHOWN_MOST_S = 0.3  # how long other plans wait for the chosen one's figures to be painted
RAISE_LATER_MS = 120  # likewise before limits are raised: the years that just came are painted first


@dataclass(frozen=True)
class Answer:
    """One plan's results from one state of the job; `made` and what follows hold series, for the plan that is looked at."""

    generation: int
    plan_id: str
    result: PlanResult
    made: PlanFlow | None
    house: HouseYear | None = None
    air_c: NDArray[np.float64] | None = None
    faces: dict[str, tuple[float, ...]] = field(default_factory=dict)
    lines: LineFlows | None = None
    days: dict[str, int] = field(default_factory=dict)
    key: str = ""  # what the series hang on


class StudyRunner(QObject):
    """Asks the study about all plans, the chosen one first."""

    answered = Signal(object)
    failed = Signal(int, str, str)
    progress = Signal(str)
    idle = Signal(int)
    raised = Signal(int, str, object)
    found = Signal(str, int, object)

    def __init__(self, store: SeriesStore, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self.files_pool = QThreadPool(self)  # files are read whatever else is asked meanwhile
        self.files_pool.setMaxThreadCount(1)
        self._store = store
        self._study: Study | None = None
        self.generation = 0
        self.busy = False
        self.raising = False
        self.shown = threading.Event()  # set when the chosen plan's figures stand on the screen
        self._question: tuple[Job, str] | None = None
        self._known = False
        self.days: Last[dict[str, int]] = Last()  # of the year that is looked at
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(PAINT_FIRST_MS)
        self._later.timeout.connect(self._begin)
        self.idle.connect(self._idle)

    @property
    def quiet(self) -> bool:
        """Whether nothing is asked, raised or read."""
        return not (self.busy or self.raising or self._pool.activeThreadCount() or self.files_pool.activeThreadCount())

    def reset(self, store: SeriesStore) -> None:
        """Start over with another job's series."""
        self.cancel()
        self._pool.waitForDone()
        self._store, self._study = store, None
        self.days = Last()

    def ask(self, job: Job, chosen: str) -> int:
        """Compute every plan of `job`, `chosen` first; returns the question's number."""
        self.generation += 1
        self.busy, self._known = True, False
        self._pool.clear()
        self._question = (job, chosen)
        self._later.start()
        return self.generation

    def at_once(self, last: Answer | None) -> Answer | None:
        """Return the chosen plan's answer where the year is the one of the last answer and the study has all else that it is made
        of, as after an edit of a price; else None.
        """
        if self._study is None or self._question is None or last is None:
            return None
        job, plan = self._question[0], self._question[0].plan(self._question[1])
        try:
            if last.key != self._study.series_key(job, plan) or not self._study.stands(job, plan):
                return None
            result = self._study.plan_result(job, plan, weighed=())
        except CalmRelayError:  # it is told when the worker comes to it
            return None
        self._known = True
        return replace(last, generation=self.generation, result=result)

    def _begin(self) -> None:
        if self._question is not None:
            self._pool.start(_Work(self, self.generation, *self._question, known=self._known))
            self._question = None

    def later(self, key: str, work: Extra) -> None:
        """Ask the study something else; the answer comes by `found`, a CalmRelayError where there is none."""
        self._pool.start(_Extra(self, key, self.generation, work))

    def read(self, key: str, work: Callable[[Callable[[], Study]], object]) -> None:
        """Read a file off the window's thread; the answer comes by `found`, a CalmRelayError where it is no good."""
        self.files_pool.start(_Extra(self, key, self.generation, lambda *_: work(self.study), with_study=False))

    def cancel(self) -> None:
        """Drop the present question."""
        self.generation += 1
        self._later.stop()
        self._question = None
        self._pool.clear()
        self.busy = False

    def close(self) -> None:
        """Stop and wait for the thread."""
        self.cancel()
        self._pool.waitForDone()
        self.files_pool.waitForDone()
        self._study, self.days = None, Last()

    def _idle(self, generation: int) -> None:
        if generation == self.generation:
            self.busy = False

    def study(self) -> Study:
        """Return the study, made on first use: its imports are heavy, so only the worker calls this."""
        if self._study is None:
            from calm_relay.cache import shared_cache
            from calm_relay.study import Study

            self._study = Study(self._store, cache=shared_cache())
        return self._study


class _Extra(QRunnable):
    def __init__(self, runner: StudyRunner, key: str, generation: int, work: Extra, *, with_study: bool = True) -> None:
        super().__init__()
        self._runner, self._key, self._generation, self._work = runner, key, generation, work
        self._with_study = with_study

    def _cancelled(self) -> bool:
        return self._runner.generation != self._generation

    def run(self) -> None:
        try:
            study: Any = self._runner.study() if self._with_study else None
            answer: object = self._work(study, self._cancelled)
        except CalmRelayError as error:
            answer = error
        except Exception as error:
            log.exception("the study failed at %s", self._key)
            answer = CalmRelayError(f"{type(error).__name__}: {error}")
        try:
            self._runner.found.emit(self._key, self._generation, answer)
        except RuntimeError:
            log.debug("the window closed while %s was worked out", self._key)


class _Work(QRunnable):
    def __init__(self, runner: StudyRunner, generation: int, job: Job, chosen: str, *, known: bool) -> None:
        super().__init__()
        self._runner, self._generation, self._job, self._chosen = runner, generation, job, chosen
        self._known = known  # the chosen plan's answer was given already, without remedies

    def _cancelled(self) -> bool:
        return self._runner.generation != self._generation

    def run(self) -> None:
        runner = self._runner
        plans = sorted(self._job.plans, key=lambda plan: plan.id != self._chosen)
        try:
            runner.progress.emit("loading the sun and the kernel")
            study = runner.study()
            for plan in plans:
                if self._cancelled():
                    return
                try:
                    whole = plan.id == self._chosen and not self._known
                    made = study.flow(self._job, plan, runner.progress.emit, self._cancelled) if whole else None
                    first = None if made is None else ()  # remedies are tried once the figures are painted
                    result = study.plan_result(self._job, plan, runner.progress.emit, self._cancelled, first)
                except Cancelled:
                    return
                except CalmRelayError as error:
                    runner.failed.emit(self._generation, plan.id, str(error))
                    continue
                if made is None:
                    runner.answered.emit(Answer(self._generation, plan.id, result, None))
                    continue
                runner.shown.clear()
                runner.answered.emit(self._whole_answer(study, plan, result, made))
                runner.shown.wait(SHOWN_MOST_S)
                try:
                    tried = study.plan_result(self._job, plan, cancelled=self._cancelled)
                except Cancelled:
                    return
                runner.answered.emit(Answer(self._generation, plan.id, tried, None))
        except RuntimeError:  # the window is gone
            return
        except Exception as error:
            log.exception("the study failed")
            runner.failed.emit(self._generation, self._chosen, f"{type(error).__name__}: {error}")
            return
        finally:
            runner.raising = not self._cancelled()
            try:
                runner.idle.emit(self._generation)
            except RuntimeError:
                log.debug("the window closed while the study ran")
        self._raise()

    def _whole_answer(self, study: Study, plan: Plan, result: PlanResult, made: PlanFlow) -> Answer:
        """Return the answer of the plan that is looked at, with its series."""
        from calm_relay.year.pictures import notable_days

        job, air_c = self._job, study.weather(self._job).air_c
        calendar = study.calendar(job)
        return Answer(
            generation=self._generation,
            plan_id=plan.id,
            result=result,
            made=made,
            house=made.house,
            air_c=air_c,
            faces={face.id: study.face_months(job, face.id) for face in job.faces},
            lines=None if job.site.supply.kind == "single_phase" else study.line_flows(job, plan),
            days=self._runner.days.get((made, air_c, calendar), lambda: notable_days(made, calendar, air_c)),
            key=study.series_key(job, plan),
        )

    def _raise(self) -> None:
        """When every plan stands: what one step more of each limit of the chosen plan would bring."""
        runner = self._runner
        if self._cancelled():
            return
        runner.raising = True
        waited = 0
        while waited < RAISE_LATER_MS and not self._cancelled():
            QThread.msleep(10)
            waited += 10
        try:
            from calm_relay.decision.raising import raise_each

            gains = raise_each(runner.study(), self._job, self._job.plan(self._chosen), self._cancelled)
            runner.raised.emit(self._generation, self._chosen, gains)
        except (CalmRelayError, RuntimeError):  # cancelled, a limit that cannot be raised, or the window is gone
            return
        except Exception:
            log.exception("raising limits failed")
        finally:
            runner.raising = False
            if not self._cancelled():
                give_memory_back()
