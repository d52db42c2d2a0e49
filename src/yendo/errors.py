"""The errors that cross the border between rooms.

Every one carries a sentence for a person (what happened, where, what to do next); the command
line turns the class into an exit code.
"""


class YendoError(Exception):
    """Something a person can act on. Exit code 3 unless a subclass says otherwise."""

    exit_code = 3


class Unreadable(YendoError):
    """A file is damaged, hostile, or not what it says it is."""


class Usage(YendoError):
    """The request itself is wrong (a missing folder, an edit that would be overwritten)."""

    exit_code = 2


class NoMachine(YendoError):
    """The machine that was asked for does not exist here."""

    exit_code = 4


class NotCovered(YendoError):
    """What was asked for is real, and this version of Yendo does not do it."""

    exit_code = 3
