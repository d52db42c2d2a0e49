"""Why a phase failed: the lines of the installer's log that matter, and the usual cause of an exit code."""

from __future__ import annotations

import re

import msgspec

_FAILED = re.compile(r"Action ended[^:]*:?[^:]*:?[^:]*: (?P<action>[^.]+)\. Return value (?P<code>[03])\.")
_OUTER = {"INSTALL", "ADMIN", "ADVERTISE", "ExecuteAction", "SEQUENCE"}


class Explanation(msgspec.Struct, frozen=True):
    """``lines`` are the log's own words; ``action`` the one that failed, where the log says it."""

    action: str | None
    lines: tuple[str, ...]


# Source: the Windows Installer's error codes; what to do about each is ours.
CAUSES: dict[int, tuple[str, str]] = {
    1601: ("the Windows Installer service is not available", "is the service disabled on this machine?"),
    1602: ("somebody or something cancelled the installation", "a silent run has nobody to cancel it: look for a custom action that asks"),
    1603: (
        "the installer met an error and undid everything",
        "look at the action that failed below; a launch condition or a custom action is the usual cause",
    ),
    1605: ("this product is not installed", "check the product code, and for whom it was installed (machine or user)"),
    1612: ("the installer's source is no longer there", "keep the media with the package, or uninstall by product code"),
    1618: ("another installation was running", "try again later; a pending restart can cause it too"),
    1619: ("the package could not be opened", "is the file beside the runner, and may the account read it?"),
    1620: ("the file is no valid installer database", "compare its hash with the vendor's"),
    1622: ("the log could not be written: its folder is missing", "log below {logs}, which the runner makes"),
    1624: ("a transform does not fit", "was it made for this build?"),
    1625: ("a policy of the machine forbids this installation", "ask who manages the machine"),
    1633: ("the package is for another processor", "put the architecture into [when]"),
    1638: ("another version with the same product code is there", "remove it first, or reinstall with REINSTALLMODE=vomus"),
    1639: ("the command line is wrong", "look for an unquoted space or an option that does not exist"),
    1641: ("the installer started a restart", "suppress it and let the runner report it"),
    1642: ("the patch is for a product that is not there", "install the base first"),
    -1073741819: (
        "the installer program itself crashed",
        "on the API layer a second installation of a product can end so where a registry value stands for a component: say in unless when the step is not needed",
    ),
    20: ("the run conditions are not met here", "see [when] in the plan"),
    21: ("a file of the package is missing or has changed", "build again and copy the whole folder"),
    22: ("a step took longer than its time limit", "was a window waiting for a person?"),
    23: ("a step failed that has no exit code of its own", "see the runner's log"),
}


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
    before = [entry for entry in lines[max(0, at - 12) : at] if not entry.startswith(("Action start", "Action ended", "Property("))]
    return Explanation(action, (*before[1 - keep :], lines[at]))
