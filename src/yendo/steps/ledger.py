"""The record of what a package has done to a machine: one line a change, written before the change, undone from the
end.

A line is a letter and fields between tabs; in a field, ``%`` and control characters stand as ``%25``, ``%09``, ....

    B                                  a run begins
    F new old path                     a file: its new hash, and that of what was there (``-``: nothing)
    X old path                         a file that is deleted
    D path                             a folder is made
    V new old hive view key name       a registry value, each as ``type=data`` (``-``: none)
    K hive view key                    a registry key is made
    P entry hive view key name         an entry is added to a list of entries between semicolons
    U command                          a command that takes the change back
    R command                          the same, only while its run is unfinished

Of F and V, old and new are the same where every package of an office places the thing and it was there already.
"""

from __future__ import annotations

from yendo.effects.things import Data
from yendo.formats.fields import escape, unescape

NOTHING = "-"
RegistryData = tuple[str, Data]


def line(kind: str, *fields: str) -> str:
    """A line without its end."""
    return "\t".join((kind, *map(escape, fields)))


def fields(text: str) -> list[str]:
    """The letter and the fields of a line."""
    kind, *rest = text.split("\t")
    return [kind, *map(unescape, rest)]


def changed_list(change: str, before: str, value: str) -> str:
    """A list of entries with one added or taken out; they compare without regard to case and a last backslash."""
    entries = [entry for entry in before.split(";") if entry]
    rest = [entry for entry in entries if entry.rstrip("\\").lower() != value.rstrip("\\").lower()]
    if change == "remove":
        return ";".join(rest)
    if len(rest) != len(entries):
        return before
    return ";".join([*rest, value] if change == "append" else [value, *rest])


def value_text(value: RegistryData | None) -> str:
    """A registry value as a field: ``dword=7``, ``multi=`` with its texts between zero characters."""
    if value is None:
        return NOTHING
    kind, data = value
    return f"{kind}=" + ("\0".join(data) if isinstance(data, tuple) else str(data))


def value_of(text: str) -> RegistryData | None:
    """A registry value from a field."""
    if text == NOTHING:
        return None
    kind, _, data = text.partition("=")
    if kind == "multi":
        return kind, tuple(data.split("\0")) if data else ()
    return kind, int(data) if kind in ("dword", "qword") else data
