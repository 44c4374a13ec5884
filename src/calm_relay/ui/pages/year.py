"""Year: where the chosen plan's energy came from and went, and one picture of it, chosen from a list."""

from __future__ import annotations

import weakref
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout, QWidget

from calm_relay.decision.words import clipping_words, weather_words
from calm_relay.ui.pages.year_pictures import YearPictures
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.ribbon_view import RibbonView
from calm_relay.ui.widgets import label
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show
from calm_relay.year.pictures import ribbon

if TYPE_CHECKING:
    from calm_relay.job.models import Plan
    from calm_relay.job.tariff_models import Tariff
    from calm_relay.year.plan_flow import PlanFlow


class YearPage(QWidget):
    """Figures only; nothing here computes."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.session, self.theme, self.scale = session, theme, 1.0
        self._shown: weakref.ref[PlanFlow] | None = None  # never what keeps a year's series alive
        self._of: tuple[Plan, Tariff] | None = None  # what names and price periods were taken from
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 12, 16, 14)
        column.setSpacing(6)
        self._title = label("", "title")
        self.words_label = label("", "quiet", wrap=True)
        column.addWidget(self._title)
        column.addWidget(self.words_label)
        self.ribbon = RibbonView(theme)
        self.ribbon.asked.connect(self.open_figure)
        column.addWidget(self.ribbon, 3)
        self.pictures = YearPictures(session, theme)
        column.addWidget(self.pictures, 2)
        session.answers_changed.connect(self.refresh)

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self.theme, self.scale, self._shown = theme, scale, None
        self.ribbon.set_theme(theme, scale)
        self.pictures.set_theme(theme, scale)
        self.refresh()

    @property
    def look(self) -> tuple[str, str]:
        """The picture that is shown and the plan it is compared with, for the page that takes this one's place."""
        return self.pictures.chosen

    @look.setter
    def look(self, chosen: tuple[str, str]) -> None:
        self.pictures.chosen = chosen

    def open_figure(self, name: str) -> None:
        """Show how what flows into or out of a bar of the ribbon comes about."""
        self.pictures.open_figure(f"bar:{name}")

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen plan's year; an older one is dimmed as a whole."""
        if not self.isVisible():
            return
        session = self.session
        plan, result, made = session.plan, session.fresh(session.chosen), session.made()
        self._title.setText("Today's system: the year" if plan.letter == "Today" else f"{plan.letter}  {plan.name}: the year")
        fresh = result is not None and made is not None
        for widget in (self.pictures, self.words_label):
            widget.setEnabled(fresh)
        if not fresh:
            error = session.errors.get(session.chosen)
            self.words_label.setText(f"The year could not be run: {error}" if error else "Updating the year…")
            last = session.last(session.chosen)
            if last is not None:
                self.ribbon.show_ribbon(ribbon(last.facts), dim=True)
            return
        assert result is not None
        assert made is not None
        of = (plan, session.job.tariff)
        if self._shown is not None and self._shown() is made and self._of == of:
            if self.pictures.against.currentData():  # the other plan's year may have come
                self.pictures.show_picture()
            return
        self._shown, self._of = weakref.ref(made), of
        f = result.facts
        self.words_label.setText(
            f"Self-sufficiency {show(f.self_sufficiency_frac, 'fraction')}, own use of PV {show(f.own_use_frac, 'fraction')}"
            + (f", {f.full_cycles:.0f} full cycles" if f.usable_wh else "")
            + f". Weather is {weather_words(session.job)}; {clipping_words(session.job)}."
            + (f" Rests on {count_words(len(self.session.assumed()), 'assumed value')}." if self.session.assumed() else "")
        )
        self.ribbon.show_ribbon(ribbon(f), dim=False)
        self.pictures.offer(f, plan)
        self.pictures.show_picture()
