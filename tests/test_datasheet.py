"""A sheet's text read back: one card in six languages and layouts; prose gives nothing; what is not there is not made up."""

from __future__ import annotations

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.cli import main
from calm_relay.equipment.datasheet import LANGUAGES, read_sheet, vocabulary
from calm_relay.equipment.shelf import read_shelf
from calm_relay.plant.unit import unit_of

INVERTER = {
    "ac_rated_w": 10_000.0, "dc_voltage_max_v": 1000.0, "mppt_window": (180.0, 950.0), "start_v": 200.0, "working_current_a": 18.0,
    "short_circuit_current_a": 26.0, "tracker_count": 2.0, "phases": 3.0, "peak_efficiency_frac": 0.981,
    "european_efficiency_frac": 0.975, "night_w": 12.0, "pv_dc_max_w": 20_000.0, "battery_window": (150.0, 800.0),
    "charge_max_w": 12_000.0, "discharge_max_w": 10_500.0, "charge_max_a": 40.0, "discharge_max_a": 41.0,
    "offgrid_continuous_va": 10_000.0, "offgrid_peak_va": 16_000.0, "weight_kg": 31.5,
}  # fmt: skip
PAIRS = {"mppt_window": ("mppt_min_v", "mppt_max_v"), "battery_window": ("battery_voltage_min_v", "battery_voltage_max_v")}
UNIT = {
    "window": ("V", 1.0),
    "apparent": ("VA", 1.0),
    "mass": ("kg", 1.0),
    "count": ("", 1.0),
    "power": ("W", 1.0),
    "volts": ("V", 1.0),
    "amps": ("A", 1.0),
    "per_kelvin": ("%/°C", 100.0),
    "share": ("%", 100.0),
    "energy": ("kWh", 1e-3),
}
MODULE = {
    "power_stc_w": 430.0, "voc_stc_v": 38.9, "vmp_stc_v": 32.6, "isc_stc_a": 13.97, "imp_stc_a": 13.19, "beta_voc_per_c": -0.0025,
    "gamma_pmp_per_c": -0.003, "alpha_isc_per_c": 0.00046, "system_voltage_max_v": 1500.0, "series_fuse_max_a": 25.0,
    "bifaciality_frac": 0.8,
}  # fmt: skip
BATTERY = {
    "capacity_wh": 5120.0,
    "voltage_nominal_v": 51.2,
    "charge_max_a": 50.0,
    "discharge_max_a": 100.0,
    "dc_round_trip_frac": 0.95,
}


def shown(value, quantity: str, comma: bool) -> tuple[str, str]:
    unit, factor = UNIT[quantity]
    if isinstance(value, tuple):
        return " – ".join(shown(end, quantity, comma)[0] for end in value), unit
    text = f"{round(value * factor, 6):g}".replace("-", "−")
    return (text.replace(".", ",") if comma else text), unit


LAYOUTS = {
    "colon": lambda name, figure, unit: f"{name}: {figure} {unit}",
    "unit in brackets": lambda name, figure, unit: f"{name} ({unit})      {figure}",
    "table": lambda name, figure, unit: f"| {name} | {unit} | {figure} |",
    "dots": lambda name, figure, unit: f"{name} ................ {figure} {unit}",
    "under it": lambda name, figure, unit: f"{name}\n{figure} {unit}",
    "tabs": lambda name, figure, unit: f"{name}\t{figure}\t{unit}",
}


@pytest.mark.parametrize("language", LANGUAGES)
@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize(("kind", "card"), [("module", MODULE), ("battery", BATTERY)])
def test_one_card_reads_back_the_same_in_every_language_and_layout(kind, card, layout, language):
    for pick in range(2):
        rng = random.Random(f"{language}{layout}{pick}")
        rows = []
        for field, value in card.items():
            entry = vocabulary()[kind][field]
            names = entry[language]
            name = names[0] if pick == 0 else rng.choice(names)
            figure, unit = shown(value, entry["quantity"], comma=language != "en")
            rows.append(LAYOUTS[layout](name.capitalize(), figure, unit))
        rng.shuffle(rows)
        made = read_sheet("Some sheet\nVersion 3\n" + "\n".join(rows) + "\nSubject to change\n")
        assert made is not None
        assert made.kind == kind
        assert made.values() == pytest.approx(card), (language, layout)


