"""Runs that are watched: what is seen of a command line's processes and windows, and which machines can do that."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

import msgspec

from yendo.errors import Unreadable
from yendo.formats.fields import unescape
from yendo.formats.png import png
from yendo.machines.protocol import Machine, Session
from yendo.platforms.windows import exit_codes
from yendo.platforms.windows.surroundings import Account

SCREEN = (1280, 800)
FLASH = 1.0  # seconds
MOST_SIDE = 4096  # points of a picture that a script takes


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
        said. One without a word that is gone within a second is a flash: nobody could have answered it.
        """
        if not (self.title or self.texts or self.picture):
            return False
        if not (self.title or self.texts) and self.gone is not None and self.gone - self.shown < FLASH:
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


def watched(command: str, lines: Sequence[str], machine: str) -> Watched:
    """What a script on a machine tells of a run that it watched (``machines/recorded/operations.ps1``), in lines of
    fields between tabs: ``R`` code, first ended, seconds, stopped, error; ``W`` a window, behind it ``T`` what one of
    its controls says and ``I`` its picture; ``P`` a process. Raises Unreadable.
    """
    if not lines:
        raise Unreadable(f"{machine} gave no answer to a run that was watched")
    if lines[0] == "cut":
        return Watched(command, exit_codes.RESTARTING, None, 0.0, (), (), network_off=False)
    rows = [line.split("\t") for line in lines]
    try:
        _, code, first, seconds, stopped, error = rows[0]
        return Watched(
            command,
            None if code == "-" else int(code),
            _moment(first),
            float(seconds),
            tuple(_windows(rows[1:])),
            tuple(
                Process(int(row[1]), int(row[2]), unescape(row[3]), float(row[4]), _moment(row[5]))
                for row in rows[1:]
                if row[0] == "P"
            ),
            stopped=stopped.strip("-"),
            network_off=False,
            error=int(error),
        )
    except (ValueError, IndexError) as wrong:
        raise Unreadable(f"{machine} gave an answer that cannot be read: {lines[0][:80]}") from wrong


def _windows(rows: Sequence[Sequence[str]]) -> Iterator[Window]:
    found: Window | None = None
    for row in rows:
        match row[0]:
            case "W":
                if found is not None:
                    yield found
                place = tuple(int(field) for field in row[5:9])
                found = Window(unescape(row[1]), unescape(row[2]), "", (), float(row[3]), _moment(row[4]), None, place)
            case "T" if found is not None:
                found = msgspec.structs.replace(found, texts=(*found.texts, unescape(row[1])))
            case "I" if found is not None:
                found = msgspec.structs.replace(found, picture=picture_of(row[1], *found.place[2:4]))
    if found is not None:
        yield found


def picture_of(packed: str, width: int, height: int) -> bytes | None:
    """A picture as the script packs it (blue, green, red, nothing, a byte each; deflate; base 64) as PNG; None where
    nothing is drawn in it. Raises ValueError.
    """
    size = 4 * width * height
    if not (0 < width <= MOST_SIDE and 0 < height <= MOST_SIDE):
        raise ValueError(f"a picture of {width} by {height} points")
    try:
        points = bytearray(zlib.decompressobj(-15).decompress(base64.b64decode(packed, validate=True), size))
    except zlib.error as error:
        raise ValueError(str(error)) from error
    if len(points) != size:
        raise ValueError(f"a picture of {len(points)} bytes, where {size} were said")
    if points == points[:4] * (size // 4):
        return None
    points[0::4], points[2::4] = points[2::4], points[0::4]
    points[3::4] = b"\xff" * (size // 4)
    return png(width, height, bytes(points))


def _moment(text: str) -> float | None:
    return None if text == "-" else float(text)


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

    def rewritten(self) -> frozenset[str] | None:
        """Files that lay there before and were written to since, whatever their contents are now; None where the
        machine does not tell.
        """


class WatchedMachine(Machine, Protocol):
    """A machine that can watch: what its programs find there, and sessions that do it."""

    @property
    def widths(self) -> list[str]:
        """The bits of programs that it runs: ``["64"]`` or ``["64", "32"]``."""

    def libraries(self, bits: int) -> set[str]:
        """The names of what lies in the system's folder for programs of so many bits, in small letters."""

    def fresh(self, account: Account = "user") -> AbstractContextManager[WatchedSession]: ...


class ScreenMachine(WatchedMachine, Protocol):
    """One that ``screens``: its programs run on this computer."""

    def on_screen(self, display: str) -> ScreenMachine:
        """The same, with its windows on a screen of this computer."""
