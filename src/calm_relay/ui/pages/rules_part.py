"""The rules of the place: which pack holds and why, what the network says by it, and what was changed for this job alone."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QLineEdit

from calm_relay.job.edits import Edit
from calm_relay.job.site_models import PackOverride
from calm_relay.packs.pack import SHIPPED, pack_named
from calm_relay.rules.network_rule import rule_in_force
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage

RULES_CHANGE = "Figures are from memory where they say so; rules change, and the network operator decides."


def build_rules(page: FieldPage) -> None:
    """Add the section to a page."""
    session = page.session
    job, pack = session.job, session.job.rules()
    page.heading("Rules of the place")
    box = QComboBox()
    box.setAccessibleName("Rules of")
    for pack_id in SHIPPED:
        box.addItem(pack_named(pack_id).name, pack_id)
    box.setCurrentIndex(max(0, box.findData(job.pack)))
    box.activated.connect(lambda i: session.edit(f"Rules of {box.itemText(i)}", [Edit("pack", box.itemData(i))]))
    name = label("Rules of")
    name.setBuddy(box)
    page.flow(name, box, page.cell("pack_reason", chars=40))
    page.words(f"{pack.place[:1].upper()}{pack.place[1:]}. {RULES_CHANGE}")
    rule = rule_in_force(job, pack)
    for field, source in rule.from_pack:
        value = getattr(rule.rule, field)
        if isinstance(value, float):
            page.words(f"Not typed, so by the pack: {show(value, 'power_w')} ({source}).")
    for i, one in enumerate(job.overrides):
        words = f"{one.parameter} is {one.value:g} here: {one.reason}"
        page.flow(
            label(words, wrap=True),
            page.button("As the pack says", lambda n=i: _drop(page, n), f"{one.parameter} as the pack says"),
        )
    names = QComboBox()
    names.setAccessibleName("A figure of the pack to change for this job")
    names.addItem("Change a figure for this job…")
    for parameter in sorted(pack.parameter):
        names.addItem(f"{parameter} ({pack.parameter[parameter][0]:g})", parameter)
    value, reason = QLineEdit(), QLineEdit()
    value.setAccessibleName("Its value here")
    value.setPlaceholderText("value")
    value.setMaximumWidth(round(90 * page.scale))
    reason.setAccessibleName("Why it is another here")
    reason.setPlaceholderText("why")

    def change() -> None:
        _change(page, str(names.currentData() or ""), value.text(), reason.text())

    page.flow(names, value, reason, page.button("Change", change, "Change the figure for this job"))


def _change(page: FieldPage, parameter: str, value: str, reason: str) -> None:
    """Put a changed figure into the job; what is missing is said, nothing is lost."""
    session = page.session
    try:
        number = float(value.replace(",", "."))
    except ValueError:
        number = None
    if not parameter or number is None or not reason.strip():
        session.problem.emit("Choose a figure, write its value as a number, and say why it is another here.")
        return
    kept = tuple(o for o in session.job.overrides if o.parameter != parameter)
    made = (*kept, PackOverride(parameter=parameter, value=number, reason=reason.strip()))
    session.edit(f"{parameter} for this job", [Edit("overrides", [o.model_dump() for o in made])])


def _drop(page: FieldPage, index: int) -> None:
    session = page.session
    left = [o.model_dump() for i, o in enumerate(session.job.overrides) if i != index]
    session.edit("A figure as the pack says", [Edit("overrides", left)])
