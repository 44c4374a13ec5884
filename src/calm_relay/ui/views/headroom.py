"""Headroom: the limits of the chosen plan, tightest first; what limits cost in the year, and what raising one would gain."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calm_relay.decision.limits import limit_costs
from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit
from calm_relay.job.models import Waiver
from calm_relay.rules.registry import Finding, Remedy
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.dialogs import Dialogs
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme
from calm_relay.ui.views.headroom_row import HeadroomRow
from calm_relay.ui.widgets import LabelColumn, Line, label
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

__all__ = ["Headroom", "HeadroomRow"]


COSTS_SHOWN = 3
MOST_SPARE = 40  # rows that wait out of sight


def folded(findings: Sequence[Finding], opened: tuple[str, str] | None) -> list[list[Finding]]:
    """Return the findings in rows: those of one check with one verdict share a row, the tightest first, until one is opened."""
    rows: dict[object, list[Finding]] = {}
    for finding in findings:
        rows.setdefault((finding.check, finding.verdict, finding.waived), []).append(finding)
    out: list[list[Finding]] = []
    for row in rows.values():
        apart = opened is not None and row[0].check == opened[0]
        out += [[finding] for finding in row] if apart else [row]
    return out


class Headroom(Copyable, QWidget):
    """The right-hand panel. It shows findings of one state of the job only; those still computed are said to be so."""

    applied = Signal(str)

    def __init__(self, session: Session, theme: Theme, dialogs: Dialogs, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("headroom")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self._theme, self._scale, self._dialogs = session, theme, 1.0, dialogs
        self.opened_check: tuple[str, str] | None = None
        self._shown: tuple[object, ...] = ()
        self._rows: list[HeadroomRow] = []
        self._spare: dict[tuple[str, str], HeadroomRow] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 12, 8, 8)
        head = QHBoxLayout()
        outer.addLayout(head)
        head.addWidget(label("Headroom", "heading"))
        head.addStretch()
        self._which = label("", "quiet")
        head.addWidget(self._which)
        self.tally = label("", "quiet", wrap=True)
        outer.addWidget(self.tally)
        self._scroll = QScrollArea()
        self._scroll.setObjectName("headroomScroll")
        self._scroll.setWidgetResizable(True)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rows_holder = QWidget()
        self.rows_holder.setObjectName("headroom")
        self._column = QVBoxLayout(self.rows_holder)
        self._column.setContentsMargins(0, 2, 6, 4)
        self._column.setSpacing(2)
        self._list, self._gains = QVBoxLayout(), LabelColumn(2)
        self._list.setSpacing(2)
        self._column.addLayout(self._list)
        self._column.addLayout(self._gains)
        self._column.addStretch()
        self._box: QWidget | None = None
        self._scroll.setWidget(self.rows_holder)
        outer.addWidget(self._scroll, 1)
        self._costs = LabelColumn(1)
        outer.addLayout(self._costs)
        outer.addWidget(
            label(
                "Each limit is the one used, its source beside it; local codes, the network operator and the manual decide.",
                "caution",
                wrap=True,
            )
        )
        session.answers_changed.connect(self.refresh)
        self.refresh()

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale, self._shown = theme, scale, ()
        self._drop_rows()
        self.refresh()

    def findings(self) -> tuple[tuple[Finding, ...], bool]:
        """Return what is shown, and whether checks that need the year are still to come."""
        return self.session.findings(self.opened_check and self.opened_check[0])

    def copy_rows(self) -> Rows:
        """Return every finding with its figure and its arithmetic."""
        rows = ([f.title, f.subject, f.figure, f.word, f.arithmetic, f.source] for f in self.findings()[0])
        return [["check", "of", "value and limit", "verdict", "arithmetic", "source"], *rows]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.opened_check is not None:
            key = self.opened_check
            self.open(None)
            self._focus_row(key)
            return
        super().keyPressEvent(event)

    def rows(self) -> list[HeadroomRow]:
        """Return the rows on screen."""
        return self._rows

    def refresh(self) -> None:
        """Show the chosen plan's findings in the rows that stand; nothing is done when nothing changed."""
        findings, waiting = self.findings()
        gains = self.session.raised()
        undo = self.session.document.undo_label
        state = (self.session.chosen, findings, waiting, self.opened_check, gains, undo if self.opened_check else None)
        if state == self._shown:
            return
        self._shown = state
        focus = next((i for i, row in enumerate(self.rows()) if row.hasFocus()), None)
        at = self._scroll.verticalScrollBar().value()
        letter = self.session.plan.letter
        self._which.setText(letter if letter == "Today" else f"plan {letter}")
        over = sum(f.verdict == "over" and not f.waived for f in findings)
        words = [f"{over} over"] if over else []
        words += [f"{n} {word}" for word in ("tight", "not known", "within") if (n := sum(f.verdict == word for f in findings))]
        words += [f"{n} waived"] if (n := sum(bool(f.waived) and f.verdict == "over" for f in findings)) else []
        self.tally.setText(" · ".join(words) + self._year_words(waiting=waiting))
        self.rows_holder.setUpdatesEnabled(False)
        self._show_rows(folded(findings, self.opened_check))
        self._costs.show_lines(self._cost_lines())
        self._gains.show_lines(self._gain_lines())
        self.rows_holder.setUpdatesEnabled(True)
        if focus is not None and self._rows:
            row = self._rows[min(focus, len(self._rows) - 1)]
            row.show()
            row.setFocus()
        self._scroll.verticalScrollBar().setValue(at)

    def _drop_rows(self) -> None:
        for row in (*self._rows, *self._spare.values()):
            row.hide()
            row.deleteLater()
        self._rows, self._spare = [], {}

    def _show_rows(self, shown: Sequence[Sequence[Finding]]) -> None:
        if self._box is not None:
            self._list.removeWidget(self._box)
            self._box.hide()
            self._box.deleteLater()
            self._box = None
        self._rows = self._matched(shown)
        for index, (row, (finding, *others)) in enumerate(zip(self._rows, shown, strict=True)):
            row.show_finding(finding, alike=len(others))
            if self._list.indexOf(row) != index:
                self._list.insertWidget(index, row)
                row.show()
            row.setChecked((finding.check, finding.subject) == self.opened_check)
            if row.isChecked() and self._box is None:
                self._box = self._detail(finding)
        if self._box is not None:
            at = next(i for i, row in enumerate(self._rows) if row.isChecked())
            self._list.insertWidget(at + 1, self._box)

    def _matched(self, shown: Sequence[Sequence[Finding]]) -> list[HeadroomRow]:
        """Return a row for each finding: the one that shows or showed its check, else one that is free, else a new one.

        What is shown no more waits out of sight: checks of the year go and come back with every edit.
        """
        free = self._spare | {(row.finding.check, row.finding.subject): row for row in self._rows}
        kept = [free.pop((finding.check, finding.subject), None) for finding, *_ in shown]
        out = []
        for row, (finding, *others) in zip(kept, shown, strict=True):
            made = row
            if made is None and len(free) > MOST_SPARE:
                made = free.pop(next(iter(free)))
            if made is None:
                made = HeadroomRow(finding, self._theme, self._scale, self.rows_holder, alike=len(others))
                made.clicked.connect(lambda _=False, row=made: self._clicked(row))
            out.append(made)
        for row in free.values():
            if not row.isHidden():
                self._list.removeWidget(row)
                row.hide()
        self._spare = free
        return out

    def _clicked(self, row: HeadroomRow) -> None:
        key = (row.finding.check, row.finding.subject)
        self.open(None if key == self.opened_check else key)

    def _year_words(self, *, waiting: bool) -> str:
        if self.session.chosen in self.session.errors:
            return " · the year could not be run"
        return " · the year is being run" if waiting else ""

    def _cost_lines(self) -> list[Line]:
        """Return what limits cost in the year, the dearest of them always in sight under the rows."""
        result = self.session.fresh(self.session.chosen)
        if result is None:
            return []
        costs = [row for row in limit_costs(self.session.plan, result.facts) if row.hours_h >= 1 or row.held_wh >= 500]
        said = []
        for row in costs:
            held = f"{show(row.held_wh, 'energy_wh', 0)} held back" if row.held_wh >= 500 else ""
            hours = f"{row.hours_h:.0f} h at it" if row.hours_h >= 1 else ""
            said.append(f"{row.text}: {' · '.join(part for part in (hours, held) if part)}")
        lines = [Line("What limits cost in the year", "section")] if costs else []
        lines += [Line(text, "quiet") for text in said[:COSTS_SHOWN]]
        if len(said) > COSTS_SHOWN:
            lines.append(Line(f"and {count_words(len(said) - COSTS_SHOWN, 'limit')} more", "quiet", "\n".join(said[COSTS_SHOWN:])))
        return lines

    def _gain_lines(self) -> list[Line]:
        """Return what one step more of each limit would gain."""
        if self.session.fresh(self.session.chosen) is None:
            return []
        gains = self.session.raised()
        if gains is None:
            return [Line("If one limit were raised: being run…", "section")]
        if not gains:
            return []
        lines, currency = [Line("If one limit were raised, a year", "section")], self.session.job.tariff.currency
        for gain in gains:
            parts = [f"{'+' if gain.saving >= 0 else '−'}{currency} {show(abs(gain.saving), 'money')} saved"]
            if gain.lost_less_wh >= 500:
                parts.append(f"{show(gain.lost_less_wh, 'energy_wh', 0)} less lost")
            if gain.evening_hours_less_h >= 1:
                parts.append(f"{gain.evening_hours_less_h:.0f} evening hours less over")
            lines.append(Line(f"{gain.text}: {', '.join(parts)}"))
        return [*lines, Line("Each alone, its own cost and further checks left out.", "caution")]

    def open(self, key: tuple[str, str] | None) -> None:
        """Open the finding of (check id, subject), or close."""
        self.opened_check = key
        self.refresh()
        self._focus_row(key)

    def _focus_row(self, key: tuple[str, str] | None) -> None:
        for row in self.rows():
            if (row.finding.check, row.finding.subject) == key:
                row.show()  # made just now, it would not take the focus before it is on screen
                row.setFocus()
                self._scroll.ensureWidgetVisible(row, 0, 40)

    # --- one finding, whole
    def _detail(self, finding: Finding) -> QWidget:
        box = QWidget()
        box.setObjectName("headroom")
        column = QVBoxLayout(box)
        column.setContentsMargins(6, 0, 2, 8)
        column.setSpacing(3)
        margin = "" if finding.margin is None else f" Margin {show(finding.margin, 'fraction')} of the limit."
        texts = [
            (finding.heading, "strong"),
            (finding.arithmetic + "." + margin, ""),
            (f"Source: {finding.source}. Pack: {finding.pack}.", "quiet"),
        ]
        if finding.waived:
            texts.append((f"Waived: {finding.waived}", "strong"))
        others = self._elsewhere(finding)
        if others:
            texts.append((others, "quiet"))
        for text, role in texts:
            words = label(text, role, wrap=True)
            words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            column.addWidget(words)
        for remedy in finding.remedies:
            column.addWidget(label(f"Would clear it: {remedy.text}", wrap=True))
            if remedy.edits:
                column.addWidget(
                    self._button("Apply", f"Apply: {remedy.text}", partial(self._apply, finding, remedy), "apply"), 0, _LEFT
                )
        undo = self.session.document.undo_label
        if undo is not None and undo.startswith(f"{finding.title}: "):
            column.addWidget(self._button("Undo it", f"Undo: {undo}", self.session.document.undo, "undo-remedy"), 0, _LEFT)
        if finding.verdict == "over" and not finding.waived:
            column.addWidget(
                self._button("Waive with a reason…", f"Waive {finding.title}", partial(self._waive, finding), "waive"), 0, _LEFT
            )
        elif finding.waived:
            column.addWidget(
                self._button("Take the waiver back", "Take the waiver back", partial(self._unwaive, finding), "unwaive"), 0, _LEFT
            )
        return box

    def _button(self, text: str, name: str, act: object, object_name: str) -> QPushButton:
        button = QPushButton(text)
        button.setAccessibleName(name)
        button.setObjectName(object_name)
        button.clicked.connect(lambda _=False: act())  # type: ignore[operator]
        return button

    def _elsewhere(self, finding: Finding) -> str:
        """Return the same check's verdicts in the other plans."""
        parts = []
        for plan in self.session.job.plans:
            result = self.session.fresh(plan.id)
            if plan.id == self.session.chosen or result is None:
                continue
            same = [f for f in result.findings if f.check == finding.check]
            if same:
                parts.append(f"{plan.letter} {same[0].word} {same[0].figure}".strip())
        return "In other plans: " + "; ".join(parts) + "." if parts else ""

    def _apply(self, finding: Finding, remedy: Remedy) -> None:
        if self._edit(f"{finding.title}: {remedy.text}", remedy.edits):
            self.applied.emit(remedy.text)

    def _waive(self, finding: Finding) -> None:
        reason = self._dialogs.ask_text("Waive", f"Why may '{finding.title}' be over in this plan?", "")
        if reason is None or not reason.strip():
            return
        plan = self.session.plan
        kept = tuple(w for w in plan.waived if w.check != finding.check)
        try:
            waiver = Waiver(check=finding.check, reason=reason.strip())
        except ValueError:
            self.session.problem.emit("a reason of 3 to 400 letters is needed; write why it may stand")
            return
        self._edit(f"Waive {finding.title}", [Edit(f"plans[{plan.id}].waived", (*kept, waiver))])

    def _unwaive(self, finding: Finding) -> None:
        plan = self.session.plan
        kept = tuple(w for w in plan.waived if w.check != finding.check)
        self._edit(f"Take back the waiver of {finding.title}", [Edit(f"plans[{plan.id}].waived", kept)])

    def _edit(self, text: str, edits: object) -> bool:
        try:
            self.session.edit(text, edits)  # type: ignore[arg-type]
        except BadInput as error:
            self.session.problem.emit(str(error))
            return False
        return True


_LEFT = Qt.AlignmentFlag.AlignLeft
