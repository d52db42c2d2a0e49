"""What a computer tells of itself: one line of JSON, and behind it the proof that it comes from there.

The proof is a code over the line (HMAC with SHA-256, RFC 2104) with the key that the computer made for itself and told
once, in its first report. What a computer says of another one is not taken.
"""

from __future__ import annotations

import hashlib
import hmac
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.errors import Unreadable
from yendo.fleet.reports import between, failed_by
from yendo.fleet.store import FleetOutcome
from yendo.prove import causes
from yendo.terms import events

MOST = 1 << 20  # bytes of a report
ReportSort = Literal["joined", "ended", "later", "trouble", "looked"]


class MachineReport(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """``id`` is made before anything is done, so that the report counts once. ``events`` is what the runner wrote
    (JSON Lines), ``key`` only in the first report.
    """

    v: Literal[1]
    id: Annotated[str, Meta(pattern="^[0-9a-f]{32}$")]
    sort: ReportSort
    computer: Annotated[str, Meta(min_length=1, max_length=255, pattern=r"^[^\x00-\x20/\\]+$")]
    told: Annotated[str, Meta(max_length=40)]
    index: Annotated[int, Meta(ge=0)] = 0
    order: Annotated[int, Meta(ge=0, le=999_999_999)] = 0
    package: Annotated[str, Meta(max_length=200)] = ""
    version: Annotated[str, Meta(max_length=100)] = ""
    revision: int = 0
    verb: Annotated[str, Meta(max_length=20)] = ""
    code: Annotated[int, Meta(ge=-(1 << 31), lt=1 << 32)] | None = None
    began: Annotated[str, Meta(max_length=40)] = ""
    ended: Annotated[str, Meta(max_length=40)] = ""
    events: Annotated[str, Meta(max_length=400_000)] = ""
    text: Annotated[str, Meta(max_length=4_000)] = ""
    key: Annotated[str, Meta(pattern="^([0-9a-f]{64})?$")] = ""

    @property
    def seconds(self) -> float:
        return between(self.began, self.ended)

    @property
    def failed(self) -> bool:
        return self.code is not None and failed_by(self.code)

    def why(self) -> tuple[str, str]:
        """Why it failed, and the line that betrays it; empty where it did not."""
        if self.code is None or not self.failed:
            return "", ""
        told = events.read(self.events.encode("utf-8", "replace"))
        found = causes.diagnose(causes.Failure(self.code, events=told))
        # a code says less than the runner's own sentence of what went wrong
        before = next((at for at, one in enumerate(told) if isinstance(one, events.StepEndedBadly)), len(told))
        last = told[before - 1].text if told and before else ""
        if not found:
            return f"exit code {self.code}", last
        by_code = found[0].evidence == f"exit code {self.code}"
        return found[0].cause.words, last if by_code and last else found[0].evidence

    def outcome(self, site: str, cause: str) -> FleetOutcome:
        """How it ended and why, as foreseeing takes it."""
        return FleetOutcome(
            id=self.id, package=self.package, version=self.version, computer=self.computer, site=site,
            ended=self.ended or self.told, failed=self.failed, cause=cause, seconds=self.seconds,
        )  # fmt: skip


class StrangerReport(Unreadable):
    """A report that may be a good one, but by nobody who is known: it is left where it is."""


class Sealed(msgspec.Struct, frozen=True):
    """A report with its line as it came and the code behind it."""

    report: MachineReport
    line: bytes
    code: str

    def by(self, key: str) -> bool:
        """Whether the computer with this key wrote it."""
        return hmac.compare_digest(hmac.new(key.encode(), self.line, hashlib.sha256).hexdigest(), self.code)


def read(data: bytes) -> Sealed:
    """A report as it was left. Raises Unreadable."""
    if len(data) > MOST:
        raise Unreadable(f"a report has at most {MOST >> 20} MB")
    line, _, code = data.rstrip(b"\n").partition(b"\n")
    try:
        report = msgspec.json.decode(line, type=MachineReport)
        seal = code.decode("ascii")
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Unreadable(f"this is no report: {error}") from error
    if len(seal) != 64:
        raise Unreadable("the report has no code behind it")
    return Sealed(report, line, seal)


def sealed(report: MachineReport, key: str) -> bytes:
    """A report as a computer leaves it."""
    line = msgspec.json.encode(report)
    return line + b"\n" + hmac.new(key.encode(), line, hashlib.sha256).hexdigest().encode() + b"\n"
