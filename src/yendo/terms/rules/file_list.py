"""Many files of one folder, each by its size, version or hash."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated

from msgspec import Meta

from yendo.effects import File
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Sight
from yendo.terms.rules.file import FileRule

_DIGEST = re.compile("[0-9a-f]{64}")
_LEAST = re.compile(r"(\d{1,15})\+")
MAX_FILES = 20_000  # a detection script of 3 MB


class FileListRule(BaseRule, tag="file-list", frozen=True, kw_only=True):
    """Every file of a list lies below a folder, each with its size (a number), at least a size (``4096+``), a version
    range, its hash (SHA-256), or anything (``*``).
    """

    folder: Text
    files: Annotated[dict[Text, Annotated[int, Meta(ge=0)] | Text], Meta(min_length=1, max_length=MAX_FILES)]

    def __post_init__(self) -> None:
        super().__post_init__()
        for name, want in self.files.items():
            if isinstance(want, str) and want != "*" and not _DIGEST.fullmatch(want) and not _LEAST.fullmatch(want):
                VersionRange.parse(want)
            if name.startswith(("\\", "/")) or ":" in name or ".." in name.replace("/", "\\").split("\\"):
                raise ValueError(f"{name!r} does not lie below {self.folder}")

    @property
    def rules(self) -> tuple[FileRule, ...]:
        """The same as rules on single files."""
        found = []
        for name, want in self.files.items():
            path = self.folder + "\\" + name.replace("/", "\\")
            if isinstance(want, int):
                found.append(FileRule(path=path, size=want))
            elif want == "*":
                found.append(FileRule(path=path))
            elif match := _LEAST.fullmatch(want):
                found.append(FileRule(path=path, least=int(match[1])))
            else:
                found.append(
                    FileRule(path=path, sha256=want) if _DIGEST.fullmatch(want) else FileRule(path=path, version=want)
                )
        return tuple(found)

    @property
    def title(self) -> str:
        return f"{len(self.files)} files below {self.folder}"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        for rule in self.rules:
            holds, fact = rule.judge(sight)
            if not holds:
                there = sight.state.get("file", sight.expand(rule.path)) is not None
                return False, f"{rule.path.rpartition(chr(92))[2]}: {fact}" if there else fact
        return True, f"all {len(self.files)} are there"

    def data(self) -> dict[str, object]:
        return {"files": [rule.data() for rule in self.rules]}

    def fulfil(self, sight: Sight) -> None:
        for rule in self.rules:
            rule.fulfil(sight)

    def oval(self) -> Criteria:
        return Criteria("AND", tuple(rule.oval() for rule in self.rules))


def for_file(file: File, others: Sequence[File | None] = ()) -> int | str:
    """What a list asks of a file, so that it holds for every one of ``others`` too: the same file where an update
    counts as well.

    Raises NotCovered where nothing is known.
    """
    if any(other is None for other in others):
        raise NotCovered(f"{file.path} is not there after an update")
    if file.version:
        return f">={file.version}" if others else f"=={file.version}"
    same = all(other is not None and (other.sha256, other.size) == (file.sha256, file.size) for other in others)
    if not same:
        return f"{min(known.size or 0 for known in (file, *others) if known)}+"
    if file.sha256 and file.size is not None and file.size <= MAX_HASHED:
        return file.sha256
    if file.size is not None:
        return file.size
    raise NotCovered(f"nothing is known of {file.path}")


MAX_HASHED = 4 << 20  # a megabyte takes a few milliseconds to hash, and a detection should be over in two seconds
