"""Runs: the cables of the chosen plan with amps, size, breaker and volts, and the volts along the way to each inverter."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.errors import CalmRelayError
from calm_relay.job.edits import Edit
from calm_relay.job.site_models import CableRun, OldCircuit
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import rises, run_rows, table_of
from calm_relay.rules.runs_dc import dc_rows, flexible
from calm_relay.ui.views.plan_table import Cell, PlanTable, Row
from calm_relay.ui.views.runs_view import RunsView, chains_of
from calm_relay.ui.views.volts_view import VoltsView

if TYPE_CHECKING:
    from collections.abc import Sequence

    from PySide6.QtWidgets import QWidget

    from calm_relay.job.models import Node
    from calm_relay.plant.runs import RunRow
    from calm_relay.ui.pages.base import FieldPage

BOARD = (
    "main_breaker_a", "busbar_a", "breakers_a", "free_ways", "highest_supply_v", "fault_level_a", "breaks_a", "earthing",
)  # fmt: skip
FIELDS = ("length_m", "size", "method", "ambient_c", "grouped", "protected_a")
CAUTION = "Aids for planning and quoting; the electrician designs to the local code, and measures."


class RunsPart:
    """Fields of each run; a change of size answers at once."""

    table: PlanTable  # made when the part is first shown

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        session = self._page.session
        runs = tuple(
            (n.id, n.run is None, n.battery_run is None, n.battery is None, n.string_run is None, bool(n.strings), n.reuses is None)
            for n in session.plan.nodes
        )
        circuits = tuple((c.id, c.name) for c in session.job.site.circuits)
        return session.plan.id, runs, circuits, session.job.site.supply_run is None, repr(session.job.rules_data())

    def build(self) -> None:
        page, job, plan = self._page, self._page.session.job, self._page.session.plan
        page.heading(f"{plan.letter}  {plan.name}")
        self.said = page.words("", "plain")
        self.table = PlanTable("Cables of the plan", page.theme, page.scale, least_chars=8)
        self.chain = RunsView(page.theme, page.scale)
        page.add(self.chain)
        page.add(self.table)
        page.heading("Volts along the way, on the worst noon")
        self.view = VoltsView(page.theme, page.scale)
        page.add(self.view)
        self.rise_words = page.words("", "plain")
        page.heading("Main board")
        board = "site.board"
        page.flow(*(page.cell(f"{board}.{name}", chars=11) for name in BOARD))
        self._run("From the board to the supply", "site.supply_run", job.site.supply_run)
        self._circuits()
        for node in plan.nodes:
            at = f"plans[{plan.id}].nodes[{node.id}]"
            self._run(f"From {node.name} to the board", f"{at}.run", node.run, self._by(node, at), reused=node.reuses is not None)
            if node.strings and not job.cards().inverter(node.card).per_module:
                self._run(f"From a string to {node.name}", f"{at}.string_run", node.string_run)
            if node.battery is not None:
                self._run(f"From the battery to {node.name}", f"{at}.battery_run", node.battery_run)
        page.words(CAUTION, "caution")

    def _circuits(self) -> None:
        page, circuits = self._page, self._page.session.job.site.circuits
        page.heading("Old circuits that could be used again", ("Add one", self._add_circuit))
        for circuit in circuits:
            at = f"site.circuits[{circuit.id}]"
            cells = [page.cell(f"{at}.name", chars=18)]
            cells += [page.cell(f"{at}.run.{name}", chars=14 if name in ("size", "method") else 8) for name in FIELDS]
            page.flow(*cells, page.button("Take it out", lambda i=circuit.id: self._drop_circuit(i), f"Take out {circuit.name}"))

    def _add_circuit(self) -> None:
        session = self._page.session
        taken = {circuit.id for circuit in session.job.site.circuits}
        number = next(n for n in range(1, 100) if f"circuit-{n}" not in taken)
        made = OldCircuit(id=f"circuit-{number}", name=f"Old circuit {number}")
        session.edit("An old circuit", [Edit("site.circuits[+]", made.model_dump())])

    def _drop_circuit(self, circuit_id: str) -> None:
        session = self._page.session
        left = [c.model_dump() for c in session.job.site.circuits if c.id != circuit_id]
        freed = [
            Edit(f"plans[{plan.id}].nodes[{node.id}].reuses", None)
            for plan in session.job.plans
            for node in plan.nodes
            if node.reuses == circuit_id
        ]
        session.edit("Take out an old circuit", [*freed, Edit("site.circuits", left)])

    def _by(self, node: Node, at: str) -> list[QWidget]:
        """Return the choice between a new cable and an old circuit, where there are any."""
        circuits = self._page.session.job.site.circuits
        if not circuits and node.reuses is None:
            return []
        choices = [("", "a new cable"), *((circuit.id, circuit.name) for circuit in circuits)]
        return [self._page.cell(f"{at}.reuses", caption="By", options=lambda: choices)]

    def _run(self, words: str, path: str, run: CableRun | None, before: Sequence[QWidget] = (), *, reused: bool = False) -> None:
        page = self._page
        page.heading(words)
        if reused:
            page.flow(*before)
        elif run is None:
            begin = page.button("Measured on site", lambda: self._begin(words, path), f"{words}: say its length and size")
            page.flow(*before, begin)
        else:
            page.flow(*before, *(page.cell(f"{path}.{name}", chars=14 if name in ("size", "method") else 8) for name in FIELDS))

    def _begin(self, words: str, path: str) -> None:
        session = self._page.session
        of_battery = path.endswith((".battery_run", ".string_run"))
        table = flexible(session.job.rules()) if of_battery else table_of(session.job.rules())
        size = table.rows[min(3, len(table.rows) - 1)].name
        made = CableRun(length_m=2.0 if path.endswith(".battery_run") else 10.0, size=size, method=table.columns[0])
        session.edit(words, [Edit(path, made.model_dump())])

    def show_figures(self) -> None:
        session = self._page.session
        job, plan, pack = session.job, session.plan, session.job.rules()
        table = table_of(pack)
        self.said.setText(
            f"{pack.name}: {table.name}. Sizes: {', '.join(row.name for row in table.rows)}. Lies: {', '.join(table.columns)}."
        )
        try:
            rows = run_rows(plant_of(job, plan), pack)
        except CalmRelayError as error:
            self.said.setText(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            self.table.setVisible(False)
            self.view.setVisible(False)
            self.chain.setVisible(False)
            return
        names = {node.id: node.name for node in plan.nodes}
        self.chain.show_chains(*chains_of(rows, dc_rows(job, plant_of(job, plan), pack), names))
        self.chain.setVisible(bool(names))
        self.table.setVisible(bool(rows))
        self.table.show_rows(["Flows", "Carries", "Breaker", "Size", "Volts"], [_row(row) for row in rows])
        found = rises(rows)
        limit, highest = pack.value("sustained_volts_most_v"), job.site.board.highest_supply_v
        self.view.setVisible(bool(found))
        self.view.show_rises(found, highest or job.site.supply.voltage_v, limit, measured=highest is not None)
        most = pack.value("rise_most_frac")
        said = [f"{one.words}; up to {most * 100:g} % is the limit used." for one in found]
        lacking = [row.missing for row in rows if row.missing]
        said += [f"Not known: {'; '.join(lacking)}."] if lacking else []
        self.rise_words.setText("\n".join(said))


def _row(row: RunRow) -> Row:
    held, run = row.held, row.run
    most = max(row.design_a, held.amps if held is not None else 0.0, 1e-9)
    return Row(
        row.name,
        (
            Cell(f"{row.design_a:.1f} A", row.design_a / most, "grid"),
            Cell("not known" if held is None else f"{held.amps:.1f} A", None if held is None else held.amps / most, "house"),
            Cell("not known" if run is None or run.protected_a is None else f"{run.protected_a:g} A"),
            Cell("not known" if run is None or not run.size else run.size),
            Cell("not known" if row.change_v is None else f"{row.change_v:.2f} V"),
        ),
    )  # fmt: skip
