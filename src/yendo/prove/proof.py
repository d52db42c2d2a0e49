"""The record of a proof."""

from __future__ import annotations

from typing import Literal

import msgspec

from yendo.effects import Effect
from yendo.machines.protocol import Place

SCHEMA = "yendo.proof/1"
Outcome = Literal["passed", "failed", "not executed"]


ASSUMED = "assumed"  # the phase for steps that ran nowhere
UNCOVERED = "covered"  # the phase of a scenario that a machine cannot carry out to its end


class Phase(msgspec.Struct, frozen=True, omit_defaults=True):
    """One claim: what was expected, what was found, and where it was executed.

    ``by`` says what carried it out; a claim executed nowhere is never passed. Seconds are wall time.
    """

    id: str
    title: str
    outcome: Outcome
    place: Place
    expected: str
    found: str
    by: str = ""
    seconds: float = 0.0
    details: tuple[str, ...] = ()
    cause: str = ""
    advice: str = ""


class Comparison(msgspec.Struct, frozen=True, omit_defaults=True):
    """Predicted against observed effects. ``evidence`` is False where one interpreter made both."""

    evidence: bool
    matched: int
    missed: tuple[Effect, ...]
    false: tuple[Effect, ...]
    recall: float
    precision: float
    layer_differences: dict[str, int] = {}
    blind_spots: tuple[str, ...] = ()


class Leftover(msgspec.Struct, frozen=True):
    """Something that uninstalling left behind, and whose doing that is."""

    what: str
    reason: str
    whose: Literal["package", "runner", "layer", "temporary", "accepted"] = "package"


class Proof(msgspec.Struct, frozen=True, kw_only=True):
    """``digest`` is that of the package's manifest: the proof belongs to those bytes. Times in seconds. ``earlier`` is
    the digest of the package that a way back has led to.
    """

    schema: str = SCHEMA
    package: str
    version: str
    revision: int
    digest: str
    machine: str
    label: str
    place: Place
    scenario: str
    scenario_note: str
    runner_executed: bool
    started: str
    seconds: float
    command_seconds: float
    phases: tuple[Phase, ...]
    comparison: Comparison | None
    leftovers: tuple[Leftover, ...]
    tool: str
    log: tuple[str, ...] = ()  # what the runner said, each line after its verb
    earlier: str = ""

    @property
    def passed(self) -> bool:
        """Every phase that was executed passed, the install among them, and nothing broke the scenario off."""
        return self.outcome == "passed" and any(
            phase.id == "install" and phase.outcome == "passed" for phase in self.phases
        )

    @property
    def outcome(self) -> Literal["passed", "failed", "open", "needless", "not executed"]:
        """How the scenario ended; open where it was broken off, needless where the package does not call for it."""
        if any(phase.outcome == "failed" for phase in self.phases):
            return "failed"
        if any(phase.id == "needless" for phase in self.phases):
            return "needless"
        if not any(phase.outcome == "passed" for phase in self.phases):
            return "not executed"
        return "open" if self.unanswered else "passed"

    @property
    def unanswered(self) -> str:
        """What this machine could not carry out, or took for done without running it. Empty where there is nothing."""
        return next((phase.found for phase in self.phases if phase.id in (UNCOVERED, ASSUMED)), "")
