"""The job's rebates in the dialog of costs: what each pays, what it asks for, and whether the plan meets it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol, get_args

from PySide6.QtWidgets import QComboBox, QLabel, QPushButton, QVBoxLayout, QWidget

from calm_relay.job.cost_models import CostKind, RebateRule
from calm_relay.job.edits import Edit
from calm_relay.job.field_words import CHOICES
from calm_relay.ui.calm_wheel import ClosedList
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.money.costing import PlanCosts
    from calm_relay.ui.session import Session

MET = {"yes": "met", "no": "not met", "not_known": "not known"}
MOST_REBATES, MOST_CONDITIONS = 8, 12


class LineHost(Protocol):
    """The dialog that the fields stand in."""

    session: Session

    def line(self, *cells: QWidget) -> None:
        """Add a line of widgets."""

    def cell(self, path: str, chars: int | None = None) -> QWidget:
        """Return a field."""

    def push(self, words: str, act: object, name: str = "") -> QPushButton:
        """Return a button."""

    def edit(self, words: str, edits: list[Edit]) -> None:
        """Change the job."""


class RebatesPart:
    """Fields of the job, not of one plan: what is typed here holds for every plan."""

    def __init__(self, dialog: LineHost) -> None:
        self._dialog = dialog
        self._said: list[QLabel] = []

    def shape(self) -> object:
        """Return what decides which fields there are."""
        return tuple((r.share_of, tuple(c.rule for c in r.conditions)) for r in self._dialog.session.job.rebates)

    def build(self, column: QVBoxLayout) -> None:
        """Add the fields of every rebate."""
        dialog, rebates = self._dialog, self._dialog.session.job.rebates
        column.addWidget(label("Rebates, for every plan", "heading"))
        self._said = []
        for i, rebate in enumerate(rebates):
            base = f"rebates[{i}]"
            remove = dialog.push("Remove", lambda k=i: self._without(k), f"Remove {rebate.name}")
            dialog.line(
                dialog.cell(f"{base}.name", 26), dialog.cell(f"{base}.share_frac", 7), self._share_of(i),
                dialog.cell(f"{base}.per_kwh", 8), dialog.cell(f"{base}.counts"), dialog.cell(f"{base}.paid_up_to_wh", 9),
                dialog.cell(f"{base}.most", 9), remove,
            )  # fmt: skip
            for k, condition in enumerate(rebate.conditions):
                at = f"{base}.conditions[{k}]"
                parts: list[QWidget] = [dialog.cell(f"{at}.rule")]
                if condition.rule in ("least_usable_wh", "most_usable_wh"):
                    parts.append(dialog.cell(f"{at}.energy_wh", 9))
                if condition.rule == "ratio_most":
                    parts.append(dialog.cell(f"{at}.ratio", 7))
                if condition.rule == "stated":
                    parts += [dialog.cell(f"{at}.text", 34), dialog.cell(f"{at}.met")]
                parts.append(dialog.push("Drop", lambda n=i, c=k: self._drop(n, c), f"Drop condition {k + 1} of {rebate.name}"))
                dialog.line(*parts)
            box = ClosedList()
            box.setAccessibleName(f"Add a condition of {rebate.name}")
            box.addItem("Add a condition…")
            for rule in get_args(RebateRule):
                box.addItem(CHOICES[rule], rule)
            box.setEnabled(len(rebate.conditions) < MOST_CONDITIONS)
            box.activated.connect(lambda at, n=i, b=box: self._ask(n, str(b.itemData(at))) if at > 0 else None)
            said = label("", "quiet", wrap=True)
            self._said.append(said)
            dialog.line(box)
            column.addWidget(said)
        self.add_button = dialog.push("Add a &rebate", self._add)
        self.add_button.setEnabled(len(rebates) < MOST_REBATES)
        dialog.line(self.add_button)

    def follow(self, costs: PlanCosts) -> None:
        """Say what each rebate pays towards the plan."""
        for said, row in zip(self._said, costs.rebates, strict=False):
            asks = "; ".join(f"{condition.words}: {MET[condition.met]}" for condition in row.conditions)
            said.setText(f"{show(row.amount, 'money')}: {row.arithmetic}" + (f" · {asks}" if asks else ""))

    def _share_of(self, index: int) -> QComboBox:
        rebate = self._dialog.session.job.rebates[index]
        box = ClosedList()
        box.setAccessibleName(f"{rebate.name}: share of")
        box.addItem("of all lines", "")
        for kind in get_args(CostKind):
            box.addItem(f"of {CHOICES[kind]}", kind)
        now: str = rebate.share_of[0] if len(rebate.share_of) == 1 else ""
        if len(rebate.share_of) > 1:
            box.addItem(f"of {', '.join(CHOICES[k] for k in rebate.share_of)}", "several")
            now = "several"
        box.setCurrentIndex(max(0, box.findData(now)))
        box.activated.connect(lambda at, b=box: self._set_share(index, str(b.itemData(at))))
        return box

    def _set_share(self, index: int, kind: str) -> None:
        if kind != "several":
            self._dialog.edit("What a rebate is a share of", [Edit(f"rebates[{index}].share_of", [kind] if kind else [])])

    def _add(self) -> None:
        count = len(self._dialog.session.job.rebates)
        self._dialog.edit("Add a rebate", [Edit("rebates[+]", {"name": f"Rebate {count + 1}"})])

    def _without(self, index: int) -> None:
        rows = [r.model_dump() for i, r in enumerate(self._dialog.session.job.rebates) if i != index]
        self._dialog.edit("Remove a rebate", [Edit("rebates", rows)])

    def _ask(self, index: int, rule: str) -> None:
        self._dialog.edit("Add a condition", [Edit(f"rebates[{index}].conditions[+]", {"rule": rule})])

    def _drop(self, index: int, condition: int) -> None:
        rows = [c.model_dump() for k, c in enumerate(self._dialog.session.job.rebates[index].conditions) if k != condition]
        self._dialog.edit("Drop a condition", [Edit(f"rebates[{index}].conditions", rows)])
