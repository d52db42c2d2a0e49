"""The trial: a setup program is run on fresh real machines until a command line is silent and complete.

Candidates come from reading, likeliest first. Each run has a machine of its own without a network, a
limit of time and of disk, a screen that is watched and a tree of processes that is followed to its
end. What was found is kept after every run, so that a trial that was stopped goes on.
"""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

import msgspec

import yendo
from yendo import atomic, digest
from yendo.effects import Effect, File, State, UninstallEntry, difference
from yendo.effects.effect import counts
from yendo.effects.things import label
from yendo.errors import NotCovered, Usage, YendoError
from yendo.formats.pe import Image
from yendo.installers import answers_exe, plain_exe, recognise
from yendo.installers.account import CommandLine
from yendo.installers.account import InstallerAccount as Read
from yendo.machines.watching import Watched, WatchedMachine, WatchedSession, Window
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.exit_codes import RESTARTS
from yendo.platforms.windows.recording import Recording, portable
from yendo.platforms.windows.surroundings import Account
from yendo.prove.stage import Progress
from yendo.prove.verdicts import (
    COMPLETE,
    FOLDER,
    REMOVAL,
    engine_log,
    fleeting,
    pending,
    placed,
    removals,
    returned_early,
    tree,
    verdict_of,
)

SCHEMA = "yendo.trial/1"
EVIDENCE = "evidence.json"
MOST_RUNS, TIMEOUT = 12, 600.0
_ANSWERS = paths.join(FOLDER, "answers.iss")


class Shown(msgspec.Struct, frozen=True):
    """A window as evidence; ``picture`` is a file beside the evidence, times in seconds from the start."""

    program: str
    title: str
    texts: tuple[str, ...]
    shown: float
    gone: float | None
    picture: str | None


class TrialRun(msgspec.Struct, frozen=True, kw_only=True):
    """One run and its verdict.

    ``returned_early`` are the seconds that others outlived the first process, ``outlived`` who.
    """

    purpose: str
    command: str
    reason: str
    verdict: str
    remarks: tuple[str, ...]
    exit_code: int | None
    seconds: float
    returned_early: float
    outlived: tuple[str, ...]
    restart: bool
    windows: tuple[Shown, ...]
    processes: tuple[str, ...]
    effects: dict[str, int]
    network_off: bool
    date: str


class Trial(msgspec.Struct, frozen=True, kw_only=True):
    """A whole trial. ``install`` and ``uninstall`` are the command lines that are silent and complete, or None."""

    schema: str = SCHEMA
    tool: str = f"yendo {yendo.__version__}"
    installer: str
    sha256: str
    family: str
    machine: str
    account: str
    runs: tuple[TrialRun, ...] = ()
    install: str | None = None
    uninstall: str | None = None
    left_behind: tuple[str, ...] = ()
    predicted: dict[str, float] | None = None
    recorded_answers: str | None = None
    recorded_removal: str | None = None

    def best(self, purpose: str) -> TrialRun | None:
        return next((run for run in self.runs if run.purpose == purpose and run.verdict == COMPLETE), None)


def prepared(installer: Path, machine: WatchedMachine) -> Read:
    """Reads the installer and refuses what cannot run on this machine, before a run is wasted. Raises NotCovered."""
    account = recognise.read(installer)
    if not account.family.endswith("-exe") or account.program is None:
        raise NotCovered(
            f"{installer.name} is of family {account.family}: its silent switch is known, there is nothing to try"
        )
    program = account.program
    if program.stub not in ("x86", "x64"):
        raise NotCovered(
            f"{installer.name} is a program for {program.stub}; this machine runs programs for x64 and x86"
        )
    if program.bits == 32 and "32" not in machine.widths:
        raise NotCovered(
            f"{installer.name} is a 32-bit program, and {machine.label} runs only 64-bit ones: add the "
            "layer's 32-bit half (apt-get install wine32)"
        )
    if missing := _missing_libraries(installer, machine):
        raise NotCovered(
            f"{installer.name} needs {', '.join(missing)}, which a fresh machine has not; install that first"
        )
    return account


