"""A real Windows as a machine: every wish is an errand that the script there carries out as the system account.

One that a restart cuts off is not done twice. What the session writes goes through the script as well, so that files
have the owner and the rights that the runner wants.
"""

from __future__ import annotations

import base64
import binascii
import contextlib
import secrets
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol

from yendo.effects import State, difference
from yendo.effects.things import key_of
from yendo.errors import NoMachine, NotCovered, Unreadable
from yendo.facts.machine import Facts
from yendo.formats.fields import unescape
from yendo.machines.outside import RunnerOnly
from yendo.machines.protocol import Ran
from yendo.machines.recorded.observed import LOOKING, WORK, Observed, said
from yendo.machines.recorded.picture import PictureReader
from yendo.machines.watching import Watched, watched
from yendo.platforms.windows import exit_codes
from yendo.platforms.windows.surroundings import Account, Surroundings

ERRANDS = rf"{WORK}\errands"
SCRIPT = "errands.ps1"
SHORT = 300.0  # seconds for an errand that is no command
LOOK = 3600.0  # for a picture of the machine
RESTART = 1800.0
MAX_FILE = 256 << 20
IDLE = 60.0  # seconds in which nothing is done, to see what the machine changes by itself
EVERY = 0.15  # seconds between two looks for an answer


class MachineLink(Protocol):
    """The way to a machine. Paths are its own; whatever is asked may be asked again."""

    name: str
    changed: bool
    """Whether something was done to the machine since it was put back; before the first time that is not known."""
    restarts: bool
    """Whether whoever asks is still there when the machine has started anew."""

    def put_back(self) -> None:
        """Puts the machine back to how it was, where it was changed. Raises NoMachine where it cannot be."""

    def bring(self, local: Path, there: str) -> None:
        """Puts a folder there."""

    def begin(self, folder: str) -> None:
        """Starts the script that lies in a folder there. Raises Usage where it refuses the computer."""

    def write(self, there: str, data: bytes) -> None:
        """Writes a file, which is there whole or not at all."""

    def read(self, there: str, most: int) -> bytes | None:
        """A file's bytes, or None where there is none."""

    def fetch(self, there: str, target: Path) -> bool:
        """Copies a file to here; False where there is none."""

    def take_away(self, there: str) -> None:
        """Removes a folder, if it can."""

    def close(self) -> None: ...


class LiveMachine(Observed):
    """One computer. ``script`` is what carries errands out there; ``idle`` are seconds."""

    def __init__(
        self, link: MachineLink, script: bytes, *, idle: float = IDLE, heard: Callable[[str], object] = str
    ) -> None:
        super().__init__({}, {}, "system")
        self.link, self.script, self.idle, self.heard = link, script, idle, heard
        self.name = link.name.replace(":", "-")
        self.first: State | None = None

    @property
    def label(self) -> str:
        return f"{self.words}, {self.link.name}"

    def surroundings(self, account: Account = "user") -> Surroundings:
        if not self.about:
            with self.fresh("system"):  # nothing is changed by looking
                pass
        return super().surroundings(account)

    def baseline(self, account: Account = "user") -> State:
        if self.first is None:
            self.surroundings(account)
        assert self.first is not None
        return self.first.copy()

    @property
    def widths(self) -> list[str]:
        self.surroundings("system")
        return ["64", "32"] if self.about.get("architecture") != "x86" else ["32"]

    def libraries(self, bits: int) -> set[str]:
        head = "c:\\windows\\" + ("syswow64" if bits == 32 and "64" in self.widths else "system32") + "\\"
        files = (thing.identity for thing in self.baseline("system").of("file"))
        return {path.removeprefix(head) for path in files if path.startswith(head)}

    def interrupt(self) -> None:
        self.link.close()

    @contextlib.contextmanager
    def fresh(self, account: Account = "user") -> Iterator[LiveSession]:
        if account != "system":
            raise NotCovered(
                f"on {self.link.name} the system account is played; what needs a person's session: make a kit for it"
            )
        self.link.put_back()
        there = rf"C:\Yendo-errands-{secrets.token_hex(4)}"
        try:
            with tempfile.TemporaryDirectory(prefix="yendo-live-") as place:
                (Path(place) / SCRIPT).write_bytes(self.script)
                self.link.bring(Path(place), there)
            self.link.begin(there)
        except BaseException:  # one that is refused leaves nothing either
            self.link.take_away(there)
            raise
        session = LiveSession(self, there)
        try:
            self.about, self.environment = said(session.errand("about"))
            self.is_layer = self.about.get("layer") == "True"
            self.place = "API layer" if self.is_layer else "real Windows"
            session.surroundings = super().surroundings(account)
            self.heard(f"looking at {self.link.name}")
            first = session.look()
            if self.first is None and self.idle > 0:
                time.sleep(self.idle)
                self.by_itself = {key_of(effect.thing) for effect in difference(first, session.look())}
            self.first = self.quiet(first)
            yield session
        finally:
            session.leave()


