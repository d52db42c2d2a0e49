"""Real Windows computers as machines: over SSH, and the one that Yendo runs on.

Every scenario of the system account can be played on them, each from a computer that was put back.
"""

from __future__ import annotations

from collections.abc import Callable

from yendo.machines.addresses import Address
from yendo.machines.live.local import LocalLink
from yendo.machines.live.session import IDLE, LiveMachine
from yendo.machines.live.ssh import SshLink
from yendo.prove.kit import assembled


def over_ssh(name: str, address: Address, heard: Callable[[str], object], *, idle: float = IDLE) -> LiveMachine:
    """The computer of a name in ``machines.toml``. Raises NoMachine where the library for it is not here."""
    return LiveMachine(SshLink(name, address, heard), script(), idle=idle, heard=heard)


def here(although: str, heard: Callable[[str], object], *, idle: float = IDLE) -> LiveMachine:
    """This computer, once. Raises NoMachine where it is no Windows."""
    return LiveMachine(LocalLink(although), script(), idle=idle, heard=heard)


def script() -> bytes:
    """What carries out errands on a computer."""
    return assembled("yendo.machines.live", "errands.ps1", {"account": "system"})
