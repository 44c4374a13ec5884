"""Site & roof: place and weather, roof faces, and the strings of the chosen plan with their ladder."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QLabel, QWidget

from calm_relay.calendar import MONTH_DAYS, MONTHS
from calm_relay.job.models import MonthlyWeather
from calm_relay.job.parts import (
    add_face,
    add_inverter,
    add_string,
    has_battery_terminals,
    remove_face,
    remove_inverter,
    remove_string,
)
from calm_relay.job.template import assumed_weather
from calm_relay.library.cards import HybridCard, ModuleInverterCard, PvInverterCard
from calm_relay.library.shipped import shipped_card, shipped_cards
from calm_relay.pv.ladder import string_ladders
from calm_relay.ui.pages.base import FieldPage
from calm_relay.ui.proposal import ProposalDialog
from calm_relay.ui.views.ladder_view import LadderView
from calm_relay.ui.views.month_bars import MonthBars
from calm_relay.ui.widgets import label
from calm_relay.weather.files import distance_words

PLACE = ("name", "latitude_deg", "longitude_deg", "altitude_m", "time_zone")
FACE = ("name", "tilt_deg", "azimuth_deg", "mounting", "shade_loss_frac", "room_modules")
INVERTERS = ("pv_inverter", "module_inverter", "hybrid", "battery_inverter")


class SitePage(FieldPage):
    """Fields only; the ladder shows what the core computed."""

    def shape(self) -> object:
        job, plan = self.session.job, self.session.plan
        nodes = tuple((n.id, n.card, tuple((g.id, g.tracker) for g in n.strings)) for n in plan.nodes)
        return job.site.weather.kind, self._weather_name(), tuple(f.id for f in job.faces), plan.id, plan.letter, plan.name, nodes

    def build(self) -> None:
        job, plan = self.session.job, self.session.plan
        self.title("Site & roof", "Shared by all plans, except the strings below, which belong to the plan chosen above.")
        if all(job.mark_of(f"site.place.{name}") == "assumed" for name in PLACE[1:4]):
            text = (
                "Bring: the address or coordinates, the record low and the design high of the place, tilt and azimuth of each roof "
                "face, and the data sheets of what stands. Example: 41.1 south is typed as −41.1; azimuth 45 is north-east."
            )
            self._column.addWidget(label(text, "teach", wrap=True))
        self.heading("Place")
        cells = [self.cell(f"site.place.{name}") for name in PLACE]
        cells += [self.cell(f"site.{name}") for name in ("record_low_c", "design_high_c")]
        cells.append(self.cell("calendar_year", chars=7))
        self.flow(*cells)
        self._weather()
        self.heading("Roof faces", ("Add a face", self._add_face))
        self._face_figures: dict[str, tuple[MonthBars, QLabel]] = {}
        for face in job.faces:
            base = f"faces[{face.id}]"
            remove = self.button("Remove", lambda f=face.id: self._remove_face(f), f"Remove {face.name}")
            self.flow(*(self.cell(f"{base}.{name}", chars=15 if name == "name" else 7) for name in FACE), remove)
            bars, words = MonthBars(f"{face.name} by month", self.theme, self.scale), label("", "quiet")
            self._face_figures[face.id] = bars, words
            self.flow(bars, words).setContentsMargins(14, 0, 0, 0)
        which = "today's system" if plan.letter == "Today" else f"plan {plan.letter}, {plan.name}"
        self.heading(f"Strings of {which}")
        self._ladder = LadderView(self.theme)
        self._ladder.set_theme(self.theme, self.scale)
        for node in plan.nodes:
            self._node(node.id)
        self.flow(self._new_inverter())
        self.heading("String ladder")
        self._column.addWidget(
            label("Cold and hot volts of each string against its tracker's window (shaded) and the ceiling.", "quiet", wrap=True)
        )
        self._column.addWidget(self._ladder)
        self._column.addStretch()

    def _weather(self) -> None:
        """Typed monthly means, or what is known of the file."""
        weather, place = self.session.job.site.weather, self.session.job.site.place
        if isinstance(weather, MonthlyWeather):
            self.heading("Weather, typed as monthly means", ("Read a weather file…", self._ask_weather))
            self.month_row("site.weather.ghi_wh_per_m2_day")
            self.month_row("site.weather.temperature_mean_c")
            self.flow(
                *(self.cell(f"site.weather.{name}", chars=8) for name in ("temperature_daily_range_k", "wind_m_per_s", "seed"))
            )
            return
        self.heading(
            "Weather, from a file", ("Read another file…", self._ask_weather), ("Go back to typed means", self._typed_means)
        )
        far = distance_words(weather, place.latitude_deg, place.longitude_deg, place.altitude_m)
        years = f", {weather.years}" if weather.years else ""
        self._column.addWidget(label(f"{weather.name}: {weather.format}{years}; {far}.", "strong", wrap=True))
        self._column.addWidget(label(f"Its {weather.labels}.", "quiet", wrap=True))
        self._sun_words = label("", "quiet", wrap=True)
        self._column.addWidget(self._sun_words)
        self.flow(self.cell("site.weather.seed", caption="Seed of broken cloud", chars=8))

    def _ask_weather(self) -> None:
        path = self.session.dialogs.ask_weather()
        if path is not None:
            self.session.read_weather(path)

    def _typed_means(self) -> None:
        job = self.session.job
        means = self.session.monthly_means() or assumed_weather(job.site.place.latitude_deg)
        self.change("Go back to typed means", job.model_copy(update={"site": job.site.model_copy(update={"weather": means})}))

    def _node(self, node_id: str) -> None:
        job, plan = self.session.job, self.session.plan
        node = next(n for n in plan.nodes if n.id == node_id)
        base = f"plans[{plan.id}].nodes[{node.id}]"
        card = job.card(node.card)
        cells: list[QWidget] = [self.cell(f"{base}.name", chars=18), self.cell(f"{base}.card", card_kind=card.kind)]
        if isinstance(card, ModuleInverterCard):
            cells.append(self.cell(f"{base}.count", chars=6))
        cells.append(self.button("Remove", lambda: self._remove_node(node_id), f"Remove {node.name}"))
        if isinstance(card, PvInverterCard | HybridCard | ModuleInverterCard):
            cells.append(self.button("Add a string", lambda: self._add_string(node_id), f"Add a string to {node.name}"))
            if not isinstance(card, ModuleInverterCard):
                cells.append(self.button("Propose strings…", lambda: self._propose(node_id), f"Propose strings for {node.name}"))
        elif has_battery_terminals(card):
            cells.append(label("no PV input; its battery is set on Plans", "quiet"))
        self.flow(*cells)

        def faces() -> list[tuple[str, str]]:
            return [(f.id, f.name) for f in self.session.job.faces]

        for group in node.strings:
            at = f"{base}.strings[{group.id}]"
            line: list[QWidget] = [
                self.cell(f"{at}.tracker", chars=5),
                self.cell(f"{at}.face", options=faces),
                self.cell(f"{at}.module", card_kind="module"),
                self.cell(f"{at}.modules_per_string", chars=6),
                self.cell(f"{at}.parallel_strings", chars=6),
                self.cell(f"{at}.age_years", chars=8),
                self.cell(f"{at}.other_loss_frac", chars=6),
                self.cell(f"{at}.fuse_a", chars=8, ghost="none"),
                self.button("Remove", lambda g=group.id: self._remove_string(node_id, g), f"Remove string {group.id}"),
            ]
            self.flow(*line).setContentsMargins(14, 0, 0, 0)

    def _new_inverter(self) -> QWidget:
        box = QComboBox()
        box.setAccessibleName("Add an inverter")
        box.addItem("Add an inverter…", "")
        for card in shipped_cards():
            if card.kind in INVERTERS:
                box.addItem(card.name, card.id)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(30)
        box.activated.connect(lambda i: self._add_node(str(box.itemData(i))) if box.itemData(i) else None)
        return box

    def _weather_name(self) -> str:
        weather = self.session.job.site.weather
        return "" if isinstance(weather, MonthlyWeather) else weather.name

    def show_figures(self) -> None:
        if self._weather_name() and (means := self.session.monthly_means()) is not None:
            by_month = [wh * days / 1000 for wh, days in zip(means.ghi_wh_per_m2_day, MONTH_DAYS, strict=True)]
            months = ", ".join(f"{name} {kwh:.0f}" for name, kwh in zip(MONTHS, by_month, strict=True))
            self._sun_words.setText(f"Sun on the flat {sum(by_month):.0f} kWh/m² a year: {months}.")
        reached = self.session.face_months()
        top = max((max(row) for row in reached.values()), default=0.0) / 1000
        for face_id, (bars, words) in self._face_figures.items():
            if face_id in reached:
                by_month = [wh / 1000 for wh in reached[face_id]]
                bars.show_months(by_month, top, "kWh/m²")
                words.setText(f"{sum(by_month):.0f} kWh/m² a year reach the cells, after shade")
        self._ladder.show_ladders(string_ladders(self.session.job, self.session.plan))

    # --- changing
    def _add_face(self) -> None:
        job, _ = add_face(self.session.job)
        self.change("Add a roof face", job)

    def _remove_face(self, face_id: str) -> None:
        self.change(f"Remove {self.session.job.face(face_id).name}", remove_face(self.session.job, face_id))

    def _add_node(self, card_id: str) -> None:
        card = shipped_card(card_id)
        job, _ = add_inverter(self.session.job, self.session.chosen, card)
        self.change(f"Add {card.name}", job)

    def _remove_node(self, node_id: str) -> None:
        self.change("Remove an inverter", remove_inverter(self.session.job, self.session.chosen, node_id))

    def _add_string(self, node_id: str) -> None:
        job, made = add_string(self.session.job, self.session.chosen, node_id)
        self.change(f"Add {made}", job)

    def _propose(self, node_id: str) -> None:
        node = next(n for n in self.session.plan.nodes if n.id == node_id)
        self.session.dialogs.show(ProposalDialog(self.session, node, self))

    def _remove_string(self, node_id: str, string_id: str) -> None:
        self.change(f"Remove string {string_id}", remove_string(self.session.job, self.session.chosen, node_id, string_id))
