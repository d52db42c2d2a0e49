"""Releases of Windows as installers see them: builds, editions, versions of system files, well-known registry values.

What is not here is *unknown*, not "not there": an installer that asks for it is told about, and a real machine answers.
"""

from __future__ import annotations

import locale
import re
from functools import cache

import msgspec

from yendo.errors import Usage
from yendo.facts.versions import VersionRange

USUAL = "10-22h2"
LANGUAGE = "0809"  # of the demo's office; as the registry writes it
# Keys below HKLM that say what a Windows is.
CURRENT_KEY = r"Software\Microsoft\Windows NT\CurrentVersion"
LANGUAGE_KEY = r"System\CurrentControlSet\Control\Nls\Language"
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


def language_number(tag: str) -> str:
    """``en-GB`` as the registry writes it, ``0809``; empty where it is not known."""
    wanted = tag.replace("-", "_").lower()
    return next((f"{number:04x}" for number, name in locale.windows_locale.items() if name.lower() == wanted), "")


def language_tag(number: int) -> str:
    """``0x0809`` as ``en-GB``; empty where it is not known."""
    return locale.windows_locale.get(number, "").replace("_", "-")


class System(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A release. ``type`` is 1 for a client, 3 for a server; ``dotnet`` the release number of .NET Framework 4."""

    title: str
    build: int
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
    def base(self) -> int:
        return base_of(self.build)

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
        found: dict[tuple[str, str], str | int] = {
            (CURRENT_KEY, "CurrentBuild"): str(self.build),
            (CURRENT_KEY, "CurrentBuildNumber"): str(self.build),
            (CURRENT_KEY, "CurrentVersion"): "6.3",
            (CURRENT_KEY, "CurrentMajorVersionNumber"): 10,
            (CURRENT_KEY, "CurrentMinorVersionNumber"): 0,
            (CURRENT_KEY, "ProductName"): self.product,
            (CURRENT_KEY, "EditionID"): self.edition,
            (CURRENT_KEY, "InstallationType"): self.installation,
            (CURRENT_KEY, "ReleaseId"): self.release,
            (LANGUAGE_KEY, "InstallLanguage"): LANGUAGE,
            (LANGUAGE_KEY, "Default"): LANGUAGE,
            **{(FONTS, name): file for name, file in shared().fonts.items()},
        }
        if self.display:
            found[(CURRENT_KEY, "DisplayVersion")] = self.display
        if self.dotnet is not None:
            found[(r"Software\Microsoft\NET Framework Setup\NDP\v4\Full", "Release")] = self.dotnet
            found[(r"Software\Microsoft\NET Framework Setup\NDP\v4\Full", "Install")] = 1
        return found


class Shared(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What all releases have.

    ``services``: how each starts, and "running" where it runs on a machine at rest; ``fonts``: the file of each
    registered name; ``accounts``: the security identifier of each English name; ``features``: 1 where it is on by
    default on clients, 3 on servers, 0 on both.
    """

    services: dict[str, str]
    fonts: dict[str, str]
    accounts: dict[str, str]
    features: dict[str, int]


def _data(name: str) -> dict[str, object]:
    """A table of ours beside this module. What reads it is loaded with the first one: not everything needs one."""
    import tomllib
    from importlib.resources import files

    return tomllib.loads(files("yendo.platforms.windows").joinpath(name).read_text("utf-8"))


@cache
def shared() -> Shared:
    return msgspec.convert(_data("windows.toml"), Shared)


@cache
def sharing() -> dict[int, tuple[int, ...]]:
    """The builds that have the files of an earlier one, their base, by that."""
    return {
        int(base): tuple(builds) for base, builds in msgspec.convert(_data("bases.toml"), dict[str, list[int]]).items()
    }


def base_of(build: int) -> int:
    """The build whose files one has; itself for most."""
    return next((base for base, builds in sharing().items() if build in builds), build)


FONTS = r"Software\Microsoft\Windows NT\CurrentVersion\Fonts"


def is_account(name: str) -> bool:
    """Whether a local account or group of this English name is on every Windows in English."""
    return name.rpartition("\\")[2].lower() in {known.lower() for known in shared().accounts}


# Source: the documentation of the Windows Installer's properties, and logs of its own.
_INSTALLER = {
    "AdminUser": "1",
    "MsiTrueAdminUser": "1",
    "MsiRunningElevated": "1",
    "GPTSupport": "1",
    "OLEAdvtSupport": "1",
    "ShellAdvtSupport": "1",
    "RedirectedDllSupport": "2",
    "RemoteAdminTS": "1",
    "ServicePackLevelMinor": "0",
}
# Source: the same. These hang on the machine, its screen or the moment.
ASKS_THE_MACHINE = {
    "BorderSide": "the screen's borders",
    "BorderTop": "the screen's borders",
    "CaptionHeight": "the height of a window's caption",
    "ColorBits": "the colours of the screen",
    "Date": "the date",
    "MsiNetAssemblySupport": "the version of .NET Framework's library fusion",
    "MsiTabletPC": "a tablet",
    "ScreenX": "the width of the screen",
    "ScreenY": "the height of the screen",
    "TextHeight": "the height of text on the screen",
    "TTCSupport": "support for collections of fonts",
    "Time": "the time",
    "VirtualMemory": "the size of the page file",
}


def installer_properties(release: System) -> dict[str, str]:
    """The properties of the Windows Installer that a release decides, as the service itself is told.

    It says 603 and 9600 for the version on everything from 8.1 on; only files and values tell the later ones apart.
    """
    return _INSTALLER | {
        "VersionNT": "603",
        "WindowsBuild": "9600",
        "ServicePackLevel": "0",
        "MsiNTProductType": str(release.type),
        "MsiWin32AssemblySupport": f"6.3.{release.base}.1",
    }


# Source: the identifiers of the compatibility section of an application manifest.
_SUPPORTED = {"8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a": "10.0", "1f676c76-80e1-4239-95bb-83d0f6d0da78": "6.3"}


def told_to_programs(manifest: str) -> str:
    """The version of Windows that a program is told that asks the system: 10.0 only where its manifest names it.

    ``manifest`` is its application manifest, "" without one. Source: the documentation of targeting.
    """
    named = re.findall(r"supportedos[^>]{0,80}?\{([0-9a-f-]{36})\}", manifest.lower())
    return max((_SUPPORTED[one] for one in named if one in _SUPPORTED), key=float, default="6.2")


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
    return msgspec.convert(_data("systems.toml"), dict[str, System])


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
