"""The pages of the work order: what each is called, which fields it owns, who makes it. The one table of pages."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class PageSpec:
    """One page.

    Attributes
    ----------
    key, title : str
        What code and people call it.
    make : str
        ``module:Class`` of the widget, for the window alone; nothing below `ui` imports it.
    paths : tuple of str
        Beginnings of the paths of the fields that are typed on it.
    has_strip : bool
        Whether the day strip stands below it.
    all_plans : bool
        Whether all plans stand on it together, so that headroom, which is one plan's, folds away.
    about_plans : bool
        Whether its mark follows the plans' results rather than fields of its own.
    inside_plans : tuple of str
        Parts of paths inside a plan that are typed on it.
    wanted : tuple of str
        Fields that may be unknown and should not be.
    """

    key: str
    title: str
    make: str
    paths: tuple[str, ...] = ()
    has_strip: bool = False
    all_plans: bool = False
    about_plans: bool = False
    inside_plans: tuple[str, ...] = ()
    wanted: tuple[str, ...] = ()


PAGES: tuple[PageSpec, ...] = (
    PageSpec("brief", "Brief", "calm_relay.ui.pages.brief:BriefPage", ("brief",)),
    PageSpec(
        "site", "Site & roof", "calm_relay.ui.pages.site:SitePage",
        ("site.place", "site.weather", "site.record_low", "site.design_high", "site.low", "site.dc", "site.board",
         "site.supply_run", "site.spots", "site.circuits", "faces", "calendar"),
        inside_plans=(".strings[", ".later", ".branch", "].run", "].battery_run", "].string_run", "].reuses", "].plugged_in",
                      ".protection."),
        wanted=("site.record_low_c", "site.design_high_c"),
    ),
    PageSpec("house", "House", "calm_relay.ui.pages.house:HousePage", ("house",), has_strip=True),
    PageSpec(
        "tariff", "Tariff & network", "calm_relay.ui.pages.tariff:TariffPage",
        ("site.supply", "site.export", "site.import", "site.network", "tariff"),
    ),
    PageSpec("plans", "Plans", "calm_relay.ui.pages.plans:PlansPage", has_strip=True),
    PageSpec("year", "Year", "calm_relay.ui.pages.year:YearPage", has_strip=True, about_plans=True),
    PageSpec(
        "blackout", "Blackout", "calm_relay.ui.pages.blackout:BlackoutPage", about_plans=True, inside_plans=(".controls.island_",)
    ),
    PageSpec(
        "decide", "Decide", "calm_relay.ui.pages.decide:DecidePage", ("finance", "rebates"), all_plans=True, about_plans=True
    ),
)  # fmt: skip
PAGE_KEYS = frozenset(spec.key for spec in PAGES)


def page_spec(key: str) -> PageSpec:
    """Return the page of a key; raises KeyError."""
    return {spec.key: spec for spec in PAGES}[key]


def page_of(path: str) -> str:
    """Return the key of the page on which the field of a path is typed; what belongs to no other page is on Plans."""
    for spec in PAGES:
        inside = path.startswith("plans") and any(part in path for part in spec.inside_plans)
        if inside or (spec.paths and path.startswith(spec.paths)):
            return spec.key
    return "plans"
