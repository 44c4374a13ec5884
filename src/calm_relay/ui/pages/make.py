"""Makes pages when they are first shown, so that charts cost nothing before."""

from __future__ import annotations

from importlib import import_module

from PySide6.QtWidgets import QWidget

from calm_relay.job.pages import page_spec
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme


def make_page(key: str, session: Session, theme: Theme) -> QWidget:
    """Make the page of a key; its module is imported here."""
    module, _, name = page_spec(key).make.partition(":")
    made: QWidget = getattr(import_module(module), name)(session, theme)
    return made
