"""What a step finds around it: the system, the account, the folders, the environment."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal

import msgspec

Account = Literal["user", "system"]

_USER = r"C:\Users\mara"
_SYSTEM = r"C:\Windows\System32\config\systemprofile"


class Surroundings(msgspec.Struct, frozen=True):
    """A machine as an installer sees it.

    ``folders`` maps the installer's folder properties to absolute paths without a trailing
    backslash; ``memory`` is in MB; ``language`` a Windows language number.
    """

    windows: str
    architecture: str
    account: Account
    user: str
    folders: dict[str, str]
    environment: dict[str, str]
    memory: int = 8192
    language: int = 2057
    computer: str = "MARROWBY-01"
    per_user_menu: bool = False  # the start menu is the user's own even in an installation for everyone
    """Source of ``per_user_menu``: a difference of the Windows API layer, see machines/wine."""


# Source: the folder properties documented for the Windows Installer, with the paths of 64-bit Windows 10.
_FIXED = {
    "WindowsFolder": r"C:\Windows",
    "SystemFolder": r"C:\Windows\SysWOW64",
    "System64Folder": r"C:\Windows\System32",
    "System16Folder": r"C:\Windows\System",
    "WindowsVolume": "C:",
    "FontsFolder": r"C:\Windows\Fonts",
    "ProgramFilesFolder": r"C:\Program Files (x86)",
    "ProgramFiles64Folder": r"C:\Program Files",
    "CommonFilesFolder": r"C:\Program Files (x86)\Common Files",
    "CommonFiles64Folder": r"C:\Program Files\Common Files",
    "CommonAppDataFolder": r"C:\ProgramData",
}
_OF_PROFILE = {
    "AppDataFolder": r"AppData\Roaming",
    "LocalAppDataFolder": r"AppData\Local",
    "PersonalFolder": "Documents",
    "FavoritesFolder": "Favorites",
    "MyPicturesFolder": "Pictures",
    "NetHoodFolder": r"AppData\Roaming\Microsoft\Windows\Network Shortcuts",
    "PrintHoodFolder": r"AppData\Roaming\Microsoft\Windows\Printer Shortcuts",
    "RecentFolder": r"AppData\Roaming\Microsoft\Windows\Recent",
    "SendToFolder": r"AppData\Roaming\Microsoft\Windows\SendTo",
}
MENU = {
    "StartMenuFolder": r"Microsoft\Windows\Start Menu",
    "ProgramMenuFolder": r"Microsoft\Windows\Start Menu\Programs",
    "AdminToolsFolder": r"Microsoft\Windows\Start Menu\Programs\Administrative Tools",
    "StartupFolder": r"Microsoft\Windows\Start Menu\Programs\Startup",
    "TemplateFolder": r"Microsoft\Windows\Templates",
}


# A 32-bit system has one of each pair, under the plain name.
_FIXED_32 = {
    **{name: path for name, path in _FIXED.items() if "64" not in name},
    "SystemFolder": r"C:\Windows\System32",
    "ProgramFilesFolder": r"C:\Program Files",
    "CommonFilesFolder": r"C:\Program Files\Common Files",
}


# What every 64-bit process finds in its environment beside these. Source: the documented variables of Windows 10.
_SAID = {
    "OS": "Windows_NT",
    "windir": r"C:\Windows",
    "ComSpec": r"C:\Windows\System32\cmd.exe",
    "PATHEXT": ".COM;.EXE;.BAT;.CMD;.VBS;.VBE;.JS;.JSE;.WSF;.WSH;.MSC",
    "ALLUSERSPROFILE": r"C:\ProgramData",
    "ProgramW6432": r"C:\Program Files",
    "CommonProgramFiles": r"C:\Program Files\Common Files",
    "CommonProgramFiles(x86)": r"C:\Program Files (x86)\Common Files",
    "CommonProgramW6432": r"C:\Program Files\Common Files",
    "NUMBER_OF_PROCESSORS": "2",
    "COMPUTERNAME": "MARROWBY-01",
}


def windows(account: Account = "user", architecture: Literal["x64", "x86"] = "x64") -> Surroundings:
    """A Windows 10, as an elevated user sees it or as the system account does."""
    profile = _USER if account == "user" else _SYSTEM
    roaming = profile + r"\AppData\Roaming"
    temp = profile + r"\AppData\Local\Temp" if account == "user" else r"C:\Windows\Temp"
    folders = {
        **(_FIXED if architecture == "x64" else _FIXED_32),
        "TempFolder": temp,
        "DesktopFolder": profile + r"\Desktop",
        **{name: f"{profile}\\{path}" for name, path in _OF_PROFILE.items()},
        **{name: f"{roaming}\\{path}" for name, path in MENU.items()},
    }
    environment = {
        "SystemRoot": r"C:\Windows",
        "SystemDrive": "C:",
        "ProgramFiles": r"C:\Program Files",
        "TEMP": temp,
        "TMP": temp,
        "ProgramFiles(x86)": r"C:\Program Files (x86)",
        "ProgramData": r"C:\ProgramData",
        "PUBLIC": r"C:\Users\Public",
        "USERPROFILE": profile,
        "APPDATA": roaming,
        "LOCALAPPDATA": profile + r"\AppData\Local",
        "Path": r"C:\Windows\System32;C:\Windows",
        "USERNAME": "mara" if account == "user" else "MARROWBY-01$",
        **_SAID,
        "PROCESSOR_ARCHITECTURE": "AMD64" if architecture == "x64" else "x86",
    }
    if architecture == "x86":
        for name in ("ProgramFiles(x86)", "CommonProgramFiles(x86)", "ProgramW6432", "CommonProgramW6432"):
            environment.pop(name)
    return Surroundings(
        "10.0.19045", architecture, account, "mara" if account == "user" else "SYSTEM", folders, environment
    )


def for_everyone(surroundings: Surroundings) -> dict[str, str]:
    """The folder properties that change when an installation is for all users."""
    if surroundings.per_user_menu:
        return {}
    data = surroundings.folders["CommonAppDataFolder"]
    return {
        **{name: f"{data}\\{path}" for name, path in MENU.items()},
        "DesktopFolder": surroundings.environment["PUBLIC"] + r"\Desktop",
    }


_NAMED = (
    "ProgramFiles(x86)", "ProgramFiles", "ProgramData",
    "LOCALAPPDATA", "APPDATA", "USERPROFILE", "PUBLIC", "SystemRoot",
)  # fmt: skip


def contract(path: str, environment: Mapping[str, str]) -> str:
    """A path with ``%NAME%`` for the longest folder of the machine's or the person's that it begins with."""
    fitting = [
        (len(environment[name]), name)
        for name in _NAMED
        if name in environment and (path.lower() + "\\").startswith(environment[name].lower() + "\\")
    ]
    if not fitting:
        return path
    length, name = max(fitting)
    return f"%{name}%{path[length:]}"


def expand(text: str, environment: Mapping[str, str]) -> str:
    """Replaces ``%NAME%`` without regard to case; a name that is not set stays as it is, as Windows has it."""
    if "%" not in text:
        return text
    if text[0] == "%" and (name := text[1 : text.find("%", 1)]) in environment and "%" not in text[len(name) + 2 :]:
        return environment[name] + text[len(name) + 2 :]  # as nearly every path is written

    def value(match: re.Match[str]) -> str:
        if match[1] in environment:
            return environment[match[1]]
        wanted = match[1].lower()
        return next((value for name, value in environment.items() if name.lower() == wanted), match[0])

    return _NAME.sub(value, text)


_NAME = re.compile(r"%([^%]+)%")
