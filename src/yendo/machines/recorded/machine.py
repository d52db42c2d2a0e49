"""A machine on which somebody carried a package out with a proof kit: what it recorded is played back to the proof.

The proof asks in its own order; the recording answers with what was seen at that moment.
"""

from __future__ import annotations

import base64
import binascii
import contextlib
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NoReturn

import msgspec

from yendo import digest
from yendo.effects import State, difference
from yendo.effects.things import key_of
from yendo.errors import NotCovered, Unreadable
from yendo.facts.machine import Facts
from yendo.formats.fields import unescape
from yendo.machines.outside import RunnerOnly
from yendo.machines.protocol import Ran
from yendo.machines.recorded.observed import LOOKING, Observed, said
from yendo.machines.recorded.picture import Picture, PictureReader
from yendo.machines.watching import Watched, watched
from yendo.platforms.windows import exit_codes
from yendo.platforms.windows.surroundings import Account

_PASSED_OVER = LOOKING | {"idle", "detect", "keep", "settle", "restarted"}
Contents = Callable[[str, Path], bool]
"""Writes a content that a kit took along, by its name, into a file; False where there is none."""


class RecordedPart(msgspec.Struct):
    """A part of a recording: its name (``005-verb-0a``) and its lines."""

    name: str
    lines: list[str]

    @property
    def is_picture(self) -> bool:
        return self.name.endswith("-look")


class RecordedAct(msgspec.Struct):
    """Something that was done: its name and fields as the kit had them, and what it answered. ``files`` is what the
    runner had written by then, by path; ``kept`` names contents that the kit took along; ``exit_code`` is None where it
    was stopped for time.
    """

    name: str
    fields: tuple[str, ...]
    answer: str = ""
    exit_code: int | None = 0
    seconds: float = 0.0
    output: str = ""
    content: bytes | None = None
    files: dict[str, bytes] = {}
    kept: dict[str, str] = {}
    lines: tuple[str, ...] = ()

    @property
    def looks(self) -> bool:
        """Whether it changes nothing, so that it may be passed over."""
        return self.name in _PASSED_OVER

    @property
    def words(self) -> str:
        return f"{self.name} {self.fields[-1] if self.name == 'run' else ' '.join(self.fields)}".strip()


