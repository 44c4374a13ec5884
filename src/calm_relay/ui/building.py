"""Building on the relay line: what can be added at a station or taken out of it, by menu, button and key."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtWidgets import QMenu, QWidget

from calm_relay.decision.building import Step, building_steps, take_step
from calm_relay.errors import CalmRelayError
from calm_relay.library.cards import Card
from calm_relay.relay.picture import Station
from calm_relay.ui.session import Session


class Building:
    """Each step is one named entry of the history; a card is never chosen silently. The plans page owns one."""

    def __init__(self, page: Any) -> None:
        self._page = page

    @property
    def _session(self) -> Session:
        session: Session = self._page.session
        return session

    def steps(self, station: Station | None = None) -> tuple[Step, ...]:
        """Return the steps of a station, those of the whole plan without one."""
        found = building_steps(self._session.job, self._session.plan)
        return tuple(step for step in found if station is None or step.belongs_to(station.id))

    def menu(self, parent: QWidget, station: Station | None = None) -> QMenu:
        """Return a menu of the steps; what is refused says why."""
        menu = QMenu(parent)
        fill(menu, self.steps(station), self.do)
        return menu

    def fresh_menu(self, parent: QWidget, station: Callable[[], Station | None] = lambda: None) -> QMenu:
        """Return a menu of a button: filled each time it opens, with the steps of the station there is then."""
        menu = QMenu(parent)
        menu.aboutToShow.connect(lambda: fill(menu, self.steps(station()), self.do))
        return menu

    def take_out(self, station: Station) -> bool:
        """Take out what a station stands for, where that is one thing; returns whether there was any. [bool]"""
        found = [step for step in self.steps(station) if step.key.startswith("no-")]
        whole = [step for step in found if step.key.startswith(("no-inverter:", "no-string:"))] or found
        if len(whole) == 1:
            self.do(whole[0])
        return len(whole) == 1

    def do(self, step: Step) -> None:
        """Make a step; where a card is needed it is chosen first, and nothing is made without."""
        session, card, modules = self._session, None, None
        if step.path:
            offer = session.dialogs.pick(step.path)
            if offer is None or isinstance(offer, str):
                return
            card, modules = offer.card, offer.modules
        self.make(step, card, modules)

    def make(self, step: Step, card: Card | None, modules: int | None) -> None:
        """Make a step with a chosen card, and open the station it brought."""
        session = self._session
        try:
            job, station_id = take_step(session.job, session.chosen, step.key, card, modules)
            words = step.text.rstrip("…") if card is None else f"{step.text.rstrip('…')}: {card.name}"
            session.document.edit(words, lambda _: job)
        except CalmRelayError as error:
            session.problem.emit(str(error))
            return
        self._page.show_built(station_id)


def fill(menu: QMenu, steps: Sequence[Step], do: Any) -> None:
    """Put steps into a menu: first what adds, then what takes out; what is refused is grey and says why."""
    menu.clear()
    for takes_out in (False, True):
        rows = [step for step in steps if step.takes_out == takes_out]
        if takes_out and rows and len(rows) < len(steps):
            menu.addSeparator()
        for step in rows:
            action = menu.addAction(f"{step.text} ({step.refused})" if step.refused else step.text)
            action.setEnabled(not step.refused)
            action.triggered.connect(lambda _=False, s=step: do(s))
    if not steps:
        menu.addAction("Nothing is added here").setEnabled(False)
