"""Two plans pinned: their differences in one line on every page, from the comparison's own rows."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from calm_relay.decision.compare import compare_plans
from calm_relay.decision.words import difference_words
from calm_relay.ui.session import Session
from calm_relay.ui.widgets import label


class PinBar(QWidget):
    """Hidden until two plans are pinned."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pins")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 4, 12, 4)
        self.words = label("", "", wrap=True)
        self._off = QPushButton("Unpin")
        self._off.clicked.connect(session.unpin)
        row.addWidget(self.words, 1)
        row.addWidget(self._off)
        session.answers_changed.connect(self.refresh)
        self.hide()

    def refresh(self) -> None:
        """Show the differences, or say that a plan is still being run."""
        job = self.session.job
        pins = [plan for plan in job.plans if plan.id in self.session.pinned]
        self.setVisible(len(pins) == 2)
        if len(pins) != 2:
            return
        wanted = [job.plans[0], *pins]
        results = [(plan, self.session.fresh(plan.id)) for plan in wanted]
        if any(result is None for _, result in results):
            self.words.setEnabled(False)
            return
        rows = compare_plans(job, [(plan, r.facts, r.bill, r.findings) for plan, r in results if r is not None])
        self.words.setEnabled(True)
        self.words.setText(difference_words(rows[1], rows[2], job.tariff.currency))
