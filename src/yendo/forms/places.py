"""Folders of a database: standard ones by their property, all others below them; names in their short and long form."""

from __future__ import annotations

import hashlib
import re
import uuid
from collections.abc import Sequence

from yendo.errors import Usage
from yendo.formats.msi.database import TableCell
from yendo.terms.settings import PLACE

Row = tuple[TableCell, ...]
NAMESPACE = uuid.UUID("5d8f1c0a-7b1e-4d57-9a63-1f0b6c2d9e41")
# Source: the Windows Installer's system folder properties. ALLUSERS=1 makes menu and desktop everybody's.
_STANDARD = (
    (r"%programdata%\microsoft\windows\start menu\programs\startup", "StartupFolder"),
    (r"%programdata%\microsoft\windows\start menu\programs", "ProgramMenuFolder"),
    (r"%programdata%\microsoft\windows\start menu", "StartMenuFolder"),
    (r"%public%\desktop", "DesktopFolder"),
    (r"%programfiles%\common files", "CommonFiles64Folder"),
    (r"%programfiles(x86)%\common files", "CommonFilesFolder"),
    (r"%programfiles(x86)%", "ProgramFilesFolder"),
    (r"%programfiles%", "ProgramFiles64Folder"),
    (r"%programdata%", "CommonAppDataFolder"),
    (r"%systemroot%\system32", "System64Folder"),
    (r"%systemroot%\syswow64", "SystemFolder"),
    (r"%systemroot%\fonts", "FontsFolder"),
    (r"%systemroot%", "WindowsFolder"),
    (r"%public%", "PUBLICFOLDER"),
    ("c:", "WindowsVolume"),
)
_NARROW = ("ProgramFilesFolder", "CommonFilesFolder", "SystemFolder")  # of 32-bit programs
PUBLIC = "PUBLICFOLDER"  # no property of the system's: set from the environment before folders are worked out
_SHORT = re.compile(r"[A-Za-z0-9_!#$%&'()@^`{}~-]{1,8}(\.[A-Za-z0-9_!#$%&'()@^`{}~-]{1,3})?")


class Impossible(Usage):
    """What a form cannot hold; nothing was written. ``what`` is the form, ``things`` in words, each with its reason."""

    def __init__(self, what: str, things: Sequence[tuple[str, str]]) -> None:
        some = "; ".join(f"{thing}: {why}" for thing, why in things[:5])
        more = f"; and {len(things) - 5} more" if len(things) > 5 else ""
        super().__init__(
            f"{what} cannot hold {len(things)} of the things that the plan keeps: {some}{more}. Leave them in the plan "
            "(`yendo add leave`), and bring them by a package of their own"
        )
        self.things = tuple(things)


def code(*parts: str) -> str:
    """A code ``{...}`` that the same parts always have."""
    return "{" + str(uuid.uuid5(NAMESPACE, "|".join(parts).lower())).upper() + "}"


def key(letter: str, *parts: str) -> str:
    """A row's key: a letter, and what the same parts always have."""
    return letter + hashlib.sha256("|".join(parts).lower().encode()).hexdigest()[:16].upper()


def file_name(long: str) -> str:
    """``SHORT.EXT|long name``, or the name alone where it is short. The short one follows from the long one."""
    if _SHORT.fullmatch(long):
        return long
    ending = re.sub(r"[^A-Za-z0-9]", "", long.rpartition(".")[2] if "." in long else "")[:3].upper()
    short = "Y" + hashlib.sha256(long.lower().encode()).hexdigest()[:7].upper()
    return f"{short}.{ending}|{long}" if ending else f"{short}|{long}"


def escaped(text: str) -> str:
    """A text as a column of formatted text has it: brackets are literal, settings are properties."""
    found, at = [], 0
    for place in PLACE.finditer(text):
        found += [_literal(text[at : place.start()]), f"[{property_of(place[2])}]"]
        at = place.end()
    return "".join([*found, _literal(text[at:])])


def _literal(text: str) -> str:
    return re.sub(r"[\[\]{}]", lambda found: f"[\\{found[0]}]", text)


def property_of(setting: str) -> str:
    """The public property of a setting."""
    return re.sub(r"[^A-Z0-9_]", "_", setting.upper())


def least_build(asked: str | None) -> re.Match[str] | None:
    """Where a plan's range of Windows says the oldest build; the build is its first group."""
    return re.search(r">=\s*10\.0\.(\d+)", asked or "")


def command_words(line: str) -> tuple[str, str]:
    """The program of a command line, and the rest."""
    match = re.match(r'\s*(?:"([^"]+)"|(.+?\.exe)(?=\s|$)|(\S+))\s*(.*)$', line, re.I)
    return ((match[1] or match[2] or match[3]), match[4]) if match else (line, "")


class Directories:
    """The rows of table Directory, as they are asked for."""

    def __init__(self) -> None:
        self.rows: dict[str, Row] = {"TARGETDIR": ("TARGETDIR", None, "SourceDir")}

    def of(self, path: str) -> str:
        """The key of a folder, by its placed path. Raises ValueError where a database has no way to it."""
        path = path.rstrip("\\")
        for head, name in _STANDARD:
            if path.lower() == head:
                self.rows.setdefault(name, (name, "TARGETDIR", "."))
                return name
        if "\\" not in path:
            raise ValueError(f"{path} is a place that no database knows")
        parent, _, own = path.rpartition("\\")
        found = key("D", path)
        if found not in self.rows:
            self.rows[found] = (found, self.of(parent), file_name(own))
        return found

    def known(self, path: str) -> str:
        """The key of a folder of the product's own, by its placed path in small letters; empty where it is none."""
        found = key("D", path)
        return found if found in self.rows else ""

    def is_narrow(self, folder: str) -> bool:
        """Whether a folder lies in one of 32-bit programs."""
        while folder != "TARGETDIR":
            if folder in _NARROW:
                return True
            folder = str(self.rows[folder][1])
        return False
