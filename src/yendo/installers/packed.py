"""Archives as media (zip, 7z, rar): a vendor's download is often one, with the installer and what it needs in it.

What cannot become a path here is left out: names that lead elsewhere, links.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path

from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats import app_package, archives
from yendo.installers.images import ENDINGS, HEAD, ImageEntry, family_by, regular
from yendo.installers.parts import FREE, RATIO, hostile

MAX_WRITTEN = 16 << 30


def kind_of(path: Path) -> archives.ArchiveKind | None:
    """What sort of archive a file is, where installers may lie in it; None for a cabinet and an app package."""
    regular(path)
    try:
        with path.open("rb") as file:
            kind = archives.kind_of(file.read(8))
            if kind == "zip" and {one.name for one in archives.members(file, "zip")}.intersection(
                app_package.MANIFESTS
            ):
                return None
    except OSError:
        return None
    return None if kind == "cabinet" else kind


class Packed:
    """An archive, open for reading. Raises Unreadable, NotCovered."""

    def __init__(self, path: Path, kind: archives.ArchiveKind) -> None:
        self.path, self.kind, self.what = path, kind, f"{kind} archive"
        self._file = path.open("rb")
        try:
            self._members = archives.members(self._file, kind)
        except BaseException:
            self._file.close()
            raise
        self._names: dict[str, str] = {}
        taken: set[str] = set()
        for one in self._members:
            name = one.name.replace("\\", "/").removeprefix("./")
            if not one.is_link and not hostile(name) and name.lower() not in taken:  # the first of two of one name
                self._names[name] = one.name
                taken.add(name.lower())

    def __enter__(self) -> Packed:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def entries(self) -> list[ImageEntry]:
        """Every file, by its path."""
        sizes = {one.name: one.size for one in self._members}
        found = [ImageEntry(name, sizes[stored]) for name, stored in self._names.items()]
        return sorted(found, key=lambda entry: entry.path.lower())

    def extract(self, paths: Iterable[str], top: Path) -> None:
        """Writes files of the archive below a folder, in one pass. Raises Unreadable, NotCovered, Usage."""
        wanted = {self._names[path]: path for path in paths}
        sizes = {one.name: one.size for one in self._members}
        total, packed = sum(sizes[name] for name in wanted), self.path.stat().st_size
        if total > MAX_WRITTEN or total > max(FREE, RATIO * packed):
            raise Usage(f"{self.path.name} would unpack to {total} bytes out of {packed}")
        for name, pieces in archives.contents(self._file, self.kind, set(wanted), MAX_WRITTEN):
            target = top / wanted[name]
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as out:
                for piece in pieces:
                    out.write(piece)

    def installers(self) -> list[ImageEntry]:
        """The files that are installers by their content, looked at in one pass."""
        wanted = {stored: name for name, stored in self._names.items() if name.lower().endswith(ENDINGS)}
        families: dict[str, str | None] = dict.fromkeys(wanted.values())
        with contextlib.suppress(Unreadable, NotCovered):  # what comes behind it is listed without a family
            for stored, pieces in archives.contents(self._file, self.kind, set(wanted), MAX_WRITTEN):
                families[wanted[stored]] = family_by(self._first(pieces), wanted[stored])
        return [ImageEntry(one.path, one.size, families[one.path]) for one in self.entries() if one.path in families]

    def _first(self, pieces: Iterator[bytes]) -> bytes:
        """The first bytes of a file, past whose end the next one is reached where all are packed as one."""
        out = bytearray()
        with contextlib.suppress(Unreadable):
            for piece in pieces:
                out += piece[: HEAD - len(out)]
                if len(out) >= HEAD and self.kind == "zip":
                    break
        return bytes(out)
