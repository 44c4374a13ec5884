"""Frequency curves of PV inverters (definitions D17): what a frequency leaves of their power, and which one leaves so much."""

from __future__ import annotations

from calm_relay.library.base import FrequencyRecord


def nominal_hz(record: FrequencyRecord) -> float:
    """Return the frequency a record is made for. [Hz]"""
    first = record.start_hz if record.start_hz is not None else record.trips[0].frequency_hz
    return 60.0 if first > 56.0 else 50.0


def left_w(record: FrequencyRecord, hz: float, rated_w: float, at_start_w: float) -> float:
    """Return what a curve leaves of an inverter's power at a frequency, trips apart. [W]

    `at_start_w` is its power when the start was crossed; the droop is of the rated power, or of that one.
    """
    if record.start_hz is None or record.droop_frac is None or hz <= record.start_hz:
        return at_start_w
    base = rated_w if record.base == "rated_power" else at_start_w
    return max(0.0, at_start_w - base * (hz - record.start_hz) / (record.droop_frac * nominal_hz(record)))


def hz_for(record: FrequencyRecord, wanted_w: float, rated_w: float, at_start_w: float, top_hz: float) -> float:
    """Return the frequency that leaves so much, at most `top_hz`; that of a trip where there is no droop. [Hz]"""
    nominal = nominal_hz(record)
    if wanted_w >= at_start_w:
        return nominal
    if record.start_hz is None or record.droop_frac is None:
        return top_hz
    base = rated_w if record.base == "rated_power" else at_start_w
    return min(top_hz, record.start_hz + record.droop_frac * nominal * (at_start_w - wanted_w) / max(base, 1e-9))
