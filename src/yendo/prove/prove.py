"""Proving a built package: scenarios on machines, one record each, and all of them as a matrix."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import msgspec

import yendo
from yendo.errors import NotCovered
from yendo.machines.protocol import Machine
from yendo.package import manifest as form
from yendo.prove import upgraded
from yendo.prove.comparison import Predictions
from yendo.prove.furnished import bare
from yendo.prove.proof import ASSUMED, UNCOVERED, Proof
from yendo.prove.scenarios import SCENARIOS, Scenario
from yendo.prove.stage import Progress, Stage


def _played(stage: Stage, scenario: Scenario, machine: Machine) -> None:
    """Plays it, and says what of it ran nowhere."""
    try:
        kinds = {one.kind for rule in stage.manifest.detect for one in rule.flat()} & machine.unanswered
        if kinds:
            raise NotCovered(
                f"it is detected by {', '.join(sorted(kinds))}, which the layer's programs answer nothing about; prove "
                "it where Windows is: --machine ssh:NAME, or a kit"
            )
        scenario.play(stage)
    except NotCovered as error:
        stage.phase(UNCOVERED, "carried out", None, "a machine that can carry out every step", str(error))
    if stage.assumed:
        stage.phase(
            ASSUMED,
            "every step executed",
            None,
            "a machine that runs them",
            f"{'; '.join(stage.assumed)}: ran nowhere, what the probe asks for was taken for done; "
            "prove it where it can run: --machine wine",
        )
    if machine.not_windows and not upgraded.upgrades(stage.manifest):
        expected = "executed on a real Windows"
        stage.phase("system-setup", "the setup of the media itself", None, expected, machine.not_windows)
    if not machine.has_powershell:
        found = "; ".join(filter(None, ("not executed on this machine", machine.without_powershell)))
        stage.phase("runner", "the package's own runner", None, "apply.ps1 executed", found)


def prove(
    package: Path,
    machine: Machine,
    *,
    scenario: str | Scenario = "desk",
    progress: Progress = lambda title: None,
    accept: Sequence[str] = (),
    predictions: Predictions | None = None,
) -> Proof:
    """Proves a built package in one scenario on a machine. ``progress`` hears each phase's title.

    ``accept`` are things that may be left behind; ``predictions`` are shared by several proofs of a package.
    Raises Usage, NoMachine, Unreadable, NotCovered.
    """
    if isinstance(scenario, str):
        if scenario not in SCENARIOS:
            raise NotCovered(f"scenario {scenario!r} is not known; there are: {', '.join(SCENARIOS)}")
        scenario = SCENARIOS[scenario]
    if scenario.bare:
        machine = bare(machine)
    stage = Stage(package, machine, scenario.account, progress, accept, scenario.site, predictions=predictions)
    begun, started = time.monotonic(), datetime.now(UTC).isoformat(timespec="seconds")
    reason = scenario.calls_for(stage.manifest)
    if reason:
        stage.phase("needless", scenario.title, None, "a package that calls for it", reason)
    else:
        machine.surroundings(scenario.account)  # a template that has to be made first is no part of the proof
        begun = time.monotonic()
        _played(stage, scenario, machine)
    manifest = stage.manifest
    note = scenario.note or scenario.title
    return Proof(
        package=manifest.id,
        version=manifest.version,
        revision=manifest.revision,
        machine=machine.name,
        label=machine.label,
        digest=digest_of(package),
        place=machine.place,
        scenario=scenario.id,
        scenario_note=": ".join(filter(None, (note, machine.imitates(scenario.account)))),
        runner_executed=machine.has_powershell,
        started=started,
        seconds=max(time.monotonic() - begun, stage.command_seconds),  # of what was recorded, only judging is done now
        command_seconds=stage.command_seconds,
        phases=tuple(stage.phases),
        comparison=stage.comparison,
        leftovers=tuple(stage.leftovers),
        tool=f"yendo {yendo.__version__}",
        log=tuple(stage.log),
        earlier=digest_of(scenario.earlier) if scenario.earlier else "",
    )


def digest_of(package: Path) -> str:
    """What a proof belongs to: the hash of the package's manifest, which names every file by its own."""
    return hashlib.sha256((package / "manifest.json").read_bytes()).hexdigest()


