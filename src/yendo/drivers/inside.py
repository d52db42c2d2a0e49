"""Drivers that an installer database brings: told in the same words as those of a folder.

A product that installs in silence brings them all the same, and Windows judges them then: a publisher who is not
trusted stops it, or asks somebody who is not there.
"""

from __future__ import annotations

import ntpath
import tempfile
from collections.abc import Iterable
from pathlib import Path

import msgspec

from yendo.drivers import reading
from yendo.drivers.driver import Driver
from yendo.drivers.target import ANY, DriverTarget
from yendo.effects import Effect, File
from yendo.errors import NotCovered, Unreadable
from yendo.formats.msi import Database
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.parts import hostile


class DriversInside(msgspec.Struct, frozen=True):
    """``drivers`` by the path at which their ``.inf`` is placed; ``trouble`` says why some could not be looked at."""

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
