"""The stand-ins of the programs of macOS, inside the sandbox of a simulated machine.

They refuse what the real ones refuse by their manual pages, GNU's options first of all, and do what packages ask of
them to the machine's tree and to ``/.yendo/own/state.json``. They import nothing of Yendo, as they run by themselves
there; each starts anew, hundreds of times in one proof, so it loads only what it needs.

Source: the manual pages of macOS for each program, from memory; no Mac was at hand.
"""

from __future__ import annotations

import os
import sys

from .common import NotTaken, complain, guard, note

# What of POSIX is carried out by the programs of this computer.
PLAIN = frozenset({
    "awk", "basename", "cat", "chflags", "cmp", "comm", "cp", "cut", "dirname", "du", "echo", "env", "expr", "false",
    "find", "grep", "egrep", "fgrep", "head", "ln", "ls", "mkdir", "mktemp", "mv", "paste", "printf", "pwd", "rm",
    "rmdir", "sed", "seq", "sort", "split", "tail", "tee", "test", "[", "touch", "tr", "true", "uniq", "wc", "xargs",
    "df", "date", "readlink", "base64", "gzip", "gunzip", "zip", "unzip", "tar", "diff", "od", "yes",
})  # fmt: skip
_QUIET = ("logger", "sync", "mdimport", "lsregister", "say", "afplay", "caffeinate")
# Each program: the module it is in, and its function there.
PROGRAMS: dict[str, tuple[str, str]] = {
    **dict.fromkeys(PLAIN, ("tools", "plain")),
    **dict.fromkeys(_QUIET, ("tools", "quiet")),
    **dict.fromkeys(("chown", "chgrp"), ("tools", "chown")),
    **{name: ("tools", name) for name in ("chmod", "stat", "install", "ditto", "shasum", "md5")},
    "sleep": ("tools", "rest_a_while"),
    **{name: ("system", name) for name in ("whoami", "uname", "arch", "sw_vers", "sysctl", "pmset", "scutil", "dscl")},
    **{name: ("system", name) for name in ("sudo", "xattr", "spctl", "profiles")},
    "id": ("system", "identity"),
    **{name: ("settings", name) for name in ("defaults", "plutil")},
    "PlistBuddy": ("settings", "buddy"),
    **{name: ("services", name) for name in ("launchctl", "osascript", "pgrep", "mdfind", "pkgutil", "installer")},
    **dict.fromkeys(("killall", "pkill"), ("services", "killall")),
    "codesign": ("services", "codesign"),
}
_WRITES = ("rm", "rmdir", "mv", "cp", "ln", "mkdir", "touch", "tee")


def main() -> int:
    """Carries out the program that this was called as; its exit code."""
    name, arguments = os.path.basename(sys.argv[0]), sys.argv[1:]
    module, function = PROGRAMS[name]
    try:
        if name in _WRITES:
            for path in arguments[-1:] if name in ("cp", "ln", "tee") else arguments:
                if path.startswith("/"):
                    guard(path)
        getattr(__import__(f"{__name__}.{module}", fromlist=[function]), function)(name, arguments)
        return 0
    except NotTaken as refused:
        if str(refused):
            complain(refused)
        if refused.code == 127:
            note("no-stand-in", name, *arguments[:2])
        return refused.code
    except OSError as error:
        complain(f"{name}: {error.filename}: {error.strerror}")
        return 1
