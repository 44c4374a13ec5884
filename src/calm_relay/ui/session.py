"""The open job as the window knows it: document, chosen plan, and the study's answers with their generation."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from calm_relay.calendar import YearCalendar, year_calendar
from calm_relay.equipment.shelf import KnownCards
from calm_relay.errors import CalmRelayError, Cancelled
from calm_relay.handed_in import Watch
from calm_relay.job.container import OpenedJob, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.history import Document
from calm_relay.job.models import Job, Plan
from calm_relay.job.recovery import Recovery
from calm_relay.job.sky_models import MonthlyWeather, WeatherFile
from calm_relay.job.sources import assumed_paths
from calm_relay.library.book import CardBook
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.rules.runner import run_checks
from calm_relay.ui.clock import Clock
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.drilled import Drilled
from calm_relay.ui.memory import pass_over_what_stays
from calm_relay.ui.runner import Answer, Extra, StudyRunner
from calm_relay.weather.files import WeatherRead, read_weather
from calm_relay.weather.into_job import monthly_means, with_weather

if TYPE_CHECKING:
    from calm_relay.decision.raising import Gain
    from calm_relay.load.house import HouseYear
    from calm_relay.study import PlanResult, Study
    from calm_relay.year.drill import Drill
    from calm_relay.year.lines import LineFlows
    from calm_relay.year.plan_flow import PlanFlow

FileWork = Callable[[Callable[[], "Study"], Watch], object]  # reads a file: how to get the study, and whom to tell
KEEP_MS = 300  # edits that follow each other closely are kept once
FILE_KEY = "file "  # questions to the worker that read a file begin so
PAINT_MS = 40  # what charts put off until the loop is free is painted by then
GATHER_MS = 40  # figures of plans that are not looked at are shown together


class Session(QObject):
    """One job being worked on. Pages read it and call :meth:`edit`; they hold no job data of their own.

    `answers_changed` follows every change of job, plan or figures, once: what shows figures listens to it alone.
    """

    job_changed = Signal()
    plan_chosen = Signal()
    answers_changed = Signal()
    progress = Signal(str)
    reading = Signal(str)  # names of the files being read, empty where none is
    read_so_far = Signal(str, float)  # what is being read of the file, and how far it is, 0 to 1
    problem = Signal(str)
    command_asked = Signal(str)  # a menu entry by its short name, from a button on a page

    def __init__(
        self, opened: OpenedJob, path: Path | None, parent: QObject | None, dialogs: Dialogs, *, recovered: bool = False
    ) -> None:
        super().__init__(parent)
        self.document = Document(opened.job)
        self._recovered = recovered  # work taken up again after a crash is not in any file yet
        self.store = opened.store
        self.path = path
        self.stamp = opened.stamp
        self.chosen = opened.job.plans[min(1, len(opened.job.plans) - 1)].id
        self.clock = Clock(self)
        self.dialogs = dialogs
        self.pinned: list[str] = []
        self.gains: tuple[int, str, tuple[Gain, ...]] | None = None
        self.recovery = Recovery()
        self.answers: dict[str, Answer] = {}
        self.errors: dict[str, str] = {}
        self._sky: Study | None = None
        self.known = KnownCards()
        self._made: tuple[int, str, PlanFlow] | None = None
        self._extra: Answer | None = None
        self._quick: dict[tuple[str, str | None], tuple[Job, tuple[Finding, ...]]] = {}
        self._asked = opened.job
        self._gather = QTimer(self)
        self._gather.setSingleShot(True)
        self._gather.setInterval(GATHER_MS)
        self._gather.timeout.connect(self.answers_changed)
        self.runner = StudyRunner(self.store, self)
        self.runner.answered.connect(self._answered)
        self.runner.failed.connect(self._failed)
        self.runner.progress.connect(self.progress)
        self.runner.idle.connect(self._idle)
        self.runner.raised.connect(self._raised)
        self.document.observe(self._document_changed)
        self._extras: dict[str, tuple[int, object]] = {}
        self._drilled: Drilled | None = None
        self._wanted: dict[str, int] = {}
        self._reading: dict[str, Callable[[object], None]] = {}
        self._files_read = 0
        self.runner.found.connect(self._found)
        self._keep = QTimer(self)
        self._keep.setSingleShot(True)
        self._keep.setInterval(KEEP_MS)
        self._keep.timeout.connect(self.keep)

    def keep(self) -> None:
        """Write the present state where it is found again after a crash; nothing is kept of what is saved."""
        if self.unsaved:
            self.recovery.keep(self.job, self.store, self.path, self.stamp)
        else:
            self.recovery.drop()

    @property
    def job(self) -> Job:
        """The present state of the job."""
        return self.document.job

    @property
    def plan(self) -> Plan:
        """The plan being looked at."""
        return self.job.plan(self.chosen)

    @property
    def unsaved(self) -> bool:
        """Whether closing now would lose something."""
        return self.document.dirty or self._recovered

    def forget_words(self) -> None:
        """Drop texts made in other units; figures stay."""
        self._quick = {}

    # --- asking
    def start(self) -> None:
        """Ask the study anew."""
        if self._recovered:
            self.keep()
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

    def known_cards(self) -> CardBook:
        """Return every card that can be chosen: shipped, and on the firm's own shelf; a shelf that cannot be read is said once."""
        before = self.known.fault
        book = self.known.book()
        if self.known.fault and self.known.fault != before:
            self.problem.emit(self.known.fault)
        return book

    def line_flows(self) -> LineFlows | None:
        """Return what flows on each phase or leg in the chosen plan, if it belongs to the present state; None on a single phase."""
        return self._extra.lines if self._extra is not None and self.made() is not None else None

    def calendar(self) -> YearCalendar:
        """Return the job's calendar at the study's step."""
        return year_calendar(self.job.calendar_year, self.job.site.place.time_zone)

    def assumed(self) -> frozenset[str]:
        """Return everything the chosen plan's figures rest on that nobody typed: marks of the job, and what no card gave."""
        marks = {path for path in assumed_paths(self.job) if not path.startswith("plans[")}
        result = self.last(self.chosen)
        return frozenset(marks | (result.facts.assumed if result else frozenset()))

    def air_c(self) -> NDArray[np.float64] | None:
        """Return air temperature per step, if the study has it for the present state."""
        extra = self._extra
        return extra.air_c if extra and extra.generation == self.runner.generation else None

    def face_months(self) -> dict[str, tuple[float, ...]]:
        """Return what reaches each roof face by month [Wh/m²], if the study has it for the present state; else nothing."""
        extra = self._extra
        return extra.faces if extra and extra.generation == self.runner.generation else {}

    def house_year(self) -> HouseYear | None:
        """Return the house's year, if the study has it for the present state."""
        extra = self._extra
        return extra.house if extra and extra.generation == self.runner.generation else None

    def notable_days(self) -> dict[str, int]:
        """Return days of the chosen plan's year worth a look, if the study has them for the present state; else nothing."""
        extra = self._extra
        return extra.days if extra and extra.generation == self.runner.generation else {}

    def day_wh(self) -> float | None:
        """Return what the house draws on a mean day, if the study has it for the present state. [Wh]"""
        year = self.house_year()
        return None if year is None else year.mean_day_wh()

    def quick_findings(self, plan_id: str, opened: str | None = None) -> tuple[Finding, ...]:
        """Return the findings that need no year, computed at once; of the check that is open, remedies that can be applied."""
        kept = self._quick.get((plan_id, opened))
        if kept is None or kept[0] is not self.job:
            context = CheckContext(self.job, self.job.plan(plan_id), self.job.cards(), None, known=self.known_cards())
            self._quick = {key: row for key, row in self._quick.items() if row[0] is self.job}
            weighed = () if opened is None else (opened,)
            kept = self._quick[plan_id, opened] = (self.job, run_checks(context, {"plan"}, weighed))
        return kept[1]

    def findings(self, opened: str | None = None) -> tuple[tuple[Finding, ...], bool]:
        """Return the chosen plan's findings as far as they are known, and whether those that need the year are still to come."""
        result = self.fresh(self.chosen)
        return (self.quick_findings(self.chosen, opened), True) if result is None else (result.findings, False)

    def _take_at_once(self) -> None:
        answer = self.runner.at_once(self._extra)
        if answer is not None:
            self._put(answer)

    def _put(self, answer: Answer) -> None:
        self.answers[answer.plan_id] = answer
        self.errors.pop(answer.plan_id, None)
        if answer.made is not None:
            self._made = (answer.generation, answer.plan_id, answer.made)
            self._extra = answer
            self.answers[answer.plan_id] = replace(answer, made=None, house=None, air_c=None, faces={}, lines=None, days={})

    def _answered(self, answer: Answer) -> None:
        if answer.generation != self.runner.generation:
            return
        self._put(answer)
        if answer.made is not None:
            self.answers_changed.emit()
            QTimer.singleShot(PAINT_MS, self.runner.shown.set)  # after what is to be painted now
        elif not self._gather.isActive():
            self._gather.start()

    @property
    def busy(self) -> bool:
        """Whether figures are still to come, or to be shown."""
        waiting = any(generation == self.runner.generation for generation in self._wanted.values())
        return self.runner.busy or self._gather.isActive() or waiting or bool(self._reading)

    def extra(self, key: str, work: Extra) -> object | None:
        """Return another answer of the study for the present state; where there is none yet it is asked for, and comes later.

        `key` names the question with all that it depends on beside job and chosen plan. A fault is the answer as it is.
        """
        generation = self.runner.generation
        kept = self._extras.get(key)
        if kept is not None and kept[0] == generation:
            return kept[1]
        if self._wanted.get(key) != generation and not self.runner.busy:
            self._wanted[key] = generation
            self.runner.later(key, work)
        return None

    def keep_drill(self, plan: Plan, drill: Drill, minute: int, way: str) -> None:
        """Keep the outage that is looked at, so that the relay line can show its flows."""
        self._drilled = Drilled(self.runner.generation, plan, drill, minute, way)

    def drilled(self, plan_id: str) -> Drilled | None:
        """Return the outage of a plan that was looked at, if it holds for the present state."""
        kept = self._drilled
        return kept if kept is not None and kept.generation == self.runner.generation and kept.plan.id == plan_id else None

    def last_extra(self, key: str) -> object | None:
        """Return the last answer to a question, of whatever state."""
        kept = self._extras.get(key)
        return None if kept is None else kept[1]

    def _found(self, key: str, generation: int, answer: object) -> None:
        if key.startswith(FILE_KEY):
            done = self._reading.pop(key, None)
            if done is not None:  # else it was stopped: nothing of it is used
                self._say_reading()
                done(answer)
            return
        if self._wanted.get(key) == generation:
            del self._wanted[key]
        if generation == self.runner.generation:
            self._extras[key] = (generation, answer)
            self.answers_changed.emit()

    def _failed(self, generation: int, plan_id: str, message: str) -> None:
        if generation == self.runner.generation:
            self.errors[plan_id] = message
            self.answers_changed.emit()

    def _raised(self, generation: int, plan_id: str, gains: tuple[Gain, ...]) -> None:
        if generation == self.runner.generation:
            self.gains = (generation, plan_id, gains)
            self.answers_changed.emit()

    def raised(self) -> tuple[Gain, ...] | None:
        """Return what raising single limits of the chosen plan would gain, if it belongs to the present state."""
        fresh = self.gains is not None and self.gains[:2] == (self.runner.generation, self.chosen)
        return self.gains[2] if fresh and self.gains else None

    def _idle(self, generation: int) -> None:
        if generation == self.runner.generation:
            self.progress.emit("")
            self._gather.start()
            pass_over_what_stays()

    # --- pins
    def toggle_pin(self, plan_id: str) -> None:
        """Pin a plan, or unpin it; of more than two the oldest goes."""
        if plan_id in self.pinned:
            self.pinned.remove(plan_id)
        else:
            self.pinned = [*self.pinned, plan_id][-2:]
        self.answers_changed.emit()

    def unpin(self) -> None:
        """Unpin both."""
        self.pinned = []
        self.answers_changed.emit()

    # --- changing
    def read_weather(self, path: Path) -> None:
        """Read a weather file off the window's thread and put it in place as one named entry; a fault changes nothing."""
        self.read_file(path, lambda *_: read_weather(path), lambda read: self._weather_read(path, read))

    def read_file(self, path: Path, work: FileWork, done: Callable[[object], None]) -> None:
        """Read a file off the window's thread; `work` may ask for the study, and tells its watch how far it is.

        `done` gets the answer, or the error, here.
        """
        self._files_read += 1
        key = f"{FILE_KEY}{self._files_read} {path.name}"
        self._reading[key] = done
        self._say_reading()

        def watch(words: str, frac: float) -> None:
            if key not in self._reading:
                raise Cancelled("the reading was stopped")
            self.read_so_far.emit(words, frac)

        self.runner.read(key, lambda study: work(study, watch))

    def stop_reading(self) -> None:
        """Stop every file that is being read: nothing of it is used, the job stays as it is."""
        self._reading.clear()
        self._say_reading()

    def _say_reading(self) -> None:
        self.reading.emit(", ".join(key.split(" ", 2)[2] for key in self._reading))

    def _weather_read(self, path: Path, read: object) -> None:
        try:
            if isinstance(read, Exception):
                raise read
            assert isinstance(read, WeatherRead)
            job = with_weather(self.job, read, self.store, self.calendar().utc_offset_h, self.job.rules().value("assumed_margin_k"))
            self.document.edit(f"Weather from {path.name}", lambda _: job)
        except CalmRelayError as error:
            self.problem.emit(str(error))

    def monthly_means(self) -> MonthlyWeather | None:
        """Return the monthly means of the weather file in use; None where means are typed."""
        weather = self.job.site.weather
        if not isinstance(weather, WeatherFile):
            return None
        ghi, air = weather.ghi.sha256 or "", weather.air.sha256 or ""
        return monthly_means(self.store.get(ghi), self.store.get(air)) if ghi in self.store and air in self.store else None

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
        job = apply_edits(self.job, edits)
        if (
            any(edit.path.startswith(("site.weather", "site.place")) for edit in edits)
            and job.site.weather != self.job.site.weather
        ):
            self._ask_sky(job)
        self.document.edit(label, lambda _: job, merge=merge, validated=True)

    def _ask_sky(self, job: Job) -> None:
        """Raise BadInput for a month that no sky gives: it is refused at its field, not found out plan by plan."""
        if self._sky is None:
            from calm_relay.cache import shared_cache
            from calm_relay.study import Study

            self._sky = Study(self.store, step_s=3600, cache=shared_cache())
        self._sky.weather(job)

    def change_plans(self, label: str, plans: tuple[Plan, ...]) -> None:
        """Replace the list of plans as one named entry."""
        self.document.edit(label, lambda job: job.model_copy(update={"plans": plans}))

    def _document_changed(self) -> None:
        known = {plan.id for plan in self.job.plans}
        self.pinned = [plan_id for plan_id in self.pinned if plan_id in known]
        if self.chosen not in known:
            self.chosen = self.job.plans[-1].id
            self.plan_chosen.emit()
        if self.job is not self._asked:
            self._asked = self.job
            self.runner.ask(self.job, self.chosen)
            self._keep.start()
            self._take_at_once()
        self.job_changed.emit()
        self.answers_changed.emit()

    def save(self, path: Path) -> None:
        """Save to `path`; raises BadInput with the file as it was."""
        job = self.job
        self.stamp = save_job(path, job, self.store)
        self.path = path
        self._recovered = False
        self.document.mark_saved(job)
        self.recovery.drop()

    def changed_on_disk(self) -> bool:
        """Return whether the file was changed by someone else since it was read or saved."""
        if self.path is None:
            return False
        try:
            status = self.path.stat()
        except OSError:
            return False
        return (status.st_mtime_ns, status.st_size) != self.stamp  # never read from it: whatever stands there is another's

    def close(self) -> None:
        """Stop the worker; what was not saved was left on purpose."""
        self._keep.stop()
        self.runner.close()
        self.recovery.drop()
        self.answers, self._extras, self._made = {}, {}, None  # years of plans, which a window may outlive
