"""Faults planted one at a time in a copy of the program: each must be caught by the tests named beside it.

Run with ``./run plant [WORDS]``; it prints a table of fault, test that caught it and seconds. That every fault can still be planted
(its line stands once in the source) is held by `test_planted_faults.py` on every run.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[1]


class Planted(NamedTuple):
    """A fault: where, what stands there, what is put in its place, and the test files that must catch it."""

    name: str
    file: str
    old: str
    new: str
    tests: str


K, V, P, F, S = "test_kernel_reference", "test_check_values", "test_packing", "test_facts", "test_study"
FAULTS = (
    # --- faults that once went unseen
    Planted("headroom order", "rules/runner.py", 'finding.page in LAST, margin', 'finding.page in LAST, -margin', F),
    Planted("cost of what stands already", "money/counted.py", "(more := count - had.get(card, 0)) > 0", "(more := count) > 0", "test_money"),
    Planted("cap of a rebate", "money/rebates.py", "min(wh, rebate.paid_up_to_wh)", "wh", "test_money"),
    Planted("a condition not known counts", "money/rebates.py", 'if row.met != "yes"', 'if row.met == "no"', "test_money"),
    Planted("payback at the first crossing", "money/cash.py", "last = below[-1]", "last = below[0]", "published/test_money"),
    Planted("ageing left out of later years", "decision/twenty.py", "return self._fine[year - 1] + self.aged(year)", "return self._fine[year - 1]", "test_choosing"),
    Planted("other weights not in proportion", "decision/choosing.py", "(1.0 - share) * (w / rest if rest > 0 else 1.0 / others)", "w", "test_choosing"),
    Planted("a closed gate leads", "decision/choosing.py", "key=lambda s: (not s.open, -s.score,", "key=lambda s: (-s.score,", "test_choosing"),
    Planted("discharge order", "simulation/pack.py", 'np.argsort([-float(r["eta_c"] * r["eta_d"]) for r in records]', 'np.argsort([float(r["eta_c"] * r["eta_d"]) for r in records]', P),
    Planted("slot months", "simulation/pack.py", "here &= calendar.in_months(slot.months)", "here &= calendar.in_months(slot.months[:1])", P),
    Planted("weekend slots on weekdays", "simulation/pack.py", '== (slot.days == "weekends")', '== (slot.days == "weekdays")', P),
    Planted("a slot for one node holds for all", "simulation/pack.py", "if not slot.holds_for(node_id):", "if False:", P),
    Planted("seasons of the other half of the earth", "job/control_models.py", "season_of_months(latitude_deg)", "season_of_months(-latitude_deg)", P),
    Planted("reserve of the season not passed on", "year/inputs.py", "reserves=plant.controls.reserve_by_month(latitude_deg)", "reserves=(plant.controls.reserve_soc_frac,) * 12", "test_controls"),
    Planted("state of health", "plant/chain.py", "bank.modules * bank.state_of_health_frac", "bank.modules", P),
    Planted("efficiency not rooted", "plant/bank.py", "return math.sqrt(self.dc_round_trip_frac)", "return self.dc_round_trip_frac", f"{P} {V}"),
    Planted("'not known' closes no gate", "decision/compare.py", 'if f.verdict == "not known" and f.check in', 'if f.verdict == "over" and f.check in', F),
    Planted("start without the rest running", "rules/checks_motor.py", "value, limit, quantity = va + rest.va[i], float(peak[i])", "value, limit, quantity = va, float(peak[i])", V),
    Planted("grid energy through the battery is own", "year/facts.py", 'system["grid_to_house_w"] + system["battery_to_house_w"] - system["battery_pv_to_house_w"]', 'system["grid_to_house_w"]', F),
    Planted("hot margin's sign", "pv/limits.py", '(1.0 + pack.value("hot_voltage_margin_frac"))', '(1.0 - pack.value("hot_voltage_margin_frac"))', V),
    Planted("history limit", "job/history.py", "if len(self._snapshots) > self._limit:", "if len(self._snapshots) > self._limit + 1:", F),
    Planted("the earlier slot wins", "simulation/pack.py", "codes[in_slot(slot, calendar)] = number", "codes[in_slot(slot, calendar) & (codes == 0)] = number", P),
    Planted("fuse ceiling", "pv/limits.py", "most = min(series_fuse_max_a or 0.0, highest)", "most = series_fuse_max_a or 0.0", "test_limits"),
    Planted("payback", "tariff/growth.py", "cost / saving if saving > 0", "saving / cost if saving > 0", F),
    Planted("cycles doubled", "year/facts.py", "given / usable if usable > 0", "2 * given / usable if usable > 0", F),
    # --- runs again, lanes
    Planted("a stretch of the year is joined too soon", "simulation/walks.py", "before[..., 0, :, :] == begins[..., 0, :, :]", "np.abs(before[..., 0, :, :] - begins[..., 0, :, :]) < 300.0", "test_variants"),
    Planted("a block run again is not joined to the next", "simulation/walks.py", "apart[i] = self._apart(before[i], self.begins[i], lanes)", "apart[i] = False", "test_variants"),
    Planted("a part begins as the block before", "simulation/blocks.py", "energies = self.begins[block].copy()", "energies = self.begins[block - 1].copy()", "test_variants"),
    Planted("a turn of batteries forgotten", "simulation/kernel/shares.py", "    return last + 1.0", "    return last", f"{K} test_variants"),
    Planted("who takes turns first gives first too", "simulation/kernel/shares.py", "_has_turn(kinds, before, nd.give_turn, group)", "_has_turn(kinds, before, nd.take_turn, group)", f"{K} test_variants"),
    Planted("lanes think a node has no array", "simulation/variants.py", "packed.pv_dc[:, k].any()", "packed.pv_dc[: len(packed.ac) // 9, k].any()", "test_variants"),
    Planted("a settled lane counted twice", "simulation/kernel/lanes.py", "ok = asked and not more", "ok = not more", "test_variants"),
    Planted("a kept column of another node", "simulation/kept.py", "(np.arange(nodes)[:, None] * N_NODE + within)", "(np.arange(nodes)[::-1][:, None] * N_NODE + within)", "test_variants"),
    Planted("what a year before left is seen", "simulation/kept.py", "            return held", "            return Block(held.table, np.zeros(len(held.table), np.bool_))", "test_kept"),
    Planted("memory that somebody looks at is used again", "simulation/kept.py", "sys.getrefcount(held.table) <= _OURS_ALONE", "sys.getrefcount(held.table) > 0", "test_kept"),
    Planted("a count grows old beside its bill", "study.py", "self.cache.peek(counted_key)", "self.cache.peek('')", "test_study"),
    Planted("a first half cycle whole", "simulation/counting.py", "                counts[found] = 0.5", "                counts[found] = 1.0", "published/test_ageing"),
    # --- the plant
    Planted("like units are one", "plant/resolve.py", "    unit = unit.together(count)\n", "", "test_by_hand"),
    Planted("each line carries its share of all", "plant/offgrid.py", "sum(va * share[i] for va, share in zip(known, shares, strict=True))", "sum(known) / plant.lines.count", "test_by_hand"),
    Planted("a leg's volts are the supply's", "plant/lines.py", 'self.supply_v / (2.0 if self.kind == "split_phase" else 1.0)', "self.supply_v", "test_by_hand test_lines"),
    Planted("volts between lines are a line's", "plant/lines.py", "(3.0**0.5 if self.count == 3 else 1.0)", "1.0", "test_by_hand"),
    Planted("one controller's amps for all", "plant/unit.py", "unit.charge_max_a + count * controller.charge_max_a", "unit.charge_max_a + controller.charge_max_a", "published/test_hand_island"),
    Planted("a card's phase limit unread", "plant/offgrid.py", "va + min(own, made) - made * share", "va", "test_by_hand"),
    Planted("a typed export limit beats the array's", "plant/resolve.py", "by_array if typed is None else min(typed, by_array)", "typed or by_array", "test_year_limits"),
    Planted("an old circuit's cable is not used", "plant/resolve.py", "run=reused or node.run,", "run=node.run,", "test_check_cases test_check_values"),
    Planted("idle draw of like units once", "plant/unit.py", '"p_self_w": terms.p_self_w * count', '"p_self_w": terms.p_self_w', "test_by_hand test_packing"),
    Planted("full power at full volts", "plant/chain.py", "return unit.passes_dc_w / stack_volts(bank, low).floor_v", "return unit.passes_dc_w / stack_volts(bank, low).full_v", "test_by_hand"),
    # --- simulation
    Planted("charge without its efficiency", "simulation/kernel/rows.py", "stored, of_pv = (into - taking) * step_h, 0.0", "stored, of_pv = into * step_h, 0.0", K),
    Planted("the floor is passed by what storing loses", "simulation/kernel/node.py", "(e1 - level) * nd.give_per_wh - nd.give_less", "(e1 - level) * nd.spare_per_wh", K),
    Planted("resistance is counted in proportion", "simulation/storing.py", "square = (0.0 if ohms is None else ohms / volts**2)", "square = (0.0 if ohms is None else 0.0 / volts**2)", "published/test_storing"),
    Planted("discharge limit", "simulation/kernel/node.py", "most = min(nd.discharge, nd", "most = min(nd.charge, nd", K),
    Planted("clipped part only charges all", "simulation/kernel/node.py", "if kind == CLIPPED_ONLY or kind == DISCHARGE_TO_GRID:", "if kind == CLIPPED_ONLY:", K),
    Planted("what is clipped finds no room", "simulation/kernel/rules.py", "max(most, w.pv - passes(nd, w))", "most", K),
    Planted("peak-hold ignored", "simulation/kernel/node.py", "level = max(floor, nd.hold) if p.target_w < np.inf or p.island > 0.0 else floor", "level = floor", K),
    Planted("a former in standby draws its night watts", "simulation/island.py", 'np.where(forming, nodes["p_self_w"], nodes["night_w"])', 'nodes["night_w"]', K),
    Planted("an empty bank wakes on AC-coupled PV", "simulation/kernel/node.py", "return nd.forms > 0.0 and w.pv + w.give_peak > out_dc_w(nd, WISH_W)", "return nd.forms > 0.0", "published/test_hand_island"),
    Planted("a car on the DC side lets its battery run", "simulation/kernel/node.py", "        w.kind = HOLD\n        b.never += car_in", "        b.never += car_in", K),
    Planted("charge controllers without their output limit", "year/stages.py", "share = np.minimum(1.0, np.divide(most_w, together", "share = np.maximum(1.0, np.divide(most_w, together", "published/test_hand_island"),
    Planted("a time switch hears the meter", "simulation/pack.py", "rows[\"kind\"] = np.where(waits | (kinds == OWN_USE), OWN_PV_ONLY, rows[\"kind\"])", "pass", "published/test_hand_island"),
    Planted("a timer is cut like a slot", "simulation/kernel/rules.py", " or w.timer > 0.0:\n        return over, False", ":\n        return over, False", K),
    Planted("a discharge slot forgets the house", "simulation/kernel/rules.py", "    w.still -= gain\n", "", K),
    Planted("a sensor at the device sees the meter", "simulation/kernel/step.py", "if p.at_device > 0.0:  # the sensor", "if p.at_device > 2.0:  # the sensor", K),
    Planted("volts do not follow the charge", "simulation/kernel/node.py", "nd.charge_empty + nd.charge_more * energy", "nd.charge_empty", K),
    Planted("cold cells charge", "simulation/kernel/node.py", "nd.charge_more * energy) * part", "nd.charge_more * energy)", K),
    Planted("taper", "simulation/kernel/node.py", "(min(energy, nd.full) - nd.taper_from)", "min(energy, nd.full)", K),
    Planted("hold charges", "simulation/kernel/node.py", "hold = kind == HOLD", "hold = False", K),
    Planted("a slot's draw is not in the cap", "simulation/kernel/rules.py", "granted = min(passed, max(0.0, cap + b.demand + b.slots))", "granted = min(passed, max(0.0, cap + b.demand))", "test_kernel_reference"),
    Planted("bias draws a surplus charge from the grid", "simulation/kernel/step.py", "return max(cap, 0.0) if b.surplus > 0.0 else cap", "return cap", "test_kernel_rules"),
    Planted("like units by priority", "simulation/pack.py", 'if name not in ("side", "reserve")]', "]", "test_packing"),
    Planted("device ignored outwards", "simulation/kernel/rows.py", "max(0.0, abs(through) - p.transfer_w)", "max(0.0, through - p.transfer_w)", K),
    Planted("never loads fed by the battery", "simulation/kernel/rows.py", "plain = max(0.0, house - never)", "plain = house", K),
    Planted("clipping caught twice", "simulation/kernel/rows.py", "clipped = min(left, potential - caught)", "clipped = min(left, potential)", f"{K} {S}"),
    Planted("steady after one run", "simulation/walks.py", "while not steady.all() and runs.max() < most:", "while runs.max() < 1:", P),
    Planted("reserve forgotten", "simulation/pack.py", 'low, high, min(reserve, high)', 'low, high, 0.0', P),
    Planted("amps add in series", "plant/chain.py", '    if bank.cells.stacking != "parallel":\n        return per_module_a\n', "", P),
    Planted("volts add in parallel", "plant/chain.py", 'return bank.cells.voltage_nominal_v * (bank.modules if bank.cells.stacking == "series" else 1)', "return bank.cells.voltage_nominal_v * bank.modules", P),
    Planted("card's floor ignored", "plant/chain.py", "max(bank.soc_min_frac, bank.cells.soc_min_frac)", "bank.soc_min_frac", P),
    Planted("phases forgotten in the pass-through", "plant/lines.py", "self.supply_v * amps * (3 if self.count == 3 else 1)", "self.supply_v * amps", P),
    Planted("export cap in kW", "year/plan_flow.py", "math.inf if caps.export_w is None else caps.export_w,", "math.inf if caps.export_w is None else caps.export_w * 1000,", F),
    Planted("PV-only on the wrong side", "year/plan_flow.py", '("backup", True): AC_PV_B, ("grid", True): AC_PV_G,', '("backup", True): AC_PV_G, ("grid", True): AC_PV_B,', P),
    # --- sun, strings, planner
    Planted("cold voltage warm", "pv/voltage.py", "by_card = modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (low_c - 25.0))", "by_card = modules * module.voc_stc_v * (1.0 + module.beta_voc_per_c * (low_c + 25.0))", f"{V} published/test_sun_and_strings"),
    Planted("table read a band too warm", "pv/voltage.py", "if low_c > bottom - 1e-9", "if low_c > bottom - 5.0", "published/test_sun_and_strings"),
    Planted("β in place of γ − α", "pv/voltage.py", "return module.gamma_pmp_per_c - module.alpha_isc_per_c", "return module.beta_voc_per_c or -0.003", f"{V} published/test_sun_and_strings"),
    Planted("ceiling without the module", "pv/limits.py", "return min(rows, key=lambda row: row[0])", "return rows[0]", f"{V} test_planner"),
    Planted("factor twice", "pv/limits.py", 'return pack.value("short_circuit_factor") * free + held', 'return pack.value("short_circuit_factor") ** 2 * free + held', f"{V} test_planner"),
    Planted("one string too few pushes back", "pv/limits.py", "for s in strings) - weakest.short_circuit_a", "for s in strings) - 2 * weakest.short_circuit_a", f"{V} test_limits"),
    Planted("planner fills a roof too full", "pv/planner.py", 'broken = "roof room" if modules * strings > face.room else ""', 'broken = "roof room" if modules > face.room else ""', "test_planner"),
    Planted("planner forgets what stays", "pv/planner.py", "* s.module.power_stc_w + s.kept_stc_w <= s.array_limit.most_w", "* s.module.power_stc_w <= s.array_limit.most_w", "test_limits test_roof test_planner"),
    Planted("hybrid's ratio without battery", "plant/unit.py", "if has_battery and self.dc_ac_ratio_max_with_battery is not None:", "if self.dc_ac_ratio_max_with_battery is None:", V),
    Planted("branches share alike", "plant/chain.py", "if ohms is None else bank_limit_a(ohms, per_module_a)", "if ohms is None else per_module_a * bank.modules", "published/test_sharing"),
    Planted("no sag under load", "plant/chain.py", "return volts - amps * ohms, amps", "return volts, amps", f"{V} published/test_sharing"),
    # --- rules
    Planted("a list that names nobody is a yes", "rules/checks_pairing.py", "return row.battery.model.id in ours or row.station.model.id in theirs if ours or theirs else None", "return True if ours or theirs else None", f"{V} test_check_cases"),
    Planted("frost charges", "plant/bank.py", "        return 0.0\n    i = ", "        return 1.0\n    i = ", "published/test_ageing"),
    Planted("margin of a least", "rules/registry.py", 'gap = limit - value if sense == "most" else value - limit', "gap = limit - value", f"{V} test_check_cases"),
    Planted("tight below ten percent of volts", "packs/international.toml", "voltage_v = { value = 0.03,", "voltage_v = { value = 0.10,", "test_check_cases"),
    Planted("waived is still a gate", "decision/compare.py", 'over = [f for f in findings if f.verdict == "over" and not f.waived]', 'over = [f for f in findings if f.verdict == "over"]', F),
    Planted("a broken check is within", "rules/runner.py", 'rows = [unknown(context, entry.id, "", f"it could not be checked ({type(error).__name__}: {error})", entry.source)]', "rows = []; del error", "test_check_cases"),
    Planted("network forgets the count", "rules/checks_network.py", "total += card.ac_rated_w * node.count", "total += card.ac_rated_w", "published/test_trade_sums"),
    Planted("window without the one way", "simulation/quick.py", "loss.arrives_w(max(0.0, row.unit.charger_dc_w(ac))) * part", "max(0.0, row.unit.charger_dc_w(ac)) * part", f"{V} published/test_trade_sums"),
    Planted("evening by standard time", "year/facts.py", "in_window(calendar.clock_hour, *EVENING_H)", "in_window((calendar.clock_hour + 1) % 24, *EVENING_H)", F),
    Planted("absorb ratio left out", "rules/checks_service.py", "limit += takes * unit.absorb_ratio", "limit += takes", V),
    # --- money, keys, edits
    Planted("standing charge by month", "tariff/bill.py", "days * tariff.standing_per_day for days in MONTH_DAYS", "tariff.standing_per_day for days in MONTH_DAYS", "published/test_tariffs test_study"),
    Planted("flow's key forgets the controls", "year/inputs.py", "        controls=plant.controls,\n        reserves", "        controls=Controls(),\n        reserves", S),
    Planted("a name enters the key of a year", "plant/resolve.py", "        id=node.id, side=node.side,", "        id=node.name, side=node.side,", S),
    Planted("an entry made twice", "cache.py", "                result = make()\n                weight = size(result)", "                result = make()\n                self._busy.pop(key, None)\n                weight = size(result)", "test_cache"),
    Planted("saved over on a full disk", "job/container.py", "os.fsync(out.fileno())", "pass", "test_save_kill"),
    Planted("outage motors never start at once", "year/course.py", "self.starting = True\n        return j", "return j", "test_outage"),
    Planted("outage start forgets the battery", "year/switchboard.py", "if lines.bank_w is not None:", "if False:", "test_outage"),
    Planted("outage phases are one", "year/circuits.py", "return any(share > 0 and not lives for share, lives in zip(shares, live.tolist(), strict=True))", "return False", "test_outage"),
    Planted(
        "outage lasts by less energy", "simulation/kernel/loops.py", "w[0].energy >= begins[hour]", "w[0].energy >= 0.5 * begins[hour]",
        "test_outage",
    ),
    Planted("outage what waits comes back", "year/switchboard.py", "self.gone[lost] = True", "self.gone[lost] = False", "test_outage"),
    Planted("outage PV never trips", "simulation/following.py", "if held[i] > trips[i, 1]:", "if held[i] > 1e9:", "test_outage"),
    Planted("outage surplus all day", "year/switchboard.py", "self.soaked[k] >= c.day_wh - 1e-6", "False", "test_outage"),
    Planted("rise one way alone", "wiring/sums.py", 'if way == "three" else 2.0) * amps', 'if way == "three" else 1.0) * amps', "published/test_wiring"),
    Planted("cold copper", "packs/conductors.py", "hot = self.runs_at_c if at_c is None else at_c", "hot = 20.0", "published/test_wiring"),
    Planted("busbar without 1.25", "wiring/sums.py", "fed, out = factor * inverters_a, []", "fed, out = inverters_a, []", "published/test_wiring"),
    Planted("pack before the letter", "rules/network_rule.py", "getattr(typed, field) is None and ", "", "test_packs"),
)  # fmt: skip


def run_one(fault: Planted, folder: Path) -> tuple[str, float]:
    """Plant one fault in a copy, run its tests until the first fails; return which, and the seconds it took."""
    target = folder / "src" / "calm_relay" / fault.file
    text = target.read_text(encoding="utf-8")
    target.write_text(text.replace(fault.old, fault.new, 1), encoding="utf-8")
    files = [f"tests/{name}.py" for name in fault.tests.split() if (folder / "tests" / f"{name}.py").exists()]
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider", *files]
    begin = time.perf_counter()
    environment = {**os.environ, "PYTHONPATH": str(folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    run = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, timeout=600)
    took = time.perf_counter() - begin
    target.write_text(text, encoding="utf-8")
    caught = re.search(r"^(?:FAILED|ERROR) (\S+)", run.stdout, re.M)
    return (caught.group(1).removeprefix("tests/") if caught else "NOT CAUGHT"), took


def main() -> int:
    """Plant every fault whose name holds the words given; returns how many were not caught."""
    words = " ".join(sys.argv[1:])
    missed = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for part in ("src", "tests", "docs"):
            shutil.copytree(ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__", "screenshots"))
        shutil.copy(ROOT / "pyproject.toml", folder)
        print(f"{'fault':42}{'seconds':>8}  caught by")
        for fault in (f for f in FAULTS if words in f.name):
            caught, took = run_one(fault, folder)
            missed += caught == "NOT CAUGHT"
            print(f"{fault.name:42}{took:8.1f}  {caught}", flush=True)
    print(f"{missed} not caught")
    return missed


if __name__ == "__main__":
    raise SystemExit(main())
