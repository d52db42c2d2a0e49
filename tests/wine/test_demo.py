"""The demo's whole sequence, by the package's own runner, through its restart."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest


@pytest.mark.thorough
@pytest.mark.wine
def test_the_demo_through_its_restart(tmp_path: Path, shell_wine: Any) -> None:
    from yendo.demo import story

    told = story.tell(tmp_path / "demo", shell_wine)
    assert told.proof.passed, [
        (phase.title, phase.found, phase.details) for phase in told.proof.phases if phase.outcome == "failed"
    ]
    assert [moment.exit_code for moment in told.lived] == [27, 1641, 0, 0]
    assert told.proof.comparison is not None and told.proof.comparison.false == ()
