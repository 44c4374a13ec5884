"""What every command says of the five plants is what the kept files say: figures and words change in review, never unseen."""

from __future__ import annotations

import pytest

from tests.plants import PLANTS
from tests.telling import COMMANDS, HERE, all_told


@pytest.mark.parametrize("plant", PLANTS)
def test_commands_say_of_a_plant_what_the_kept_files_say(plant: str) -> None:
    said = all_told(plant)
    kept = {command: (HERE / plant / f"{command}.txt").read_text(encoding="utf-8") for command in COMMANDS}
    changed = [command for command in COMMANDS if said[command] != kept[command]]
    assert not changed, f"python -m tests.telling, and look at what differs of {plant}: {changed}"
    stands = {file.stem for file in (HERE / plant).glob("*.txt")}
    assert stands == set(COMMANDS), "no file is left behind"
