"""Every fault of `planted_faults.py` can still be planted, and its tests are there."""

from __future__ import annotations

import pytest

from tests.planted_faults import FAULTS, ROOT


@pytest.mark.parametrize("fault", FAULTS, ids=lambda fault: fault.name)
def test_a_fault_can_be_planted(fault):
    text = (ROOT / "src" / "calm_relay" / fault.file).read_text(encoding="utf-8")
    assert text.count(fault.old) == 1, "its line moved: plant it where it is now"
    assert fault.new != fault.old
    for name in fault.tests.split():
        assert (ROOT / "tests" / f"{name}.py").exists(), name


def test_there_are_fifty_with_names_of_their_own():
    assert len({fault.name for fault in FAULTS}) == len(FAULTS) >= 50