def test_a_printed_sheet_as_one_copies_it():
    text = """
    ELECTRICAL DATA            STC      NMOT
    Nominal maximum power (Pmax)     430 W    323 W
    Open-circuit voltage (Voc)       38.9 V   36.7 V
    Short-circuit current (Isc)      13.97 A  11.26 A
    Voltage at maximum power (Vmpp)  32.6 V
    Current at maximum power (Impp)  13.19 A
    Module efficiency                22.0 %
    Max. system voltage              1,500 V DC
    Maximum series fuse rating       25 A
    Temperature coefficient of Pmax  −0.30 %/°C
    Temperature coefficient of Voc   -0.25 %/K
    Temperature coefficient of Isc   +0.046 %/°C
    Dimensions                       1722 × 1134 × 30 mm
    Weight                           21.5 kg
    """
    made = read_sheet(text)
    assert made is not None
    wanted = {k: v for k, v in MODULE.items() if k != "bifaciality_frac"} | {"length_m": 1.722, "width_m": 1.134}
    assert made.values() == pytest.approx(wanted)
    power = next(f for f in made.figures if f.field == "power_stc_w")
    assert power.words == "Nominal maximum power (Pmax)     430 W    323 W"
    assert power.others == (323.0,), "the other column is shown beside it, to be chosen by who reads"
    several = read_sheet("Pmax 430 W  Voc 38,9 V  Isc 13,97 A  Vmpp: 32,6 V  Impp: 13,19 A")
    assert several is not None
    assert several.values() == pytest.approx({k: MODULE[k] for k in list(MODULE)[:5]})


@pytest.mark.parametrize("language", LANGUAGES)
@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize("kind", ["hybrid", "pv_inverter", "battery_inverter"])
def test_an_inverter_reads_back_the_same_and_as_its_kind(kind, layout, language):
    of_battery = ("battery_window", "charge_max_w", "discharge_max_w", "charge_max_a", "discharge_max_a", "offgrid_continuous_va",
                  "offgrid_peak_va")  # fmt: skip
    of_pv = (
        "dc_voltage_max_v",
        "mppt_window",
        "start_v",
        "working_current_a",
        "short_circuit_current_a",
        "tracker_count",
        "pv_dc_max_w",
    )
    left_out = {"hybrid": (), "pv_inverter": of_battery, "battery_inverter": of_pv}[kind]
    card = {name: value for name, value in INVERTER.items() if name not in left_out}
    wanted: dict[str, float] = {}
    for name, value in card.items():
        ends = zip(PAIRS[name], value, strict=True) if isinstance(value, tuple) else [(name, value)]
        for field, end in ends:
            tracked = field in ("mppt_min_v", "mppt_max_v", "start_v", "working_current_a", "short_circuit_current_a")
            wanted |= {f"trackers.{n}.{field}": end for n in (1, 2)} if tracked else {field: end}
    wanted.pop("tracker_count", None)
    for pick in range(2):
        rng = random.Random(f"{language}{layout}{kind}{pick}")
        rows = []
        for field, value in card.items():
            entry = vocabulary()["inverter"][field]
            name = entry[language][0] if pick == 0 else rng.choice(entry[language])
            figure, unit = shown(value, entry["quantity"], comma=language != "en")
            layed = LAYOUTS["colon" if not unit and layout == "unit in brackets" else layout]
            rows.append(layed(name.capitalize(), figure, unit))
        rng.shuffle(rows)
        made = read_sheet("\n".join(rows))
        assert made is not None
        assert made.kind == kind
        assert made.values() == pytest.approx(wanted), (language, layout)


