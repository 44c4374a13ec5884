"""What a coarse meter hides and what a year cannot hold is said: lower bounds, connected load, appliances that draw less."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.job.common_models import SeriesRef
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.house_models import House, SeriesLoad
from calm_relay.load.shortfall import shortfalls
from calm_relay.study import Study
from tests.test_check_cases import A, findings


def metered_job(demo, study: Study, step_s: int, share: float = 1.0):
    """The demo's own year, or a share of it, as a meter of `step_s` would have read it."""
    total = study.house(demo).total_w()
    values = share * total.reshape(-1, step_s // 300).mean(axis=1)
    ref = SeriesRef(sha256=study.store.put(values), rows=len(values), step_s=step_s)
    house = House(background=SeriesLoad(series=ref), appliances=demo.house.appliances)
    return demo.model_copy(update={"house": house})


def test_peaks_read_in_coarse_intervals_are_lower_bounds_and_a_list_is_judged_connected(demo):
    study = Study(step_s=300)
    coarse = metered_job(demo, study, 3600)
    facts = study.facts(coarse, coarse.plan("A"))
    assert facts.backup_peak_va < study.facts(demo, demo.plan("A")).backup_peak_va
    assert facts.at_least("3 kVA").startswith("at least 3 kVA")
    listed = {a.id: a for a in demo.house.appliances}
    connected = sum(listed[i].running_w / listed[i].power_factor for i in demo.plan("A").transfer.listed if i in listed)
    (f,) = findings(study, coarse, A, "backup.offgrid-power")
    assert "at least" in f.arithmetic
    if connected > f.limit:  # worse than metered, though no more than 'tight': nobody saw it all on at once
        assert (f.value, f.verdict) == (pytest.approx(connected), "tight")
    small = apply_edits(coarse, [Edit("library[battery-inverter-5k].offgrid_continuous_va", 0.9 * connected)])
    (g,) = findings(study, small, A, "backup.offgrid-power")
    assert (g.verdict, g.value) == ("tight", pytest.approx(connected))
    assert "all at once" in g.arithmetic
    fine = metered_job(demo, study, 300)
    assert study.facts(fine, fine.plan("A")).at_least("3 kVA") == "3 kVA"


def test_what_a_meter_or_a_window_cannot_hold_is_said_beside_the_appliance(demo):
    study = Study(step_s=900)
    tight = metered_job(demo, Study(study.store, step_s=300), 3600, share=0.3)
    rows = {row.load_id: row for row in shortfalls(tight.house, study.house(tight), study.calendar(tight))}
    assert rows
    for load_id, row in rows.items():
        drawn = float(study.house(tight).appliance_w[load_id].sum()) * 0.25
        assert row.drawn_wh == pytest.approx(drawn)
        assert "metered" in row.words
        assert f"{row.typed_wh / 1000:,.0f}".replace(",", "") in row.words.replace(",", "").replace("\u202f", "").replace(" ", "")
    assert not shortfalls(demo.house, study.house(demo), study.calendar(demo)), "the demo draws what it is typed with"
    pump = [Edit("house.appliances[heat-pump].running_w", 300.0), Edit("house.appliances[heat-pump].run_h", 24.0)]
    whole = [Edit("house.appliances[heat-pump].window_start_h", 0.0), Edit("house.appliances[heat-pump].window_end_h", 4.0)]
    short = apply_edits(demo, [*pump, *whole])
    (row,) = shortfalls(short.house, study.house(short), study.calendar(short))
    assert row.load_id == "heat-pump"
    assert row.drawn_wh == pytest.approx(row.typed_wh * 4 / 24, rel=0.02)
    assert "window holds 4 h of the 24 h" in row.words
    assert np.isfinite(row.typed_wh)
    cold = [Edit("house.appliances[heat-pump].follows", "heating_degrees"), Edit("house.appliances[heat-pump].window_end_h", 24.0)]
    cold.append(Edit("house.appliances[heat-pump].balance_c", 8.0))  # some days of its months ask for no heat
    (row,) = shortfalls((warm := apply_edits(short, cold)).house, study.house(warm), study.calendar(warm))
    assert "too small" in row.words, "all day on every day that asks for heat, and none on those that do not"
