"""Proves a package for macOS on simulated machines: what it lays, what its scripts do, that it goes again.

What is held against what: the built package is carried out, and the plan says what has to come of it.
"""

from __future__ import annotations

import os
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from yendo import atomic
from yendo.errors import Usage
from yendo.mac_half import build
from yendo.mac_half.machine import sandbox
from yendo.mac_half.model import MacPlan
from yendo.mac_half.scenes import SCENARIOS
from yendo.mac_half.stage import MacPhase, MacStage, whole
from yendo.machines.addresses import Address
from yendo.machines.kinds import SSH

SCHEMA = "yendo.mac-proof/1"
RECORD = "proof-macos.json"
AWAY = "as-it-is"  # the scenario of a machine that is taken as it is


class MacPlayed(msgspec.Struct, frozen=True):
    """A scenario with its parts; ``machine`` says on what, ``place`` where that is: simulated, or a Mac over SSH."""

    scenario: str
    machine: str
    phases: tuple[MacPhase, ...]
    place: str = "simulated"

    @property
    def proved(self) -> bool:
        return not any(phase.problems for phase in self.phases)


class MacProof(msgspec.Struct, frozen=True):
    """``executed`` is whether scripts were carried out; ``blind`` are programs that they called and no stand-in has."""

    schema: str
    package: str
    digest: str
    executed: bool
    why_not: str
    played: tuple[MacPlayed, ...]
    blind: tuple[str, ...] = ()

    @property
    def real(self) -> tuple[str, ...]:
        """The Macs that were asked."""
        return tuple(dict.fromkeys(one.place for one in self.played if one.place != "simulated"))

    @property
    def verdict(self) -> Literal["proved", "failed", "laid only"]:
        if not all(one.proved for one in self.played):
            return "failed"
        return "proved" if self.executed else "laid only"


def title_of(scenario: str) -> str:
    """A scenario's name for people."""
    known = SCENARIOS.get(scenario)
    return known.title if known else "a Mac as it is"


def _played(stage: MacStage, name: str) -> MacPlayed:
    machine, phases = SCENARIOS[name].play(stage)
    done = MacPlayed(name, f"macOS {machine.system}, {machine.processor}", tuple(phases))
    stage.blind |= machine.unknown | {" ".join(what) for kind, *what in machine.state["notes"] if kind == "no-stand-in"}
    return done


def prove(base: Path, plan: MacPlan, names: tuple[str, ...] = ()) -> MacProof:
    """Plays the scenarios that the plan calls for, or these. Raises Usage, Unreadable, NotCovered."""
    folder = build.built(base, plan)
    unknown = set(names) - set(SCENARIOS)
    if unknown:
        raise Usage(f"no scenario for macOS is called {', '.join(sorted(unknown))}; there are {', '.join(SCENARIOS)}")
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        stage = MacStage(base, plan, folder, Path(place))
        meant = [name for name, one in SCENARIOS.items() if ((name in names) if names else one.called(stage))]
        with ThreadPoolExecutor(os.cpu_count()) as pool:  # the work is done by processes
            played = list(pool.map(lambda name: _played(stage, name), meant))
        blind = tuple(sorted(stage.blind))
    why = sandbox.lacking()
    proof = MacProof(SCHEMA, folder.name, build.digest_of(folder), not why, why, tuple(played), blind)
    _keep(base, proof)
    return proof


def prove_away(base: Path, plan: MacPlan, name: str, address: Address) -> MacProof:
    """Plays it on a Mac over SSH, as it is there: who is logged on, what lies on it. Raises NoMachine, Usage."""
    from yendo.mac_half.away import MacAway

    folder = build.built(base, plan)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place, MacAway(name, address) as machine:
        stage = MacStage(base, plan, folder, Path(place))
        machine.hashed = set(stage.laid(machine))
        phases = tuple(whole(stage, machine))
        played = MacPlayed(AWAY, f"macOS {machine.system}, {machine.processor}", phases, f"{SSH}{name}")
    proof = MacProof(SCHEMA, folder.name, build.digest_of(folder), True, "", (played,))
    _keep(base, proof)
    return proof


def kept(base: Path) -> MacProof | None:
    """What was proved last; None where nothing was, or it cannot be read."""
    try:
        return msgspec.json.decode((base / RECORD).read_bytes(), type=MacProof)
    except (OSError, msgspec.MsgspecError):
        return None


def _keep(base: Path, proof: MacProof) -> None:
    """Writes the record; what was played of the same bytes elsewhere, or in another scenario, stays in it."""
    before = kept(base)
    if before is not None and before.digest == proof.digest:
        again = {(one.scenario, one.place) for one in proof.played}
        earlier = [one for one in before.played if (one.scenario, one.place) not in again]
        order = {name: number for number, name in enumerate(SCENARIOS)}
        played = sorted([*earlier, *proof.played], key=lambda one: order.get(one.scenario, len(order)))
        simulated = next((one for one in (proof, before) if not one.real), proof)
        proof = msgspec.structs.replace(
            proof,
            played=tuple(played),
            blind=tuple(sorted({*before.blind, *proof.blind})),
            executed=simulated.executed,
            why_not=simulated.why_not,
        )
    atomic.write(base / RECORD, msgspec.json.format(msgspec.json.encode(proof), indent=2) + b"\n")