def test_an_inverters_sheet_becomes_a_card_with_its_loss_fitted(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    sheet = tmp_path / "sheet.txt"
    sheet.write_text(
        "Rated AC power   10 kW\nMax. input voltage 1000 V\nMPPT voltage range 180 V - 950 V\nNumber of MPP trackers 2\n"
        "Max. input current per MPPT 18 A / 18 A\nBattery voltage range 150~800 V\nMax. charging current 40 A\n"
        "Max. efficiency 98.1 %\nEuropean efficiency 97.5 %\n", encoding="utf-8",
    )  # fmt: skip
    assert main(["cards", "read-sheet", str(sheet), "--as", "own-10k"]) != 0, "how many phases is not guessed"
    assert "phases" in capsys.readouterr().err
    sheet.write_text(sheet.read_text(encoding="utf-8") + "Phases 3\n", encoding="utf-8")
    assert main(["cards", "read-sheet", str(sheet), "--as", "own-10k", "--name", "Hybrid of ours"]) == 0
    (card,) = read_shelf().cards
    assert (card.kind, card.phases, len(card.trackers), card.trackers[1].mppt_max_v) == ("hybrid", 3, 2, 950.0)
    assert card.ac_rated_w / unit_of(card).passes_dc_w < 0.981
    assert card.discharge_max_a is None, "what the sheet does not say stays unknown"


PROSE = [
    "The inverter has 2 MPP trackers and a maximum efficiency that we measured as 97 % on a good day; its weight is some 30 kg.",
    "Number of phases depends on the supply, 3 in most houses here. The battery voltage range may be 150 to 800 V.",
    "The open circuit voltage of the module rises to about 52 V on cold mornings, and the maximum power falls when it is hot.",
    "Die Leerlaufspannung von Modulen ist bei Kälte höher: rechnen Sie mit 10 % mehr als im Sommer, etwa 45 V.",
    "Le courant de court-circuit dépend du soleil ; par temps clair on mesure parfois 12 A ou plus.",
    "Our 12 modules of 400 W have run since 2019. In 5 years we lost 2 % and changed one fuse of 16 A. Call 0123 456 789.",
    "Short circuit current\nis what a module gives when both leads touch. Never try it above 10 A.",
]


@pytest.mark.parametrize("text", PROSE)
def test_a_page_of_prose_yields_nothing(text):
    assert read_sheet(text) is None


@given(st.text(max_size=400))
@settings(max_examples=200, deadline=None, derandomize=True)
def test_any_text_is_read_without_a_fault(text):
    made = read_sheet(text)
    assert made is None or made.figures


def test_a_figure_without_its_unit_or_of_another_unit_is_not_taken():
    assert read_sheet("Open circuit voltage 38.9\nShort circuit current: 14 V\nMaximum power 430 kg") is None


def test_a_sheet_is_looked_at_and_becomes_a_card_only_where_nothing_is_missing(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    sheet = tmp_path / "sheet.txt"
    sheet.write_text("Nennleistung 430 Wp\nLeerlaufspannung (Uoc) 38,9 V\n", encoding="utf-8")
    assert main(["cards", "read-sheet", str(sheet)]) == 0
    said = capsys.readouterr().out
    assert "from: Leerlaufspannung (Uoc) 38,9 V" in said
    assert "not found, and needed: vmp_stc_v" in said
    assert main(["cards", "read-sheet", str(sheet), "--as", "own-430"]) != 0
    assert read_shelf().cards == ()
    more = "MPP-Spannung 32,6 V\nKurzschlussstrom 13,97 A\nMPP-Strom: 13,19 A\nTemperaturkoeffizient Pmax −0,30 %/K\n"
    more += "Maximale Systemspannung 1.500 V\nAbmessungen 1722 x 1134 x 30 mm\n"
    sheet.write_text(sheet.read_text(encoding="utf-8") + more, encoding="utf-8")
    assert main(["cards", "read-sheet", str(sheet), "--as", "own-430", "--name", "Module 430 of ours"]) == 0
    (card,) = read_shelf().cards
    assert (card.id, card.system_voltage_max_v, card.length_m) == ("own-430", 1500.0, 1.722)
    assert card.beta_voc_per_c is None, "what the sheet does not say stays unknown"
    sheet.write_text("Dear customer, 12 modules came.", encoding="utf-8")
    assert main(["cards", "read-sheet", str(sheet)]) != 0
