"""How the batteries of the chosen plan age over twenty years like the simulated one, and what ends their warranty first."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QScrollArea, QVBoxLayout, QWidget

from calm_relay.plant.resolve import plant_of
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.ageing_view import AgeingView
from calm_relay.ui.widgets import close_row, label
from calm_relay.year.ageing import battery_ageing


class AgeingDialog(QDialog):
    """Shows; it changes nothing."""

    def __init__(self, session: Session, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        plan = session.plan
        self.setWindowTitle("Batteries over twenty years")
        column = QVBoxLayout(self)
        column.addWidget(label(f"{plan.letter}  Batteries over twenty years", "heading"))
        note = "Every year is like the simulated one; the same energy is a deeper cycle of less capacity. Heat is not in it."
        column.addWidget(label(note, "quiet", wrap=True))
        holder = QWidget()
        inner = QVBoxLayout(holder)
        last = session.last(plan.id)
        rows = () if last is None else battery_ageing(plant_of(session.job, plan), session.job.rules(), last.facts)
        self.views: list[AgeingView] = []
        for row in rows:
            inner.addWidget(label(row.name, "heading"))
            inner.addWidget(label(f"{row.words[:1].upper()}{row.words[1:]}.", wrap=True))
            if row.ageing is not None:
                self.views.append(AgeingView(row, theme, scale))
                inner.addWidget(self.views[-1])
            inner.addWidget(label(row.source, "quiet", wrap=True))
        if not rows:
            words = (
                "No battery in this plan."
                if last is not None
                else "The year is not simulated yet: wait for it, and open this again."
            )
            inner.addWidget(label(words))
        inner.addStretch()
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(holder)
        area.setAccessibleName("Batteries")
        column.addWidget(area, 1)
        column.addWidget(close_row(self))
        self.resize(min(round(660 * scale), 1100), min(round(420 * scale), 720))
