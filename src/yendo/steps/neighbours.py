"""What several packages of a machine have placed alike: it goes with the last of them.

Each package has a record of its own. Who takes a change back looks whether another record names the same place; then
the thing stays, and what was there before the first of them passes into the other record.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from yendo.errors import NotCovered
from yendo.machines.protocol import Session
from yendo.steps import home as layout
from yendo.steps import ledger
from yendo.steps.ledger import NOTHING


class Roomed(Protocol):
    """Who carries a package out, as far as the records of others are looked at: a session, and where its own lie."""

    session: Session
    room: str

    def own_folders(self, folder: str) -> None: ...


def place(fields: list[str]) -> tuple[str, ...] | None:
    """What a line of a record is about, so that two lines on the same thing give the same; None where it cannot be
    shared: a command of the package's own files.
    """
    kind, *rest = fields
    if kind == "F":
        return "F", rest[2].lower()
    if kind == "V":
        return "V", *(field.lower() for field in rest[2:])
    if kind == "P":
        return "P", rest[0].rstrip("\\").lower(), *(field.lower() for field in rest[1:])
    if kind == "U":
        return None if "{" in rest[0] else ("U", rest[0].lower())
    return None


def within(made: list[str], other: list[str]) -> bool:
    """Whether a line is about something in a folder or key that another line says was made."""
    kind, *rest = made
    if kind == "D":
        path = {"D": 0, "F": 2}.get(other[0])
        return path is not None and (other[1:][path].lower() + "\\").startswith(rest[0].lower() + "\\")
    at = {"K": 0, "V": 2, "P": 1}.get(other[0])
    if kind != "K" or at is None or other[1:][at : at + 2] != rest[:2]:
        return False
    return (other[1:][at + 2].lower() + "\\").startswith(rest[2].lower() + "\\")


class Neighbours:
    """The records of the other packages on a machine, by the folder of each, read once."""

    def __init__(self, host: Roomed) -> None:
        self.host = host
        self.records = dict(self._read())
        self.places = {folder: _places(record) for folder, record in self.records.items()}

    def _read(self) -> Iterator[tuple[str, list[str]]]:
        try:
            files = self.host.session.files_below(self.host.room.rpartition("\\")[0])
        except NotCovered:
            return
        for path in sorted(files, key=str.lower):
            folder, _, name = path.rpartition("\\")
            if name.lower() != layout.RECORD or folder.count("\\") != self.host.room.count("\\"):
                continue
            if folder.lower() != self.host.room.lower():
                data = self.host.session.read(path) or b""
                yield folder, data.decode("utf-8", "replace").split("\r\n")[:-1]

    def have(self, line: list[str]) -> bool:
        """Whether another package's record has a line about the same."""
        return any(place(line) in places for places in self.places.values())

    def take_over(self, line: list[str]) -> bool:
        """Whether another package needs what a line of this one's record placed; it has the line's "before" then."""
        for folder, places in self.places.items():
            found = places.get(place(line), ())
            for at in found if line[0] in "FV" else ():
                other = ledger.fields(self.records[folder][at])
                if other[2] == line[1]:
                    if line[0] == "F" and line[2] != NOTHING:
                        self._bring(folder, line[2])
                    self.records[folder][at] = ledger.line(other[0], other[1], line[2], *other[3:])
                    self._write(folder)
                    break
            if found:
                return True
        return False

    def take_over_made(self, line: list[str]) -> bool:
        """The same of a folder or key that was made, and that is not empty."""
        for folder, record in self.records.items():
            if not any(within(line, ledger.fields(text)) for text in record):
                continue
            text = ledger.line(*line)
            if text not in record:
                record.insert(record.index("B") + 1 if "B" in record else 0, text)
                self.places[folder] = _places(record)
                self._write(folder)
            return True
        return False

    def _bring(self, folder: str, name: str) -> None:
        kept = self.host.session.read(rf"{self.host.room}\kept\{name}")
        if kept is not None:
            self.host.own_folders(rf"{folder}\kept")
            self.host.session.write(rf"{folder}\kept\{name}", kept)

    def _write(self, folder: str) -> None:
        text = "".join(f"{line}\r\n" for line in self.records[folder])
        self.host.session.write(rf"{folder}\{layout.RECORD}", text.encode())


def _places(record: list[str]) -> dict[tuple[str, ...] | None, list[int]]:
    """What the lines of a record are about, each with the numbers of its lines."""
    found: dict[tuple[str, ...] | None, list[int]] = {}
    for number, text in enumerate(record):
        about = place(ledger.fields(text))
        if about is not None:
            found.setdefault(about, []).append(number)
    return found
