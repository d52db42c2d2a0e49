"""One cell as it travels: a scenario of a package on a kind of machine, with all that its proof needs from outside."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

import yendo
from yendo.errors import NotCovered
from yendo.machines import addresses, kinds
from yendo.machines.kinds import SSH
from yendo.plan.model import Proving
from yendo.prove import scenarios
from yendo.prove.furnished import furnished
from yendo.prove.proof import Proof
from yendo.prove.prove import prove
from yendo.prove.scenarios import Scenario


class Job(msgspec.Struct, frozen=True):
    """A cell. ``package`` and every file that ``proving`` names lie below a root, which each computer has its own of.

    ``version`` is of the Yendo that asks: another one could mean something else by the same words.
    """

    package: str
    scenario: str
    site: str
    machine: str
    release: str | None = None
    unconfined: bool = False
    proving: Proving = Proving()
    version: str = yendo.__version__


class Making(msgspec.Struct, frozen=True):
    """What the computer that plays has for its machines: where templates are kept, a PowerShell for the layer, and the
    folder whose ``machines.toml`` says which computers it reaches.
    """

    cache: str
    powershell: str = ""
    folder: str = ""


def scenario_of(job: Job, root: Path) -> Scenario:
    """The scenario of a job. Raises NotCovered."""
    package = root / job.package
    others, back_to = ([root / name for name in some] for some in (job.proving.others, job.proving.back_to))
    known = scenarios.with_others(tuple(others), package, back_to)
    name = job.scenario.rpartition("@")[0] if job.site else job.scenario
    if name not in known:
        raise NotCovered(f"scenario {name} is not known to this package here")
    return scenarios.at_sites([known[name]], [job.site])[0]


def play(job: Job, root: Path, making: Making, heard: Callable[[str], object] = lambda text: None) -> Proof:
    """Plays a cell. Raises what ``prove`` raises, NoMachine, Usage."""
    if job.version != yendo.__version__:
        raise NotCovered(f"this worker has Yendo {yendo.__version__}, and {job.version} asks; they have to be the same")
    package, scenario = root / job.package, scenario_of(job, root)
    if job.machine.startswith(SSH):
        from yendo.prove import attended

        name = job.machine.removeprefix(SSH)
        address = addresses.named(Path(making.folder), name)
        if not address.revert:
            raise NotCovered(f"{job.machine} is changed by every cell, and machines.toml there has no revert for it")
        return attended.proved_over_ssh(package, name, address, scenario, job.proving, root, heard)[0]
    machine = kinds.make(
        job.machine,
        Path(making.cache),
        Path(making.powershell) if making.powershell else None,
        unconfined=job.unconfined,
        release=job.release,
    )
    return prove(package, furnished(machine, job.proving, root), scenario=scenario, accept=job.proving.accept)
