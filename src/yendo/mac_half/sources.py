"""What a step takes from a workspace: a folder, a file, or what lies on a disk image, the same on every system."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import msgspec

from yendo import digest
from yendo.errors import Unreadable, Usage
from yendo.formats import mach_o
from yendo.mac import images

MAX_ITEMS = 200_000
_REST = (".DS_Store",)  # what the Finder leaves in folders; never part of a program


class TreeItem(msgspec.Struct, frozen=True):
    """``below`` is its path below what was taken, empty for itself; ``runs``: a program or a script."""

    below: str
    kind: Literal["file", "folder", "link"]
    file: Path | None = None
    target: str = ""
    runs: bool = False


@contextlib.contextmanager
def taken(path: Path, inside: str, work: Path) -> Iterator[list[TreeItem]]:
    """A file, a folder, or a part of a disk image, item by item; each folder before what is in it.

    Raises Usage where it is not there, Unreadable, NotCovered.
    """
    if not path.exists():
        raise Usage(f"{path} is not there")
    if not inside:
        yield _tree(path)
        return
    with images.opened(path) as (volume, _):
        items = [one for one in volume.items() if one.path == inside or one.path.startswith(f"{inside}/")]
        if not items:
            raise Usage(f"{path.name} holds no {inside}")
        place = work / f"image-{len(list(work.iterdir()))}"
        images.extract(volume, items, place)
    modes = {one.path[len(inside) + 1 :]: bool(one.mode & 0o111) for one in items if one.kind == "file"}
    # the volume knows which are programs; a computer without modes does not
    yield [msgspec.structs.replace(one, runs=one.runs or modes.get(one.below, False)) for one in _tree(place / inside)]


def _tree(top: Path) -> list[TreeItem]:
    if top.is_symlink():
        raise Unreadable(f"{top} is a link")
    if top.is_file():
        return [TreeItem("", "file", top, runs=_runs(top))]
    found = [TreeItem("", "folder"), *_below(top, "")]
    if len(found) > MAX_ITEMS:
        raise Unreadable(f"{top.name} holds more than {MAX_ITEMS} files")
    return found


def _below(folder: Path, before: str) -> Iterator[TreeItem]:
    with os.scandir(folder) as entries:
        ordered = sorted(entries, key=lambda one: os.fsencode(one.name))
    for entry in ordered:
        path, below = Path(entry.path), before + entry.name
        if entry.name in _REST:
            continue
        if entry.is_symlink():
            yield TreeItem(below, "link", target=path.readlink().as_posix())
        elif entry.is_dir():
            yield TreeItem(below, "folder")
            yield from _below(path, below + "/")
        elif entry.is_file():
            yield TreeItem(below, "file", path, runs=_runs(path))
        else:
            raise Unreadable(f"{path} is neither a file nor a folder nor a link")


def _runs(path: Path) -> bool:
    """By its first bytes, and not by a mode: that one is lost on the way through archives and other systems."""
    with path.open("rb") as file:
        head = file.read(8)
    return head.startswith(b"#!") or mach_o.is_program(head)


def digest_of(path: Path) -> str:
    """SHA-256 of a file; of a folder, over the names, kinds and contents of all that is in it. Raises Unreadable."""
    if path.is_file() and not path.is_symlink():
        return digest.of_file(path)
    state = hashlib.sha256()
    for one in _tree(path):
        content = digest.of_file(one.file) if one.file else one.target
        state.update(f"{one.kind}\0{one.below}\0{content}\0".encode("utf-8", "surrogateescape"))
    return state.hexdigest()
