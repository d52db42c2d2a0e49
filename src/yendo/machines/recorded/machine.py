"""A machine on which somebody carried a package out with a proof kit: what it recorded is played back to the proof.

The proof asks in its own order; the recording answers with what was seen at that moment.
"""

from __future__ import annotations

import base64
import binascii
import contextlib
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NoReturn

import msgspec

from yendo.effects import State, difference
from yendo.effects.things import key_of
from yendo.errors import NotCovered, Unreadable
from yendo.facts.machine import Facts
from yendo.facts.surroundings import Account
from yendo.formats.fields import unescape
from yendo.machines.outside import RunnerOnly
from yendo.machines.protocol import Ran
from yendo.machines.recorded.observed import Observed, said
from yendo.machines.recorded.picture import Picture, PictureReader


class RecordedPart(msgspec.Struct):
    """A part of a recording: its name (``05-install-0``) and its lines."""

    name: str
    lines: list[str]

    @property
    def is_picture(self) -> bool:
        return self.name.endswith("-look")


class RecordedMoment(msgspec.Struct):
    """Something that was carried out: ``verb`` is install, uninstall, detect or restarted; ``files`` what the runner
    had written by then.
    """

    verb: str
    exit_code: int
    seconds: float
    output: str
    files: dict[str, bytes]


class RecordedMachine(Observed):
    """One recording. Only what it has can be asked for: one scenario, as one account."""

    def __init__(self, parts: list[RecordedPart], account: Account) -> None:
        if not parts or parts[0].name != "01-about":
            raise Unreadable("the result does not say on which machine it was made")
        super().__init__(*said(parts[0].lines), account)
        version = self.about.get("windows", "")
        self.name = f"kit-{version.split('.')[2] if version.count('.') >= 2 else 'unknown'}"
        self.label = f"{self.words}, by a proof kit"
        reader = PictureReader()
        self.parts = [reader.read(part.lines) if part.is_picture else _moment(part) for part in parts[1:]]
        pictures = [part for part in self.parts if isinstance(part, Picture)]
        if not pictures:
            raise Unreadable("the result holds no picture of a machine")
        self.first = pictures[0]
        if len(self.parts) > 1 and isinstance(self.parts[0], Picture) and isinstance(self.parts[1], Picture):
            idle = difference(self.parts[0].state, self.parts[1].state)  # nothing was done between these two
            self.by_itself = {key_of(effect.thing) for effect in idle}
        for picture in pictures:
            picture.state = self.quiet(picture.state)

    def baseline(self, account: Account = "user") -> State:
        return self.first.state.copy()

    def interrupt(self) -> None:
        """Nothing: what was recorded is over."""

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[RecordedSession]:
        if account != self.account:
            raise NotCovered(f"the result was made as {self.account}, not as {account}")
        yield RecordedSession(self)


class RecordedSession(RunnerOnly):
    """The recording from its beginning; ``at`` is the number of the next part."""

    def __init__(self, machine: RecordedMachine) -> None:
        self.machine, self.surroundings = machine, machine.surroundings(machine.account)
        self.at = 0
        self.picture = machine.first
        self.files: dict[str, bytes] = {}

    @property
    def facts(self) -> Facts:
        return self.machine.facts

    def bring(self, source: Path, target: str) -> None:
        """Nothing: the kit brought it."""

    lend = bring

    def take_away(self, target: str) -> None:
        """Nothing: whoever has the machine puts it back."""

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        """Nothing: what the proof would write, the kit had with it."""

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        match = re.search(r'apply\.cmd" (\w+)', command)
        moment = self._next("detect" if "detect.ps1" in command else match[1] if match else "")
        return Ran(moment.exit_code, moment.output, moment.seconds)

    def restart(self) -> None:
        self._next("restarted")

    def _next(self, verb: str) -> RecordedMoment:
        for number in range(self.at, len(self.machine.parts)):
            part = self.machine.parts[number]
            if isinstance(part, Picture):
                self.picture = part
            elif part.verb == verb:
                self.at, self.files = number + 1, part.files or self.files
                return part
            else:
                break
        raise NotCovered(
            f"the result says nothing of {verb or 'such a command'} at this point; it may have been cut off"
        )

    def state(self) -> State:
        while self.at < len(self.machine.parts) and isinstance(part := self.machine.parts[self.at], Picture):
            self.picture = part
            self.at += 1
        return self.picture.state.copy()

    def is_running(self, name: str) -> bool:
        return name.lower() in {program.lower() for program in self.picture.programs}

    def read(self, path: str) -> bytes | None:
        return next((data for known, data in self.files.items() if known.lower() == path.lower()), None)

    def files_below(self, path: str) -> list[str]:
        return sorted(known for known in self.files if known.lower().startswith(path.lower() + "\\"))

    def digest(self, path: str) -> str | None:
        found = self.picture.state.get("file", path)
        return getattr(found, "sha256", None)

    def has_folder(self, path: str) -> bool:
        return self.picture.state.get("folder", path) is not None

    def _over(self, *_: Any) -> NoReturn:
        raise NotCovered("what was recorded cannot be changed any more")

    place = append = remove = make_folder = remove_folder = end_programs = close_program = _over


def _moment(part: RecordedPart) -> RecordedMoment:
    found = RecordedMoment("restarted", 0, 0.0, "", {})
    try:
        for line in part.lines:
            kind, *fields = line.split("\t")
            if kind == "R":
                found.verb, found.exit_code, found.seconds = fields[0], int(fields[1]), float(fields[2])
            elif kind == "O":
                found.output = base64.b64decode(fields[0], validate=True).decode("utf-8", "replace")
            elif kind == "C":
                found.files[unescape(fields[0])] = base64.b64decode(fields[1], validate=True)
    except (ValueError, IndexError, binascii.Error) as error:
        raise Unreadable(f"part {part.name} of the result cannot be read: {error}") from error
    return found
