"""What the programs of a modern app package see of it on a machine: files in the places that its folders stand for, the
values of its hives, and what its manifest declares, as the things that they are in place of.

Source: the documentation of packaged desktop programs; ``platforms/windows/app_elements.toml`` has the folders.
"""

from __future__ import annotations

import hashlib
import io
import struct
import zipfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from yendo.effects import State
from yendo.effects.things import Data, File, RegistryKey, RegistryValue, Service, Shortcut, Thing, View
from yendo.errors import Unreadable
from yendo.formats import app_manifest, hive
from yendo.formats.app_package import DAMAGED
from yendo.platforms.windows.app_elements import elements

HIVES = ("Registry.dat", "User.dat", "UserClasses.dat")
MENU = r"%ProgramData%\Microsoft\Windows\Start Menu\Programs"
RUN, PATHS = r"Software\Microsoft\Windows\CurrentVersion\Run", r"Software\Microsoft\Windows\CurrentVersion\App Paths"
USER = r"REGISTRY\USER\[{AppVCurrentUserSID}]"
MACHINE = r"REGISTRY\MACHINE\SOFTWARE"
_MAX_HIVE = 256 << 20
_KINDS = {1: "sz", 2: "expand", 3: "binary", 4: "dword", 7: "multi", 11: "qword"}
_STARTS = {"auto": "auto", "manual": "demand", "disabled": "disabled"}


def seen(path: Path, processor: str = "x64") -> State:
    """The things that a package brings to its own programs; of a bundle the package that a machine with this processor
    takes. Raises Unreadable.
    """
    with app_manifest.opened(path) as archive:
        packages = [one for one in app_manifest.inner(archive, path.name) if one.sort == "application"]
        if not packages:
            return State(_things(archive, path.name))
        fits = next((one for one in packages if one.architecture == processor), packages[0])
        with app_manifest.inside(path, archive, fits) as package:
            return State(_things(package, fits.file))


def _things(archive: zipfile.ZipFile, shown: str) -> Iterator[Thing]:
    placed: dict[str, str] = {}
    for info in archive.infolist():
        name = unquote(info.filename)
        if (place := place_of(name)) is None:
            continue
        placed[name.lower()] = place
        yield File(place, info.file_size, _sha256(archive, info, shown))
    for name in HIVES:
        if name in archive.namelist():
            data = app_manifest.member(archive, name, _MAX_HIVE, shown)
            yield from _values(hive.read(io.BytesIO(data)))
    opened = app_manifest.manifest_in(archive, shown)
    if opened is not None:
        yield from _declared(opened.top, placed)


def summary(path: Path) -> list[str]:
    """What a package brings to its own programs, in words: files by the folder of the product, values by whose they
    are. A damaged hive is said. Raises Unreadable.
    """
    folders: Counter[str] = Counter()
    values: Counter[str] = Counter()
    with app_manifest.opened(path) as archive:
        for info in archive.infolist():
            if (place := place_of(unquote(info.filename))) is not None:
                folders["\\".join(place.split("\\")[:-1][:3])] += 1
        words = [f"{folder}: {count} file{'s' * (count > 1)}" for folder, count in sorted(folders.items())]
        for name in HIVES:
            if name not in archive.namelist():
                continue
            try:
                found = _values(hive.read(io.BytesIO(app_manifest.member(archive, name, _MAX_HIVE, path.name))))
            except Unreadable as error:
                words.append(f"{name} cannot be read: {error}")
            else:
                for thing in found:
                    values["the machine's" if getattr(thing, "hive", "") == "HKLM" else "each person's"] += 1
    return words + [f"registry values in place of {whose}: {count}" for whose, count in sorted(values.items())]


def place_of(name: str) -> str | None:
    """The place that a file of a package stands for, as ``%ProgramFiles%\\...``; None where it is the package's own."""
    parts = name.replace("\\", "/").split("/")
    if len(parts) < 3 or parts[0].lower() != "vfs":
        return None
    head = next((place for place, folder in elements().folder.items() if folder.lower() == parts[1].lower()), None)
    return "\\".join([head, *parts[2:]]) if head else None


def _sha256(archive: zipfile.ZipFile, info: zipfile.ZipInfo, shown: str) -> str:
    state = hashlib.sha256()
    try:
        with archive.open(info) as member:
            while piece := member.read(1 << 20):
                state.update(piece)
    except DAMAGED as error:
        raise Unreadable(f"{shown}: {info.filename} cannot be read: {str(error)[:200]}") from error
    return state.hexdigest()


def _values(root: hive.HiveKey) -> Iterator[Thing]:
    for path, key in root.every():
        low = path.lower()
        view: View = "64"
        if low.startswith(MACHINE.lower() + "\\"):
            owner, own = "HKLM", path[len(MACHINE) + 1 :]
            if own.lower().startswith("wow6432node\\"):
                view, own = "32", own[len("wow6432node\\") :]
            own = "Software\\" + own
        elif low.startswith((USER + "_Classes\\").lower()):
            owner, own = "HKCU", "Software\\Classes\\" + path[len(USER) + len("_Classes\\") :]
        elif low.startswith(USER.lower() + "\\"):
            owner, own = "HKCU", path[len(USER) + 1 :]
        else:
            continue
        if not key.values and not key.keys:
            yield RegistryKey(owner, own, view)
        for value in key.values:
            kind = _KINDS.get(value.type)
            yield RegistryValue(owner, own, value.name, kind, data_of(value) if kind else None, view)


def data_of(value: hive.HiveValue) -> Data:
    """A value's data as a thing has it."""
    raw = value.data
    match _KINDS.get(value.type):
        case "sz" | "expand":
            return raw.decode("utf-16-le", "replace").rstrip("\0")
        case "multi":
            return tuple(text for text in raw.decode("utf-16-le", "replace").split("\0") if text)
        case "dword":
            return int(struct.unpack("<I", raw[:4].ljust(4, b"\0"))[0])
        case "qword":
            return int(struct.unpack("<Q", raw[:8].ljust(8, b"\0"))[0])
    return raw.hex()


def _declared(top: Any, placed: dict[str, str]) -> Iterator[Thing]:
    def program(node: Any) -> str:
        name = str(node.get("Executable", "")).replace("\\", "/")
        return placed.get(name.lower(), name.replace("/", "\\"))

    for application in top.iterfind("{*}Applications/{*}Application"):
        shown = application.find("{*}VisualElements")
        if shown is not None and shown.get("AppListEntry") != "none":
            arguments = next((text for name, text in application.items() if name.endswith("}Parameters")), "")
            yield Shortcut(rf"{MENU}\{shown.get('DisplayName', '')}.lnk", program(application), arguments)
        for extension in application.iterfind("{*}Extensions/{*}Extension"):
            for node in extension.iter():
                match str(node.tag).rpartition("}")[2]:
                    case "StartupTask":
                        yield RegistryValue("HKLM", RUN, node.get("DisplayName", ""), "sz", program(extension))
                    case "ExecutionAlias":
                        yield RegistryValue("HKLM", rf"{PATHS}\{node.get('Alias', '')}", "", "sz", program(extension))
                    case "Service":
                        yield _service(node, program(extension))


def _service(node: Any, command: str) -> Service:
    needs = tuple(inner.get("Name", "") for inner in node.iterfind("{*}Dependencies/{*}DependentService"))
    start = _STARTS.get(node.get("StartupType", ""), "demand")
    return Service(node.get("Name", ""), command=command, start=start, depends_on=needs)
