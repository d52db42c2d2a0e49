"""The demo's whole sequence, by the package's own runner, through its restart."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest


@pytest.mark.thorough
@pytest.mark.wine
def test_the_demo_through_its_restart(tmp_path: Path, shell_wine: Any) -> None:
    from yendo.demo import story
    from yendo.prove.prove import prove
    from yendo.prove.scenarios import SCENARIOS, at_sites

    told = story.tell(tmp_path / "demo", shell_wine)
    assert told.proof.passed, [
        (phase.title, phase.found, phase.details) for phase in told.proof.phases if phase.outcome == "failed"
    ]
    assert [moment.exit_code for moment in told.lived] == [27, 1641, 0, 0]
    assert told.proof.comparison is not None and told.proof.comparison.false == ()

    # The layer puts no file of a patched product back: said, and neither a green proof nor the package's fault.
    package = tmp_path / "demo" / "lantern" / "package" / "tidewell-lantern-6.2.3-r1"
    (scenario,) = at_sites([SCENARIOS["repair"]], ["marrowby"])
    mended = prove(package, shell_wine, scenario=scenario)
    assert mended.outcome == "open" and "patched product" in mended.unanswered, mended.phases
