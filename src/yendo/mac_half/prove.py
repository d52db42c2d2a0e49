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
from yendo.mac_half.scenes import SCENARIOS, MacPhase, MacStage

SCHEMA = "yendo.mac-proof/1"
RECORD = "proof-macos.json"


class MacPlayed(msgspec.Struct, frozen=True):
    """A scenario with its parts; ``machine`` says on what."""

    scenario: str
    machine: str
    phases: tuple[MacPhase, ...]

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
    def verdict(self) -> Literal["proved", "failed", "laid only"]:
        if not all(one.proved for one in self.played):
            return "failed"
        return "proved" if self.executed else "laid only"


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
    atomic.write(base / RECORD, msgspec.json.format(msgspec.json.encode(proof), indent=2) + b"\n")
    return proof
