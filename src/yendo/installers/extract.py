"""Taking what is inside an installer out of it, into a folder, when that was asked for."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo import atomic
from yendo.errors import Usage, YendoError
from yendo.installers import programs
from yendo.installers.parts import MAX_DEPTH, MAX_WRITTEN, InstallerPart, bomb, hostile

MAX_ONE = 8 << 30
INSIDE = ".contents"  # what lies inside a file goes into a folder of its name with this ending


class Taken(msgspec.Struct, frozen=True):
    """What was written (paths below the target, sizes in bytes) and what was not, with the reason."""

    written: tuple[tuple[str, int], ...]
    left_out: tuple[tuple[str, str], ...]


class _Taking:
    def __init__(self) -> None:
        self.written: list[tuple[str, int]] = []
        self.left_out: list[tuple[str, str]] = []
        self.left = MAX_WRITTEN
        self.seen: set[str] = set()

    def all(self, parts: list[InstallerPart], target: Path, below: str, depth: int) -> None:
        for part in parts:
            name = part.name.replace("\\", "/").replace("$", "_")
            reason = (
                hostile(name)
                or bomb(part)
                or (part.note if part.link else None)
                or (None if part.size is not None or part.packed else part.note or None)
            )
            if reason:
                self.left_out.append((below + part.name, reason))
                continue
            place = f"{below}{name}"
            while place.lower() in self.seen:  # two of one name: both are kept
                place += "~"
            self.seen.add(place.lower())
            try:
                self._one(part, target, place, depth)
            except YendoError as error:
                self.left_out.append((place, str(error)))

    def _one(self, part: InstallerPart, target: Path, place: str, depth: int) -> None:
        file = part.open(min(MAX_ONE, self.left))
        size = file.seek(0, 2)
        if size > self.left:
            self.left_out.append((place, f"more than {MAX_WRITTEN >> 30} GB in all"))
            return
        self.left -= size
        path = target.joinpath(*place.split("/"))
        path.parent.mkdir(parents=True, exist_ok=True)
        file.seek(0)
        with atomic.writing(path) as out:
            while piece := file.read(1 << 20):
                out.write(piece)
        self.written.append((place, size))
        if depth < MAX_DEPTH:
            self._inner(file, target, place, depth)

    def _inner(self, file: BinaryIO, target: Path, place: str, depth: int) -> None:
        try:
            _, parts = programs.look(file, place)
        except YendoError:
            return  # it is written as it is; what it is not was told when it was read
        self.all(parts, target, f"{place}{INSIDE}/", depth + 1)


def is_free(target: Path) -> None:
    """Raises Usage where a folder to take something out into holds something already."""
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise Usage(f"{target} is not empty; name a folder that does not exist yet")


def extract(installer: Path, target: Path) -> Taken:
    """Writes everything inside an installer below a folder that is new or empty.

    Raises Usage, Unreadable, NotCovered.
    """
    is_free(target)
    with installer.open("rb") as file:
        _, parts = programs.look(file, installer.name)
        if not parts:
            raise Usage(f"{installer.name} holds nothing that this version can take out")
        taking = _Taking()
        with atomic.folder(target) as work:
            taking.all(parts, work, "", 0)
    return Taken(tuple(taking.written), tuple(taking.left_out))
