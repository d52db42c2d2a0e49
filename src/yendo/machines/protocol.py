"""What every machine can do, whether simulated or real."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from typing import Literal, Protocol

import msgspec

from yendo.effects import State
from yendo.facts.surroundings import Account, Surroundings

Place = Literal["API layer", "simulation", "stand-in", "nowhere"]


class Ran(msgspec.Struct, frozen=True):
    """A command that ended: its full exit code (None when it was stopped for time), output, seconds."""

    exit_code: int | None
    output: str
    seconds: float


class Session(Protocol):
    """A machine that is nobody else's, from fresh to thrown away. Paths are Windows paths."""

    surroundings: Surroundings

    def bring(self, source: Path, target: str) -> None:
        """Copies a folder onto the machine. It is not part of what ``state`` reports."""

    def run(self, command: str, *, timeout: float, folder: str | None = None) -> Ran:
        """Runs a Windows command line and waits for its end, or stops it after ``timeout`` seconds."""

    def state(self) -> State:
        """Everything on the machine now, its own noise left out."""

    def read(self, path: str) -> bytes | None:
        """A file's bytes, or None where there is none."""

    def write(self, path: str, data: bytes) -> None:
        """Writes a file whose folder exists."""

    def remove(self, path: str) -> bool:
        """Removes a file; False where there was none."""

    def make_folder(self, path: str) -> bool:
        """Makes one folder; False where it was there."""

    def remove_folder(self, path: str) -> bool:
        """Removes a folder if it is empty; False where it stays."""

    def has_folder(self, path: str) -> bool: ...

    def is_running(self, name: str) -> bool:
        """Whether a program of this name, without ``.exe``, runs."""

    def close_program(self, name: str) -> bool:
        """Asks a program to close, by its name without ``.exe``; False where it does not run."""


class Machine(Protocol):
    """A kind of machine. ``fresh`` gives a session and throws the machine away at its end."""

    name: str
    place: Place

    @property
    def label(self) -> str: ...

    @property
    def has_powershell(self) -> bool: ...

    def fresh(self, account: Account = "user") -> AbstractContextManager[Session]: ...

    def surroundings(self, account: Account = "user") -> Surroundings: ...

    def baseline(self, account: Account = "user") -> State:
        """The state of a fresh machine."""
