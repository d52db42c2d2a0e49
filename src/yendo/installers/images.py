"""Disc images (ISO 9660 and UDF) as media: listed and read without mounting, taking only what is needed.

Where an image is both, its UDF side counts: the other may hold only a note that says so. ISO 9660 is read by the
library pycdlib. Names are made safe here, since they come from the image.
"""

from __future__ import annotations

import contextlib
import io
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import msgspec

from yendo import atomic
from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats import udf
from yendo.formats.udf import UdfFile, UdfVolume
from yendo.walk import regular

MAX_ENTRIES, MAX_DEPTH = 200_000, 32
_SECTOR = 2048
_MARKS = (b"CD001", b"BEA01")


class ImageEntry(msgspec.Struct, frozen=True):
    """A file of an image: its path with ``/``, its size in bytes, and its family where it is an installer."""

    path: str
    size: int
    family: str | None = None


def is_image(path: Path) -> bool:
    """Whether a file is a disc image, by the mark in its 17th sector."""
    regular(path)
    try:
        with path.open("rb") as file:
            file.seek(16 * _SECTOR + 1)
            return file.read(5) in _MARKS
    except OSError:
        return False


class DiscImage:
    """An image, open for reading. Raises Unreadable."""

    def __init__(self, path: Path) -> None:
        self.path, self.what = path, "disc image"
        self._volume: UdfVolume | None = None
        self._known: dict[str, UdfFile] = {}
        self._listed: list[ImageEntry] | None = None
        self._file = path.open("rb")
        if udf.is_udf(self._file):
            try:
                self._volume = UdfVolume(self._file)
            except (Unreadable, NotCovered) as error:
                self._file.close()
                raise Unreadable(f"{path}: a disc image that cannot be read: {error}") from error
            return
        import pycdlib

        self._iso = pycdlib.PyCdlib()
        try:
            self._iso.open(str(path))
        except (
            Exception
        ) as error:  # the library raises its own errors, and those of the modules beneath, for damaged images
            raise Unreadable(f"{path}: a disc image that cannot be read: {error}") from error
        self._kind = (
            "joliet_path" if self._iso.has_joliet() else "rr_path" if self._iso.has_rock_ridge() else "iso_path"
        )

    def __enter__(self) -> DiscImage:
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):
            if self._volume is None:
                self._iso.close()
        self._file.close()

    def entries(self) -> list[ImageEntry]:
        """Every file, by its path. Names that lead elsewhere are left out. Raises Unreadable."""
        if self._listed is None:
            self._listed = self._every_file()
        return list(self._listed)

    def _every_file(self) -> list[ImageEntry]:
        found: list[ImageEntry] = []
        if self._volume is not None:
            for file in self._within():
                self._known[file.path] = file
                found.append(ImageEntry(file.path, file.size))
                if len(found) > MAX_ENTRIES:
                    raise Unreadable(f"{self.path}: more than {MAX_ENTRIES} entries")
            return sorted(found, key=lambda entry: entry.path.lower())
        stack = ["/"]
        seen = 0
        while stack:
            at = stack.pop()
            if at.count("/") > MAX_DEPTH:
                raise Unreadable(f"{self.path}: folders deeper than {MAX_DEPTH}")
            for name, child in self._children(at):
                seen += 1
                if seen > MAX_ENTRIES:
                    raise Unreadable(f"{self.path}: more than {MAX_ENTRIES} entries")
                inner = f"{at.rstrip('/')}/{name}"
                if child.is_dir():
                    stack.append(inner)
                else:
                    found.append(ImageEntry(inner.lstrip("/"), _length(child)))
        return sorted(found, key=lambda entry: entry.path.lower())

    def _within(self) -> Iterator[UdfFile]:
        assert self._volume is not None
        try:
            yield from self._volume.files()
        except (Unreadable, NotCovered) as error:
            raise Unreadable(f"{self.path}: {error}") from error

    def _children(self, at: str) -> Iterator[tuple[str, Any]]:
        try:
            for child in self._iso.list_children(**{self._kind: at}):
                if child is None or child.is_dot() or child.is_dotdot():
                    continue
                name = self._name(child)
                if name not in ("", ".", "..") and not any(bad in name for bad in '/\\:*?"<>|\0'):
                    yield name, child
        except Exception as error:
            raise Unreadable(f"{self.path}: {at}: {error}") from error

    def _name(self, child: Any) -> str:
        if self._kind == "rr_path" and child.rock_ridge is not None:
            return str(child.rock_ridge.name().decode("utf-8", "replace"))
        raw = child.file_identifier()
        text = raw.decode("utf-16-be", "replace") if self._kind == "joliet_path" else raw.decode("ascii", "replace")
        return str(text).partition(";")[0].rstrip(".")

    def _inner(self, path: str) -> str:
        """A path as the library wants it: of plain ISO 9660 with the version behind the name."""
        if self._kind != "iso_path":
            return f"/{path}"
        folder, _, name = path.rpartition("/")
        return f"/{folder}/{name}{'' if '.' in name else '.'};1".replace("//", "/")

    def head(self, path: str, count: int = 1 << 16) -> bytes:
        """The beginning of a file."""
        with self.opened(path) as file:
            try:
                return bytes(file.read(count))
            except Exception as error:
                raise Unreadable(f"{self.path}: {path}: {error}") from error

    @contextlib.contextmanager
    def opened(self, path: str) -> Iterator[BinaryIO]:
        """A file of the image, read where it lies. Raises Unreadable."""
        if self._volume is not None:
            if not self._known:
                self._known = {one.path: one for one in self._within()}
            file = self._known.get(path)
            if file is None:
                raise Unreadable(f"{self.path}: {path} is not there")
            try:
                yield self._volume.open(file)
            except NotCovered as error:
                raise Unreadable(f"{self.path}: {path}: {error}") from error
            return
        try:
            inner: Any = self._iso.open_file_from_iso(**{self._kind: self._inner(path)})
            entered = inner.__enter__()
        except Exception as error:
            raise Unreadable(f"{self.path}: {path}: {error}") from error
        try:
            yield entered
        finally:
            inner.__exit__(None, None, None)

    def extract(self, path: str, target: Path) -> None:
        """Writes a file of the image, whole or not at all. Raises Unreadable."""
        target.parent.mkdir(parents=True, exist_ok=True)
        if self._volume is not None:
            with self.opened(path) as file, atomic.writing(target) as out:
                shutil.copyfileobj(file, out, 1 << 20)
            return
        try:
            with atomic.writing(target) as out:
                self._iso.get_file_from_iso_fp(out, **{self._kind: self._inner(path)})
        except OSError:
            raise
        except Exception as error:
            raise Unreadable(f"{self.path}: {path}: {error}") from error

    def installers(self) -> list[ImageEntry]:
        """The files that are installers by their content."""
        found = []
        for entry in self.entries():
            if entry.path.lower().endswith(ENDINGS):
                try:
                    head = self.head(entry.path, HEAD)
                except Unreadable:
                    head = b""
                found.append(ImageEntry(entry.path, entry.size, family_by(head, entry.path)))
        return found


class Holder(Protocol):
    """What files lie in: a disc image, an archive."""

    path: Path
    what: str

    def entries(self) -> list[ImageEntry]: ...

    def installers(self) -> list[ImageEntry]: ...


ENDINGS, HEAD = (".msi", ".exe", ".msix", ".msp", ".appx"), 4 << 20


def family_by(head: bytes, path: str) -> str | None:
    """The family of an installer by its first bytes; None where it is none that is known."""
    from yendo.installers import recognise

    try:
        return recognise.family_of(io.BytesIO(head), path)
    except (Unreadable, NotCovered, Usage):
        return "msi" if path.lower().endswith(".msi") else None


def _length(child: Any) -> int:
    get = getattr(child, "get_data_length", None)
    return int(get() if get else child.get_size() if hasattr(child, "get_size") else 0)
