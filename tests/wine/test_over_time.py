"""A command over its time on the layer, without a shell there: one that works gets as long again, one that waits does not."""

from __future__ import annotations

from typing import Any

import pytest

pytestmark = pytest.mark.wine
BUSY = "cmd /c for /l %i in (1,1,100000000) do @rem"


def test_busy_and_idle(wine: Any) -> None:
    with wine.fresh() as session:
        busy = session.run(BUSY, timeout=3, patient=True)
        assert busy.exit_code is None and busy.seconds >= 6, busy
        assert busy.looks and all(look.busy for look in busy.looks)
        idle = session.run("ping -n 30 127.0.0.1", timeout=3, patient=True)
        assert idle.exit_code is None and idle.seconds < 6, idle
        assert [look.busy for look in idle.looks] == [False]
        assert session.run("ping -n 30 127.0.0.1", timeout=1).looks == ()
