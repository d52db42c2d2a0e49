"""Archives as media (zip, 7z, rar): a vendor's download is often one, with the installer and what it needs in it.

What cannot become a path here is left out: names that lead elsewhere, links.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path

from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats import app_package, archives
from yendo.installers.images import ENDINGS, HEAD, ImageEntry, family_by
from yendo.installers.parts import FREE, MAX_WRITTEN, RATIO, hostile
from yendo.walk import regular


def kind_of(path: Path) -> archives.ArchiveKind | None:
    """What sort of archive a file is by its first bytes; None for a cabinet, which belongs to the system or a setup."""
    regular(path)
    try:
        with path.open("rb") as file:
            kind = archives.kind_of(file.read(8))
    except OSError:
        return None
    return None if kind == "cabinet" else kind


class Packed:
    """An archive, open for reading; ``is_app`` where it is a modern app package itself.

    Raises Unreadable, NotCovered.
    """

    def __init__(self, path: Path, kind: archives.ArchiveKind) -> None:
        self.path, self.kind, self.what = path, kind, f"{kind} archive"
        self._file = path.open("rb")
        try:
            members = archives.members(self._file, kind)
        except BaseException:
            self._file.close()
            raise
        self.is_app = kind == "zip" and any(one.name in app_package.MANIFESTS for one in members)
        self._members: dict[str, archives.ArchiveMember] = {}
        taken: set[str] = set()
        for one in members:
            name = one.name.replace("\\", "/").removeprefix("./")
            if not one.is_link and not hostile(name) and name.lower() not in taken:  # the first of two of one name
                self._members[name] = one
                taken.add(name.lower())

    def __enter__(self) -> Packed:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def entries(self) -> list[ImageEntry]:
        """Every file, by its path."""
        found = [ImageEntry(name, one.size) for name, one in self._members.items()]
        return sorted(found, key=lambda entry: entry.path.lower())

    def extract(self, paths: Iterable[str], top: Path) -> None:
        """Writes files of the archive below a folder, in one pass. Raises Unreadable, NotCovered, Usage."""
        chosen = {path: self._members[path] for path in paths}
        wanted = {one.name: path for path, one in chosen.items()}
        total, packed = sum(one.size for one in chosen.values()), self.path.stat().st_size
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
        wanted = {one.name: name for name, one in self._members.items() if name.lower().endswith(ENDINGS)}
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
