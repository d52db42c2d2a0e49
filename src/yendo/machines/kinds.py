"""The kinds of machines that Yendo makes itself, by their names."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # the command line asks for the names alone, at every start
    from yendo.machines.protocol import Machine

NAMES = ("simulated", "wine")
HERE = "here"  # the Windows that Yendo runs on
SSH = "ssh:"  # in front of a computer's name in machines.toml


def make(
    name: str, cache: Path, powershell: Path | None = None, *, unconfined: bool = False, release: str | None = None
) -> Machine:
    """The machine of a name; its templates are kept in ``cache``. ``release`` is the Windows that the simulated one is.

    Raises NoMachine, Usage.
    """
    if name == "simulated":
        from yendo.machines.simulated.machine import SimulatedMachine

        return SimulatedMachine(release) if release else SimulatedMachine()
    from yendo.machines.wine.machine import WineMachine, powershell_source

    return WineMachine(cache, powershell_source(powershell), unconfined=unconfined)
