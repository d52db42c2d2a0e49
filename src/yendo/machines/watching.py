"""Runs that are watched: what is seen of a command line's processes and windows, and which machines can do that."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

import msgspec

from yendo.facts.surroundings import Account
from yendo.machines.protocol import Machine, Session

SCREEN = (1280, 800)


class Window(msgspec.Struct, frozen=True):
    """A window that was shown.

    ``texts`` are those of its controls; times in seconds from the start; ``picture`` is PNG.
    """

    program: str
    title: str
    kind: str
    texts: tuple[str, ...]
    shown: float
    gone: float | None
    picture: bytes | None = None
    place: tuple[int, ...] = ()
    """``place`` is left, top, width and height in pixels; () where only the screen saw it."""

    @property
    def counts(self) -> bool:
        """Whether a person would see it: a few pixels at least, some of them on the screen, and something drawn or
        said.
        """
        if not (self.title or self.texts or self.picture):
            return False
        if not self.place:
            return True
        left, top, width, height = self.place
        return (
            width > 4 and height > 4 and left + width > 0 and top + height > 0 and left < SCREEN[0] and top < SCREEN[1]
        )


class Process(msgspec.Struct, frozen=True):
    """One process of the run; ``parent`` is another's number or the starter's."""

    number: int
    parent: int
    name: str
    begun: float
    ended: float | None


class Watched(msgspec.Struct, frozen=True):
    """What became of a command line. ``exit_code`` is the first process's own, None where it was stopped.

    ``first_ended`` and ``seconds``: when the first and when the last process ended. ``stopped`` says why
    it was stopped: "waits", "time" or "disk". ``pressed`` are the buttons that were pressed for it.
    """

    command: str
    exit_code: int | None
    first_ended: float | None
    seconds: float
    windows: tuple[Window, ...]
    processes: tuple[Process, ...]
    stopped: str = ""
    pressed: tuple[str, ...] = ()
    network_off: bool = True
    error: int = 0


class WatchedSession(Session, Protocol):
    """A session on a machine that can watch."""

    def bring(self, source: Path, target: str, *, counts: bool = False) -> None:
        """As everywhere; ``counts``: what changes there later is part of what ``state`` reports."""

    def fetch(self, path: str, target: Path) -> bool:
        """Copies a file of the machine to this computer; False where there is none."""

    def watch(
        self, command: str, *, timeout: float, press: bool = False, folder: str | None = None, hand: bool = False
    ) -> Watched:
        """Runs a command line and follows all its processes and windows; ``press`` agrees to every dialog, ``hand``
        leaves them to a person.

        Raises NoMachine, NotCovered.
        """


class WatchedMachine(Machine, Protocol):
    """A machine that can watch: what its programs find there, and sessions that do it."""

    @property
    def widths(self) -> list[str]:
        """The bits of programs that it runs: ``["64"]`` or ``["64", "32"]``."""

    def libraries(self, bits: int) -> set[str]:
        """The names of what lies in the system's folder for programs of so many bits, in small letters."""

    def fresh(self, account: Account = "user") -> AbstractContextManager[WatchedSession]: ...
