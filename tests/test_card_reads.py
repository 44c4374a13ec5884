"""What the editor says of a missing figure is so: each figure is read by the checks named for it."""

from __future__ import annotations

import pytest

from calm_relay.demo import demo_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job
from calm_relay.library.cards import Card
from calm_relay.library.shipped import shipped_card
from calm_relay.rules.reads import ON_BANK, READS, rests_on
from calm_relay.rules.registry import REGISTRY, CheckContext
from calm_relay.study import Study
from tests.plants import no_grid
from tests.test_check_cases import CASES

RACKED = [Edit(f"faces[{face.id}].mounting", "rack") for face in demo_job().faces]  # where a module's rear sees light
BY_PLAN = sorted({i for checks in READS.values() for i in checks if i in CASES})


@pytest.mark.parametrize("check_id", BY_PLAN)
def test_what_a_figure_leaves_open_is_read_by_that_check(check_id, demo):
    """Each figure said to be read by a check moves a finding of it, when blanked or set, in one of the check's own cases."""
    entry = REGISTRY[check_id]
    if not entry.needs <= {"plan", "grid"}:
        pytest.skip("it needs a year: its own tests hold it")
    left = {name for name, checks in READS.items() if check_id in checks}

    def said(job: Job, plan: str) -> list[str]:
        return [f.arithmetic for f in entry.run(CheckContext(job, job.plan(plan), job.cards(), None, advise=False))]

    for plan, edits in CASES[check_id].values():
        job = apply_edits(demo, [*edits, *RACKED])
        before = said(job, plan)
        for card, figure in [(card, figure) for card in job.library for figure in sorted(left)]:
            for value in (None, (), 1.0, 1, -0.004, 0.8, 80.0):
                changed = with_figure(card, figure, value)
                if changed is None:
                    continue
                other = job.model_copy(update={"library": tuple(changed if c.id == card.id else c for c in job.library)})
                try:
                    moved = said(other, plan) != before
                except (TypeError, ZeroDivisionError, AttributeError):  # a figure a card cannot be without was read, and missed
                    moved = True
                if moved:
                    left.discard(figure)
                    break
    assert not left


@pytest.mark.parametrize("kind", ON_BANK)
def test_what_stands_on_a_bank_says_what_rests_on_its_figures(kind):
    """What is said to reach the year moves its key, and what is said to be read by nothing does not."""
    job, study = no_grid(), Study(step_s=3600)
    plan, charger = job.plans[1], shipped_card("timer-charger-48v-30a")
    if kind == "timer_charger":
        node = plan.nodes[0].model_copy(update={"timer_charger": charger.id})
        plan = plan.model_copy(update={"nodes": (node, *plan.nodes[1:])})
        job = job.model_copy(update={"library": (*job.library, charger), "plans": (job.plans[0], plan)})
    (card,) = [card for card in job.library if card.kind == kind]
    before = study.flow_key(job, plan)
    for figure, said in ON_BANK[kind].items():
        changed = with_figure(
            card, figure, ("can",) if figure == "protocols" else ("split_phase",) if figure == "supplies" else 0.8
        )
        other = job.model_copy(update={"library": tuple(changed if c.id == card.id else c for c in job.library)})
        assert (study.flow_key(other, plan) == before) == said.startswith("kept"), figure
        assert rests_on(kind, figure) == said
    assert "no plan holds one" in rests_on("meter", "current_max_a")


def with_figure(card: Card, figure: str, value: object) -> Card | None:
    """The card with a figure of its own or of its trackers put otherwise; None where it has no such figure."""
    if figure in type(card).model_fields:
        return card.model_copy(update={figure: value})
    if getattr(card, "trackers", ()) and figure in type(card.trackers[0]).model_fields:
        return card.model_copy(update={"trackers": tuple(t.model_copy(update={figure: value}) for t in card.trackers)})
    return None
