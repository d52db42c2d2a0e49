"""Drivers that an installer database or a setup program brings: told in the same words as those of a folder.

A product that installs in silence brings them all the same, and Windows judges them then: a publisher who is not
trusted stops it, or asks somebody who is not there.
"""

from __future__ import annotations

import ntpath
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo.drivers import reading
from yendo.drivers.driver import Driver
from yendo.drivers.target import ANY, DriverTarget
from yendo.effects import Effect, File
from yendo.errors import NotCovered, Unreadable
from yendo.formats.msi import Database
from yendo.installers import programs
from yendo.installers.account import Content
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.parts import bomb, hostile

_TOP = "inside"  # in place of a folder of the machine
_MOST = 256 << 20  # bytes of one setup's files that are looked at


class DriversInside(msgspec.Struct, frozen=True):
    """``drivers`` by the path at which their ``.inf`` is placed, or lies in a setup program; ``trouble`` says why some
    could not be looked at.
    """

    drivers: dict[str, Driver] = {}
    trouble: str = ""


def of_database(source: Path, effects: Iterable[Effect], windows: DriverTarget = ANY) -> DriversInside:
    """``effects`` are what the database does to a machine, with their rows. Nothing is run, and what is written for
    reading is taken away again.
    """
    placed = {
        effect.evidence.key: effect.thing.path
        for effect in effects
        if effect.change == "add"
        and isinstance(effect.thing, File)
        and effect.evidence is not None
        and effect.evidence.table == "File"
    }
    heads = {ntpath.dirname(path) for path in placed.values() if path.lower().endswith(".inf")}
    wanted = {
        key: path for key, path in placed.items() if any(path.lower().startswith(head.lower() + "\\") for head in heads)
    }
    if not heads:
        return DriversInside()
    try:
        with Database(source) as database:
            contents = payload(database, source, set(wanted))
    except (MissingMedia, Unreadable, NotCovered) as error:
        return DriversInside(trouble=str(error))
    if not contents:
        return DriversInside(trouble="what lies beside its .inf files is too large to be looked at")
    there = {path: contents[key] for key, path in wanted.items() if key in contents}
    return _read(heads, there, windows)


def of_setup(source: Path, contents: Sequence[Content], windows: DriverTarget = ANY) -> DriversInside:
    """The same of a setup program, whose ``contents`` were listed already: what lies in one folder of it, or of what it
    holds. Where the setup would put that, and whether it does, is not told.
    """
    if not _names_any(contents):
        return DriversInside()
    found, troubles = dict[str, Driver](), list[str]()
    budget = [_MOST]

    def within(file: BinaryIO, name: str, listed: Sequence[Content], above: str) -> None:
        deeper = {one.name: one.contents for one in listed if _names_any(one.contents)}
        _, parts = programs.look(file, name)
        plain = {part.name.replace("/", "\\").lstrip("\\"): part for part in parts}
        heads = {ntpath.dirname(path) for path in plain if path.lower().endswith(".inf")}
        for head in sorted(heads):
            files: dict[str, bytes] = {}
            for path, part in plain.items():
                if ntpath.dirname(path).lower() != head.lower() and not path.lower().startswith(f"{head}\\".lower()):
                    continue
                if bomb(part) or (part.size or 0) > budget[0]:
                    troubles.append(f"{above}{path}: too large to be looked at")
                    continue
                files[f"{_TOP}\\{path}"] = data = part.open(budget[0]).read()
                budget[0] -= len(data)
            seen = _read({f"{_TOP}\\{head}".rstrip("\\")}, files, windows)
            for path, driver in seen.drivers.items():
                where = above + path.removeprefix(f"{_TOP}\\")
                found[where] = msgspec.structs.replace(driver, path=where)
            troubles.extend(filter(None, [seen.trouble]))
        for part in parts:
            if part.name in deeper and not bomb(part) and (part.size or 0) <= budget[0]:
                inner = part.open(budget[0])
                within(inner, part.name, deeper[part.name], f"{above}{part.name}\\")

    try:
        with source.open("rb") as file:
            within(file, source.name, contents, "")
    except (Unreadable, NotCovered, OSError) as error:
        troubles.append(str(error))
    return DriversInside(found, "; ".join(troubles))


def _names_any(contents: Sequence[Content]) -> bool:
    return any(one.name.lower().endswith(".inf") or _names_any(one.contents) for one in contents)


def _read(heads: Iterable[str], files: dict[str, bytes], windows: DriverTarget) -> DriversInside:
    """The drivers in folders of the machine, whose files are at hand."""
    found: dict[str, Driver] = {}
    troubles: list[str] = []
    with tempfile.TemporaryDirectory(prefix="yendo-drivers-") as work:
        for number, head in enumerate(sorted(heads)):
            folder = Path(work, str(number))
            _put(folder, head, files)
            for path in sorted(folder.glob("*")):
                if path.suffix.lower() != ".inf":
                    continue
                where = f"{head}\\{path.name}"
                try:
                    driver = reading.read(path, windows)
                except Unreadable as error:
                    troubles.append(f"{where}: {error}")
                    continue
                if driver.class_id or driver.devices:  # others configure something, and drive nothing
                    found[where] = msgspec.structs.replace(driver, path=where)
    return DriversInside(found, "; ".join(troubles))


def _put(folder: Path, head: str, files: dict[str, bytes]) -> None:
    """The files below one folder of the machine, into a folder here; a name that leads elsewhere is left out."""
    folder.mkdir()
    for path, data in files.items():
        if not path.lower().startswith(head.lower() + "\\"):
            continue
        below = path[len(head) + 1 :]
        if hostile(below):
            continue
        target = folder.joinpath(*below.split("\\"))
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
