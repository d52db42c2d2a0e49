"""What is on a prefix: its files and its registry, as things.

A session is compared with its template: only files that its private layer holds are looked at, and
only registry blocks whose text differs are decoded.
"""

from __future__ import annotations

import configparser
import contextlib
import os
import re
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects import Environment, File, Folder, IniValue, Product, RegistryKey, RegistryValue, Service, Shortcut, State, Thing, UninstallEntry
from yendo.effects.things import View
from yendo.errors import Unreadable
from yendo.formats import lnk, pe, registry_text

Blocks = dict[tuple[str, str], str]  # (hive, escaped key path) -> lines
HIVES = {"system.reg": "HKLM", "user.reg": "HKCU", "userdef.reg": "HKU"}
MAX_HASHED = 1 << 31
_UNINSTALL = r"software\microsoft\windows\currentversion\uninstall" + "\\"
_SERVICES = "system\\currentcontrolset\\services\\"
_MACHINE_ENVIRONMENT = r"system\currentcontrolset\control\session manager\environment"
_PRODUCTS = re.compile(r"software\\microsoft\\windows\\currentversion\\installer\\userdata\\([^\\]+)\\products\\([0-9a-f]{32})\\installproperties$")
_STARTS = {0: "boot", 1: "system", 2: "auto", 3: "demand", 4: "disabled"}


def read_blocks(prefix: Path) -> Blocks:
    """The registry's text, a block a key."""
    found: Blocks = {}
    for name, hive in HIVES.items():
        with contextlib.suppress(FileNotFoundError):
            text = (prefix / name).read_text("utf-8", "replace")
            found.update(((hive, path), body) for path, body in registry_text.blocks(text).items())
    return found


def locate(hive: str, path: str) -> tuple[str, str, View]:
    """``(hive, key, view)`` of an escaped key path: aliases undone, the 32-bit half told apart."""
    key = registry_text.unescape(path)
    parts = key.split("\\")
    lowered = [part.lower() for part in parts]
    if hive == "HKU":
        return hive, ".DEFAULT\\" + key, "64"
    if lowered[:2] == ["system", "controlset001"]:
        parts[1] = "CurrentControlSet"
    view: View = "64"
    for at in (1, 2):
        if lowered[0] == "software" and lowered[at : at + 1] == ["wow6432node"] and hive == "HKLM" and (at == 1 or lowered[1] == "classes"):
            del parts[at]
            view = "32"
            break
    return hive, "\\".join(parts), view


def unpack_code(packed: str) -> str:
    """A product code from the packed form the installer keeps it in."""
    groups = [packed[0:8], packed[8:12], packed[12:16]]
    rest = [packed[at : at + 2][::-1] for at in range(16, 32, 2)]
    return "{" + "-".join([*(group[::-1] for group in groups), "".join(rest[:2]), "".join(rest[2:])]).upper() + "}"


def registry_things(hive: str, path: str, body: str, *, has_children: bool = False) -> Iterator[Thing]:
    """The things that one key stands for."""
    if registry_text.is_link(body):
        return
    hive, key, view = locate(hive, path)
    lowered, found = key.lower(), dict(registry_text.values(body))
    texts = {name.lower(): data for name, (_, data) in found.items()}

    def text(name: str) -> str | None:
        value = texts.get(name)
        return value if isinstance(value, str) and value else None

    if lowered.startswith(_UNINSTALL) and "\\" not in lowered[len(_UNINSTALL) :] and ("displayname" in texts or "uninstallstring" in texts):
        yield UninstallEntry(
            key[len(_UNINSTALL) :],
            hive,
            view,
            text("displayname"),
            text("displayversion"),
            text("publisher"),
            text("uninstallstring"),
            text("quietuninstallstring"),
            texts.get("systemcomponent") == 1,
        )
    elif lowered.startswith(_SERVICES) and "\\" not in lowered[len(_SERVICES) :] and "imagepath" in texts:
        depends = texts.get("dependonservice", ())
        yield Service(
            key[len(_SERVICES) :],
            text("displayname"),
            text("imagepath"),
            _STARTS.get(texts.get("start", 3)),  # type: ignore[arg-type]
            text("objectname"),
            depends if isinstance(depends, tuple) else (),
        )
    elif hive == "HKLM" and lowered == _MACHINE_ENVIRONMENT:
        yield from (Environment(name, str(data), "machine") for name, (_, data) in found.items())
    elif hive == "HKCU" and lowered == "environment":
        yield from (Environment(name, str(data), "user") for name, (_, data) in found.items())
    elif match := _PRODUCTS.match(lowered):
        language = texts.get("language")
        yield Product(
            unpack_code(match[2].upper()),
            text("displayname"),
            text("displayversion"),
            language if isinstance(language, int) else None,
            "machine" if match[1] == "s-1-5-18" else "user",
        )
        yield from (RegistryValue(hive, key, name, kind, data, view) for name, (kind, data) in found.items())
    elif found:
        yield from (RegistryValue(hive, key, name, kind, data, view) for name, (kind, data) in found.items())
    elif not has_children:
        yield RegistryKey(hive, key, view)


