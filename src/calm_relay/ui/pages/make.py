"""Makes pages when they are first shown, so that charts cost nothing before."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from calm_relay.ui.pages.plans import PlansPage
from calm_relay.ui.session import Session
from calm_relay.ui.theme import Theme


def make_page(name: str, session: Session, theme: Theme) -> QWidget:
    """Make the page of a name; its module is imported here."""

    def brief() -> QWidget:
        from calm_relay.ui.pages.brief import BriefPage

        return BriefPage(session, theme)

    def site() -> QWidget:
        from calm_relay.ui.pages.site import SitePage

        return SitePage(session, theme)

    def house() -> QWidget:
        from calm_relay.ui.pages.house import HousePage

        return HousePage(session, theme)

    def tariff() -> QWidget:
        from calm_relay.ui.pages.tariff import TariffPage

        return TariffPage(session, theme)

    def year() -> QWidget:
        from calm_relay.ui.pages.year import YearPage

        return YearPage(session, theme)

    def decide() -> QWidget:
        from calm_relay.ui.pages.decide import DecidePage

        return DecidePage(session, theme)

    makers: dict[str, Callable[[], QWidget]] = {
        "brief": brief, "site": site, "house": house, "tariff": tariff,
        "plans": lambda: PlansPage(session, theme), "year": year, "decide": decide,
    }  # fmt: skip
    return makers[name]()
