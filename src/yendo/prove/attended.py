"""Real Windows computers as machines: over SSH, and the one that Yendo runs on.

Every scenario of the system account can be played on them, each from a computer that was put back.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yendo.errors import NotCovered
from yendo.machines.addresses import Address
from yendo.machines.live.local import LocalLink
from yendo.machines.live.session import IDLE, LiveMachine
from yendo.machines.live.ssh import SshLink
from yendo.package.scripts import assembled
from yendo.plan.model import Proving
from yendo.prove import remote
from yendo.prove.furnished import furnished
from yendo.prove.proof import Proof
from yendo.prove.prove import prove
from yendo.prove.scenarios import Scenario


def over_ssh(name: str, address: Address, heard: Callable[[str], object], *, idle: float = IDLE) -> LiveMachine:
    """The computer of a name in ``machines.toml``. Raises NoMachine where the library for it is not here."""
    return LiveMachine(SshLink(name, address, heard), script(), idle=idle, heard=heard)


def proved_over_ssh(
    package: Path,
    name: str,
    address: Address,
    scenario: Scenario,
    proving: Proving,
    root: Path,
    heard: Callable[[str], object],
) -> tuple[Proof, str]:
    """One scenario of the system account on a computer, and what that computer is in words.

    The life of the package is played by a kit, which needs nobody meanwhile; every other step by step. ``root`` is
    where the files of ``proving`` lie. Raises NoMachine, Usage, Unreadable, NotCovered.
    """
    if scenario.account != "system":
        raise NotCovered(f"over SSH the system account is proved; {scenario.id} needs a person's session: make a kit")
    if scenario.id.partition("@")[0] == "system":
        result = remote.play(package, name, address, scenario.site or "", heard)
        proof = prove(package, result.machine, scenario=scenario, accept=proving.accept)
        return proof, result.machine.words
    machine = over_ssh(name, address, heard)
    try:
        ready = furnished(machine, proving, root)
        return prove(package, ready, scenario=scenario, accept=proving.accept), machine.words
    finally:
        machine.interrupt()


def here(although: str, heard: Callable[[str], object], *, idle: float = IDLE) -> LiveMachine:
    """This computer, once. Raises NoMachine where it is no Windows."""
    return LiveMachine(LocalLink(although), script(), idle=idle, heard=heard)


def script() -> bytes:
    """What carries out errands on a computer."""
    return assembled("yendo.machines.live", "errands.ps1", {"account": "system"})
