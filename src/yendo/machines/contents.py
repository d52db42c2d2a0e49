"""Files whose contents are things of their own: shortcuts, and the entries of ini files."""

from __future__ import annotations

import configparser
import contextlib
from collections.abc import Iterator

from yendo.effects import IniValue, Shortcut
from yendo.errors import Unreadable
from yendo.formats import lnk
from yendo.formats.ini import IniParser


def shortcut(path: str, data: bytes) -> Shortcut | None:
    """A shell link as a thing; None where it is none."""
    try:
        link = lnk.read(data)
    except Unreadable:
        return None
    return Shortcut(
        path, link.target or None, link.arguments, link.working_folder.rstrip("\\") or None, link.description or None
    )


def ini_values(path: str, data: bytes) -> Iterator[IniValue]:
    """The entries of an ini file; none where it is not one."""
    parser = IniParser(strict=False, interpolation=None, allow_no_value=True)
    with contextlib.suppress(configparser.Error, UnicodeError):
        parser.read_string(data.decode("utf-8-sig", "replace"))
        for section in parser.sections():
            for name, value in parser.items(section):
                yield IniValue(path, section, name, value)
