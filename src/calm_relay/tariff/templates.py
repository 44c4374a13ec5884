"""Ready tariffs with invented figures, and tariffs as open JSON files."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import handed_in
from calm_relay.job.fault_words import words_of
from calm_relay.job.tariff_models import Period, Season, Tariff, Tier

ALL_YEAR = tuple(range(1, 13))
MOST_BYTES = 2_000_000


def week_of(day: list[str], weekend: list[str] | None = None) -> tuple[tuple[str, ...], ...]:
    """Return a week of period ids: five like days and a weekend of its own, if it has one."""
    return (tuple(day),) * 5 + (tuple(weekend or day),) * 2


def _hours(*parts: tuple[str, int]) -> list[str]:
    return [name for name, hours in parts for _ in range(hours)]


def _bare(name: str, price: float, export: float, **more: Any) -> Tariff:
    return Tariff(
        name=name, import_price_per_kwh=price, cheap_price_per_kwh=price, cheap_start_h=0, cheap_end_h=0,
        export_price_per_kwh=export, standing_per_day=0.6, **more,
    )  # fmt: skip


def templates() -> tuple[Tariff, ...]:
    """Return the ready tariffs; every figure in them is invented."""
    day_night = (
        Period(id="day", name="day", import_price_per_kwh=0.34),
        Period(id="night", name="night", import_price_per_kwh=0.22),
    )
    three = (
        Period(id="off", name="off peak", import_price_per_kwh=0.2),
        Period(id="mid", name="shoulder", import_price_per_kwh=0.28),
        Period(id="peak", name="peak", import_price_per_kwh=0.46),
    )
    equal = tuple(p.model_copy(update={"export_price_per_kwh": p.import_price_per_kwh}) for p in three)
    peak_day = _hours(("off", 7), ("mid", 10), ("peak", 4), ("mid", 1), ("off", 2))
    calm_day = _hours(("off", 7), ("mid", 15), ("off", 2))
    whole = {"id": "year", "name": "all year", "months": ALL_YEAR}
    night = week_of(_hours(("night", 6), ("day", 16), ("night", 2)))
    return (
        _bare("One price (invented)", 0.3, 0.08),
        _bare(
            "Day and night (invented)", 0.34, 0.08, periods=day_night,
            seasons=(Season.model_validate({**whole, "week": night}),),
        ),
        _bare(
            "Three periods (invented)", 0.28, 0.08, periods=three,
            seasons=(Season.model_validate({**whole, "week": week_of(peak_day, calm_day)}),),
        ),
        _bare("Cheap night window (invented)", 0.36, 0.12).model_copy(
            update={"cheap_price_per_kwh": 0.12, "cheap_start_h": 0.5, "cheap_end_h": 4.5}
        ),
        _bare(
            "Equal import and export by window (invented)", 0.28, 0.2, periods=equal,
            seasons=(Season.model_validate({**whole, "week": week_of(peak_day, calm_day)}),),
        ),
        _bare("No export paid (invented)", 0.3, 0.0),
        _bare("Tiers and a least bill (invented)", 0.22, 0.06, minimum_per_month=12.0).model_copy(
            update={"tiers": (Tier(up_to_wh=300_000, add_per_kwh=0.0), Tier(add_per_kwh=0.11))}
        ),
    )  # fmt: skip


def read_tariff(path: Path | str) -> Tariff:
    """Return the tariff of an open JSON file.

    Raises
    ------
    BadInput
        One line for each thing wrong: the field, what is wrong, what would be right.
    """
    path = Path(path)
    raw = handed_in(path, MOST_BYTES, "it is far larger than a tariff", "give a tariff as JSON")
    try:
        data = json.loads(raw.decode("utf-8-sig"))
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        raise BadInput([Fault(str(path), "", f"it is not readable as JSON ({error})"[:200], "mend the text")]) from error
    try:
        tariff = Tariff.model_validate(data)
    except ValidationError as error:
        faults = [Fault(str(path), ".".join(str(step) for step in item["loc"]), *words_of(item)) for item in error.errors()]
        raise BadInput(faults) from error
    for name in ("hourly_import", "hourly_export"):
        if getattr(tariff, name) is not None:
            remedy = "read hourly prices from a CSV of their own"
            raise BadInput([Fault(str(path), name, "a tariff file holds no series", remedy)])
    return tariff


def tariff_json(tariff: Tariff) -> str:
    """Return a tariff as an open JSON file."""
    return json.dumps(tariff.model_dump(exclude={"hourly_import", "hourly_export"}), indent=1, ensure_ascii=False) + "\n"
