"""What the brief asks for, in words, and the defaults it sets elsewhere, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.brief_models import Brief, Contract, Purpose, PurposeWeight
from calm_relay.job.edits import Edit
from calm_relay.job.house_models import House
from calm_relay.job.models import Job
from calm_relay.job.tariff_models import Tariff
from calm_relay.rules.checks_brief import END_WORDS
from calm_relay.tariff.prices import cheap_window
from calm_relay.units import format_quantity as show

PURPOSES: tuple[tuple[Purpose, str], ...] = (
    ("lower_bills", "Lower bills"),
    ("own_use", "Use own solar at home"),
    ("ride_through", "Ride through outages"),
    ("zero_export", "Export nothing"),
    ("off_grid", "Leave the grid"),
    ("new_loads", "Room for a car or a heat pump"),
    ("simple", "Simple and lasting"),
)
WEIGHT_WORDS = ("no matter", "a little", "it counts", "it counts much", "above all")
RESERVE_FRAC = (0.0, 0.1, 0.15, 0.3, 0.5)  # held for outages by the weight of riding through; ours, common practice
USUAL_RESERVE_FRAC = 0.15
COUNTS = 2  # the weight from which a purpose counts


def weight_of(brief: Brief, purpose: str) -> int:
    """Return a purpose's weight, 0 (no matter) to 4 (above all)."""
    return next((w.weight for w in brief.weights if w.purpose == purpose), 2 if purpose in brief.purposes else 0)


def weight_words(brief: Brief, purpose: str) -> str:
    """Return a purpose's weight in words."""
    return WEIGHT_WORDS[weight_of(brief, purpose)]


@dataclass(frozen=True)
class Default:
    """Something the brief sets in a drafted plan where nothing was typed: what it is, and why."""

    words: str
    reason: str
    value: float = 0.0

    @property
    def line(self) -> str:
        """The default with its reason, as a sentence without its end."""
        return f"{self.words}: {self.reason}"


def _weighed(brief: Brief, purpose: str) -> str:
    name = next(words for key, words in PURPOSES if key == purpose)
    return f"from the brief: {name[:1].lower()}{name[1:]}, {weight_words(brief, purpose)}"


def _silent(brief: Brief) -> bool:
    return not brief.weights and not brief.purposes


def reserve_default(brief: Brief) -> Default:
    """Return the reserve for outages of a drafted plan: by the weight of riding through."""
    weight = weight_of(brief, "ride_through")
    share = USUAL_RESERVE_FRAC if _silent(brief) else RESERVE_FRAC[weight]
    reason = "usual, the brief says nothing of outages" if _silent(brief) else _weighed(brief, "ride_through")
    return Default(f"holds {share * 100:.0f} % of its battery for outages", reason, share)


def window_default(brief: Brief, tariff: Tariff) -> Default | None:
    """Return that a drafted plan charges in the cheap window, where bills count and there is such a window."""
    window = cheap_window(tariff)
    if window is None or weight_of(brief, "lower_bills") < COUNTS:
        return None
    hours = " to ".join(show(h, "clock_h") for h in window)
    words = f"charges from the grid {hours}, the cheap window, in the dull half of the year"
    return Default(words, _weighed(brief, "lower_bills"))


def dull_half(latitude_deg: float) -> tuple[int, ...]:
    """Return the half of the year's months with less sun, in which a night's charge is not in the sun's way."""
    return (1, 2, 3, 10, 11, 12) if latitude_deg >= 0 else (4, 5, 6, 7, 8, 9)


def whole_house_default(brief: Brief) -> Default | None:
    """Return that a drafted plan backs up the whole house, where leaving the grid counts much."""
    if weight_of(brief, "off_grid") <= COUNTS:
        return None
    return Default("backs up the whole house", _weighed(brief, "off_grid"))


def essential_mean_w(house: House) -> float:
    """Return what all that must stay on draws on the mean of its days. [W]"""
    return sum(a.mean_day_wh for a in house.counted if a.essential) / 24.0


def weigh_edits(brief: Brief, purpose: str, weight: int) -> list[Edit]:
    """Return the edits that give a purpose its weight; those without any leave the brief's list."""
    weights = {key: weight_of(brief, key) for key, _ in PURPOSES} | {purpose: weight}
    kept = [key for key, _ in PURPOSES if weights[key] > 0]
    rows = tuple(PurposeWeight(purpose=key, weight=weights[key]) for key in kept)
    return [Edit("brief.weights", rows), Edit("brief.purposes", tuple(kept))]


def outage_default(brief: Brief, house: House) -> Default | None:
    """Return the energy that what must stay on needs through the longest outage, where riding through counts. [Wh]"""
    hours = brief.longest_h
    mean = essential_mean_w(house)
    if weight_of(brief, "ride_through") < COUNTS or hours * mean <= 0:
        return None
    need = hours * mean
    words = f"holds at least {need / 1000:.1f} kWh, what must stay on for {hours:g} h"
    return Default(words, _weighed(brief, "ride_through"), need)


def defaults(job: Job) -> tuple[Default, ...]:
    """Return all that the brief sets in a plan drafted with a battery."""
    brief = job.brief
    found = (
        reserve_default(brief), window_default(brief, job.tariff), outage_default(brief, job.house), whole_house_default(brief),
    )  # fmt: skip
    return tuple(d for d in found if d is not None)


def _contract_words(contract: Contract) -> str:
    ends = [f"a plan that {END_WORDS[end]}" for end in contract.ends_with]
    by = " or ".join([*ends, *([contract.ended_by] if contract.ended_by else [])]) or "nothing said yet"
    return f"{contract.name}{f', until {contract.ends}' if contract.ends else ''}: ended by {by}"


def brief_words(brief: Brief) -> tuple[str, ...]:
    """Return the brief as lines: purposes by weight, outages, budget, what stays, contracts."""
    ranked = sorted(PURPOSES, key=lambda row: -weight_of(brief, row[0]))
    out = [f"{words}: {weight_words(brief, key)}" for key, words in ranked if weight_of(brief, key) > 0]
    if brief.outage_hours_h:
        often = "" if brief.outages_per_year is None else f", {brief.outages_per_year:g} a year"
        when = "" if brief.outage_season == "any" else f", mostly in {brief.outage_season}"
        longest = f", {brief.outage_longest_h:g} h at the longest" if brief.outage_longest_h else ""
        out.append(f"Outages last {brief.outage_hours_h:g} h{longest}{often}{when}")
    if brief.budget is not None:
        out.append(f"At most {brief.budget:,.0f} may be spent")
    if brief.keep:
        out.append(f"Not to be touched: {brief.keep}")
    out += [_contract_words(c) for c in brief.contracts]
    return tuple(out)
