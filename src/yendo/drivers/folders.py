"""The folders that an ``.inf`` names by numbers.

Source: the documentation "Using Dirids" and the numbers of special folders (16384 and more).
"""

from __future__ import annotations

STORE = 13
FOLDERS = {
    1: "(beside the .inf)",
    10: "%SystemRoot%",
    11: r"%SystemRoot%\System32",
    12: r"%SystemRoot%\System32\drivers",
    STORE: "(the driver store)",
    17: r"%SystemRoot%\INF",
    18: r"%SystemRoot%\Help",
    20: r"%SystemRoot%\Fonts",
    23: r"%SystemRoot%\System32\spool\drivers\color",
    24: "%SystemDrive%",
    25: r"%SystemRoot%",
    30: "%SystemDrive%",
    50: r"%SystemRoot%\System",
    51: r"%SystemRoot%\System32\spool",
    52: r"%SystemRoot%\System32\spool\drivers",
    53: "%UserProfile%",
    54: "%SystemDrive%",
    55: r"%SystemRoot%\System32\spool\prtprocs",
    16406: r"%ProgramData%\Microsoft\Windows\Start Menu",
    16407: r"%ProgramData%\Microsoft\Windows\Start Menu\Programs",
    16408: r"%ProgramData%\Microsoft\Windows\Start Menu\Programs\Startup",
    16409: r"%Public%\Desktop",
    16419: "%ProgramData%",
    16422: "%ProgramFiles%",
    16425: r"%SystemRoot%\SysWOW64",
    16426: "%ProgramFiles(x86)%",
    16427: "%CommonProgramFiles%",
    16428: "%CommonProgramFiles(x86)%",
}


def place(number: str, below: str = "") -> str:
    """The folder of a number, and what is below it; the number itself where it is none that is known."""
    try:
        value = int(number.strip(), 0)
    except ValueError:
        return number
    found = FOLDERS.get(value, f"(folder {value})")
    below = below.strip().strip("\\")
    return f"{found}\\{below}" if below else found
