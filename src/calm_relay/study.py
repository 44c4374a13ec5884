"""The one door to the core: a job in, every result out, computed stage by stage and kept by content."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay import stages
from calm_relay.cache import StageCache, array_bytes, content_key, on_disk
from calm_relay.calendar import YearCalendar, year_calendar
from calm_relay.decision.facts import YearFacts, year_facts
from calm_relay.errors import Cancelled, NotFeasible
from calm_relay.job.models import Job, MonthlyWeather, Plan, SeriesLoad, SeriesRef, StringGroup, WeatherFile
from calm_relay.job.series import SeriesStore
from calm_relay.library.cards import HybridCard, ModuleCard, ModuleInverterCard, PvInverterCard
from calm_relay.load.house import HouseYear, house_year
from calm_relay.pv.array import GroupInput, group_dc_w
from calm_relay.pv.planner import FaceRoom, Proposal, Setup, propose
from calm_relay.rules.registry import CheckContext, Finding, run_checks
from calm_relay.simulation.chain import pv_ratio_limit
from calm_relay.simulation.flow import open_balances
from calm_relay.tariff.bill import Bill, year_bill
from calm_relay.weather.refine import FileYear, refine_year
from calm_relay.weather.solar import PlaneOfArray, Sun, plane_of_array, sun_year
from calm_relay.weather.synthetic import WeatherYear, synthetic_year

Array = NDArray[np.float64]
MOST_ROOM = 40  # modules offered on a face whose room is not typed
Progress = Callable[[str], None]
Cancel = Callable[[], bool]
# A stage's number goes up when its computation changes, so that nothing kept on disk outlives its code.
VERSIONS = {"sun": 2, "weather": 2, "light": 2, "dc": 1, "house": 1, "flow": 1, "facts": 1, "bill": 1}


def _quiet(_: str) -> None:
    return None


def _never() -> bool:
    return False


@dataclass(frozen=True)
class PlanResult:
    """All figures of one plan, from one state of the job."""

    plan_id: str
    facts: YearFacts
    bill: Bill
    findings: tuple[Finding, ...]


class Study:
    """Answers questions about jobs; keeps every stage's result by the content of what it read.

    Safe to ask from several threads. `runs` counts how often each stage was really computed.
    """

    def __init__(self, store: SeriesStore | None = None, *, step_s: int = 300, cache: StageCache | None = None) -> None:
        self.store = store or SeriesStore()
        self.step_s = step_s
        self.cache = cache or StageCache()
        self.runs: Counter[str] = Counter()

    def _stage(self, name: str, key: str, make: Callable[[], Any], size: Callable[[Any], int]) -> Any:
        def counted() -> Any:
            made = make()
            self.runs[name] += 1
            return made

        return self.cache.get(key, counted, size)

    # --- shared by all plans
    def calendar(self, job: Job) -> YearCalendar:
        """Return the job's calendar."""
        return year_calendar(job.calendar_year, job.site.place.time_zone, self.step_s)

    def _sun_key(self, job: Job) -> str:
        return content_key("sun", VERSIONS["sun"], stages.select_sun(job, self.step_s))

    def sun(self, job: Job) -> Sun:
        """Return sun and clear sky; kept on disk."""
        key = self._sun_key(job)
        place = job.site.place

        def make() -> Sun:
            def arrays() -> dict[str, Array]:
                made = sun_year(self.calendar(job), place.latitude_deg, place.longitude_deg, place.altitude_m)
                return dict(vars(made))

            return Sun(**on_disk(key, arrays))

        found: Sun = self._stage("sun", key, make, lambda s: array_bytes(vars(s)))
        return found

    def _weather_key(self, job: Job) -> str:
        return content_key("weather", VERSIONS["weather"], stages.select_weather(job), self._sun_key(job))

    def weather(self, job: Job) -> WeatherYear:
        """Return the weather year; kept on disk."""
        key = self._weather_key(job)

        def make() -> WeatherYear:
            def arrays() -> dict[str, Array]:
                weather = job.site.weather
                if isinstance(weather, MonthlyWeather):
                    return dict(vars(synthetic_year(weather, self.calendar(job), self.sun(job))))
                refined = refine_year(self.file_year(weather), self.calendar(job), self.sun(job), weather.seed)
                return dict(vars(refined.weather))

            return WeatherYear(**on_disk(key, arrays))

        found: WeatherYear = self._stage("weather", key, make, lambda w: array_bytes(vars(w)))
        return found

    def file_year(self, weather: WeatherFile) -> FileYear:
        """Return a weather file's arrays from the store."""

        def values(ref: SeriesRef | None) -> Array | None:
            return None if ref is None else self.store.get(ref.sha256 or "")

        ghi, air = values(weather.ghi), values(weather.air)
        assert ghi is not None
        assert air is not None
        return FileYear(weather.utc_offset_h, ghi, values(weather.dni), values(weather.dhi), air)

    def _light_key(self, job: Job, face_id: str) -> str:
        return content_key("light", VERSIONS["light"], stages.select_face_light(job, face_id), self._weather_key(job))

    def light(self, job: Job, face_id: str) -> PlaneOfArray:
        """Return plane-of-array irradiance of a face; kept on disk."""
        key = self._light_key(job, face_id)

        def make() -> PlaneOfArray:
            def arrays() -> dict[str, Array]:
                face, w = job.face(face_id), self.weather(job)
                made = plane_of_array(
                    face.tilt_deg, face.azimuth_deg, self.sun(job), w.ghi_w_per_m2, w.dni_w_per_m2, w.dhi_w_per_m2
                )
                return dict(vars(made))

            return PlaneOfArray(**on_disk(key, arrays))

        found: PlaneOfArray = self._stage("light", key, make, lambda p: array_bytes(vars(p)))
        return found

    def face_months(self, job: Job, face_id: str) -> tuple[float, ...]:
        """Return what reaches the cells of a face in each month, after shade and the loss at low angles of incidence. [Wh/m²]"""
        light = self.light(job, face_id)
        kept = (light.beam_w_per_m2 + light.diffuse_w_per_m2) * (1.0 - job.face(face_id).shade_loss_frac)
        return self.calendar(job).by_month_wh(kept)

    def _house_key(self, job: Job) -> str:
        calendar = stages.select_calendar(job, self.step_s)
        return content_key("house", VERSIONS["house"], stages.select_house(job), calendar)

    def house(self, job: Job) -> HouseYear:
        """Return the house's year."""
        background = job.house.background
        values = self.store.get(background.series.sha256 or "") if isinstance(background, SeriesLoad) else None

        def size(h: HouseYear) -> int:
            return h.background_w.nbytes * (1 + len(h.appliance_w))

        found: HouseYear = self._stage(
            "house", self._house_key(job), lambda: house_year(job.house, self.calendar(job), values), size
        )
        return found

    # --- per plan
    def _dc_key(self, job: Job, plan: Plan, cards: dict[str, Any], index: int) -> str:
        node = plan.nodes[index]
        faces = [self._light_key(job, g.face) for g in node.strings]
        return content_key("dc", VERSIONS["dc"], stages.select_node_dc(job, node, cards), faces, self._weather_key(job))

    def _flow_key(self, job: Job, plan: Plan) -> str:
        cards = job.cards()
        dc = [self._dc_key(job, plan, cards, i) if node.strings else "" for i, node in enumerate(plan.nodes)]
        return content_key("flow", VERSIONS["flow"], stages.select_flow(job, plan, cards), dc, self._house_key(job))

    def dc(self, job: Job, plan: Plan) -> dict[str, stages.NodeDc]:
        """Return the DC power of every node of a plan; zeros for nodes without strings."""
        cards = job.cards()
        out = {}
        for index, node in enumerate(plan.nodes):
            if not node.strings:
                none = np.zeros(self.calendar(job).steps)
                out[node.id] = stages.NodeDc(none, none)
                continue

            def make(node: Any = node) -> stages.NodeDc:
                light = {g.face: self.light(job, g.face) for g in node.strings}
                return stages.make_node_dc(node, job, cards, light, self.weather(job).air_c)

            out[node.id] = self._stage("dc", self._dc_key(job, plan, cards, index), make, lambda d: d.nbytes)
        return out

    def propose_strings(self, job: Job, plan: Plan, node_id: str, module: ModuleCard, most: int = 20) -> Proposal:
        """Return layouts of a module's strings on an inverter's trackers, on the faces that the plan's other inverters leave free.

        Raises
        ------
        NotFeasible
            When the inverter has no trackers, or a temperature the voltages need is not known.
        """
        cards = job.cards()
        node = next(n for n in plan.nodes if n.id == node_id)
        card = cards[node.card]
        if not isinstance(card, PvInverterCard | HybridCard):
            raise NotFeasible(f"{node.name} takes no strings", "choose an inverter with trackers")
        low, high = job.site.record_low_c, job.site.design_high_c
        if low is None or high is None:
            raise NotFeasible("the record low or the design high is not known", "type both on Site & roof")
        taken = Counter[str]()
        for other in plan.nodes:
            units = other.count if isinstance(cards[other.card], ModuleInverterCard) else 1
            for group in other.strings if other.id != node_id else ():
                taken[group.face] += group.modules_per_string * group.parallel_strings * units
        faces = tuple(
            FaceRoom(f.id, f.name, max(0, (MOST_ROOM if f.room_modules is None else f.room_modules) - taken[f.id]), f.mounting)
            for f in job.faces
        )
        battery = node.battery is not None
        ratio = pv_ratio_limit(card, battery) if isinstance(card, HybridCard) else card.dc_ac_ratio_max
        setup = Setup(module, faces, card.trackers, card.dc_voltage_max_v, card.ac_rated_w, card.loss, ratio, low, high)
        watts, amps = {}, {}
        air_c = self.weather(job).air_c
        for face in job.faces:
            one = StringGroup(id="one", face=face.id, module=module.id, tracker=1, modules_per_string=1)
            watts[face.id], amps[face.id] = group_dc_w(GroupInput(one, face, module, self.light(job, face.id)), air_c)
        return propose(setup, watts, amps, self.step_s / 3600.0, most)

    def flow(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> stages.PlanFlow:
        """Return a plan's year step by step."""

        def make() -> stages.PlanFlow:
            for text, work in (
                ("sun", lambda: self.sun(job)),
                ("weather", lambda: self.weather(job)),
                ("house", lambda: self.house(job)),
            ):
                if cancelled():
                    raise Cancelled("cancelled before the year was run")
                progress(f"{plan.letter}: {text}")
                work()
            progress(f"{plan.letter}: strings")
            dc = self.dc(job, plan)
            progress(f"{plan.letter}: the year at {self.step_s // 60} min")
            return stages.make_flow(job, plan, job.cards(), self.calendar(job), self.house(job), dc, cancelled)

        found: stages.PlanFlow = self._stage("flow", self._flow_key(job, plan), make, lambda f: f.nbytes)
        return found

    def facts(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> YearFacts:
        """Return the facts of a plan's year; small, kept when the series are long gone."""
        latitude = job.site.place.latitude_deg >= 0
        factors = [load.power_factor for load in job.house.appliances]
        key = content_key("facts", VERSIONS["facts"], self._flow_key(job, plan), [n.id for n in plan.nodes], latitude, factors)

        def make() -> YearFacts:
            made = self.flow(job, plan, progress, cancelled)
            return year_facts(job, plan, job.cards(), self.calendar(job), made, self.house(job))

        found: YearFacts = self._stage("facts", key, make, lambda _: 60_000)
        return found

    def bill(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> Bill:
        """Return a plan's yearly bill."""
        key = content_key("bill", VERSIONS["bill"], stages.select_bill(job), self._flow_key(job, plan))

        def make() -> Bill:
            flow = self.flow(job, plan, progress, cancelled).flow
            return year_bill(job.tariff, self.calendar(job), flow.column("import_w"), flow.column("export_w"))

        found: Bill = self._stage("bill", key, make, lambda _: 2_000)
        return found

    def worst_open_balance(self, job: Job, plan: Plan) -> float:
        """Return the largest open balance of any step, recomputed from the series, as a share of the energy moved in it."""
        made = self.flow(job, plan)
        return open_balances(made.flow, made.packed).worst

    def quick_checks(self, job: Job, plan: Plan) -> tuple[Finding, ...]:
        """Return the findings that need no year; those that do are left out (they are 'waiting')."""
        return run_checks(CheckContext(job, plan, job.cards(), None), needs_year=False)

    def plan_result(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> PlanResult:
        """Return everything about one plan.

        Raises
        ------
        Cancelled
            When `cancelled` said so; nothing half made is kept.
        """
        facts = self.facts(job, plan, progress, cancelled)
        bill = self.bill(job, plan, progress, cancelled)
        progress(f"{plan.letter}: checks")
        context = CheckContext(job, plan, job.cards(), facts)
        return PlanResult(plan.id, facts, bill, run_checks(context, needs_year=None))
