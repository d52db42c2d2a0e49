"""What the runner means, carried out by Yendo itself: on a simulated machine, and on a real one that has no shell.

The same steps in the same order with the same exit codes as ``apply.ps1``; a test holds the two together.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo import digest
from yendo.detect.evaluate import describe, judge
from yendo.effects.things import parent
from yendo.facts import secrets
from yendo.facts.surroundings import expand
from yendo.facts.versions import Version, VersionRange
from yendo.machines.protocol import Session
from yendo.package import manifest as form


class Carried(msgspec.Struct, frozen=True):
    """How a verb ended: its exit code, what was said, and seconds spent in the vendor's commands."""

    exit_code: int
    lines: tuple[str, ...]
    seconds: float = 0.0


class _Carrier:
    def __init__(self, manifest: form.Manifest, package: Path, session: Session, folder: str, sleep: Callable[[float], object]) -> None:
        self.manifest, self.package, self.session, self.folder, self.sleep = manifest, package, session, folder, sleep
        self.environment = session.surroundings.environment
        self.lines: list[str] = []
        self.seconds = 0.0
        self.logs = self.expand(manifest.logs)
        self.record = self.expand(rf"%ProgramData%\Yendo\placed\{manifest.id}.txt")

    def expand(self, text: str) -> str:
        return expand(text, self.environment)

    def say(self, text: str) -> None:
        self.lines.append(secrets.mask(text, self.manifest.secrets))

    def folders(self, path: str, *, record: bool) -> None:
        if self.session.has_folder(path) or "\\" not in path:
            return
        self.folders(parent(path), record=record)
        if record:
            self.remember(f"D\t{path}")
        self.session.make_folder(path)

    # --- the verb ------------------------------------------------------------------------------

    def run(self, verb: str) -> int:
        self.folders(self.logs, record=False)
        self.say(f"{self.manifest.name} {self.manifest.version}, revision {self.manifest.revision}: {verb}")
        if verb != "uninstall":
            if not self.applicable():
                return form.NOT_APPLICABLE
            if not self.whole():
                return form.DAMAGED
        for name in self.manifest.programs:
            if self.session.close_program(name):
                self.say(f"asking {name} to close")
        final = 0
        for number, action in enumerate(self.manifest.actions(verb), 1):
            self.say(f"step {number}: {action.title}")
            if not self.needed(action):
                continue
            try:
                meaning, code = {"msi": self.command, "exe": self.program, "copy": self.copy, "take-back": self.take_back}[action.kind](action)
            except (OSError, ValueError) as error:
                self.say(f"step {number} failed: {error}")
                return form.STEP_FAILED
            if meaning in ("failed", "timed out", "again later"):
                self.say(f"ended with {code} in step {number}")
                return code or form.STEP_FAILED
            if meaning == "restarting":
                final = 1641
            elif meaning == "restart" and final != 1641:
                final = 3010
        self.say(f"done with {final}")
        return final

    def needed(self, action: form.Action) -> bool:
        """Whether none of the step's ``unless`` rules holds."""
        if not action.unless:
            return True
        state = self.session.state()
        held = [verdict for rule in action.unless if (verdict := judge(rule, state, self.environment)).holds]
        for verdict in held:
            self.say(f"not needed here: {describe(verdict.rule)}, {verdict.fact}")
        return not held

    def applicable(self) -> bool:
        around = self.session.surroundings
        if self.manifest.os and not VersionRange.parse(self.manifest.os).holds(Version.parse(around.windows)):
            self.say(f"not applicable: Windows is {around.windows}, wanted is {self.manifest.os}")
            return False
        if self.manifest.architectures and around.architecture not in self.manifest.architectures:
            self.say(f"not applicable: this machine is {around.architecture}")
            return False
        if self.manifest.disk:
            self.say("free disk space is not judged here, only by the package's own runner")
        return True

    def whole(self) -> bool:
        for file in self.manifest.files:
            if not file.path.startswith(form.CONTENT):
                continue
            path = self.package / file.path
            if not path.is_file():
                self.say(f"damaged package: {file.path} is missing".replace("/", "\\"))
                return False
            if digest.of_file(path) != file.sha256:
                self.say(f"damaged package: {file.path} has changed".replace("/", "\\"))
                return False
        return True

    # --- the steps -------------------------------------------------------------------------------

    def command(self, action: form.Action) -> tuple[str, int]:
        line = self.expand(action.command.replace("{package}", self.folder).replace("{logs}", self.logs))
        for attempt in range(form.BUSY_TRIES):
            if attempt:
                self.sleep(form.BUSY_WAIT)
            self.say(f"running: {line}")
            ran = self.session.run(line, timeout=action.timeout, folder=self.folder)
            self.seconds += ran.seconds
            if ran.exit_code is None:
                self.say(f"stopped: not done after {action.timeout} seconds")
                return "timed out", form.TIMED_OUT
            signed = ran.exit_code - (1 << 32) if ran.exit_code >= 1 << 31 else ran.exit_code
            meaning = action.codes.get(str(signed), "failed")
            self.say(f"exit code {signed}: {meaning}")
            if meaning != "again later":
                break
        return meaning, signed

    def program(self, action: form.Action) -> tuple[str, int]:
        """A setup program, and then whatever goes on after it has returned."""
        meaning, code = self.command(action)
        until = time.monotonic() + action.timeout
        for name in action.wait_for:
            while self.session.is_running(name):
                if time.monotonic() > until:
                    self.say(f"stopped waiting: {name} not done after {action.timeout} seconds")
                    return "timed out", form.TIMED_OUT
                self.sleep(0.2)
        return meaning, code

    def remembered(self) -> list[str]:
        data = self.session.read(self.record)
        return data.decode("utf-8").splitlines() if data else []

    def remember(self, line: str) -> None:
        lines = self.remembered()
        if line not in lines:
            self.folders(parent(self.record), record=False)
            self.session.write(self.record, "".join(f"{entry}\r\n" for entry in [*lines, line]).encode())

    def copy(self, action: form.Action) -> tuple[str, int]:
        for item in action.items:
            target = self.expand(item.to)
            there = self.session.read(target)
            if there is not None:
                if action.keep:
                    self.say(f"kept: {target}")
                    continue
                if hashlib.sha256(there).hexdigest() == item.sha256:
                    self.say(f"already there: {target}")
                    continue
            self.folders(parent(target), record=True)
            self.remember(f"F\t{item.sha256}\t{target}")
            self.session.write(target, (self.package / item.source).read_bytes())
            self.say(f"placed: {target}")
        return "done", 0

    def take_back(self, action: form.Action) -> tuple[str, int]:
        lines = self.remembered()
        if not lines:
            self.say("nothing of this package is on record as placed")
            return "not needed", 0
        for line in reversed(lines):
            kind, *rest = line.split("\t")
            path = rest[-1]
            if kind == "F":
                data = self.session.read(path)
                if data is None:
                    continue
                if f"F\t{hashlib.sha256(data).hexdigest()}\t{path}" in lines:
                    self.session.remove(path)
                    self.say(f"removed: {path}")
                else:
                    self.say(f"left, it was changed since: {path}")
            elif self.session.has_folder(path):
                self.say(f"removed: {path}" if self.session.remove_folder(path) else f"left, it is not empty: {path}")
        self.session.remove(self.record)
        self.session.remove_folder(parent(self.record))
        return "done", 0


def carry(
    manifest: form.Manifest, package: Path, session: Session, verb: str, *, folder: str, sleep: Callable[[float], object] = time.sleep
) -> Carried:
    """Carries out one verb. ``package`` is the built package here, ``folder`` where it lies on the machine."""
    carrier = _Carrier(manifest, package, session, folder, sleep)
    code = carrier.run(verb)
    name = rf"{carrier.logs}\{verb}.log"
    before = session.read(name) or b""
    session.write(name, before + "".join(f"{line}\r\n" for line in carrier.lines).encode())
    return Carried(code, tuple(carrier.lines), carrier.seconds)
