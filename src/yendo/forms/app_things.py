"""What a plan brings, as an app package has it: files by the folders that stand for the system's, values in hives, and
what the manifest declares. What it cannot hold is gathered with the reason.

Source of each mapping: the documentation of packaged desktop programs (folders of the package that stand for the
system's; registry of its own) and of the manifest's element. docs/forms.md has the map.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable, Mapping
from pathlib import Path

import msgspec

from yendo.effects.things import (
    File,
    Folder,
    IniValue,
    RegistryKey,
    RegistryValue,
    Service,
    Shortcut,
    Thing,
    UninstallEntry,
    label,
)
from yendo.formats.hive import HiveKey, HiveValue
from yendo.forms.places import command_words
from yendo.installers import app_contents
from yendo.platforms.windows.app_elements import elements
from yendo.platforms.windows.capture_record import usual
from yendo.steps import texts
from yendo.steps.captured import Decided
from yendo.terms.settings import Settings, fill, fill_text, names_in

_NARROW = {
    "ProgramFilesCommonX64": "ProgramFilesCommonX86", "ProgramFilesX64": "ProgramFilesX86", "SystemX64": "SystemX86",
}  # fmt: skip
_OUTSIDE = (r"%public%", r"%appdata%", r"%localappdata%", r"%userprofile%", r"%temp%", r"c:\users")
_FONTS = r"%systemroot%\fonts"
_MENU = r"%programdata%\microsoft\windows\start menu\programs"
_START = _MENU + r"\startup"
_DESKTOP = r"%public%\desktop"
_WINDOWS = re.compile(
    r"software\\(microsoft\\(windows|windows nt|active setup|cryptography|security center)|policies)(\\|$)"
)
_RUN = re.compile(r"software\\microsoft\\windows\\currentversion\\run$")
_PATHS = re.compile(r"software\\microsoft\\windows\\currentversion\\app paths\\([^\\]+)$")
_FONT_NAMES = re.compile(r"software\\microsoft\\windows nt\\currentversion\\fonts$")
_CLASSES = "software\\classes\\"
_SERVER = re.compile(r"clsid\\(\{[0-9a-f-]{36}\})\\localserver32$")
_TYPES = {"sz": 1, "expand": 2, "binary": 3, "dword": 4, "multi": 7, "qword": 11}
_ACCOUNTS = {
    "localsystem": "localSystem", r"nt authority\localservice": "localService",
    r"nt authority\networkservice": "networkService", "": "localSystem",
}  # fmt: skip
_START_TYPES = {"auto": "auto", "demand": "manual", "disabled": "disabled"}


class AppStart(msgspec.Struct, frozen=True):
    """What a person starts: a program of the package with its arguments, by its name; ``menu`` whether it stands in the
    start menu. ``id`` is the application's in the manifest, which stays with the name.
    """

    name: str
    program: str
    arguments: str = ""
    description: str = ""
    menu: bool = True
    id: str = ""


class AppDeclared(msgspec.Struct, frozen=True):
    """What the manifest declares besides: its sort (type, protocol, start, alias, server, service, font), its name, the
    program of the package that it belongs to, and what more is known.
    """

    sort: str
    name: str
    program: str = ""
    more: dict[str, str] = {}


class AppThings:
    """Collects what a plan brings; ``members`` are files by their names in the package."""

    def __init__(self, base: Path, settings: Settings, values: Mapping[str, str], *, narrow: bool) -> None:
        self.base, self.settings, self.values, self.narrow = base, settings, values, narrow
        self.members: dict[str, Path | bytes] = {}
        self.files: dict[str, str] = {}  # their names in the package, by placed path in small letters
        self.starts: list[AppStart] = []
        self.declared: list[AppDeclared] = []
        self.machine, self.person, self.classes = HiveKey("ROOT"), HiveKey("ROOT"), HiveKey("ROOT")
        self.promised: list[Thing] = []  # what its programs see, where all is as it was meant
        self.wrong: list[tuple[str, str]] = []
        self.notes: list[str] = []
        self._classes: dict[str, dict[str, str]] = {}  # values of the classes, by key and name in small letters

    def all(self, wanted: Iterable[Decided]) -> None:
        """Everything that is kept. Files come first: others refer to them."""
        order: tuple[type, ...] = (File, IniValue, Folder, RegistryValue, RegistryKey, Shortcut, Service)
        some = [one for one in wanted if not isinstance(one.caught.effect.thing, UninstallEntry)]
        some.sort(key=lambda one: (_rank(order, one.caught.effect.thing), one.caught.effect.thing.identity))
        for one in some:
            try:
                self._one(one)
            except ValueError as error:
                self.wrong.append((label(one.caught.effect.thing), str(error)))
        self._associations()

    def _one(self, one: Decided) -> None:
        thing, change = one.caught.effect.thing, one.caught.effect.change
        if change == "remove":
            raise ValueError("an app package takes nothing away")
        match thing:
            case File():
                self._file(thing, one)
            case IniValue():
                self._entry(thing, one)
            case Folder():
                if not any(path.startswith(thing.path.lower() + "\\") for path in self.files) and change == "add":
                    self.notes.append(f"the empty folder {thing.path} is not in it: the program has to make it")
            case RegistryValue():
                self._value(thing, one)
            case RegistryKey():
                self._key(thing.hive, thing.view, thing.key)
                self.promised.append(thing)
            case Shortcut():
                self._shortcut(thing)
            case Service():
                self._service(thing, change)
            case _:
                raise ValueError(f"nothing in a manifest declares what is of the kind {one.caught.effect.kind}")

    # --- files --------------------------------------------------------------------------------------------------------

    def _file(self, thing: File, one: Decided) -> None:
        if one.caught.effect.change == "change":
            raise ValueError("it was there before, and a package brings files of its own only")
        name = self._place(thing.path)
        self.promised.append(File(thing.path, sha256=None if one.to is not None else thing.sha256))
        self.members[name] = self.base / (str(one.to) if one.to is not None else one.caught.content)
        self.files[thing.path.lower()] = name
        if thing.path.lower().startswith(_FONTS + "\\"):
            self.declared.append(AppDeclared("font", name))

    def _place(self, path: str) -> str:
        """A file's name in the package. Raises ValueError where no folder of a package stands for its own."""
        low = path.lower()
        for head in _OUTSIDE:
            if low.startswith(head + "\\"):
                raise ValueError("no folder of an app package stands for the one that it lies in")
        for head, folder in elements().folder.items():
            if low.startswith(head.lower() + "\\"):
                folder = _NARROW.get(folder, folder) if self.narrow else folder
                return f"VFS/{folder}/" + path[len(head) + 1 :].replace("\\", "/")
        raise ValueError("no folder of an app package stands for the one that it lies in")

    def _entry(self, thing: IniValue, one: Decided) -> None:
        """An entry that is set in an ini file which comes along."""
        name = self.files.get(thing.path.lower())
        if name is None:
            raise ValueError("the file was there before, and a package brings files of its own only")
        held = self.members[name]
        text, encoding = texts.decode(held if isinstance(held, bytes) else held.read_bytes())
        value = self._filled(str(one.to if one.to is not None else thing.value or ""))
        self.promised = [one for one in self.promised if one.identity != thing.path.lower()]
        self.promised.append(File(thing.path))
        self.members[name] = texts.encode(texts.ini(text, thing.section, thing.key, value), encoding)

    # --- the registry -------------------------------------------------------------------------------------------------

    def _value(self, thing: RegistryValue, one: Decided) -> None:
        low = thing.key.lower()
        bound = one.caught.bound
        if one.to is None and bound is not None and bound.data is not None:
            raise ValueError("it holds what is the machine's own, and a package's values are the same everywhere")
        data = thing.data if one.to is None else one.to
        if names_in(data):
            data = fill(data, self._filled)
        if thing.hive == "HKLM" and self._known(low, thing, str(data)):
            return
        key = self._key(thing.hive, thing.view, thing.key)
        if thing.hive == "HKLM" and low.startswith(_CLASSES):
            inner = thing.key[len(_CLASSES) :]
            self._classes.setdefault(inner.lower(), {})[thing.name.lower()] = str(data)
        kind = "dword" if isinstance(data, int) and thing.type not in ("dword", "qword") else thing.type or "sz"
        key.values.append(HiveValue(thing.name, _TYPES[kind], packed(kind, data)))
        self.promised.append(msgspec.structs.replace(thing, type=kind, data=data))

    def _filled(self, text: str) -> str:
        """A text with the settings that are built in. Raises ValueError where one of them has no value."""
        wanted = names_in(text)
        for name in sorted(wanted):
            if not self.values.get(name):
                raise ValueError(f"an app package has no settings, and {name} has no value: name a site with --site")
            self.notes.append(f"{name} is built in: {self.values[name]}")
        return fill_text(text, self.settings, self.values) if wanted else text

    def _known(self, key: str, thing: RegistryValue, data: str) -> bool:
        """Whether a value means something that the manifest declares instead."""
        if _RUN.match(key):
            program, arguments = self._command(data)
            if arguments:
                raise ValueError("a start-up task of a package gets no arguments")
            self.declared.append(AppDeclared("start", thing.name, program))
            self.promised.append(msgspec.structs.replace(thing, data=None))
            return True
        if found := _PATHS.match(key):
            if not thing.name:
                self.declared.append(AppDeclared("alias", found[1], self._command(data)[0]))
                self.promised.append(msgspec.structs.replace(thing, data=None))
            return True
        return bool(_FONT_NAMES.match(key)) and any(
            name.lower().endswith("/" + data.lower()) for name in self.files.values()
        )

    def _key(self, hive_name: str, view: str, key: str) -> HiveKey:
        """The key in one of the three hives. Raises ValueError where it would be seen by nobody."""
        low = key.lower()
        if hive_name not in ("HKLM", "HKCU"):
            raise ValueError(f"an app package has values of HKLM and HKCU, not of {hive_name}")
        if _WINDOWS.match(low):
            raise ValueError("the system would not see it: a package's values are seen by its own programs only")
        if hive_name == "HKCU":
            if low.startswith(_CLASSES):
                return self.classes.below(rf"{app_contents.USER}_Classes\{key[len(_CLASSES) :]}")
            return self.person.below(rf"{app_contents.USER}\{key}")
        if not low.startswith("software\\"):
            raise ValueError("an app package has values below Software only")
        rest = key[len("software\\") :]
        return self.machine.below(app_contents.MACHINE + ("\\WOW6432Node\\" if view == "32" else "\\") + rest)

    def _associations(self) -> None:
        """File types, protocols and servers that the classes tell of, whose program comes along."""
        for key, values in sorted(self._classes.items()):
            sort, name, more = "", key, {}
            command = self._classes.get(rf"{key}\shell\open\command", {}).get("", "")
            if "url protocol" in values and command:
                sort = "protocol"
            elif key.startswith(".") and "\\" not in key and (command := self._opens(values.get("", ""))):
                sort = "type"
            elif found := _SERVER.match(key):
                sort, name, command = "server", found[1].strip("{}"), values.get("", "")
                more = {"title": self._classes.get(rf"clsid\{found[1]}", {}).get("", "")}
            if sort:
                try:
                    program, arguments = self._command(command)
                except ValueError as error:  # it stays a value that only the package's own programs see
                    self.notes.append(f"{key} is not declared to the system: {error}")
                else:
                    self.declared.append(AppDeclared(sort, name, program, {"arguments": arguments, **more}))

    def _opens(self, sort: str) -> str:
        return self._classes.get(rf"{sort.lower()}\shell\open\command", {}).get("", "") if sort else ""

    def _command(self, line: str) -> tuple[str, str]:
        """The program of the package that a command line starts, and its arguments. Raises ValueError."""
        program, arguments = command_words(line)
        return self._program(program), arguments

    def _program(self, path: str) -> str:
        name = self.files.get(usual(path.lower())) or self.files.get(path.lower())
        if name is None:
            raise ValueError(f"its program {path} is none of the files that the plan brings")
        return name

    # --- what is started ----------------------------------------------------------------------------------------------

    def _shortcut(self, thing: Shortcut) -> None:
        target = (thing.target or "").lower()
        program = self._program(target)
        if not program.lower().endswith(".exe"):
            raise ValueError(f"it opens {thing.target}, and an app starts a program")
        name = re.sub(r"(?i)\.lnk$", "", thing.path.rpartition("\\")[2])
        start = AppStart(name, program, thing.arguments or "", thing.description or "")
        low = thing.path.lower()
        if low.startswith(_START + "\\"):
            if start.arguments:
                raise ValueError("a start-up task of a package gets no arguments")
            self.declared.append(AppDeclared("start", name, program))
        elif low.startswith(_MENU + "\\"):
            self.starts.append(start)
            self.promised.append(Shortcut(rf"{app_contents.MENU}\{name}.lnk", thing.target, start.arguments))
        elif low.startswith(_DESKTOP + "\\"):
            self.starts.append(msgspec.structs.replace(start, menu=False))
        else:
            raise ValueError("a shortcut of an app package stands in the start menu only")

    def _service(self, thing: Service, change: str) -> None:
        if change == "change":
            raise ValueError("a service that was there already is not changed by a package")
        program, arguments = self._command(thing.command or "")
        account = _ACCOUNTS.get((thing.account or "").lower().removeprefix(".\\"))
        if account is None:
            raise ValueError(f"a service of a package does not run as {thing.account}")
        if (thing.start or "demand") not in _START_TYPES:
            raise ValueError(f"a service of a package does not start at {thing.start}")
        more = {
            "title": thing.display_name or thing.name, "start": _START_TYPES[thing.start or "demand"],
            "account": account, "arguments": arguments, "needs": "\n".join(thing.depends_on or ()),
        }  # fmt: skip
        self.declared.append(AppDeclared("service", thing.name, program, more))
        self.promised.append(Service(thing.name, start=thing.start or "demand", depends_on=thing.depends_on or ()))


def _rank(order: tuple[type, ...], thing: Thing) -> int:
    return order.index(type(thing)) if type(thing) in order else len(order)


def packed(kind: str, data: object) -> bytes:
    """A value's data as a hive has it."""
    if kind == "dword":
        return struct.pack("<I", int(str(data or 0)) & 0xFFFFFFFF)
    if kind == "qword":
        return struct.pack("<Q", int(str(data or 0)) & 0xFFFFFFFFFFFFFFFF)
    if kind == "binary":
        return bytes.fromhex(str(data or ""))
    if kind == "multi":
        some = data if isinstance(data, tuple) else (str(data or ""),) if data else ()
        return "".join(f"{text}\0" for text in some).encode("utf-16-le", "surrogatepass") + b"\0\0"
    return (str("" if data is None else data) + "\0").encode("utf-16-le", "surrogatepass")


def hives(things: AppThings) -> dict[str, HiveKey]:
    """The hives that have anything, by their names in the package."""
    some = zip(app_contents.HIVES, (things.machine, things.person, things.classes), strict=True)
    return {name: root for name, root in some if root.keys}