class RecordedMachine(Observed):
    """One recording. Only what it has can be asked for: one scenario, as one account."""

    widths = ["64", "32"]

    def __init__(self, parts: list[RecordedPart], account: Account, contents: Contents | None = None) -> None:
        self.contents = contents
        if not parts or not parts[0].name.endswith("-about"):
            raise Unreadable("the result does not say on which machine it was made")
        super().__init__(*said(parts[0].lines), account)
        version = self.about.get("windows", "")
        self.name = f"kit-{version.split('.')[2] if version.count('.') >= 2 else 'unknown'}"
        self.label = f"{self.words}, by a proof kit"
        reader = PictureReader()
        self.parts = [reader.read(part.lines) if part.is_picture else _act(part) for part in parts[1:]]
        pictures = [part for part in self.parts if isinstance(part, Picture)]
        if not pictures:
            raise Unreadable("the result holds no picture of a machine")
        self.first = pictures[0]
        match self.parts[:3]:
            case [Picture() as one, RecordedAct(name="idle"), Picture() as other]:
                # nothing was done between these two
                self.by_itself = {key_of(effect.thing) for effect in difference(one.state, other.state)}
        for picture in pictures:
            picture.state = self.quiet(picture.state)

    def baseline(self, account: Account = "user") -> State:
        return self.first.state.copy()

    def libraries(self, bits: int) -> set[str]:
        """Nothing: what lies there is asked for by trials, which no kit plays."""
        return set()

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

    def bring(self, source: Path, target: str, *, counts: bool = False) -> None:
        """The kit brought it; a package lies in the kit's own folder already."""
        self._next("copy", optional=True)

    def lend(self, source: Path, target: str) -> None:
        self.bring(source, target)

    def rewritten(self) -> frozenset[str] | None:
        """Pictures of a machine do not tell a file that was written again as it was."""
        return None

    def watch(
        self, command: str, *, timeout: float, press: bool = False, folder: str | None = None, hand: bool = False
    ) -> Watched:
        return watched(command, self._next("watch", command).lines, self.machine.label)

    def fetch(self, path: str, target: Path) -> bool:
        """A content that the kit took along. Raises Unreadable where it is not the one that was looked at."""
        kept = next((act.kept for act in self.machine.parts if isinstance(act, RecordedAct) and act.kept), {})
        name = kept.get(path.lower())
        if name is None or self.machine.contents is None or not self.machine.contents(name, target):
            return False
        seen = self.digest(path)
        if seen and digest.of_file(target) != seen:
            raise Unreadable(f"the content of {path} in the result is not the one that was seen there; play it again")
        return True

    def take_away(self, target: str) -> None:
        self._next("remove-tree")

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        """The kit had it with it; what is private lies in its own folder."""
        self._next("place", *(() if private else (path,)))

    def remove(self, path: str) -> bool:
        return self._next("remove", path).answer == "yes"

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        if match := re.search(r'apply\.cmd" (\w+)', command):
            done = self._next("verb", match[1])
        elif "\\detect.ps1" in command:
            done = self._next("detect")
        else:
            done = self._next("run", command)
        return Ran(done.exit_code, done.output, done.seconds)

    def restart(self) -> None:
        self._next("restarted")

    def _next(self, name: str, *about: str, optional: bool = False) -> RecordedAct:
        """The next act of this name that is about this; acts that only look are passed over.

        Raises NotCovered where something else was done then.
        """
        parts, at, picture = self.machine.parts, self.at, self.picture
        while at < len(parts):
            act = parts[at]
            at += 1
            if isinstance(act, Picture):
                picture = act
            elif act.name == name and all(word in act.fields for word in about):
                if act.answer == "error":
                    raise NotCovered(f"the kit could not do '{act.words}' there: {act.output}")
                self.at, self.files, self.picture = at, act.files or self.files, picture
                return act
            elif not act.looks:
                if optional:
                    return act
                asked = " ".join((name, *about))
                raise NotCovered(
                    f"the kit did '{act.words}' where this machine would call for '{asked}': it showed something else "
                    "than the simulated one, by which the kit was made. Prove it over SSH"
                )
        if optional:
            return RecordedAct(name, about)
        raise NotCovered(
            f"the result says nothing of {' '.join((name, *about))} at this point; it may have been cut off"
        )

    def _looked(self, name: str, *about: str) -> RecordedAct | None:
        """What was looked up of this before anything else was done; None where the kit did not ask."""
        for act in self.machine.parts[self.at :]:
            if isinstance(act, Picture):
                continue
            if act.name == name and act.fields[: len(about)] == about:
                return act
            if not act.looks:
                break
        return None

    def state(self) -> State:
        """The picture that was taken at this point; of several the last."""
        at = self.at
        while at < len(self.machine.parts):
            act = self.machine.parts[at]
            at += 1
            if isinstance(act, Picture):
                self.at, self.picture = at, act
                if not isinstance(self._following(at), Picture):
                    break
            elif not act.looks:
                break
        return self.picture.state.copy()

    def _following(self, at: int) -> Picture | RecordedAct | None:
        """What comes after that, where nothing was done but to wait."""
        rest = self.machine.parts[at:]
        if rest and isinstance(rest[0], RecordedAct) and rest[0].name == "idle":
            rest = rest[1:]
        return rest[0] if rest else None

    def is_running(self, name: str) -> bool:
        if told := self._looked("running", name):
            return told.answer == "yes"
        return name.lower() in {program.lower() for program in self.picture.programs}

    def read(self, path: str) -> bytes | None:
        if told := self._looked("fetch", path):
            return told.content
        return next((data for known, data in self.files.items() if known.lower() == path.lower()), None)

    def files_below(self, path: str) -> list[str]:
        return sorted(known for known in self.files if known.lower().startswith(path.lower() + "\\"))

    def digest(self, path: str) -> str | None:
        found = self.picture.state.get("file", path)
        return getattr(found, "sha256", None)

    def has_folder(self, path: str) -> bool:
        return self.picture.state.get("folder", path) is not None

    def end_programs(self, name: str) -> None:
        self._next("end", name)

    def close_program(self, name: str) -> bool:
        return self._next("close", name).answer == "yes"

    def _over(self, *_: object) -> NoReturn:
        raise NotCovered("what was recorded cannot be changed any more")

    place = append = make_folder = remove_folder = _over


def _act(part: RecordedPart) -> RecordedAct:
    found = RecordedAct("", (), files={}, kept={})
    try:
        for number, line in enumerate(part.lines):
            if found.name == "watch":
                found.lines = tuple(part.lines[number:])
                break
            kind, *fields = line.split("\t")
            if kind == "M":
                found.name, found.fields = fields[0], tuple(unescape(field) for field in fields[1:])
            elif kind == "R":
                found.exit_code = None if fields[0] == "-" else int(fields[0])
                found.seconds = float(fields[1])
            elif kind == "O":
                found.output = base64.b64decode(fields[0], validate=True).decode("utf-8", "replace")
            elif kind == "S":
                found.kept[unescape(fields[0]).lower()] = fields[1]
            elif kind == "C":
                data = base64.b64decode(fields[1], validate=True)
                if fields[0] == "-":
                    found.content = data
                else:
                    found.files[unescape(fields[0])] = data
            elif not found.answer:
                found.answer = kind
            else:
                found.output = found.output or unescape(line)
        if not found.name:
            raise ValueError("it does not say what was done")
    except (ValueError, IndexError, binascii.Error) as error:
        raise Unreadable(f"part {part.name} of the result cannot be read: {error}") from error
    if found.answer == "cut":  # the restart that was wanted came before the answer
        found.exit_code = exit_codes.RESTARTING
    if found.answer == "error":
        found.exit_code = None
    return found
