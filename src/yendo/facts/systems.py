"""Releases of Windows as installers see them: builds, editions, versions of system files, well-known registry values.

What is not here is *unknown*, not "not there": an installer that asks for it is told about, and a real machine answers.
"""

from __future__ import annotations

import re
import tomllib
from functools import cache
from importlib.resources import files

import msgspec

from yendo.errors import Usage
from yendo.facts.versions import VersionRange

USUAL = "10-22h2"
# Files of every release, by the folder below the system's and the head of their version: the base build follows it.
_SYSTEM_FILES = {
    "10.0": (
        "advapi32 bcrypt cfgmgr32 combase comdlg32 crypt32 cryptbase d3d11 d3d9 dbghelp dnsapi dxgi gdi32 imm32 "
        "iphlpapi kernel32 kernelbase mpr msvcrt netapi32 ntdll ole32 oleaut32 powrprof psapi rpcrt4 secur32 "
        "setupapi shell32 shlwapi user32 userenv uxtheme version winhttp winmm winspool.drv wintrust ws2_32 wtsapi32"
    ),
    "11.0": "ieframe iertutil mshtml urlmon wininet",
    "5.0": "msi",
    "5.82": "comctl32",
}


# The two settings files of the old kind that every Windows still brings.
TEXTS = {
    "win.ini": "; for 16-bit app support\r\n[fonts]\r\n[extensions]\r\n[mci extensions]\r\n[files]\r\n"
    "[Mail]\r\nMAPI=1\r\n",
    "system.ini": "; for 16-bit app support\r\n[386Enh]\r\nwoafont=dosapp.fon\r\n[drivers]\r\nwave=mmdrv.dll\r\n",
}


class System(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A release. ``type`` is 1 for a client, 3 for a server; ``dotnet`` the release number of .NET Framework 4."""

    title: str
    build: int
    base: int
    type: int
    edition: str
    product: str
    release: str
    installation: str
    display: str = ""
    dotnet: int | None = None

    @property
    def version(self) -> str:
        return f"10.0.{self.build}"

    @property
    def files(self) -> dict[str, str]:
        """System files by their names, with the version that they have at least."""
        return {
            name if "." in name else f"{name}.dll": f"{head}.{self.base}.1"
            for head, names in _SYSTEM_FILES.items()
            for name in names.split()
        }

    @property
    def own(self) -> dict[str, str | None]:
        """Files in the folder of Windows itself, with the version that they have at least."""
        version = f"10.0.{self.base}.1"
        names = "explorer.exe helppane.exe hh.exe notepad.exe regedit.exe splwow64.exe write.exe"
        return dict.fromkeys(names.split(), version) | dict.fromkeys(TEXTS)

    @property
    def registry(self) -> dict[tuple[str, str], str | int]:
        """Values below HKLM by key and name, the same in both views."""
        current = r"Software\Microsoft\Windows NT\CurrentVersion"
        found: dict[tuple[str, str], str | int] = {
            (current, "CurrentBuild"): str(self.build),
            (current, "CurrentBuildNumber"): str(self.build),
            (current, "CurrentVersion"): "6.3",
            (current, "CurrentMajorVersionNumber"): 10,
            (current, "CurrentMinorVersionNumber"): 0,
            (current, "ProductName"): self.product,
            (current, "EditionID"): self.edition,
            (current, "InstallationType"): self.installation,
            (current, "ReleaseId"): self.release,
        }
        if self.display:
            found[(current, "DisplayVersion")] = self.display
        if self.dotnet is not None:
            found[(r"Software\Microsoft\NET Framework Setup\NDP\v4\Full", "Release")] = self.dotnet
            found[(r"Software\Microsoft\NET Framework Setup\NDP\v4\Full", "Install")] = 1
        return found


# Below these keys there is more than any data has; what lies elsewhere is not on a fresh machine.
_SYSTEM_KEYS = ("software\\microsoft\\", "system\\", "hardware\\", "software\\policies\\", "software\\classes\\")
_NOT_FRESH = re.compile(
    r"software\\microsoft\\(net framework setup\\ndp\\v3|"
    r"windows\\currentversion\\(uninstall|app paths|installer|run|runonce)\b)"
)


_SYSTEM_FOLDERS = re.compile(
    r"c:\\(windows|programdata\\(microsoft|package cache)|users\\(public|default)|"
    r"program files( \(x86\))?\\(common files|internet explorer|microsoft|windows|modifiablewindowsapps|"
    r"reference assemblies|msbuild|uninstall information))"
)


def may_hold(path: str) -> bool:
    """Whether a fresh Windows may have a folder that no data here tells of."""
    return bool(_SYSTEM_FOLDERS.match(path.lower()))


def may_have(hive: str, key: str) -> bool:
    """Whether a fresh Windows may have something below a key that no data here tells of."""
    lowered = key.lower() + "\\"
    return hive in ("HKCR", "HKU") or (lowered.startswith(_SYSTEM_KEYS) and not _NOT_FRESH.match(lowered))


def knows(version: str, key: str, name: str) -> bool:
    """Whether the data of a Windows tell of a value below HKLM."""
    known = {(one.lower(), other.lower()) for one, other in of_build(version).registry}
    return (key.lower(), name.lower()) in known


@cache
def systems() -> dict[str, System]:
    raw = tomllib.loads(files("yendo.facts").joinpath("systems.toml").read_text("utf-8"))
    return msgspec.convert(raw, dict[str, System])


def system(name: str) -> System:
    """A release by its name. Raises Usage."""
    known = systems()
    if name not in known:
        raise Usage(f"{name!r} is no Windows that is known here; there are: {', '.join(known)}")
    return known[name]


def suiting(range_: str | None) -> str:
    """The name of the usual release, else of the first that a plan's range of Windows admits; the usual one where it
    admits none.
    """
    if not range_:
        return USUAL
    wanted = VersionRange.parse(range_)
    fitting = [name for name, one in systems().items() if wanted.fits(one.version)]
    return fitting[0] if fitting and USUAL not in fitting else USUAL


def of_build(version: str) -> System:
    """The release of a version, the usual one where it is none of them."""
    return next((one for one in systems().values() if version.startswith(one.version)), system(USUAL))
