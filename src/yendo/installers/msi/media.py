"""Where the files of a database lie: in cabinets inside it, in cabinets beside it, or loose beside it."""

from __future__ import annotations

import io
import os
from collections.abc import Iterator
from pathlib import Path

from yendo.formats import cab
from yendo.formats.msi import Database
from yendo.installers.account import Medium
from yendo.installers.msi.session import long_name

MAX_UNPACKED = 64 << 20  # contents are looked at up to this size, for their hashes


def media(database: Database, source: Path) -> list[Medium]:
    """Every cabinet and loose file that the database names, and whether it is there. Opens none of them."""
    found = []
    for row in database["Media"]:
        name = row.text("Cabinet")
        if name.startswith("#"):
            stream = database.stream(name[1:])
            found.append(Medium(name[1:], "embedded", stream is not None, stream.size if stream else None))
        elif name:
            path = beside(source, name)
            found.append(
                Medium(
                    name,
                    "external",
                    path is not None,
                    path.stat().st_size if path else None,
                    path.name if path else None,
                )
            )
    for key in _loose_keys(database):
        path, entry = loose(database, source, key), database["File"].find(key)
        there = path is not None and path.is_file()
        found.append(
            Medium(
                long_name(entry.text("FileName") if entry else key),
                "loose",
                there,
                path.stat().st_size if path and there else None,
                str(path.relative_to(source.parent)) if path and there else None,
            )
        )
    return found


def _loose_keys(database: Database) -> Iterator[str]:
    compressed = (database.summary.words or 0) & 2
    for entry in database["File"]:
        flags = entry.number("Attributes")
        if flags & 0x2000 or (not compressed and not flags & 0x4000):
            yield entry.text("File")


class MissingMedia(Exception):
    """A cabinet or a loose file that the database names is not where it says."""


def payload(database: Database, source: Path, wanted: set[str] | None = None) -> dict[str, bytes]:
    """The files of a database by their keys, up to a bounded size; raises MissingMedia where one is not there.

    ``wanted`` are the keys that are asked for, all without it; nothing comes where they are larger in all than
    ``MAX_UNPACKED``, or their cabinet than four times that.
    """
    contents: dict[str, bytes] = {}
    asked = [row for row in database["File"] if wanted is None or row.text("File") in wanted]
    total = sum(row.number("FileSize") for row in asked)
    for medium in database["Media"]:
        name = medium.text("Cabinet")
        if not name:
            continue
        if name.startswith("#"):
            stream = database.stream(name[1:])
            if stream is None:
                raise MissingMedia(f"{name[1:]} inside the database")
            if total <= MAX_UNPACKED and (wanted is None or stream.size <= 4 * MAX_UNPACKED):
                contents.update(cab.extract(io.BytesIO(stream.read()), wanted, limit=8 * MAX_UNPACKED))
        else:
            path = beside(source, name)
            if path is None:
                raise MissingMedia(name)
            if total <= MAX_UNPACKED:
                with path.open("rb") as file:
                    contents.update(cab.extract(file, wanted, limit=8 * MAX_UNPACKED))
    for key in _loose_keys(database):
        if wanted is not None and key not in wanted:
            continue
        path = loose(database, source, key)
        if path is None or not path.is_file():
            raise MissingMedia(key)
        if total <= MAX_UNPACKED:
            contents[key] = path.read_bytes()
    return contents


def beside(source: Path, name: str) -> Path | None:
    """A file next to the installer, by name without regard to case, never outside its folder."""
    if not name or any(character in name for character in "/\\:") or name in (".", ".."):
        return None
    exact = source.parent / name
    if exact.is_file():
        return exact
    return next((entry for entry in source.parent.iterdir() if entry.name.lower() == name.lower()), None)


def loose(database: Database, source: Path, key: str) -> Path | None:
    """Where an uncompressed file lies beside the database, by the source half of its folders' names."""
    entry = database["File"].find(key)
    component = database["Component"].find(entry.text("Component_")) if entry else None
    if entry is None or component is None:
        return None
    parts, at = [long_name(entry.text("FileName"))], component.text("Directory_")
    for _ in range(64):
        found = database["Directory"].find(at)
        if found is None or not found.text("Directory_Parent") or found.text("Directory_Parent") == at:
            break
        own = found.text("DefaultDir")
        own = own.partition(":")[2] or own
        own = own.partition("|")[2] or own
        if own not in (".", "SourceDir"):
            parts.append(own)
        at = found.text("Directory_Parent")
    path = source.parent
    for part in reversed(parts):
        if part in ("", "..") or any(character in part for character in "/\\:"):
            return None
        step = path / part
        if not step.exists() and path.is_dir():
            step = next((Path(found.path) for found in os.scandir(path) if found.name.lower() == part.lower()), step)
        path = step
    return path
