"""What an installer's log says of a failure: the action, and the lines that matter."""

from __future__ import annotations

import re

import msgspec

_FAILED = re.compile(r"Action ended[^:]*:?[^:]*:?[^:]*: (?P<action>[^.]+)\. Return value (?P<code>[03])\.")
_OUTER = {"INSTALL", "ADMIN", "ADVERTISE", "ExecuteAction", "SEQUENCE"}


class Explanation(msgspec.Struct, frozen=True):
    """``lines`` are the log's own words; ``action`` the one that failed, where the log says it."""

    action: str | None
    lines: tuple[str, ...]


def decode(data: bytes) -> str:
    """A log's text: UTF-16 as on Windows, or 8-bit as under the API layer."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    if data[1:2] == b"\0":
        return data.decode("utf-16-le", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def explain(data: bytes, keep: int = 6) -> Explanation:
    """The action that failed, and the lines before it.

    On Windows the first "Return value 3" is the innermost failure. The API layer writes 0 both for a
    failure and for an action it passed over, so there it is the last one before the sequence itself ends.
    """
    lines = [line.strip() for line in decode(data[-4_000_000:]).splitlines() if line.strip()]
    windows = any("Return value 3" in line for line in lines)
    found: tuple[int, str] | None = None
    for at, line in enumerate(lines):
        match = _FAILED.search(line)
        if not match or match["code"] != ("3" if windows else "0"):
            continue
        if match["action"].strip() in _OUTER:
            break
        found = at, match["action"].strip()
        if windows:
            break
    if found is None:
        return Explanation(None, tuple(lines[-keep:]))
    at, action = found
    before = [
        entry
        for entry in lines[max(0, at - 12) : at]
        if not entry.startswith(("Action start", "Action ended", "Property("))
    ]
    return Explanation(action, (*before[1 - keep :], lines[at]))
