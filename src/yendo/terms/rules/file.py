"""A file, and what is known of its content."""

from __future__ import annotations

import re
from datetime import date
from typing import Literal

from yendo.effects import File
from yendo.effects.things import parent
from yendo.errors import NotCovered
from yendo.terms.amounts import Digest, Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight, bounds, fits, version_states, within

_DATE = re.compile(r"\s*(>=|<=|==|=|>|<)?\s*(\d{4}-\d{2}-\d{2})\s*$")
_UNSURE = {"architecture": "is no program", "signed_by": "is not signed", "changed": "has no date"}


class FileRule(BaseRule, tag="file", frozen=True, kw_only=True):
    """A file exists, and its version, size, hash, date, signer or architecture is as said.

    ``least`` is the fewest bytes it may have. ``changed`` is a range of days (UTC), as ``>=2026-03-01``. ``signed_by``
    is the name (O or CN) in the certificate that its signature carries; that the signature is valid is the proof's
    business. ``architecture`` is that of a program.
    """

    path: Text
    version: str | None = None
    size: int | None = None
    least: int | None = None
    sha256: Digest | None = None
    changed: str | None = None
    signed_by: Text | None = None
    architecture: Literal["x64", "x86", "arm64"] | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.changed:
            days(self.changed)

    @property
    def title(self) -> str:
        parts = [
            f"version {self.version}" if self.version else "",
            f"size {self.size}" if self.size is not None else "",
            f"at least {self.least} bytes" if self.least is not None else "",
            f"hash {self.sha256[:12]}…" if self.sha256 else "",
            f"changed {self.changed}" if self.changed else "",
            f"signed by {self.signed_by}" if self.signed_by else "",
            f"for {self.architecture}" if self.architecture else "",
        ]
        return f"file {self.path} " + (", ".join(part for part in parts if part) or "exists")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        path = sight.expand(self.path)
        found = sight.state.get("file", path)
        if not isinstance(found, File):
            return False, f"{path} does not exist"
        if self.version and not fits(found.version, self.version):
            return False, f"its version is {found.version or 'not stated'}"
        if self.size is not None and found.size != self.size:
            return False, f"its size is {found.size}"
        if self.least is not None and (found.size is None or found.size < self.least):
            return False, f"its size is {found.size}"
        if self.sha256 and found.sha256 != self.sha256:
            return False, f"its hash is {(found.sha256 or 'not known')[:12]}"
        if self.architecture and (found.architecture or "") != self.architecture:
            return False, f"it is for {found.architecture}" if found.architecture else "it is no program"
        if self.signed_by and (found.signer or "").lower() != self.signed_by.lower():
            return False, f"it is signed by {found.signer}" if found.signer else "it is not signed"
        if self.changed:
            if found.changed is None:
                raise NotCovered(f"when {path} was changed is known only on a real machine")
            if not _in_days(found.changed, self.changed):
                return False, f"it was changed on {found.changed}"
        return True, f"{path} is there" + (f", version {found.version}" if found.version else "")

    def data(self) -> dict[str, object]:
        return {
            "path": self.path,
            "size": -1 if self.size is None else self.size,
            "least": -1 if self.least is None else self.least,
            "sha256": self.sha256 or "",
            "version": bounds(self.version),
            "signer": self.signed_by or "",
            "machine": {"x64": 0x8664, "x86": 0x14C, "arm64": 0xAA64, None: 0}[self.architecture],
            "days": [{"sign": sign, "day": day} for sign, day in days(self.changed)] if self.changed else [],
        }

    def fulfil(self, sight: Sight) -> None:
        path = sight.expand(self.path)
        sight.state.add_folders(parent(path))
        day = (
            next((day for sign, day in days(self.changed) if sign in (">=", "<=", "==")), None)
            if self.changed
            else None
        )
        sight.state.add(
            File(
                path,
                self.least if self.size is None else self.size,
                self.sha256,
                within(self.version),
                self.architecture,
                self.signed_by,
                day,
            )
        )

    def oval(self) -> Criteria | OvalTest:
        if self.signed_by or self.architecture:
            raise NotCovered(
                f"OVAL 5.11 cannot ask for a file's {'signer' if self.signed_by else 'architecture'}: “{self.title}”"
            )
        where = Field("filepath", self.path, "case insensitive equals")
        states = version_states("version", self.version)
        if self.size is not None:
            states += ((Field("size", str(self.size), datatype="int"),),)
        if self.least is not None:
            states += ((Field("size", str(self.least), "greater than or equal", "int"),),)
        if self.changed:
            for sign, day in days(self.changed):
                begin = (date.fromisoformat(day) - date(1601, 1, 1)).days * 864_000_000_000
                end = begin + 864_000_000_000
                pairs = {
                    ">=": [("greater than or equal", begin)],
                    "<": [("less than", begin)],
                    ">": [("greater than or equal", end)],
                    "<=": [("less than", end)],
                }
                for operation, number in pairs.get(sign, pairs[">="] + pairs["<="]):
                    states += ((Field("m_time", str(number), operation, "int"),),)
        tests: list[OvalTest] = []
        if states or not self.sha256:
            tests.append(OvalTest("file", (where,), states, view="64_bit"))
        if self.sha256:
            tests.append(
                OvalTest(
                    "filehash58",
                    (where, Field("hash_type", "SHA-256")),
                    ((Field("hash", self.sha256, "case insensitive equals"),),),
                )
            )
        return tests[0] if len(tests) == 1 else Criteria("AND", tuple(tests))


def days(text: str) -> list[tuple[str, str]]:
    """``">=2026-03-01, <2027-01-01"`` as signs and days. Raises ValueError."""
    found = []
    for part in text.split(","):
        match = _DATE.match(part)
        if not match:
            raise ValueError(f"{part.strip()!r} is no bound of a day; write >=2026-03-01")
        date.fromisoformat(match[2])
        found.append(("==" if match[1] in (None, "=") else match[1], match[2]))
    return found


def _in_days(day: str, text: str) -> bool:
    return all(
        {">=": day >= at, "<=": day <= at, ">": day > at, "<": day < at, "==": day == at}[sign]
        for sign, at in days(text)
    )
