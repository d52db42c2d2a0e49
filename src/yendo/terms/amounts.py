"""Lengths of time, amounts of disk, and the texts that a plan constrains."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo import texts

Architecture = Literal["x64", "x86", "arm64", "any"]
Text = Annotated[str, Meta(min_length=1)]
Digest = Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
Code = Annotated[str, Meta(pattern=r"^\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$")]
Identifier = Annotated[str, Meta(pattern="^[a-z0-9][a-z0-9.-]{0,63}$")]

_UNITS = {
    "s": 1,
    "sec": 1,
    "second": 1,
    "seconds": 1,
    "min": 60,
    "minute": 60,
    "minutes": 60,
    "h": 3600,
    "hour": 3600,
    "hours": 3600,
    "day": 86400,
    "days": 86400,
}
_SIZES = {"B": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def check_relative(name: str) -> None:
    """That a name stays below the folder it is meant for, on every system. Raises ValueError."""
    why = ""
    parts = name.split("/")
    if re.search(r"[\x00-\x1f\x7f]", name):
        why = "it holds a control character"
    elif re.search(r'[\\:<>"|?*]', name):
        why = "it holds a character that no file name has on Windows; folders are parted by /"
    elif not all(parts) or any(part in (".", "..") for part in parts):
        why = "it does not stay below its folder"
    elif any(part != part.strip() or part.endswith(".") for part in parts):
        why = "a part of it begins or ends with a space or a dot"
    elif any(texts.is_device(part) for part in parts):
        why = "Windows keeps that name for a device"
    if why:
        raise ValueError(f"{name!r} is no name of a file below its folder: {why}")


def check_line(name: str, text: str) -> None:
    """That a text is one line without control characters. Raises ValueError."""
    if texts.BREAKS.search(text):
        raise ValueError(f"{name} is one line, without tabs and control characters; not {text!r}")


def seconds(text: str) -> float:
    """``"30 min"`` in seconds. Raises ValueError."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([a-z]+)\s*", text)
    if not match or match[2] not in _UNITS:
        raise ValueError(f"{text!r} is no length of time; write 90 s, 30 min, 2 h or 3 days")
    return float(match[1]) * _UNITS[match[2]]


def size(text: str) -> int:
    """``"1.5 GB"`` in bytes, in powers of ten. Raises ValueError."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([KMGT]?B)\s*", text)
    if not match:
        raise ValueError(f"{text!r} is no amount of disk; write 500 MB or 1.5 GB")
    return int(float(match[1]) * _SIZES[match[2]])


def size_in_words(count: float) -> str:
    """Bytes for a person, in powers of ten: 9.8 KB."""
    number = float(count)
    for unit in ("B", "KB", "MB"):
        if number < 1000:
            return f"{number:.0f} {unit}" if unit == "B" or number >= 100 else f"{number:.1f} {unit}"
        number /= 1000
    return f"{number:.0f} GB" if number >= 100 else f"{number:.1f} GB"


def driver_name(inf: str) -> str:
    """The name of a driver's ``.inf``. Raises ValueError for any other."""
    if not inf.lower().endswith(".inf"):
        raise ValueError(f"inf is the name of a file that ends in .inf, not {inf!r}")
    return inf


def counted(count: int, noun: str) -> str:
    """``1 rule``, ``3 rules``, ``2 lines in the list``."""
    head, of, rest = noun.partition(" in ")
    return f"{count} {head}{'' if count == 1 else 's'}{of}{rest}"


def some_of(names: Sequence[str], most: int = 3) -> str:
    """A few by name, and how many more."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


class Written(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True):
    """A table of a plan."""
