"""The rules of the place: which pack holds and why, what the network says by it, and what was changed for this job alone."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLineEdit

from calm_relay.job.edits import Edit
from calm_relay.job.own_rules import (
    known_packs,
    known_tables,
    read_pack_file,
    read_tables_file,
    with_override,
    with_pack_edits,
    with_tables_edits,
    without_override,
    without_tables_edits,
    write_rules,
)  # fmt: skip
from calm_relay.packs.conductors import shipped_tables
from calm_relay.packs.pack import OWN
from calm_relay.plant.runs import table_of
from calm_relay.report.rules import RULES_CHANGE, figure_words
from calm_relay.rules.network_rule import rule_in_force
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.ui.session import Session


def build_rules(page: FieldPage) -> None:
    """Add the section to a page."""
    session = page.session
    job, pack = session.job, session.job.rules()
    page.heading(
        "Rules of the place", ("Side by side…", lambda: _compare(page)), ("Read a pack file…", lambda: _ask_pack(page)),
        ("Save these rules…", lambda: _save(page)),
    )  # fmt: skip
    box = ClosedList()
    box.setAccessibleName("Rules of")
    for pack_id, known in known_packs(job).items():
        box.addItem(f"{known.name}, own file" if pack_id == OWN else known.name, pack_id)
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
    for one in job.overrides:
        words = f"{one.parameter} is {one.value:g} here: {one.reason}"
        page.flow(
            label(words, wrap=True),
            page.button("As the pack says", lambda name=one.parameter: _drop(page, name), f"{one.parameter} as the pack says"),
        )
    _tables(page)
    names = ClosedList()
    names.setAccessibleName("A figure of the pack to change for this job")
    names.addItem("Change a figure for this job…")
    for parameter in sorted(pack.parameter):
        words, shown = figure_words(parameter, f"{pack.parameter[parameter][0]:g}")
        names.addItem(f"{words}: {shown} ({parameter})", parameter)
    value, reason = QLineEdit(), QLineEdit()
    value.setAccessibleName("Its value here")
    value.setPlaceholderText("value")
    value.setMaximumWidth(round(90 * page.scale))
    reason.setAccessibleName("Why it is another here")
    reason.setPlaceholderText("why")

    def change() -> None:
        _change(page, str(names.currentData() or ""), value.text(), reason.text())

    page.flow(names, value, reason, page.button("Change", change, "Change the figure for this job"))


def _tables(page: FieldPage) -> None:
    """Add the choice of the table of conductors, with the user's own where there are some."""
    session = page.session
    job, box = session.job, ClosedList()
    box.setAccessibleName("Table of conductors")
    box.addItem(f"as the pack says ({table_of(job.model_copy(update={'cable_table': ''}).rules()).name})", "")
    for table_id, table in known_tables(job).items():
        own = job.own_tables is not None and table_id not in shipped_tables()
        box.addItem(f"{table.name}{', own file' if own else ''}", table_id)
    box.setCurrentIndex(max(0, box.findData(job.cable_table)))
    box.activated.connect(lambda i: session.edit(f"Conductors: {box.itemText(i)}", [Edit("cable_table", box.itemData(i))]))
    name = label("Conductors by")
    name.setBuddy(box)
    buttons = [page.button("Read tables…", lambda: _ask_tables(page), "Read a file of conductor tables")]
    if job.own_tables is not None:
        drop = lambda: session.edit("The shipped tables", without_tables_edits(session.job))  # noqa: E731
        buttons.append(page.button(f"Without {job.own_tables.name}", drop, "The shipped tables of conductors alone"))
    page.flow(name, box, *buttons)


def _compare(page: FieldPage) -> None:
    from calm_relay.ui.packs_dialog import PacksDialog

    page.session.dialogs.show(PacksDialog(page.session, page.scale, page.window()))


def _ask_pack(page: FieldPage) -> None:
    path = page.session.dialogs.ask_file("Read a rule pack", "Rule pack (*.toml);;All files (*)")
    if path is not None:
        take_pack(page.session, path)


def take_pack(session: Session, path: Path) -> None:
    """Put a pack file in force; raises BadInput with everything as it was."""
    file, pack = read_pack_file(path)
    session.edit(f"Rules of {pack.name}, from {path.name}", with_pack_edits(file))


def _ask_tables(page: FieldPage) -> None:
    path = page.session.dialogs.ask_file("Read tables of conductors", "Tables (*.toml);;All files (*)")
    if path is not None:
        take_tables(page.session, path)


def take_tables(session: Session, path: Path) -> None:
    """Put a file of conductor tables into the job; raises BadInput with everything as it was."""
    file, tables = read_tables_file(path)
    session.edit(f"Conductors from {path.name}", with_tables_edits(session.job, file, tables))


def _save(page: FieldPage) -> None:
    session = page.session
    path = session.dialogs.ask_save_as("Save these rules", f"{session.job.rules().id}.toml", "Rule pack (*.toml)")
    if path is not None:
        write_rules(session.job, path)


def _change(page: FieldPage, parameter: str, value: str, reason: str) -> None:
    """Put a changed figure into the job and its log; what is missing is said, nothing is lost."""
    session = page.session
    try:
        number = float(value.replace(",", "."))
    except ValueError:
        number = None
    if not parameter or number is None or not reason.strip():
        session.problem.emit("Choose a figure, write its value as a number, and say why it is another here.")
        return
    page.change(f"{parameter} for this job", with_override(session.job, parameter, number, reason, datetime.now()))


def _drop(page: FieldPage, parameter: str) -> None:
    page.change("A figure as the pack says", without_override(page.session.job, parameter, datetime.now()))
