"""Takes out what the payloads of a package for macOS lay, below a folder of this computer."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from yendo.errors import Unreadable, Usage
from yendo.formats import cpio
from yendo.formats.xar import Xar
from yendo.mac import older, reading

MAX_WRITTEN = 64 << 30


def extract(path: Path, target: Path) -> tuple[int, int]:
    """Writes every payload below a folder, each where it would be laid; how many files, and bytes.

    Links come last, so that nothing is written through one. Owners and groups are not kept. Raises Unreadable, Usage.
    """
    links: dict[Path, str] = {}
    count = size = 0
    for stream, location in _streams(path):
        with stream as source:
            for item, content in cpio.contents(source):
                place = _place(target, location, item.path)
                if item.kind == "folder":
                    place.mkdir(parents=True, exist_ok=True)
                elif item.kind == "link":
                    links[place] = item.target
                elif item.kind == "file":
                    size += item.size
                    if size > MAX_WRITTEN:
                        raise Usage(f"more than {MAX_WRITTEN >> 30} GB are not taken out")
                    place.parent.mkdir(parents=True, exist_ok=True)
                    with place.open("wb") as out:
                        out.writelines(content)
                    place.chmod(0o755 if item.mode & 0o111 else 0o644)
                    count += 1
    for place, to in links.items():
        if not place.exists():
            place.parent.mkdir(parents=True, exist_ok=True)
            place.symlink_to(to or ".")
    return count, size


def _place(target: Path, location: str, path: str) -> Path:
    parts = [part for part in f"{location}/{path}".split("/") if part not in ("", ".")]
    if ".." in parts or any("\0" in part for part in parts):
        raise Unreadable(f"{path!r} leads out of where it is laid")
    return target.joinpath(*parts)


def _streams(path: Path) -> Iterator[tuple[contextlib.AbstractContextManager[BinaryIO], str]]:
    if path.is_dir():
        for _, packed, location in older.payloads(path):
            yield packed.open("rb"), location
        return
    found = reading.read(path, listing=True)
    with path.open("rb") as file:
        archive = Xar(file, path.name)
        by_path = {entry.path: entry for entry in archive.entries}
        for one in found.components:
            entry = by_path.get(f"{one.folder}/Payload" if one.folder else "Payload")
            if entry is not None:
                yield contextlib.nullcontext(reading.stream(archive, entry)), one.location