def windows_path(drive: Path, path: Path) -> str:
    relative = path.relative_to(drive).as_posix().replace("/", "\\")
    return f"C:\\{relative}" if relative != "." else "C:"


def file_things(drive: Path, path: Path) -> Iterator[Thing]:
    """The things that one file stands for: itself, a shortcut, the entries of an ini file."""
    where = windows_path(drive, path)
    size = path.stat().st_size
    if where.lower().endswith(".lnk"):
        with contextlib.suppress(Unreadable):
            link = lnk.read(path.read_bytes())
            yield Shortcut(where, link.target or None, link.arguments, link.working_folder.rstrip("\\") or None, link.description or None)
            return
    sha256 = digest.of_file(path) if size <= MAX_HASHED else None
    version = None
    if where.lower().endswith((".exe", ".dll", ".sys", ".ocx")):
        with contextlib.suppress(Unreadable):
            version = pe.read(path).version
    yield File(where, size, sha256, version)
    if where.lower().endswith(".ini") and size < 1 << 20:
        parser = configparser.RawConfigParser(strict=False, interpolation=None, allow_no_value=True)
        parser.optionxform = str  # type: ignore[assignment,method-assign]
        with contextlib.suppress(configparser.Error, UnicodeError):
            parser.read_string(path.read_bytes().decode("utf-8-sig", "replace"))
            for section in parser.sections():
                for name, value in parser.items(section):
                    yield IniValue(where, section, name, value)


def walk(drive: Path, skip: Iterable[str] = ()) -> Iterator[Thing]:
    """Everything below a drive, without contents: for the baseline of a template."""
    for folder, folders, files in os.walk(drive):
        here = Path(folder)
        if here != drive:
            yield Folder(windows_path(drive, here))
        for name in list(folders):
            if (here / name).is_symlink():
                folders.remove(name)
        for name in files:
            path = here / name
            if name.lower().endswith(".lnk"):
                yield from file_things(drive, path)
            elif not path.is_symlink():
                yield File(windows_path(drive, path), path.stat().st_size)


def save(target: Path, prefix: Path) -> None:
    """Keeps the full state of a template and its registry text, so that it is decoded once."""
    blocks = read_blocks(prefix)
    state = State(walk(prefix / "drive_c"))
    for (hive, path), body in blocks.items():
        for thing in registry_things(hive, path, body, has_children=True):
            state.add(thing)
    target.write_bytes(msgspec.msgpack.encode((list(state), list(blocks.items()))))


def load(source: Path) -> tuple[list[Thing], Blocks]:
    """What ``save`` kept."""
    things, blocks = msgspec.msgpack.decode(source.read_bytes(), type=tuple[list[Thing], list[tuple[tuple[str, str], str]]])
    return things, dict(blocks)


def is_whiteout(path: Path) -> bool:
    """Whether an entry of an overlay's upper layer says "removed"."""
    status = path.lstat()
    return stat.S_ISCHR(status.st_mode) and status.st_rdev == 0
