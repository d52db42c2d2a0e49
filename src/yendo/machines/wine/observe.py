"""What is on a prefix: its files and its registry, as things.

A session is compared with its template: only files that its private layer holds are looked at, and
only registry blocks whose text differs are decoded.
"""

from __future__ import annotations

import contextlib
import glob
import os
import stat
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects import File, Folder, State, Thing
from yendo.effects.things import Part, View
from yendo.errors import Unreadable
from yendo.formats import inf, pe, registry_text
from yendo.installers import signatures
from yendo.machines.contents import ini_values, shortcut
from yendo.platforms.windows.registry_keys import located, things_of_key

Blocks = dict[tuple[str, str], str]  # (hive, escaped key path) -> lines
HIVES = {"system.reg": "HKLM", "user.reg": "HKCU", "userdef.reg": "HKU"}
MAX_HASHED = 1 << 31


def read_blocks(prefix: Path) -> Blocks:
    """The registry's text, a block a key."""
    found: Blocks = {}
    for name, hive in HIVES.items():
        with contextlib.suppress(FileNotFoundError):
            text = (prefix / name).read_text("utf-8", "replace")
            found.update(((hive, path), body) for path, body in registry_text.blocks(text).items())
    return found


def locate(hive: str, path: str) -> tuple[str, str, View]:
    """``(hive, key, view)`` of an escaped key path: aliases undone, the 32-bit half told apart."""
    key = registry_text.unescape(path)
    return located(hive, ".DEFAULT\\" + key if hive == "HKU" else key)


def registry_things(hive: str, path: str, body: str, *, has_children: bool = False) -> Iterator[Thing]:
    """The things that one key stands for."""
    if registry_text.is_link(body):
        return
    yield from things_of_key(*locate(hive, path), dict(registry_text.values(body)), has_children=has_children)


def windows_path(drive: Path, path: Path) -> str:
    relative = path.relative_to(drive).as_posix().replace("/", "\\")
    return f"C:\\{relative}" if relative != "." else "C:"


def file_things(drive: Path, path: Path) -> Iterator[Thing]:
    """The things that one file stands for: itself, a shortcut, the entries of an ini file."""
    where = windows_path(drive, path)
    size = path.stat().st_size
    if where.lower().endswith(".lnk") and (link := shortcut(where, path.read_bytes())):
        yield link
        return
    sha256 = digest.of_file(path) if size <= MAX_HASHED else None
    version = architecture = signer = None
    if where.lower().endswith((".exe", ".dll", ".sys", ".ocx")):
        with contextlib.suppress(Unreadable), path.open("rb") as file:
            image = pe.Image(file, path.name)
            version, architecture = image.version, image.architecture
            if image.certificates[1]:
                signer = signatures.of_program(file, image).signer
    changed = datetime.fromtimestamp(path.stat().st_mtime, UTC).date().isoformat()
    yield File(where, size, sha256, version, architecture, signer, changed)
    if where.lower().endswith(".ini") and size < 1 << 20:
        yield from ini_values(where, path.read_bytes())


def put_drivers(state: State, drive: Path) -> None:
    """The drivers of the layer's store as parts, with the versions that their own files state."""
    store = drive / "windows/system32/driverstore/filerepository"
    for thing in [thing for thing in state.of("part") if isinstance(thing, Part) and thing.sort == "driver"]:
        listed = []
        for folder in sorted(store.glob(f"{glob.escape(thing.name)}_*")) if store.is_dir() else []:
            with contextlib.suppress(Unreadable):
                told = inf.read(folder / thing.name).all("Version", "DriverVer")
                listed.append(f"{thing.name}={told[0].value(1).strip() if told else ''}")
        state.add(Part("driver", thing.name, ";".join(listed) or None))


def walk(drive: Path, skip: Iterable[str] = ()) -> Iterator[Thing]:
    """Everything below a drive, without contents: for the baseline of a template."""
    for folder, folders, files in os.walk(drive):
        here = Path(folder)
        if here != drive:
            yield Folder(windows_path(drive, here))
        for name in list(folders):
            if (here / name).is_symlink():
                folders.remove(name)
        for name in files:
            path = here / name
            if name.lower().endswith(".lnk"):
                yield from file_things(drive, path)
            elif not path.is_symlink():
                yield File(windows_path(drive, path), path.stat().st_size)


def save(target: Path, prefix: Path) -> None:
    """Keeps the full state of a template and its registry text, so that it is decoded once."""
    blocks = read_blocks(prefix)
    state = State(walk(prefix / "drive_c"))
    for (hive, path), body in blocks.items():
        for thing in registry_things(hive, path, body, has_children=True):
            state.add(thing)
    target.write_bytes(msgspec.msgpack.encode((list(state), list(blocks.items()))))


def load(source: Path) -> tuple[list[Thing], Blocks]:
    """What ``save`` kept."""
    things, blocks = msgspec.msgpack.decode(
        source.read_bytes(), type=tuple[list[Thing], list[tuple[tuple[str, str], str]]]
    )
    return things, dict(blocks)


def is_whiteout(path: Path) -> bool:
    """Whether an entry of an overlay's upper layer says "removed"."""
    status = path.lstat()
    return stat.S_ISCHR(status.st_mode) and status.st_rdev == 0
