"""Folders that Windows itself brings, as 64-bit Windows has them on its usual drive.

Source: the documentation of known folders, and of the file system redirector for the two widths. What is compared is
the identity of a path, in small letters.
"""

from __future__ import annotations

from yendo.platforms.windows import paths

DRIVE = "C:"
PROFILES = r"C:\Users"
TEMPORARY = r"C:\Windows\Temp"
WINDOWS = r"C:\Windows"
PERSONS_PROGRAMS = r"AppData\Local\Programs"  # below a profile: programs that a person installs alone
# Where programs keep data of everybody and of one person, as plans write it.
DATA = ("%ProgramData%", "%APPDATA%", "%LOCALAPPDATA%", "%USERPROFILE%", "%PUBLIC%")
PROGRAMS = r"C:\Program Files"  # ordinary users cannot write there
_WIDTHS = ((PROGRAMS, r"C:\Program Files (x86)"), (r"C:\Windows\System32", r"C:\Windows\SysWOW64"))
# No product owns them, so none is recognised by them.
SHARED = frozenset(
    path.lower()
    for path in (
        DRIVE, WINDOWS, r"C:\ProgramData", r"C:\Windows\Fonts", *(path for pair in _WIDTHS for path in pair),
        r"C:\Program Files\Common Files", r"C:\Program Files (x86)\Common Files",
    )
)  # fmt: skip


def of_system(name: str, bits: int = 64) -> str:
    """Where a file of the system itself lies, as a program of that width sees it."""
    return paths.join(_WIDTHS[1][bits == 32], name)


def of_other_width(path: str) -> str:
    """Where the same thing of the other architecture's edition lies; the path itself where both are one."""
    for wide, narrow in _WIDTHS:
        for here, there in ((narrow, wide), (wide, narrow)):
            if paths.is_below(path, here):
                return there + path[len(here) :]
    return path
