"""Two runners mean the same: random plans with faults are carried out by both, and nothing differs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import differential
import pytest

COUNT = int(os.environ.get("YENDO_DIFFERENTIAL", "4"))
FIRST = int(os.environ.get("YENDO_DIFFERENTIAL_FIRST", "1"))


@pytest.mark.wine
def test_both_runners_do_the_same(tmp_path: Path, shell_wine: Any) -> None:
    wrong = differential.main(COUNT, FIRST, tmp_path, shell_wine)
    assert wrong == [], f"{len(wrong)} of {COUNT} differ\n\n" + "\n\n".join(wrong)
