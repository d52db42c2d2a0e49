"""A tree of files as a state: what lies below a folder, as a POSIX system would have it below another.

Source: POSIX.1-2017, ``lstat``; extended attributes by ``listxattr`` where this computer has that. A mode is its twelve
permission bits; that of a link says nothing and is not kept.
"""

from __future__ import annotations

import stat
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from yendo import digest
from yendo.effects.compare import difference
from yendo.effects.effect import Change
from yendo.effects.state import State
from yendo.effects.things import File, Folder, Link
from yendo.errors import Unreadable
from yendo.host_os import attributes_of

PosixThing = File | Folder | Link
MOST = 2_000_000  # more things than any package's tree has


def observed(root: Path, at: str = "/", *, left: Callable[[str], bool] = lambda path: False) -> State:
    """The state of a tree, as ``listed`` tells it. Raises Unreadable."""
    return State(listed(root, at, left=left))


def listed(root: Path, at: str = "/", *, left: Callable[[str], bool] = lambda path: False) -> Iterator[PosixThing]:
    """What lies in a tree: ``root`` stands for the folder ``at``, which is not part of it itself. Links are never
    followed; pipes, sockets and devices are passed over, and what ``left`` names, with all below it.

    Raises Unreadable where it cannot be read, or is endless.
    """
    for number, (path, entry) in enumerate(_walk(root, at.rstrip("/"), left)):
        if number >= MOST:
            raise Unreadable(f"{root} holds more than {MOST} files and folders")
        try:
            thing = _thing(path, entry)
        except OSError as error:
            raise Unreadable(f"{entry} cannot be read: {error.strerror}") from error
        if thing is not None:
            yield thing


def _thing(path: str, entry: Path) -> PosixThing | None:
    info = entry.lstat()
    mode = stat.S_IMODE(info.st_mode)
    if stat.S_ISLNK(info.st_mode):
        return Link(path, entry.readlink().as_posix(), info.st_uid, info.st_gid)
    if stat.S_ISDIR(info.st_mode):
        return Folder(path, mode, info.st_uid, info.st_gid, attributes_of(entry))
    if stat.S_ISREG(info.st_mode):
        sha256, own = digest.of_file(entry), attributes_of(entry)
        return File(path, info.st_size, sha256, mode=mode, user=info.st_uid, group=info.st_gid, attributes=own)
    return None


def _walk(folder: Path, before: str, left: Callable[[str], bool]) -> Iterator[tuple[str, Path]]:
    try:
        entries = sorted(folder.iterdir())
    except OSError as error:
        raise Unreadable(f"{folder} cannot be read: {error.strerror}") from error
    for entry in entries:
        path = f"{before}/{entry.name}"
        if left(path):
            continue
        yield path, entry
        if entry.is_dir() and not entry.is_symlink():
            yield from _walk(entry, path, left)


def changes(before: Mapping[str, PosixThing], after: Mapping[str, PosixThing]) -> dict[str, Change]:
    """What became of each path between two looks, in the order of the paths. One that became something of another kind
    has changed; so has a file that nobody hashed and that was written since, which is all that is known of it.
    """
    found: dict[str, Change] = {}
    for effect in difference(State(before.values()), State(after.values())):
        if isinstance(effect.thing, PosixThing):
            path = effect.thing.path
            found[path] = "change" if path in before and path in after else effect.change
    for path in before.keys() & after.keys():
        one, other = before[path], after[path]
        if isinstance(one, File) and isinstance(other, File) and None in (one.sha256, other.sha256):
            found |= {path: "change"} if one.changed != other.changed else {}
    return dict(sorted(found.items()))
