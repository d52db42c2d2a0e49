"""Two runners mean the same: random plans with faults are carried out by both, and nothing differs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import differential
import pytest

from yendo.steps.host import STEP_FAILED

COUNT = int(os.environ.get("YENDO_DIFFERENTIAL", "4"))
FIRST = int(os.environ.get("YENDO_DIFFERENTIAL_FIRST", "1"))


@pytest.mark.wine
def test_both_runners_do_the_same(tmp_path: Path, shell_wine: Any) -> None:
    wrong = differential.main(COUNT, FIRST, tmp_path, shell_wine)
    assert wrong == [], f"{len(wrong)} of {COUNT} differ\n\n" + "\n\n".join(wrong)


@pytest.mark.wine
def test_people_and_clocks(tmp_path: Path, shell_wine: Any) -> None:
    wrong = differential.people(max(1, COUNT // 2), FIRST, tmp_path, shell_wine)
    assert wrong == [], f"{len(wrong)} runs differ\n\n" + "\n\n".join(wrong)


@pytest.mark.wine
def test_a_way_back_that_fails_where_it_goes_on(tmp_path: Path, shell_wine: Any) -> None:
    """A run that was cut off while it took back goes on with that; what fails then ends it, and is said."""
    made = differential.workspace(
        tmp_path,
        '[package]\nid = "random"\nname = "Random"\nversion = "1.2"\n\n[[install]]\nkind = "copy"\n'
        'from = "extras/tree"\nto = \'C:\\Random\\tree\'\n\n[[install]]\nkind = "exe"\n'
        "program = '%SystemRoot%\\System32\\cmd.exe'\narguments = '/c exit 7'\non_failure = \"undo\"\n"
        "\n[[detect]]\nkind = \"file\"\npath = 'C:\\Random\\tree\\one.txt'\n",
    )
    fault = differential.Fault("install", "undo", "removal one.txt", 99)
    ours = differential.interpreted(made, fault)
    assert ours.codes[0] == STEP_FAILED and ours.told[0][-1] == f"run-stopped stopped: {differential.REFUSED}"
    with shell_wine.fresh() as session:
        assert differential.compared(ours, differential.real(made, fault, session)) == []
