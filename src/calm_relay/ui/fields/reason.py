"""The line under a field that says why what was typed was not taken."""

from __future__ import annotations

from PySide6.QtWidgets import QLabel, QWidget

from calm_relay.ui.widgets import label

LEAST_PX = 180


def reason_label() -> QLabel:
    """Return a line for a reason, out of sight while there is none."""
    made = label("", "reason", wrap=True)
    made.hide()
    return made


def show_reason(line: QLabel, why: str, editor: QWidget) -> None:
    """Print a reason, or take it away; a screen reader finds it at the field too."""
    line.setText(f"Not taken: {why}" if why else "")
    line.setFixedWidth(max(LEAST_PX, editor.width()))
    line.setVisible(bool(why))
    editor.setAccessibleDescription(why)
