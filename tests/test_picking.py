"""What the picker says is what the plan's checks say once the card is there; order, the firm's own cards, and the command line."""

from __future__ import annotations

import json

import pytest

from calm_relay.cli import main
from calm_relay.decision.patterns import draft_plan
from calm_relay.decision.worth import worth_of
from calm_relay.demo import demo_path
from calm_relay.errors import BadInput
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.library.book import CardBook
from calm_relay.library.shipped import shipped_book, shipped_card
from calm_relay.rules.offers import connects, is_own, offered
from calm_relay.rules.picking import place_of, ranked
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks

BOOK = shipped_book()
PLACES = [
    "plans[ac-add-on].nodes[bat].card", "plans[ac-add-on].nodes[bat].battery.card", "plans[ac-add-on].nodes[old].card",
    "plans[hybrid-swap].nodes[hyb].card", "plans[hybrid-swap].nodes[hyb].strings[ne1].module", "plans[ac-add-on].transfer.card",
]  # fmt: skip
SUPPLIES = {"single": [], "split": [Edit("site.supply.kind", "split_phase")], "three": [Edit("site.supply.kind", "three_phase")]}


@pytest.mark.parametrize("supply", SUPPLIES)
@pytest.mark.parametrize("path", PLACES)
def test_a_card_fits_where_the_plans_own_checks_find_nothing_over(path, supply, demo):
    job = apply_edits(demo, SUPPLIES[supply])
    _, names = place_of(path)
    offers = ranked(job, path, BOOK)
    assert [o.fits for o in offers] == sorted((o.fits for o in offers), reverse=True)
    assert sum(o.now for o in offers) == 1
    for offer in offers:
        if not offer.edits:  # a battery of which no number fits, an inverter with too few trackers
            assert not offer.fits
            assert "no number of modules" in offer.why or "strings are on 2 trackers, it has 1" in offer.why
            continue
        then = apply_edits(job, offer.edits)
        plan = then.plan(path[6 : path.index("]")])
        found = run_checks(CheckContext(then, plan, then.cards(), None), {"plan"})
        over = [f for f in found if f.verdict == "over" and f.check.startswith(names)]
        assert offer.fits == (not over), (offer.card.id, offer.why, [f.check for f in over])
        if over:
            assert any(f.arithmetic in offer.why for f in over), offer.why


def test_the_order_is_worth_then_what_is_not_tight_then_favourites_then_nearness(demo):
    path = PLACES[3]
    plain = [o for o in ranked(demo, path, BOOK) if o.fits]
    assert plain[0].now, "nothing is nearer than what is there"
    sizes = [o.card.ac_rated_w for o in plain]
    assert sizes == sorted(sizes)
    liked = ranked(demo, path, BOOK, favourites=["hybrid-10k"])
    assert liked[0].card.id == "hybrid-10k"
    assert liked[0].favourite
    worth = {o.card.id: float(i) for i, o in enumerate(plain)}
    by_worth = [o.card.id for o in ranked(demo, path, BOOK, worth=worth) if o.fits]
    assert by_worth == [o.card.id for o in reversed(plain)]


def test_worth_is_the_bills_difference_of_whole_years(demo, quarter):
    path = PLACES[1]
    offers = ranked(demo, path, BOOK)
    worth = worth_of(quarter, demo, "ac-add-on", offers)
    assert worth["stack-3k"] == 0.0
    other = next(o for o in offers if o.fits and not o.now)
    then = apply_edits(demo, other.edits)
    saved = quarter.bill(demo, demo.plan("A")).total - quarter.bill(then, then.plan("A")).total
    assert worth[other.card.id] == pytest.approx(saved)
    assert not set(worth) & {o.card.id for o in offers if not o.fits}


def test_an_inverter_to_be_added_is_held_to_supply_and_network(demo):
    offers = ranked(demo, "plans[ac-add-on].nodes[+]", BOOK)
    assert {o.card.kind for o in offers} == {"pv_inverter", "module_inverter", "hybrid", "battery_inverter"}
    for offer in offers:
        assert connects(offer.card, "single_phase") or not offer.fits
    assert all("10 kW" in o.why for o in offers if not o.fits and connects(o.card, "single_phase")), "the network's sum is full"


def test_drafts_and_offers_take_the_firms_own_cards_first():
    job = read_job(demo_path()).job
    mine = shipped_card("hybrid-6k").model_copy(update={"id": "ours", "name": "Hybrid of ours", "ac_rated_w": 5500.0})
    known = CardBook({**BOOK, "ours": mine})
    assert is_own(mine)
    stale = shipped_card("hybrid-6k").model_copy(update={"charge_max_a": 31.0})
    assert not is_own(stale), "a job's older copy of a shipped card is nobody's own"
    assert is_own(stale, CardBook({**BOOK, "hybrid-6k": stale})), "one put on the shelf in its place is"
    assert next(iter(offered(job, known).values())).id == "ours"
    drafted, made = draft_plan(job, "hybrid-swap", 2e4, known)
    assert [n.card for n in drafted.plan(made).nodes] == ["ours"]
    without, made = draft_plan(job, "hybrid-swap", 2e4)
    assert [n.card for n in without.plan(made).nodes] == ["hybrid-5k"]
    assert "module-poly-60" not in offered(job), "what is no longer made is not proposed"
    assert "module-385" in offered(job), "but what the job has stays"
    assert not any(card.kind == "hybrid" and card.phases == 3 for card in offered(job).values())


@pytest.mark.parametrize(
    "path", ["site.supply", "plans[x].nodes[y].card", "plans[today].nodes[y].card", "plans[today].nodes[old].battery.card"]
)
def test_a_place_that_holds_no_card_is_a_fault(path, demo):
    with pytest.raises(BadInput):
        ranked(demo, path, BOOK)


def test_the_command_line_prints_offers_and_chains(capsys):
    assert main(["pick", "demo", PLACES[1], "--find", "stack", "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)["offers"]
    assert rows[0]["now"]
    assert {row["fits"] for row in rows} == {True, False}
    assert main(["chains", "demo", "--plan", "A", "--json"]) == 0
    (row,) = json.loads(capsys.readouterr().out)["plans"]["A"]
    assert row["discharge"]["limit_w"] == pytest.approx(5180.0)
    assert [p["name"] for p in row["paths"]] == ["Shed inverter to Battery inverter, by AC", "grid to Battery inverter"]
    assert main(["chains", "demo", "--power-kw", "0"]) == 2
    assert main(["chains", "demo"]) == 0
    said = capsys.readouterr().out
    assert "no battery in this plan" in said
    assert "Weakest: charger AC input" in said
