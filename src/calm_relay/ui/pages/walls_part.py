"""Places: what is known of each mounting place, where the plan's boxes stand, and what protects them."""

from __future__ import annotations

from typing import TYPE_CHECKING, get_args

from calm_relay.errors import CalmRelayError
from calm_relay.job.edits import Edit
from calm_relay.job.site_models import MountingSpot
from calm_relay.library.cards import MountingPlace
from calm_relay.rules.checks_bank import PLACES
from calm_relay.rules.checks_duties import DUTIES
from calm_relay.rules.checks_rooms import InUse, places_in_use
from calm_relay.rules.groups import filtered
from calm_relay.rules.registry import CheckContext
from calm_relay.ui.views.place_view import PlaceBox, PlacesView

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage

ALWAYS = ("room", "flood_m", "lowest_m", "opening_m", "apart_m", "clear_m", "width_m", "carries_kg", "backing", "low_c", "high_c")
GHOSTS = {"low_c": "by the site", "high_c": "by the site", "flood_m": "not asked"}
CAUTION = "Prompts for the visit, never an approval: local rules on rooms and the electrician decide."


class WallsPart:
    """Fields of each place, and a picture of what stands where with what its checks say."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        session = self._page.session
        nodes = tuple((n.id, n.battery is None) for n in session.plan.nodes)
        return session.plan.id, nodes, tuple(s.place for s in session.job.site.spots), self._lead(), repr(session.job.rules_data())

    def _used(self) -> list[InUse]:
        session = self._page.session
        return places_in_use(CheckContext(session.job, session.plan, session.job.cards(), None, advise=False))

    def _lead(self) -> tuple[str, ...]:
        """Return the places at which lead-acid stands, whose air is asked for."""
        return tuple(used.place for used in self._used() if any(row.bank.cells.is_lead for row in used.banks))

    def build(self) -> None:
        page, job, plan = self._page, self._page.session.job, self._page.session.plan
        page.heading(f"{plan.letter}  {plan.name}")
        self.view = PlacesView(page.theme, page.scale)
        page.add(self.view)
        page.heading("Where it stands")
        for node in plan.nodes:
            at = f"plans[{plan.id}].nodes[{node.id}]"
            cells = [page.cell(f"{at}.place", caption=f"{node.name} hangs", ghost="not chosen")]
            if node.battery is not None:
                cells.append(page.cell(f"{at}.battery.place", caption="its battery stands", ghost="not chosen"))
            cells.append(page.cell(f"{at}.plugged_in"))
            page.flow(*cells)
        known = [spot.place for spot in job.site.spots]
        unknown = [place for place in get_args(MountingPlace) if place not in known]
        lead = self._lead()
        for i, spot in enumerate(job.site.spots):
            page.heading(
                PLACES[spot.place][:1].upper() + PLACES[spot.place][1:], ("Forget it", lambda n=i: self._drop(n)),
            )  # fmt: skip
            names = [name for name in ALWAYS if name != "room" or spot.place in ("indoors", "garage")]
            names += ["vent_cm2"] if spot.place in lead or spot.vent_cm2 is not None else []
            names += ["in_sun"] if spot.place.startswith("outdoors") else []
            page.flow(*(page.cell(f"site.spots[{i}].{name}", chars=11, ghost=GHOSTS.get(name, "measure")) for name in names))
        if unknown:
            page.heading("Another place that was looked at")
            page.flow(
                *(page.button(PLACES[p], lambda place=p: self._add(place), f"Say what is known {PLACES[p]}") for p in unknown)
            )
        page.heading("Protection of this plan")
        page.flow(
            *(page.cell(f"plans[{plan.id}].protection.{name}") for name in DUTIES),
            page.cell(f"plans[{plan.id}].protection.residual_type"),
        )
        page.words(CAUTION, "caution")

    def _add(self, place: MountingPlace) -> None:
        session = self._page.session
        spots = [*session.job.site.spots, MountingSpot(place=place)]
        session.edit(f"What is known {PLACES[place]}", [Edit("site.spots", [s.model_dump() for s in spots])])

    def _drop(self, index: int) -> None:
        session = self._page.session
        spots = [s.model_dump() for i, s in enumerate(session.job.site.spots) if i != index]
        session.edit("Forget a place", [Edit("site.spots", spots)])

    def show_figures(self) -> None:
        session = self._page.session
        try:
            used = self._used()
        except CalmRelayError:
            used = []
        rows = filtered(session.findings()[0], "place")
        boxes = []
        for place in used:
            mine = [f for f in rows if f.subject == place.name]
            names = [f"{row.bank.modules} × {row.battery.model.name}" for row in place.banks]
            for node in (n for n in session.plan.nodes if n.place == place.place):
                card = session.job.cards().inverter(node.card).name
                names.append(card if node.count == 1 else f"{node.count} × {card}")
            boxes.append(PlaceBox(place.name, tuple(names), tuple((f.short, f.word, f.figure, f.verdict) for f in mine)))
        self.view.show_boxes(tuple(boxes))
