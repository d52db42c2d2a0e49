"""Disc images (ISO 9660 and UDF) as media: listed and read without mounting, taking only what is needed.

The reading is the pycdlib library's. Names are made safe here, since they come from the image.
"""

from __future__ import annotations

import contextlib
import io
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from yendo import atomic, digest
from yendo.errors import NotCovered, Unreadable, Usage

MAX_ENTRIES, MAX_DEPTH = 50_000, 32
_SECTOR = 2048
_MARKS = (b"CD001", b"BEA01")


class ImageEntry(msgspec.Struct, frozen=True):
    """A file of an image: its path with ``/``, its size in bytes, and its family where it is an installer."""

    path: str
    size: int
    family: str | None = None


def regular(path: Path) -> None:
    """Raises Usage for what is there and no file: reading a pipe would wait for ever."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise Usage(f"{path} is a pipe, a socket or a device, no file to read")


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
        import pycdlib

        self.path, self._iso = path, pycdlib.PyCdlib()
        try:
            self._iso.open(str(path))
        except (
            Exception
        ) as error:  # the library raises its own errors, and those of the modules beneath, for damaged images
            raise Unreadable(f"{path}: a disc image that cannot be read: {error}") from error
        self._kind = (
            "udf_path"
            if self._iso.has_udf()
            else "joliet_path"
            if self._iso.has_joliet()
            else "rr_path"
            if self._iso.has_rock_ridge()
            else "iso_path"
        )

    def __enter__(self) -> DiscImage:
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):
            self._iso.close()

    def entries(self) -> list[ImageEntry]:
        """Every file, by its path. Names that lead elsewhere are left out. Raises Unreadable."""
        found: list[ImageEntry] = []
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
        if self._kind == "udf_path":
            return str(child.file_identifier().decode("utf-8", "replace"))
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
        try:
            with self._iso.open_file_from_iso(**{self._kind: self._inner(path)}) as file:
                return bytes(file.read(count))
        except Exception as error:
            raise Unreadable(f"{self.path}: {path}: {error}") from error

    def extract(self, path: str, target: Path) -> None:
        """Writes a file of the image, whole or not at all. Raises Unreadable."""
        target.parent.mkdir(parents=True, exist_ok=True)
        try:
            with atomic.writing(target) as out:
                self._iso.get_file_from_iso_fp(out, **{self._kind: self._inner(path)})
        except OSError:
            raise
        except Exception as error:
            raise Unreadable(f"{self.path}: {path}: {error}") from error

    def installers(self) -> list[ImageEntry]:
        """The files that are installers by their content."""
        from yendo.installers import recognise

        found = []
        for entry in self.entries():
            if entry.path.lower().endswith((".msi", ".exe", ".msix", ".msp", ".appx")):
                family: str | None
                try:
                    family = recognise.family_of(io.BytesIO(self.head(entry.path, 4 << 20)), entry.path)
                except (Unreadable, NotCovered, Usage):
                    family = "msi" if entry.path.lower().endswith(".msi") else None
                found.append(ImageEntry(entry.path, entry.size, family))
        return found


def _length(child: Any) -> int:
    get = getattr(child, "get_data_length", None)
    return int(get() if get else child.get_size() if hasattr(child, "get_size") else 0)


@contextlib.contextmanager
def opened(path: Path, inside: str | None = None) -> Iterator[tuple[Path, str]]:
    """An installer as a file, and where it came from: itself, or ``inside`` an image, taken out with what it needs
    beside it.

    Raises Usage where it is not clear which one is meant, Unreadable.
    """
    if not is_image(path):
        if inside:
            raise Usage(f"{path.name} is no disc image, so nothing lies inside it")
        yield path, ""
        return
    with DiscImage(path) as image, tempfile.TemporaryDirectory(prefix="yendo-image-") as folder:
        name = _meant(image, inside)
        top = Path(folder)
        root = name.rpartition("/")[0]
        # empty stand-ins show the installer what lies beside it; only what it names is then really taken out
        beside = [entry for entry in image.entries() if not root or entry.path.startswith(root + "/")]
        for entry in beside:
            target = top / entry.path
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as file:
                file.truncate(entry.size)
        wanted = {name, *_needed(image, name, top)}
        for entry in beside:
            if entry.path not in wanted:
                (top / entry.path).unlink()
            elif entry.path != name:  # which is there already, to be read
                image.extract(entry.path, top / entry.path)
        yield top / name, f"{path.name} (SHA-256 {digest.of_file(path)[:16]}…), {name}"


def _meant(image: DiscImage, inside: str | None) -> str:
    if inside:
        exact = [
            entry.path
            for entry in image.entries()
            if entry.path.lower() == inside.replace("\\", "/").lstrip("/").lower()
        ]
        if exact:
            return exact[0]
    found = image.installers()  # looks into every one of them
    if inside:
        raise Usage(
            f"{image.path.name} has no file {inside}; its installers: "
            f"{', '.join(entry.path for entry in found) or 'none'}"
        )
    if len(found) != 1:
        raise Usage(
            f"{image.path.name} holds {len(found)} installers; say which by --inside: "
            f"{', '.join(entry.path for entry in found)}"
        )
    return found[0].path


def _needed(image: DiscImage, name: str, top: Path) -> list[str]:
    """What an installer database names beside itself."""
    from yendo.installers import recognise

    image.extract(name, top / name)
    try:
        account = recognise.read(top / name)
    except (Unreadable, NotCovered):
        return []
    media = account.payload.media if account.payload else ()
    folder = (top / name).parent
    return [
        (folder / medium.path).relative_to(top).as_posix()
        for medium in media
        if medium.kind != "embedded" and medium.path
    ]
