"""The system's own setup that upgrades it: its command lines, what it says with its exit codes, and where it went back.

The facts are data beside this module, with their source.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable
from functools import cache
from importlib.resources import files
from itertools import islice
from typing import Literal

import msgspec


def signed(code: str) -> int:
    """``0xC1900210`` as an exit code is told, ``-1047526896``."""
    number = int(code, 16)
    return number - (1 << 32) if number >> 31 else number


# Source: the published requirements of Windows, the newer ones from a build on. Of 4 GB the hardware keeps some.
NEW_DEMANDS, MEMORY, DISK, OLDEST = 22000, "3.7 GB", "20 GB", "10.0.19041"
NOTHING_IN_THE_WAY, WENT_BACK = signed("0xC1900210"), signed("0xC1900101")  # the trial's success
UNKNOWN = "a code that is not known here"
LOGS = r"%SystemDrive%\$WINDOWS.~BT\Sources"  # what the setup leaves there, until it is cleaned up
# From the one that tells most: after it went back, and before.
TELLING = (r"Rollback\setupact.log", r"Rollback\setuperr.log", r"Panther\setupact.log", r"Panther\setuperr.log")
MOST, MOST_OF_REPORT, REPORTS = 4 << 20, 1 << 20, 8  # bytes of the end of a log and of a report; how many of these
PAIR = re.compile(r"0x([89A-F][0-9A-F]{7})\b[^\r\n]{1,60}?0x([1-5])([0-9A-F]{4})\b", re.I)
HELD = re.compile(
    r"<\w{1,60}\b[^<>]{0,400}?\b(?:Name|HardwareType|Inf)=\"([^\"<>]{1,200})\"[^<>]{0,400}>\s{0,200}"
    r"<CompatibilityInfo\b[^<>]{0,400}?\bBlockingType=\"Hard\"",
    re.I,
)

SetupPart = Literal["trial", "upgrade"]


class SetupSwitch(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"part": "for"}):
    """A switch of the setup; ``since`` is the build of the media from which on it is understood."""

    text: str
    part: Literal["trial", "upgrade", "both"]
    meaning: str
    since: int = 0


class UpgradeFacts(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``codes`` by ``0xC1900210``; ``phases`` and ``operations`` by their numbers, as texts."""

    switches: tuple[SetupSwitch, ...]
    codes: dict[str, str]
    phases: dict[str, str]
    operations: dict[str, str]


class WentBackAt(msgspec.Struct, frozen=True):
    """Where a setup went back, as its log tells: ``code`` is ``0xC1900101``; the others in words."""

    code: str
    phase: str
    operation: str


@cache
def facts() -> UpgradeFacts:
    return msgspec.convert(tomllib.loads(files("yendo.servicing").joinpath("upgrade.toml").read_text("utf-8")),
                           UpgradeFacts)  # fmt: skip


def switches(part: SetupPart, build: int) -> tuple[SetupSwitch, ...]:
    """What the setup of media of a build is told, for its trial or for the upgrade itself."""
    return tuple(one for one in facts().switches if one.part in (part, "both") and one.since <= build)


def hexadecimal(code: int) -> str:
    """``-1047526896`` as ``0xC1900210``."""
    return f"0x{code & 0xFFFFFFFF:08X}"


def words_of(code: int) -> str:
    """What an exit code of the setup says."""
    return facts().codes.get(hexadecimal(code), UNKNOWN)


def operations() -> dict[str, str]:
    """The operations by their numbers in decimal, as texts."""
    return {str(int(number, 16)): words for number, words in facts().operations.items()}


def text_of(data: bytes, most: int = MOST) -> str:
    """The end of a log; what is not plain text in it does not matter here."""
    return data[-most:].replace(b"\0", b"").decode("latin-1")


def went_back(logs: Iterable[bytes]) -> WentBackAt | None:
    """Where the setup went back, by the last pair of codes in the first log that has one; None where none does."""
    for data in logs:
        pairs = PAIR.findall(text_of(data))
        if pairs:
            code, phase, operation = pairs[-1]
            known = facts()
            return WentBackAt(
                f"0x{code.upper()}",
                known.phases[phase],
                operations().get(str(int(operation, 16)), f"operation {int(operation, 16)}"),
            )
    return None


def held_by(reports: Iterable[bytes]) -> list[str]:
    """What stands in the way, by the setup's reports of its trial (``CompatData*.xml``): names of programs, hardware
    and drivers.
    """
    some = islice(reports, REPORTS)
    return list(dict.fromkeys(name for data in some for name in HELD.findall(text_of(data, MOST_OF_REPORT))))