def _missing_libraries(installer: Path, machine: WatchedMachine) -> list[str]:
    """Libraries of known runtimes that the program is linked to and that neither the machine nor its folder has."""
    from yendo.installers.programs import runtimes

    with installer.open("rb") as file:
        image = Image(file, installer.name)
        needed = runtimes(image)
    have = machine.libraries(image.bits) | {entry.name.lower() for entry in installer.parent.iterdir()}
    return [what for what in needed if (match := re.search(r"\(([^()]+)\)$", what)) and match[1] not in have]


class Trying:
    """A trial under way. ``keep`` is the folder of its evidence; runs that are there already are not run again."""

    def __init__(
        self,
        installer: Path,
        machine: WatchedMachine,
        keep: Path,
        *,
        account: Account = "user",
        timeout: float = TIMEOUT,
        most: int = MOST_RUNS,
        progress: Progress = lambda text: None,
    ) -> None:
        self.installer, self.machine, self.keep, self.timeout, self.most, self.progress = (
            installer,
            machine,
            keep,
            timeout,
            most,
            progress,
        )
        self.read = prepared(installer, machine)
        self.as_account: Account = account
        keep.mkdir(parents=True, exist_ok=True)
        self.fresh_runs = 0
        known = self._known()
        sha256 = digest.of_file(installer)
        if known and (known.sha256, known.machine, known.account) == (sha256, machine.label, account):
            self.trial = known
        else:
            self.trial = Trial(
                installer=installer.name, sha256=sha256, family=self.read.family, machine=machine.label, account=account
            )

    def _known(self) -> Trial | None:
        path = self.keep / EVIDENCE
        if not path.exists():
            return None
        try:
            body = json.loads(path.read_bytes())
            return msgspec.convert(body["trial"], Trial) if "trial" in body else None
        except (ValueError, KeyError, TypeError, msgspec.ValidationError) as error:
            raise Usage(f"{path} is not the evidence of a trial: {error}") from error

    def save(self, **changes: object) -> None:
        """Keeps what is known now, beside whatever else the evidence holds."""
        self.trial = msgspec.structs.replace(self.trial, **changes)
        path = self.keep / EVIDENCE
        body: dict[str, object] = {}
        with contextlib.suppress(OSError, ValueError):
            body = json.loads(path.read_bytes())
        body.setdefault("schema", "yendo.evidence/1")
        body["trial"] = msgspec.to_builtins(self.trial)
        atomic.write(path, json.dumps(body, indent=2, ensure_ascii=False).encode() + b"\n")

    def earlier(self, purpose: str, command: str) -> TrialRun | None:
        return next((run for run in self.trial.runs if (run.purpose, run.command) == (purpose, command)), None)

    # --- one run -----------------------------------------------------------------------------------

    @contextlib.contextmanager
    def machine_with(self, extra: Iterable[Path] = ()) -> Iterator[tuple[WatchedSession, State]]:
        """A fresh machine with the installer, and nothing else, in a folder; and its state."""
        with (
            tempfile.TemporaryDirectory(prefix="yendo-trial-") as folder,
            self.machine.fresh(self.as_account) as session,
        ):
            for path in (self.installer, *extra):
                shutil.copyfile(path, Path(folder) / path.name)
            session.bring(Path(folder), FOLDER, counts=True)
            before = self.machine.baseline(self.as_account)
            before.add_folders(FOLDER)
            for path in (self.installer, *extra):
                before.add(File(paths.join(FOLDER, path.name)))
            yield session, before

    def observe(
        self, session: WatchedSession, purpose: str, line: CommandLine, before: State, *, press: bool = False
    ) -> tuple[TrialRun, list[Effect], State]:
        self.fresh_runs += 1
        self.progress(line.command)
        watched = session.watch(
            placed(line.command, self.installer.name), timeout=self.timeout, press=press, folder=FOLDER
        )
        state = session.state()
        effects = difference(before, state)
        run = self._judged(session, purpose, line, watched, effects)
        self.save(runs=(*self.trial.runs, run))
        return run, effects, state

    def _judged(
        self, session: WatchedSession, purpose: str, line: CommandLine, watched: Watched, effects: list[Effect]
    ) -> TrialRun:
        lasting = [effect for effect in effects if not fleeting(effect, session)]
        shown = [window for window in watched.windows if window.counts]
        restart = watched.exit_code in RESTARTS or pending(effects, session)
        restart = restart or any(
            process.name.lower() in ("wineboot.exe", "shutdown.exe") for process in watched.processes
        )
        early, outlived = returned_early(watched)
        told = engine_log(session) if self.read.family == answers_exe.FAMILY else None
        verdict, remarks = verdict_of(watched, shown, lasting, told)
        if early:
            remarks.append(f"returned early, {early:.1f} s before {', '.join(outlived) or 'its children'} had ended")
        if restart:
            remarks.append("asked for a restart")
        number = len(self.trial.runs) + 1
        return TrialRun(
            purpose=purpose, command=line.command, reason=str(line.evidence), verdict=verdict, remarks=tuple(remarks),
            exit_code=watched.exit_code,
            seconds=round(watched.seconds, 2), returned_early=round(early, 2), outlived=outlived, restart=restart,
            windows=tuple(self._kept(number, at, window) for at, window in enumerate(shown[:20], 1)),
            processes=tree(watched),
            effects=counts(lasting), network_off=watched.network_off,
            date=datetime.now(UTC).isoformat(timespec="seconds"),
        )  # fmt: skip

    def _kept(self, number: int, at: int, window: Window) -> Shown:
        name = None
        if window.picture:
            name = f"run-{number}-window-{at}.png"
            atomic.write(self.keep / name, window.picture)
        return Shown(
            window.program,
            window.title,
            window.texts[:40],
            round(window.shown, 2),
            None if window.gone is None else round(window.gone, 2),
            name,
        )

    # --- the whole -----------------------------------------------------------------------------------

    def run(self, commands: Sequence[str] = ()) -> Trial:
        """Tries until one installs silently and completely, then the uninstaller in the same way."""
        from yendo.evidence import Evidence

        given = [
            CommandLine(command, "to be tried", Evidence("person", "given on the command line")) for command in commands
        ]
        lines = given or list(self.read.candidates or ([self.read.silent.install] if self.read.silent.install else []))
        if not lines:
            lines = list(plain_exe.candidates(self.installer.name, {}))
        for line in lines:
            known = self.earlier("install", line.command)
            if known is None:
                if self.fresh_runs >= self.most:
                    break
                known = self._try_install(line)
            if known.verdict == COMPLETE:
                self.save(install=line.command)
                break
        if self.trial.install and self.trial.uninstall is None:
            self._uninstall(next(line for line in lines if line.command == self.trial.install))
        return self.trial

    def _extra(self) -> list[Path]:
        return [self.keep / name for name in (self.trial.recorded_answers, self.trial.recorded_removal) if name]

    def _try_install(self, line: CommandLine) -> TrialRun:
        with self.machine_with(self._extra()) as (session, before):
            run, effects, _ = self.observe(session, "install", line, before)
            if run.verdict == COMPLETE:
                self._record("install", line.command, run, effects, session)
                self._compare(line.command, effects, session, before)
        return run

    def _record(
        self, purpose: str, command: str, run: TrialRun, effects: list[Effect], session: WatchedSession
    ) -> None:
        environment = session.surroundings.environment
        kept = [effect for effect in effects if not fleeting(effect, session)]
        recording = Recording(
            media=self.trial.sha256, command=command, exit_code=run.exit_code or 0, seconds=run.seconds,
            restart=run.restart,
            machine=self.trial.machine, date=run.date, account=self.as_account, effects=portable(kept, environment),
        )  # fmt: skip
        body = msgspec.json.format(msgspec.json.encode(recording), indent=1)
        atomic.write(self.keep / f"observed-{purpose}.json", body + b"\n")

    def _compare(self, command: str, effects: list[Effect], session: WatchedSession, before: State) -> None:
        """How well reading alone had predicted it, where the family can be read."""
        from yendo.effects import agreement
        from yendo.installers.programs import Reading

        with self.installer.open("rb") as file:
            reading = Reading(file, self.installer.name)
            arguments = command.partition(f'"{self.installer.name}"')[2].strip()
            prediction = reading.predict(
                paths.join(FOLDER, self.installer.name), arguments, session.surroundings, before
            )
        if not prediction.effects:
            return
        found = agreement(prediction.effects, [effect for effect in effects if not fleeting(effect, session)])
        self.save(
            predicted={
                "recall": round(found.recall, 4),
                "precision": round(found.precision, 4),
                "observed": float(len(found.matched) + len(found.missed)),
            }
        )

    def _uninstall(self, line: CommandLine) -> None:
        tried: set[str] = set()
        while self.fresh_runs < self.most:
            with self.machine_with(self._extra()) as (session, before):
                self.progress(f"{line.command}, to remove it again")
                session.watch(placed(line.command, self.installer.name), timeout=self.timeout, folder=FOLDER)
                installed = session.state()
                lines = [
                    entry
                    for entry in removals(self.read, line, difference(before, installed), session)
                    if entry.command not in tried
                ]
                lines = [entry for entry in lines if self.earlier("uninstall", entry.command) is None]
                if not lines:
                    return
                if REMOVAL in lines[0].command and not self.trial.recorded_removal:
                    self._record_removal(session, lines[0], installed)
                    if self.trial.recorded_removal:
                        continue
                tried.add(lines[0].command)
                run, effects, after = self.observe(session, "uninstall", lines[0], installed)
                left = [effect for effect in difference(before, after) if not fleeting(effect, session)]
                gone = not any(isinstance(effect.thing, UninstallEntry) for effect in left) and len(left) < len(
                    difference(before, installed)
                )
                if run.verdict == COMPLETE and gone:
                    self._record("uninstall", lines[0].command, run, effects, session)
                    self.save(
                        uninstall=lines[0].command,
                        left_behind=tuple(f"{effect.kind} {label(effect.thing)}" for effect in left[:50]),
                    )
                    return
                if run.verdict == COMPLETE:
                    runs = (
                        *self.trial.runs[:-1],
                        msgspec.structs.replace(
                            run, verdict="removed only a part", remarks=(*run.remarks, f"{len(left)} things are left")
                        ),
                    )
                    self.save(runs=runs)

    def _record_removal(self, session: WatchedSession, line: CommandLine, installed: State) -> None:
        """The removal's own dialogs, recorded like those of the installation; only where recording was asked for."""
        if not self.trial.recorded_answers:
            return
        command = answers_exe.recorded(line.command)
        self.observe(session, "recording", msgspec.structs.replace(line, command=command), installed, press=True)
        if (data := session.read(paths.join(FOLDER, REMOVAL))) is not None:
            atomic.write(self.keep / REMOVAL, data)
            self.save(recorded_removal=REMOVAL)

    def record_answers(self) -> Path:
        """Runs a setup that is driven by answers once, agrees to every dialog, and keeps the answers it records.

        Raises NotCovered.
        """
        from yendo.evidence import Evidence

        if self.read.family != answers_exe.FAMILY:
            raise NotCovered(f"{self.installer.name} is of family {self.read.family}, which records no answers")
        line = CommandLine(
            answers_exe.recording(self.installer.name, _ANSWERS),
            "to be tried",
            Evidence("person", "recording was asked for"),
        )
        with self.machine_with() as (session, before):
            self.observe(session, "recording", line, before, press=True)
            data = session.read(_ANSWERS) or session.read(paths.join(folders.WINDOWS, "setup.iss"))
        if data is None:
            raise YendoError(f"{self.installer.name} recorded no answers; see the windows in {self.keep}")
        path = self.keep / "answers.iss"
        atomic.write(path, data)
        answers = answers_exe.read_answers(data.decode("cp1252", "replace"))
        if wrong := answers_exe.check_answers(answers):
            raise YendoError(f"{path}: {'; '.join(wrong)}")
        atomic.write(
            path, answers_exe.write_answers(answers).encode("cp1252", "replace")
        )  # in order, whatever order it was recorded in
        self.save(recorded_answers=path.name)
        return path

    def with_answers(self) -> str:
        """The silent command line with the recorded answers."""
        return answers_exe.answered(self.installer.name, _ANSWERS, paths.join(FOLDER, "answers.log"))
