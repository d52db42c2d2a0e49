"""A package as one file: made from its folder, and unpacked to look at what is in it."""

from __future__ import annotations

import contextlib
import shutil
import stat
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from yendo import atomic
from yendo.errors import Unreadable
from yendo.platforms.windows import paths

STAMP = (2000, 1, 1, 0, 0, 0)  # the one date in it: the same inputs give the same bytes
MOST_FILES = 200_000
PIECE = 1 << 20


def beside(folder: Path) -> Path:
    """Where the archive of a package lies."""
    return folder.parent / f"{folder.name}.zip"


def member(name: str) -> zipfile.ZipInfo:
    """An entry, the same on every system and at any time."""
    info = zipfile.ZipInfo(name, STAMP)
    info.external_attr = 0o100644 << 16
    info.create_system = 3
    return info


def pack(folder: Path, target: Path) -> None:
    """Writes every file of a package's folder into an archive, which is there whole or not at all."""
    with atomic.writing(target) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as packed:
        add_folder(packed, folder)


def add_folder(packed: zipfile.ZipFile, folder: Path, into: str = "") -> None:
    """Adds every file of a folder, by its name below ``into``, as the archive is packed."""
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            info = member(into + path.relative_to(folder).as_posix())
            info.compress_type = packed.compression
            with path.open("rb") as source, packed.open(info, "w", force_zip64=True) as entry:
                shutil.copyfileobj(source, entry, PIECE)


@contextlib.contextmanager
def opened(path: Path) -> Iterator[Path]:
    """The package of an archive as a folder, which goes at the end of the block. Raises Unreadable."""
    with tempfile.TemporaryDirectory(prefix="yendo-archive-") as place:
        target = Path(place) / path.stem
        target.mkdir()
        try:
            with zipfile.ZipFile(path) as packed:
                _unpack(packed, target, path.name)
        except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError) as error:
            raise Unreadable(f"{path.name} cannot be unpacked: {error}") from error
        if not (target / "manifest.json").is_file():
            raise Unreadable(f"{path.name} holds no package: there is no manifest.json in it")
        yield target


def _unpack(packed: zipfile.ZipFile, target: Path, name: str) -> None:
    entries = packed.infolist()
    if len(entries) > MOST_FILES:
        raise Unreadable(f"{name} holds {len(entries)} files; a package has at most {MOST_FILES}")
    size = sum(entry.file_size for entry in entries)
    if size > shutil.disk_usage(target).free:
        raise Unreadable(f"{name} would take {size} bytes, and the disk for temporary files has not as many")
    for entry in entries:
        inside = PurePosixPath(entry.filename)
        plain = not (
            inside.is_absolute() or ".." in inside.parts or paths.SEPARATOR in entry.filename or ":" in entry.filename
        )
        if not plain or stat.S_ISLNK(entry.external_attr >> 16):
            raise Unreadable(f"{name}: {entry.filename!r} leads out of the package")
        if entry.is_dir():
            continue
        place = target / inside
        place.parent.mkdir(parents=True, exist_ok=True)
        left = entry.file_size
        with packed.open(entry) as source, place.open("xb") as file:
            while piece := source.read(PIECE):
                left -= len(piece)
                if left < 0:
                    raise Unreadable(f"{name}: {entry.filename} is larger than it says")
                file.write(piece)
