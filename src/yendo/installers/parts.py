"""What lies inside an installer: parts that can be opened, and the tree that they make.

Nothing is written but to an unnamed temporary file where a part is large. A part that is packed is unpacked up to a
bound, and looked into only where its first bytes say that it may be an installer itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import BinaryIO

import msgspec

from yendo import texts
from yendo.errors import YendoError
from yendo.formats import cab, slices
from yendo.installers.account import Content

MAX_DEPTH = 5
MAX_LOOKED_INTO = 64 << 20  # bytes that one packed part may unpack to, to be looked into
MAX_TOTAL = 192 << 20
MAX_SHOWN = 50_000
MAX_WRITTEN = 16 << 30  # bytes that are taken out of one file
RATIO, FREE = (
    1000,
    64 << 20,
)  # what unpacks to more than RATIO times its packed size, past FREE bytes, is taken for a bomb


class InstallerPart(msgspec.Struct, frozen=True):
    """A file inside another. ``size`` unpacked and ``packed`` in bytes, None where unknown; ``offset`` in the file that
    holds it.

    ``open`` gives its contents as a file, of at most so many bytes. ``link``: it only names another.
    ``unread``: what is in it is not known, for the reason in ``note``.
    """

    name: str
    size: int | None
    offset: int | None
    packed: int | None
    open: Callable[[int], BinaryIO]
    note: str = ""
    stored: bool = False
    link: bool = False
    unread: bool = False


def whole(pieces: Iterator[bytes], limit: int) -> BinaryIO:
    """Pieces as a file, the first ``limit`` bytes of them; a large one lies in the temporary folder."""
    out, left = slices.spooled(), limit
    for piece in pieces:
        out.write(piece[:left])
        left -= len(piece)
        if left <= 0:
            break
    out.seek(0)
    return out


def hostile(name: str) -> str | None:
    """Why a name must not become a path on disk, or None."""
    if reason := cab.unsafe(name):
        return reason
    for piece in name.replace("\\", "/").split("/"):
        if texts.is_device(piece):
            return "a name that Windows keeps for a device"
        if piece != piece.rstrip(". ") or any(character in piece for character in '<>"|?*'):
            return "a name that Windows cannot hold"
        if len(piece.encode("utf-8", "replace")) > 255:
            return "a name of more than 255 bytes"
    return None


def bomb(part: InstallerPart) -> str | None:
    """Why a part is not unpacked: it would become far larger than what it is packed in."""
    if part.size and part.packed is not None and part.size > FREE and part.size > RATIO * max(part.packed, 1):
        return f"{part.size} bytes out of {part.packed}"
    return None


class Looker:
    """Looks into parts, with one budget for the whole tree. ``look`` says what a file is and what is in it."""

    def __init__(self, look: Callable[[BinaryIO, str], tuple[str | None, list[InstallerPart]]]) -> None:
        self.look, self.left, self.shown = look, MAX_TOTAL, MAX_SHOWN

    def tree(self, parts: list[InstallerPart], depth: int = 0) -> tuple[Content, ...]:
        return tuple(self._one(part, depth) for part in parts[: self._take(len(parts))])

    def _take(self, count: int) -> int:
        count = min(count, self.shown)
        self.shown -= count
        return count

    def _one(self, part: InstallerPart, depth: int) -> Content:
        note, unread = part.note, part.unread
        if reason := hostile(part.name):
            note, unread = f"hostile name: {reason}", True
        if packed := bomb(part):
            note, unread = f"not unpacked: {packed}", True
        family: str | None = None
        inside: tuple[Content, ...] = ()
        if not packed and self._promising(part):
            if depth >= MAX_DEPTH:
                reason = f"not looked into: nested deeper than {MAX_DEPTH} levels"
                note, unread = (note, unread) if note else (reason, True)
            else:
                try:
                    limit = part.size if part.stored and part.size else MAX_LOOKED_INTO
                    file = part.open(limit)
                    if not part.stored:
                        self.left -= file.seek(0, 2)
                    family, found = self.look(file, part.name)
                    inside = self.tree(found, depth + 1)
                except YendoError as error:
                    note, unread = (note, unread) if note else (f"cannot be read: {error}", True)
        return Content(part.name, part.size, part.offset, part.packed, family, note, inside, unread)

    def _promising(self, part: InstallerPart) -> bool:
        """Whether the first bytes may be those of an installer, and the budget allows to see more of it."""
        if not part.stored and ((part.size or 0) > MAX_LOOKED_INTO or self.left < (part.size or 1 << 20)):
            return False
        if part.size == 0:
            return False
        try:
            head = part.open(16).read(16)
        except YendoError:
            return True  # the error is told when it is opened
        return head.startswith((b"MZ", b"MSCF", b"PK\3\4", b"7z\xbc\xaf", b"Rar!", b"\xd0\xcf\x11\xe0", b"ISc("))
