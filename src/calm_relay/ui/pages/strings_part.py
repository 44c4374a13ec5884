"""Strings of the chosen plan: inverters with their trackers, volts and amps against limits, and when in the year."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel, QMenu, QPushButton, QWidget

from calm_relay.job.edits import Edit
from calm_relay.job.models import MeasuredString, NamedLosses, Node, StringGroup
from calm_relay.job.parts import add_inverter, add_string, remove_inverter, remove_string
from calm_relay.plant.resolve import unit_at
from calm_relay.pv.array import combined_loss_frac
from calm_relay.pv.ladder import string_ladders, tracker_amps
from calm_relay.pv.when import StringYear, string_year_words
from calm_relay.ui.proposal import ProposalDialog
from calm_relay.ui.views.ladder_view import LadderView
from calm_relay.ui.views.limit_bars import LimitBar, LimitBars
from calm_relay.ui.widgets import label

if TYPE_CHECKING:
    from calm_relay.study import Study
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.runner import Cancel

LOSSES = ("mismatch", "wiring", "connections", "light_induced", "nameplate", "availability")
MEASURED = ("voc_v", "isc_a", "irradiance_w_per_m2", "module_c")


class StringsPart:
    """Fields of strings; the ladder and the bars show what the core computed."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        plan = self._page.session.plan
        nodes = tuple(
            (n.id, n.card, tuple((g.id, g.tracker, g.losses is None, g.measured is None) for g in n.strings)) for n in plan.nodes
        )
        return plan.id, plan.letter, plan.name, nodes, tuple(f.id for f in self._page.session.job.faces)

    def build(self) -> None:
        page, plan = self._page, self._page.session.plan
        which = "today's system" if plan.letter == "Today" else f"plan {plan.letter}, {plan.name}"
        page.heading(f"Strings of {which}")
        self.years: dict[tuple[str, str], QLabel] = {}
        for node in plan.nodes:
            self._node(node)
        page.flow(self._new_inverter())
        page.heading("String ladder")
        page.words("Cold and hot volts of each string against its tracker's window (shaded) and the ceiling.")
        self.ladder = LadderView(page.theme)
        self.ladder.set_theme(page.theme, page.scale)
        page.add(self.ladder)
        page.heading("Amps of each tracker")
        page.words("Working current past its limit only costs energy; short-circuit current past its rating destroys.")
        self.amps = LimitBars("Amps of each tracker", page.theme, page.scale)
        page.flow(self.amps)

    def _node(self, node: Node) -> None:
        page = self._page
        job, plan = page.session.job, page.session.plan
        base = f"plans[{plan.id}].nodes[{node.id}]"
        card = unit_at(node, job.cards(), 1)
        cells: list[QWidget] = [page.cell(f"{base}.name", chars=18), page.cell(f"{base}.card", card_kind=card.kind)]
        if card.per_module:
            cells += [page.cell(f"{base}.count", chars=6), page.cell(f"{base}.branches", chars=6)]
            cells.append(page.cell(f"{base}.branch_breaker_a", chars=9))
        cells.append(page.button("Remove", lambda: self._remove_node(node.id), f"Remove {node.name}"))
        if card.pv_inputs:
            cells.append(page.button("Add a string", lambda: self.add_string(node.id), f"Add a string to {node.name}"))
            if not card.per_module:
                cells.append(page.button("Propose strings…", lambda: self.propose(node.id), f"Propose strings for {node.name}"))
        else:
            cells.append(label("no PV input; its battery is set on Plans", "quiet"))
        page.flow(*cells)
        for group in node.strings:
            self._string(node, group, module_level=card.per_module)

    def _string(self, node: Node, group: StringGroup, *, module_level: bool) -> None:
        page = self._page
        at = f"plans[{page.session.plan.id}].nodes[{node.id}].strings[{group.id}]"

        def faces() -> list[tuple[str, str]]:
            return [(f.id, f.name) for f in page.session.job.faces]

        line: list[QWidget] = [
            page.cell(f"{at}.tracker", chars=5),
            page.cell(f"{at}.face", options=faces),
            page.cell(f"{at}.module", card_kind="module"),
            page.cell(f"{at}.modules_per_string", chars=6),
            page.cell(f"{at}.parallel_strings", chars=6),
            page.cell(f"{at}.age_years", chars=8),
        ]
        if group.losses is None:
            line.append(page.cell(f"{at}.other_loss_frac", chars=8, ghost="by name"))
        if not module_level:
            line.append(page.cell(f"{at}.fuse_a", chars=8, ghost="none"))
            line.append(page.cell(f"{at}.optimizer", card_kind="optimizer"))
        line.append(self._more(node.id, at, group))
        page.flow(*line).setContentsMargins(14, 0, 0, 0)
        if group.losses is not None:
            page.flow(*(page.cell(f"{at}.losses.{loss}_frac", chars=6) for loss in LOSSES)).setContentsMargins(28, 0, 0, 0)
            page.month_row(f"{at}.losses.soiling_frac", 28)
        if group.measured is not None:
            page.flow(*(page.cell(f"{at}.measured.{field}", chars=10) for field in MEASURED)).setContentsMargins(28, 0, 0, 0)
        words = label("", "quiet", wrap=True)
        words.setContentsMargins(14, 0, 0, 4)
        self.years[node.id, group.id] = words
        page.add(words)

    def _more(self, node_id: str, at: str, group: StringGroup) -> QWidget:
        """Return the button with what is done more seldom to a string."""
        button = QPushButton("More")
        button.setAccessibleName(f"More about string {group.id}")
        menu = QMenu(button)
        acts = (
            ("Losses by name" if group.losses is None else "One figure for losses", lambda: self.toggle_losses(at, group)),
            ("Measured values…" if group.measured is None else "Take measured values out", lambda: self.toggle_measured(at, group)),
            ("Remove this string", lambda: self._remove_string(node_id, group.id)),
        )
        for words, act in acts:
            menu.addAction(words).triggered.connect(lambda _=False, do=act: do())
        button.setMenu(menu)
        return button

    def _new_inverter(self) -> QWidget:
        button = QPushButton("Add an inverter…")
        button.setAccessibleName("Add an inverter")
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: self.pick_node())
        return button

    def pick_node(self) -> None:
        """Let an inverter be chosen, and add it."""
        session = self._page.session
        offer = session.dialogs.pick(f"plans[{session.chosen}].nodes[+]")
        if offer is not None and not isinstance(offer, str):
            self.add_node(offer.card.id)

    # --- showing
    def show_figures(self) -> None:
        session = self._page.session
        job, plan = session.job, session.plan
        self.ladder.show_ladders(string_ladders(job, plan))
        rows = []
        for a in tracker_amps(job, plan):
            name = f"{a.node}, tracker {a.tracker}"
            words = f"working {a.working_a:.1f} A of {a.working_limit_a:g} A"
            rows.append(LimitBar(name, words, a.working_a, a.working_limit_a, "tight"))
            limit = a.short_circuit_limit_a
            against = "no rating on the card" if limit is None else f"of {limit:g} A"
            rows.append(LimitBar("", f"{a.factor:g} × short circuit {a.short_circuit_a:.1f} A {against}", a.short_circuit_a, limit))
        self.amps.show_bars(rows)

        def work(study: Study, _: Cancel) -> object:
            from calm_relay.decision.roofs import string_years

            return string_years(study, job, plan)

        found = session.extra(f"strings {plan.id}", work)
        kept = found or session.last_extra(f"strings {plan.id}")
        for year in kept if isinstance(kept, tuple) else ():
            words_label = self.years.get((year.node_id, year.string_id)) if isinstance(year, StringYear) else None
            if words_label is not None:
                words_label.setEnabled(found is not None)
                words_label.setText(f"In the simulated year: {string_year_words(year)}.{self._loss_words(year)}")

    def _loss_words(self, year: StringYear) -> str:
        """Return losses by name in one figure, where they are named."""
        node = next((n for n in self._page.session.plan.nodes if n.id == year.node_id), None)
        group = next((g for g in node.strings if g.id == year.string_id), None) if node else None
        if group is None or node is None or group.other_loss_frac is not None:
            return ""
        usual = "Usual losses by name" if group.losses is None else "Losses by name"
        return f" {usual} come to {self._combined_frac(node.card, group) * 100:.1f} %."

    def _combined_frac(self, card_id: str, group: StringGroup) -> float:
        """Return the losses by name in one figure. [0 to 1]"""
        each = group.optimizer is not None or self._page.session.job.cards().inverter(card_id).per_module
        return combined_loss_frac(group.losses or NamedLosses(), each_module=each)

    # --- changing
    def add_node(self, card_id: str) -> None:
        """Add an inverter of a card that ships, or of one's own."""
        card = self._page.session.known_cards()[card_id]
        job, _ = add_inverter(self._page.session.job, self._page.session.chosen, card)
        self._page.change(f"Add {card.name}", job)

    def _remove_node(self, node_id: str) -> None:
        session = self._page.session
        self._page.change("Remove an inverter", remove_inverter(session.job, session.chosen, node_id))

    def add_string(self, node_id: str) -> None:
        """Add a string on the first free tracker."""
        session = self._page.session
        job, made = add_string(session.job, session.chosen, node_id)
        self._page.change(f"Add {made}", job)

    def propose(self, node_id: str) -> None:
        """Open the string planner for an inverter."""
        session = self._page.session
        node = session.plan.node(node_id)
        session.dialogs.show(ProposalDialog(session, node, self._page))

    def _remove_string(self, node_id: str, string_id: str) -> None:
        session = self._page.session
        self._page.change(f"Remove string {string_id}", remove_string(session.job, session.chosen, node_id, string_id))

    def toggle_losses(self, at: str, group: StringGroup) -> None:
        """Name the losses, or go back to one figure."""
        named = group.losses is None
        words = f"String {group.id}: {'losses by name' if named else 'one figure for losses'}"
        node = next(n for n in self._page.session.plan.nodes if any(g.id == group.id for g in n.strings))
        figure = None if named else round(self._combined_frac(node.card, group), 3)
        edits = [Edit(f"{at}.losses", NamedLosses().model_dump() if named else None), Edit(f"{at}.other_loss_frac", figure)]
        self._page.session.edit(words, edits)

    def toggle_measured(self, at: str, group: StringGroup) -> None:
        """Begin with what the card lets expect at 800 W/m² and 40 °C, to be typed over."""
        module = self._page.session.job.card(group.module)
        fresh = MeasuredString(
            voc_v=round(group.modules_per_string * getattr(module, "voc_stc_v", 40.0)),
            isc_a=round(0.8 * getattr(module, "isc_stc_a", 10.0), 1),
            irradiance_w_per_m2=800.0,
            module_c=40.0,
        )
        value = fresh.model_dump() if group.measured is None else None
        words = f"String {group.id}: {'measured values' if value else 'measured values taken out'}"
        self._page.session.edit(words, [Edit(f"{at}.measured", value)])
