"""The one door to the core: a job in, every result out, computed stage by stage and kept by content."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.cache import StageCache, content_key, shared_cache
from calm_relay.errors import Cancelled
from calm_relay.job.models import Job, Plan
from calm_relay.job.rows import strings_kept
from calm_relay.job.series import SeriesStore
from calm_relay.job.sky_models import ClearSkyWeather
from calm_relay.library.book import book_of
from calm_relay.library.cards import ModuleCard
from calm_relay.packs.pack import Pack
from calm_relay.plant.lines import load_shares
from calm_relay.plant.resolve import plant_of, string_row
from calm_relay.plant.same import plain
from calm_relay.plant.station import Station
from calm_relay.pv.array import group_dc_w
from calm_relay.pv.planner import Proposal, propose
from calm_relay.pv.roof import Mode, planner_setup
from calm_relay.pv.voltage import lit_face
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.rules.runner import run_checks
from calm_relay.simulation.flow import open_balances
from calm_relay.study_shared import SharedStages
from calm_relay.tariff.bill import Bill, bill_of, no_bill, year_bill
from calm_relay.tariff.counted import Counted, counted_of, shape_of
from calm_relay.tariff.growth import as_billed
from calm_relay.tariff.prices import hourly_of
from calm_relay.year import stages
from calm_relay.year.facts import YearFacts, year_facts
from calm_relay.year.inputs import FactInputs, FlowInputs, LineInputs, fact_inputs, flow_inputs, line_inputs
from calm_relay.year.lines import LineFlows, line_flows, net_lines_w
from calm_relay.year.outage import SERVES, asked_of, brief_survival, served_ids
from calm_relay.year.plan_flow import PlanFlow, check_sensor, make_flow
from calm_relay.year.when import By, Part, year_parts

Array = NDArray[np.float64]
Progress = Callable[[str], None]
Cancel = Callable[[], bool]


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


class Study(SharedStages):
    """Answers questions about jobs; keeps every stage's result by the content of what it read.

    Safe to ask from several threads. `runs` counts how often each stage was really computed.
    """

    def __init__(self, store: SeriesStore | None = None, *, step_s: int = 300, cache: StageCache | None = None) -> None:
        super().__init__(store, step_s=step_s, cache=cache)
        self._at_step: dict[int, Study] = {}

    def at_step(self, step_s: int) -> Study:
        """Return a study of the same series at another step; it keeps its own stages."""
        if step_s == self.step_s:
            return self
        if step_s not in self._at_step:
            shared = shared_cache(step_s) if self.cache is shared_cache() else None
            self._at_step[step_s] = Study(self.store, step_s=step_s, cache=shared)
        return self._at_step[step_s]

    def _dc_key(self, job: Job, station: Station) -> str:
        faces = [
            (i, self.light_key(job, i), plain(lit_face(job.face(i))))
            for i in sorted({strings.row.face for strings in station.strings})
        ]
        return content_key("dc", plain(stages.dc_inputs(station)), faces, self.weather_key(job))

    @staticmethod
    def _flow_inputs(job: Job, plan: Plan) -> FlowInputs:
        return flow_inputs(plant_of(job, plan), job.house, job.site.place.latitude_deg, job.site.spot, job.rules)

    def flow_key(self, job: Job, plan: Plan) -> str:
        """Return what a plan's year is kept by: all that it reads."""
        return self._keys.get("flow", job, plan, lambda: self._flow_key(job, plan))

    def _flow_key(self, job: Job, plan: Plan) -> str:
        inputs = self._flow_inputs(job, plan)
        dc = [self._dc_key(job, station) if station.strings else "" for station in plant_of(job, plan).stations]
        warmth = self.weather_key(job) if inputs.places else ""
        return content_key("flow", plain(inputs), dc, self.house_key(job), warmth)

    def dc(self, job: Job, plan: Plan) -> dict[str, stages.NodeDc]:
        """Return the DC power of every node of a plan; zeros for nodes without strings."""
        out = {}
        for station in plant_of(job, plan).stations:
            if not station.strings:
                none = np.zeros(self.calendar(job).steps)
                out[station.id] = stages.NodeDc(none, none)
                continue

            def make(station: Station = station) -> stages.NodeDc:
                ids = {strings.row.face for strings in station.strings}
                faces, light = {i: lit_face(job.face(i)) for i in ids}, {i: self.light(job, i) for i in ids}
                return stages.make_node_dc(stages.dc_inputs(station), faces, light, self.weather(job).air_c, self.calendar(job))

            out[station.id] = self._stage("dc", self._dc_key(job, station), make, lambda d: d.nbytes)
        return out

    def propose_strings(
        self,
        job: Job,
        plan: Plan,
        node_id: str,
        module: ModuleCard,
        most: int = 20,
        *,
        mode: Mode = "anew",
        optimizer: str = "",
        keep: Collection[str] = (),
        pack: Pack | None = None,
    ) -> Proposal:
        """Return layouts of a module's strings on an inverter's trackers; see `pv.roof.planner_setup` for `mode` and `keep`.

        `pack` stands in for the one the job names.

        Raises
        ------
        NotFeasible
            When the inverter has no trackers, or a temperature the voltages need is not known.
        """
        cards = book_of(job.library, (module,))
        setup, like = planner_setup(job, plan, node_id, module, cards, mode, pack or job.rules(), optimizer, keep)
        watts, amps = {}, {}
        air_c = self.weather(job).air_c
        for face in job.faces:
            one = like.model_copy(update={"face": face.id, "tracker": 1, "modules_per_string": 1, "parallel_strings": 1})
            made = stages.group_input(string_row(one, cards), lit_face(face), self.light(job, face.id), self.calendar(job))
            watts[face.id], amps[face.id] = group_dc_w(made, air_c, whole_string=False)
        node = plan.node(node_id)
        stay = strings_kept(node, mode, keep)
        nodes = tuple(n.model_copy(update={"strings": stay}) if n.id == node_id else n for n in plan.nodes)
        kept = self.dc(job, plan.model_copy(update={"nodes": nodes}))[node_id].available_w if stay else None
        return propose(setup, watts, amps, self.step_s / 3600.0, most, kept)

    def flow(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> PlanFlow:
        """Return a plan's year step by step."""

        def make() -> PlanFlow:
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
            check_sensor(plant_of(job, plan))
            dc = self.dc(job, plan)
            progress(f"{plan.letter}: the year at {self.step_s // 60} min")
            air_c = self.weather(job).air_c
            return make_flow(self._flow_inputs(job, plan), self.calendar(job), self.house(job), dc, air_c, cancelled)

        found: PlanFlow = self._stage("flow", self.flow_key(job, plan), make, lambda f: f.nbytes)
        return found

    def line_flows(self, job: Job, plan: Plan) -> LineFlows:
        """Return what flows on each phase or leg in a plan's year."""

        def make() -> LineFlows:
            return line_flows(self._lines(job, plan), self.flow(job, plan))

        found: LineFlows = self._stage("line flows", self._lines_key(job, plan), make, lambda f: f.nbytes)
        return found

    @staticmethod
    def _lines(job: Job, plan: Plan) -> LineInputs:
        return line_inputs(plant_of(job, plan), job.house, job.site.supply.service_a)

    def _lines_key(self, job: Job, plan: Plan) -> str:
        return content_key("line flows", self.flow_key(job, plan), plain(self._lines(job, plan)))

    def fact_inputs(self, job: Job, plan: Plan) -> FactInputs:
        """Return what the facts of a plan's year read beside it."""
        guessed, latitude = isinstance(job.site.weather, ClearSkyWeather), job.site.place.latitude_deg
        return fact_inputs(plant_of(job, plan), self._lines(job, plan), job.house, latitude, guessed=guessed)

    def facts(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> YearFacts:
        """Return the facts of a plan's year; small, kept when the series are long gone."""

        def make() -> YearFacts:
            made = self.flow(job, plan, progress, cancelled)
            return year_facts(self.fact_inputs(job, plan), self.calendar(job), made, made.house)

        found: YearFacts = self._stage("facts", self._facts_key(job, plan), make, lambda _: 60_000)
        return found

    def _facts_key(self, job: Job, plan: Plan) -> str:
        return content_key("facts", self.flow_key(job, plan), plain(self.fact_inputs(job, plan)))

    def year_parts(self, job: Job, plan: Plan, by: By) -> tuple[Part, ...]:
        """Return a plan's year in parts: by month, by the clock's hour or by the tariff's period."""
        return year_parts(self.flow(job, plan).flow, self.calendar(job), by, job.tariff, self.store)

    def _meter_key(self, job: Job, plan: Plan) -> str:
        each = self._by_line(job)
        lines = plain(self._lines(job, plan)) if each else []
        return content_key("meter", each, lines, self.flow_key(job, plan))

    @staticmethod
    def _by_line(job: Job) -> bool:
        """Whether the bill nets each line by itself."""
        return job.tariff.netting == "each" and job.site.supply.kind == "three_phase"

    def _net_w(self, job: Job, plan: Plan, made: PlanFlow) -> Array:
        if self._by_line(job):
            return net_lines_w(self._lines(job, plan), made)
        net: Array = made.flow.column("import_w") - made.flow.column("export_w")
        return net

    def meter_net_w(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> Array:
        """Return what the meter sees of a plan's year, import less export, (steps,) or (steps, lines): all a bill needs. [W]"""

        def make() -> Array:
            made = self.flow(job, plan, progress, cancelled)
            return self._net_w(job, plan, made)

        found: Array = self._stage("meter", self._meter_key(job, plan), make, lambda a: a.nbytes)
        return found

    def bill(self, job: Job, plan: Plan, progress: Progress = _quiet, cancelled: Cancel = _never) -> Bill:
        """Return a plan's yearly bill."""
        if plan.off_grid:
            return no_bill()
        counted_key, tariff = self._counted_key(job, plan), as_billed(job.tariff)
        self.cache.peek(counted_key)  # used now, as the bill is: else it goes first, and the next price has to wait for the year

        def count() -> Counted:
            net = self.meter_net_w(job, plan, progress, cancelled)
            return counted_of(job.tariff, self.calendar(job), net, hourly_of(job.tariff, self.store))

        def make() -> Bill:
            counted: Counted = self._stage("counted", counted_key, count, lambda _: 4_000)
            return bill_of(tariff, counted)

        found: Bill = self._stage("bill", content_key("bill", plain(tariff), counted_key), make, lambda _: 6_000)
        return found

    def _counted_key(self, job: Job, plan: Plan) -> str:
        return content_key("counted", shape_of(job.tariff), self._meter_key(job, plan))

    def case_bill(self, job: Job, plan: Plan, sun: float, load: float, cancelled: Cancel = _never) -> Bill:
        """Return a plan's yearly bill under so many times the sun and for so many times the house's load; it is not kept.

        All DC power is scaled, after the limits of the trackers: with more sun than theirs that is a little too much.
        """
        if plan.off_grid:
            return no_bill()
        net = self._net_w(job, plan, self.case_flow(job, plan, {}, sun, load, cancelled))
        return year_bill(job.tariff, self.calendar(job), net, hourly_of(job.tariff, self.store))

    def case_flow(
        self, job: Job, plan: Plan, suns: Mapping[str, float], sun: float = 1.0, load: float = 1.0, cancelled: Cancel = _never
    ) -> PlanFlow:
        """Return a plan's year with so many times the DC power at each node, `sun` where none is given; it is not kept."""
        check_sensor(plant_of(job, plan))
        house = self.house(job)
        dc = {node: row.times(suns.get(node, sun)) for node, row in self.dc(job, plan).items()}
        house = house if load == 1.0 else house.times(load)
        return make_flow(self._flow_inputs(job, plan), self.calendar(job), house, dc, self.weather(job).air_c, cancelled)

    def bill_without_system(self, job: Job) -> Bill:
        """Return the bill of the house alone: all it draws is imported."""
        tariff = as_billed(job.tariff)
        inputs = [plain(tariff), self.house_key(job)]

        def make() -> Bill:
            load = self.house(job).total_w()
            return year_bill(tariff, self.calendar(job), load, hourly_of(tariff, self.store))

        found: Bill = self.keep("bill", inputs, make, 6_000)
        return found

    def worst_open_balance(self, job: Job, plan: Plan) -> float:
        """Return the largest open balance of any step, recomputed from the series, as a share of the energy moved in it."""
        made = self.flow(job, plan)
        return open_balances(made.flow, made.packed).worst

    def island_inputs(self, job: Job, plan: Plan) -> list[Any]:
        """Return what an outage reads beside the year: how all lies on the lines, what is served, what is kept for the morning."""
        plant, lines = plant_of(job, plan), self._lines(job, plan)
        loads = [(load.id, load_shares(load, plant.lines.count)) for load in job.house.counted]
        served = [sorted(served_ids(job.house, plant, serve)) for serve in SERVES]
        lie = [plain(part) for part in (lines.lines, lines.stations, lines.background, lines.offgrid_va)]
        return [lie, loads, plant.controls.island_keep_soc_frac, served]

    def brief_survival(self, job: Job, plan: Plan, cancelled: Cancel = _never) -> tuple[float, float, str] | None:
        """Return from which share of its season the brief's outage is survived; see `year.outage.brief_survival`."""
        if not job.brief.longest_h:
            return None

        def make() -> tuple[float, float, str] | None:
            asked = asked_of(job.brief, job.site.place.latitude_deg, self.calendar(job))
            return brief_survival(asked, job.house, plant_of(job, plan), self.flow(job, plan), cancelled)

        found: tuple[float, float, str] | None = self._stage("survival", self._survival_key(job, plan), make, lambda _: 4_000)
        return found

    def _survival_key(self, job: Job, plan: Plan) -> str:
        asked = [job.brief.longest_h, job.brief.outage_season, self.island_inputs(job, plan)]
        return content_key("survival", [asked, self.flow_key(job, plan)])

    def series_key(self, job: Job, plan: Plan) -> str:
        """Return what all that is shown of a plan's year step by step hangs on: flows, phases, air, light on the faces."""
        shades = {"shade_loss_frac", "shade_table"}
        light = [(f.id, self.light_key(job, f.id), f.model_dump(mode="json", include=shades)) for f in job.faces]
        return content_key("series", plan.id, self._lines_key(job, plan), self.weather_key(job), light)

    def stands(self, job: Job, plan: Plan) -> bool:
        """Return whether all that a plan's result is made of is kept: it is a matter of milliseconds then. [bool]"""
        asked = (self._survival_key(job, plan),) if job.brief.longest_h else ()
        if not self.cache.has((self._facts_key(job, plan), *asked)):
            return False
        return self.cache.has(self._counted_key(job, other) for other in (job.plans[0], plan) if not other.off_grid)

    def quick_checks(self, job: Job, plan: Plan) -> tuple[Finding, ...]:
        """Return the findings that need no year; those that do are left out (they are 'waiting')."""
        return run_checks(CheckContext(job, plan, job.cards(), None, known=self.known.book()), {"plan"})

    def plan_result(
        self,
        job: Job,
        plan: Plan,
        progress: Progress = _quiet,
        cancelled: Cancel = _never,
        weighed: Collection[str] | None = None,
    ) -> PlanResult:
        """Return everything about one plan; with `weighed` remedies are tried for the checks named alone (`run_checks`).

        Raises
        ------
        Cancelled
            When `cancelled` said so; nothing half made is kept.
        """
        if self.cache.peek(self._facts_key(job, plan)) is None:
            self.flow(job, plan, progress, cancelled)
        with ThreadPoolExecutor(1) as beside:  # outages run compiled, so facts and bill are made meanwhile
            outage = beside.submit(self.brief_survival, job, plan, cancelled)
            facts = self.facts(job, plan, progress, cancelled)
            bill = self.bill(job, plan, progress, cancelled)
            progress(f"{plan.letter}: checks")
            bills = (self.bill(job, job.plans[0], cancelled=cancelled), bill)
            survived = outage.result()
        context = CheckContext(job, plan, job.cards(), facts, bills=bills, survived=survived, known=self.known.book())
        return PlanResult(plan.id, facts, bill, run_checks(context, weighed=weighed))
