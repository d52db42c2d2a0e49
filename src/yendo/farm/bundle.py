"""A package as it travels to another computer: itself and the files that its plan's ``[proof]`` names, as one archive
that is known by its content, in pieces of a bounded size.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tarfile
from collections.abc import Iterator
from pathlib import Path

import msgspec

from yendo.errors import Unreadable, Usage
from yendo.plan.model import Proving

PIECE = 8 << 20  # bytes


class Bundle(msgspec.Struct, frozen=True):
    """What travels: each file or folder by the name that it has there; ``digest`` is of the archive."""

    digest: str
    package: str
    proving: Proving
    parts: dict[str, str]


def of(package: Path, proving: Proving, workspace: Path) -> Bundle:
    """The bundle of a package: its files are read once for the digest. Raises Usage for what is not there."""
    parts = {"package": package}
    others, packages, back_to, files = [], [], [], {}
    for number, name in enumerate(proving.others):
        others.append(f"others/{number}/{Path(name).name}")
        parts[others[-1]] = workspace / name
    for number, name in enumerate(proving.packages):
        packages.append(f"packages/{number}")
        parts[packages[-1]] = workspace / name
    for number, name in enumerate(proving.back_to):
        back_to.append(f"back_to/{number}")
        parts[back_to[-1]] = workspace / name
    for number, (there, name) in enumerate(proving.files.items()):
        files[there] = f"files/{number}"
        parts[files[there]] = workspace / name
    for name, path in parts.items():
        if not path.exists():
            raise Usage(f"{path} is not there, and the proof needs it ({name})")
    travelling = msgspec.structs.replace(
        proving, others=tuple(others), packages=tuple(packages), back_to=tuple(back_to), files=files
    )
    found = Bundle("", "package", travelling, {name: str(path) for name, path in parts.items()})
    whole = hashlib.sha256()
    for piece in pieces(found):
        whole.update(piece)
    return msgspec.structs.replace(found, digest=whole.hexdigest())


def pieces(bundle: Bundle) -> Iterator[bytes]:
    """The archive, the same bytes every time; little more of it than a piece is in memory. Raises Usage, OSError."""
    held = bytearray()
    for part in _archived(bundle):
        held += part
        while len(held) >= PIECE:
            yield bytes(held[:PIECE])
            del held[:PIECE]
    if held:
        yield bytes(held)


def _archived(bundle: Bundle) -> Iterator[bytes]:
    """The archive as it is written: for each file its header, what is in it, zeros to the next block."""
    for name, path in sorted(bundle.parts.items()):
        for inner in _files(Path(path)):
            below = inner.relative_to(path).as_posix()
            info = tarfile.TarInfo(name if below == "." else f"{name}/{below}")
            with inner.open("rb") as file:
                left = info.size = os.fstat(file.fileno()).st_size
                yield info.tobuf(tarfile.PAX_FORMAT)
                while part := file.read(min(left, 1 << 20)):
                    left -= len(part)
                    yield part
            if left:
                raise Usage(f"{inner} became shorter while it was read")
            yield bytes(-info.size % tarfile.BLOCKSIZE)
    yield bytes(2 * tarfile.BLOCKSIZE)


def _files(path: Path) -> Iterator[Path]:
    if path.is_symlink():
        raise Usage(f"{path} is a link; a package has none")
    if path.is_file():
        yield path
        return
    for entry in sorted(path.iterdir(), key=lambda one: one.name):
        yield from _files(entry)


class Arriving:
    """A bundle on its way into a folder of a cache. Pieces come in order; one that has come already is passed over."""

    def __init__(self, cache: Path, digest: str) -> None:
        self.cache, self.digest = cache, digest
        cache.mkdir(parents=True, exist_ok=True)
        self.part = cache / f"{digest}.{os.getpid()}.part"
        self.came = 0

    def put(self, number: int, piece: bytes) -> None:
        if number < self.came:
            return
        if number > self.came:
            raise Unreadable(f"piece {number} of a package came where {self.came} was to come")
        with self.part.open("wb" if number == 0 else "ab") as file:
            file.write(piece)
        self.came += 1

    def end(self) -> Path:
        """Unpacks it, when its content is what was announced. Raises Unreadable."""
        place = self.cache / self.digest
        try:
            with self.part.open("rb") as file:
                found = hashlib.file_digest(file, "sha256").hexdigest()
            if found != self.digest:
                raise Unreadable("a package came here with other bytes than were announced")
            fresh = self.cache / f"{self.digest}.{os.getpid()}.new"
            shutil.rmtree(fresh, ignore_errors=True)
            with tarfile.open(self.part) as archive:
                archive.extractall(fresh, filter="data")
            with contextlib.suppress(OSError):  # another worker of this computer was quicker
                fresh.rename(place)
            shutil.rmtree(fresh, ignore_errors=True)
        finally:
            self.part.unlink(missing_ok=True)
        return place


def arrived(cache: Path, digest: str) -> Path | None:
    """Where a bundle lies in a cache, or None."""
    place = cache / digest
    return place if place.is_dir() else None