class LiveSession(RunnerOnly):
    """A visit, from a machine that was put back to the end."""

    def __init__(self, machine: LiveMachine, there: str) -> None:
        self.machine, self.link, self.there = machine, machine.link, there
        self.reader = PictureReader()
        self.number = 0
        self.own: list[str] = []
        self.programs: tuple[str, ...] = ()

    @property
    def facts(self) -> Facts:
        return self.machine.facts

    # --- errands -----------------------------------------------------------------------------------

    def errand(self, *words: str, patience: float = SHORT) -> list[str]:
        """Asks, and gives the answer's lines. Raises OSError with the machine's words, NoMachine."""
        lines = self.ask(*words, patience=patience)
        if lines[0] == "error":
            raise OSError(unescape(lines[1]) if len(lines) > 1 else "an error without words")
        if lines[0] == "cut":
            raise NoMachine(f"{self.link.name} started anew while it did: {words[0]}")
        return lines

    def ask(self, *words: str, patience: float) -> list[str]:
        self.link.changed = self.link.changed or words[0] not in (LOOKING | {"about", "over"})
        self.number += 1
        number = f"{self.number:06}"
        fields = [words[0], *(base64.b64encode(word.encode()).decode() for word in words[1:])]
        self.link.write(rf"{ERRANDS}\{number}.ask", ("\t".join(fields) + "\n").encode())
        until = time.monotonic() + patience
        while True:
            answer = self.link.read(rf"{ERRANDS}\{number}.told", MAX_FILE)
            if answer is not None:
                return answer.decode("utf-8", "replace").rstrip("\n").split("\n")
            if time.monotonic() > until:
                raise NoMachine(f"{self.link.name} gave no answer within {patience:g} s to: {words[0]}")
            time.sleep(EVERY)

    def told(self, *words: str) -> bool:
        return self.errand(*words)[0] == "yes"

    def sent(self, data: bytes) -> str:
        """Brings bytes there, for an errand that puts them in their place; gives where they lie."""
        path = rf"{self.there}\{secrets.token_hex(8)}.bin"
        self.link.write(path, data)
        return path

    def leave(self) -> None:
        """Ends the script there, and takes away what was brought."""
        with contextlib.suppress(NoMachine, OSError, Unreadable):
            self.errand("over", patience=30)
        self.link.take_away(ERRANDS.rpartition("\\")[0])
        self.link.take_away(self.there)

    # --- the machine protocol --------------------------------------------------------------------------

    def bring(self, source: Path, target: str, *, counts: bool = False) -> None:
        top = target
        while not counts and not self.has_folder(top):  # the folders above it are made for it as well
            self.own.append(top)
            top = top.rpartition("\\")[0]
        place = rf"{self.there}\{secrets.token_hex(8)}"
        self.link.bring(source, place)
        self.errand("copy", place, target, patience=LOOK)

    def lend(self, source: Path, target: str) -> None:
        self.bring(source, target)

    def take_away(self, target: str) -> None:
        self.errand("remove-tree", target)

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        lines = self.ask("run", f"{timeout:g}", folder or "", command, patience=timeout + RESTART)
        if lines[0] == "cut":  # the restart that the package wanted came before its answer
            return Ran(exit_codes.RESTARTING, "", 0.0)
        try:
            _, code, took = lines[0].split("\t")
            output = base64.b64decode(lines[1].split("\t")[1], validate=True).decode("utf-8", "replace")
            return Ran(None if code == "-" else int(code), output, float(took))
        except (ValueError, IndexError, binascii.Error) as error:
            raise Unreadable(f"{self.link.name} gave an answer that cannot be read: {lines[0][:80]}") from error

    def rewritten(self) -> frozenset[str] | None:
        """Pictures of a machine do not tell a file that was written again as it was."""
        return None

    def watch(
        self, command: str, *, timeout: float, press: bool = False, folder: str | None = None, hand: bool = False
    ) -> Watched:
        """Windows of the account that runs it; the system account has some of its own, and often no screen."""
        if hand:
            raise NotCovered(
                f"nobody sits at the system account's screen of {self.link.name}; do that part on the layer"
            )
        if press:
            raise NotCovered(f"dialogs are agreed to on the layer only, not on {self.link.name}")
        lines = self.ask("watch", f"{timeout:g}", folder or "", command, patience=timeout + RESTART)
        return watched(command, lines, self.link.name)

    def look(self) -> State:
        """Everything on the machine, the system's own doing as well."""
        self.errand("look", *self.own, patience=LOOK)
        with tempfile.TemporaryDirectory(prefix="yendo-look-") as place:
            target = Path(place) / "look.txt"
            if not self.link.fetch(rf"{ERRANDS}\{self.number:06}.look", target):
                raise NoMachine(f"{self.link.name} has no picture to show")
            with target.open(encoding="utf-8", errors="replace", newline="\n") as lines:
                picture = self.reader.read(line.rstrip("\n") for line in lines)
        self.programs = picture.programs
        return picture.state

    def state(self) -> State:
        return self.machine.quiet(self.look())

    def read(self, path: str) -> bytes | None:
        if not self.told("fetch", path):
            return None
        return self.link.read(rf"{ERRANDS}\{self.number:06}.data", MAX_FILE)

    def fetch(self, path: str, target: Path) -> bool:
        return self.told("fetch", path) and self.link.fetch(rf"{ERRANDS}\{self.number:06}.data", target)

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        self.errand("place", self.sent(data), path, "private" if private else "")

    def place(self, path: str, source: Path, sha256: str) -> None:
        self.errand("place", self.sent(source.read_bytes()), path, "")

    def append(self, path: str, data: bytes) -> None:
        self.errand("append", self.sent(data), path)

    def digest(self, path: str) -> str | None:
        lines = self.errand("digest", path)
        return lines[1] if lines[0] == "yes" else None

    def remove(self, path: str) -> bool:
        return self.told("remove", path)

    def make_folder(self, path: str) -> bool:
        return self.told("make-folder", path)

    def remove_folder(self, path: str) -> bool:
        return self.told("remove-folder", path)

    def has_folder(self, path: str) -> bool:
        return self.told("has-folder", path)

    def files_below(self, path: str) -> list[str]:
        return sorted(unescape(line) for line in self.errand("files", path)[1:])

    def is_running(self, name: str) -> bool:
        return self.told("running", name)

    def end_programs(self, name: str) -> None:
        self.errand("end", name)

    def close_program(self, name: str) -> bool:
        return self.told("close", name)

    def restart(self) -> None:
        if not self.link.restarts:
            raise NotCovered(
                f"a restart of {self.link.name} would end Yendo as well; make a kit, which goes on by itself"
            )
        with contextlib.suppress(NoMachine):  # the machine may be on its way down before it answers
            self.errand("restart", patience=60)
        self.errand("has-folder", "C:\\", patience=RESTART)