def record_of(package: Path, machine: str, scenario: str) -> Path:
    """Where the record of a proof lies: beside its package."""
    return package.parent / f"{package.name}.proof-{machine}-{scenario.replace(':', '-')}.json"


def keep(proof: Proof, package: Path) -> Path:
    """Writes a proof's record beside its package; returns where."""
    from yendo import atomic

    body = {**msgspec.to_builtins(proof), "passed": proof.passed}
    record = record_of(package, proof.machine, proof.scenario)
    atomic.write(record, msgspec.json.format(msgspec.json.encode(body), indent=2) + b"\n")
    return record


def kept(package: Path) -> list[Proof]:
    """Every record beside a package, of whatever bytes; one that cannot be read is passed over."""
    found = []
    for path in sorted(package.parent.glob(f"{package.name}.proof-*.json")):
        try:
            body = msgspec.json.decode(path.read_bytes())
            body.pop("passed", None)
            found.append(msgspec.convert(body, Proof, strict=False))
        except (OSError, msgspec.MsgspecError, AttributeError):
            continue
    return found


def passed_before(package: Path) -> dict[tuple[str, str], Proof]:
    """The proofs of these very bytes in which nothing failed, by machine and scenario."""
    digest = digest_of(package)
    return {
        (proof.machine, proof.scenario): proof
        for proof in kept(package)
        if proof.digest == digest and all(phase.outcome != "failed" for phase in proof.phases)
    }


class Cell(msgspec.Struct, frozen=True):
    """A scenario on a machine: its proof, and whether that is an earlier one of the same bytes."""

    scenario: Scenario
    proof: Proof
    earlier: bool = False

    @property
    def outcome(self) -> str:
        return self.proof.outcome


def matrix(
    package: Path,
    machines: Sequence[Machine],
    scenarios: Iterable[Scenario],
    *,
    jobs: int = 2,
    go_on: bool = False,
    accept: Sequence[str] = (),
    progress: Callable[[Cell | None, Machine, Scenario], object] = lambda cell, machine, scenario: None,
    records: bool = True,
) -> list[Cell]:
    """Plays every scenario on every machine, several at once, and keeps a record of each as it ends.

    With ``go_on`` a cell that has passed on these very bytes is not played again. ``progress`` hears of a cell's begin
    (None) and end, from several threads but one at a time. A cell that a defect ends says so, and the others go on.
    """
    earlier = passed_before(package) if go_on else {}
    form.read(package)  # the library that decodes builds its types once, and must not do so in two threads
    lock, predictions = threading.Lock(), Predictions()
    todo = [(machine, scenario) for scenario in scenarios for machine in machines]
    for machine in machines:
        machine.surroundings("user")  # templates are made once, not by several at once

    def play(at: tuple[Machine, Scenario]) -> Cell:
        machine, scenario = at
        there = earlier.get((machine.name, scenario.id))
        if there is not None:
            cell = Cell(scenario, there, earlier=True)
        else:
            with lock:
                progress(None, machine, scenario)
            cell = Cell(scenario, prove(package, machine, scenario=scenario, accept=accept, predictions=predictions))
            if records:
                with lock:
                    keep(cell.proof, package)
        with lock:
            progress(cell, machine, scenario)
        return cell

    with ThreadPoolExecutor(max_workers=max(1, jobs)) as pool:
        try:
            # the longest first, so that no worker is left alone with one in the end; the cells come in the order of the
            # matrix
            order = sorted(range(len(todo)), key=lambda at: (not todo[at][0].evidence, -todo[at][1].verbs))
            running = {at: pool.submit(play, todo[at]) for at in order}
            return [running[at].result() for at in range(len(todo))]
        except BaseException:  # above all Ctrl-C: what is being played in other threads ends at once
            pool.shutdown(wait=False, cancel_futures=True)
            for machine in machines:
                machine.interrupt()
            raise
