"""What each thing of a plan becomes in a database: rows of its tables, a component a file and a key.

Source of each mapping: the Windows Installer's documentation of the table. docs/forms.md has the map.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects.things import (
    Environment,
    File,
    Folder,
    IniValue,
    RegistryKey,
    RegistryValue,
    Service,
    Shortcut,
    UninstallEntry,
    label,
    parent,
)  # fmt: skip
from yendo.errors import Unreadable
from yendo.formats.msi.database import TableCell
from yendo.forms.classes import ClassRows
from yendo.forms.places import Directories, Row, code, command_words, escaped, file_name, key
from yendo.installers.programs import icon_file
from yendo.plan import Plan
from yendo.platforms.windows.capture_record import added_to, usual
from yendo.steps.captured import Decided

_STARTS = {"auto": 2, "demand": 3, "disabled": 4}
WIDE, BY_REGISTRY = 256, 4  # attributes of a component


class FormFile(msgspec.Struct, frozen=True):
    """A file of the database: its key, the file of this computer that it is made of, and that one's hash."""

    key: str
    path: Path
    size: int
    sha256: str
    hashed: bool
    """Whether table MsiFileHash has it: a file without a version."""


class Composer:
    """Collects rows; every thing of the plan adds its own."""

    def __init__(self, plan: Plan, base: Path) -> None:
        self.plan, self.base = plan, base
        self.places = Directories()
        self.tables: dict[str, list[Row]] = {}
        self.contents: list[FormFile] = []
        self.members: dict[str, list[str]] = {}  # the components of a part, in their order
        self.main = ""
        self.wrong: list[tuple[str, str]] = []
        self.files: dict[str, tuple[str, str]] = {}  # the component and key of a file, by its placed path
        self.keys: dict[tuple[str, str, str], str] = {}
        self.own = False
        self.views: dict[str, str] = {}  # the registry that a component with a file writes to
        self.classes: ClassRows | None = None
        self.icons: dict[str, bytes] = {}

    def add(self, table: str, *row: TableCell) -> None:
        self.tables.setdefault(table, []).append(row)

    def component(self, part: str, what: str, folder: str, attributes: int, path: str | None) -> str:
        """A component, by what it is; the same thing has the same code in every version."""
        name = key("C", what)
        self.add("Component", name, code(self.plan.package.id, what), folder, attributes, None, path)
        self.members.setdefault(part, []).append(name)
        self.main = self.main or name
        return name

    # --- each kind --------------------------------------------------------------------------------------------------

    def all(self, wanted: Iterable[Decided]) -> None:
        """Everything that is kept; what cannot be held is gathered. Files come first, others refer to them."""
        order = (File, Folder, RegistryValue, RegistryKey, Service, Environment, IniValue, Shortcut)
        ways: dict[type, Callable[[Decided], None]] = {
            File: self.file, Folder: self.folder, RegistryValue: self.value, RegistryKey: self.registry_key,
            Service: self.service, Environment: self.variable, IniValue: self.entry, Shortcut: self.shortcut,
        }  # fmt: skip
        ranked = sorted(
            (one for one in wanted if not isinstance(one.caught.effect.thing, UninstallEntry)),
            key=lambda one: (
                order.index(type(one.caught.effect.thing)) if type(one.caught.effect.thing) in ways else 99,
                one.caught.effect.change == "remove",
                one.caught.effect.thing.identity,
            ),
        )
        for one in ranked:
            if self.classes is None and not isinstance(one.caught.effect.thing, File):
                self.classes = ClassRows(ranked, self.files, self.views)
                for table, row in self.classes.rows:
                    self.add(table, *row)
            if self.classes is not None and id(one) in self.classes.taken:
                continue
            way = ways.get(type(one.caught.effect.thing))
            try:
                if way is None:
                    raise ValueError(f"no table holds what is of the kind {one.caught.effect.kind}")
                way(one)
            except ValueError as error:
                self.wrong.append((label(one.caught.effect.thing), str(error)))

    def removed(self, one: Decided, path: str, folder: str) -> bool:
        """Whether a file or shortcut goes, and then its row."""
        if one.caught.effect.change != "remove":
            return False
        self.add("RemoveFile", key("R", path), self._main(), file_name(_last(path)), folder, 1)
        return True

    def file(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, File)
        folder = self.places.of(parent(thing.path))
        if self.removed(one, thing.path, folder):
            return
        source = self.base / (str(one.to) if one.to is not None else one.caught.content)
        name = key("F", thing.path)
        wide = 0 if self.places.is_narrow(folder) else WIDE
        component = self.component(one.caught.part, f"file {thing.path}", folder, wide, name)
        version = (
            thing.version
            if one.to is None and thing.version and re.fullmatch(r"\d+(\.\d+){0,3}", thing.version)
            else None
        )
        number, size = len(self.contents) + 1, source.stat().st_size
        self.add("File", name, component, file_name(_last(thing.path)), size, version, None, 512, number)
        sha256 = thing.sha256 if one.to is None and thing.sha256 else digest.of_file(source)
        self.contents.append(FormFile(name, source, size, sha256, version is None and size > 0))
        self.files[thing.path.lower()] = component, name
        self.views[component] = "64" if wide else "32"

    def folder(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, Folder)
        if one.caught.effect.change == "remove":
            raise ValueError("no table takes away a folder that was there before")
        folder, head = self.places.of(thing.path), thing.path.lower() + "\\"
        if not folder.startswith("D") or any(path.startswith(head) for path in self.files):
            return  # a folder of the system's, or one that comes with its files
        wide = 0 if self.places.is_narrow(folder) else WIDE
        component = self.component(one.caught.part, f"folder {thing.path}", folder, wide, None)
        self.add("CreateFolder", folder, component)

    def value(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, RegistryValue)
        root = {"HKLM": 2, "HKCU": 1}.get(thing.hive)
        if root is None:
            raise ValueError(f"a database writes to HKLM and HKCU, not to {thing.hive}")
        name = key("V", thing.identity)
        if one.caught.effect.change == "remove":
            self.add("RemoveRegistry", name, root, thing.key, thing.name or None, self._of_key(one, thing, None))
            return
        text = _registry_text(thing, one)
        component = self._of_key(one, thing, name)
        self.add("Registry", name, root, thing.key, thing.name or None, text, component)
        self.own = self.own or root == 1

    def registry_key(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, RegistryKey)
        root = {"HKLM": 2, "HKCU": 1}.get(thing.hive)
        if root is None or one.caught.effect.change == "remove":
            raise ValueError("no table does that to a key")
        name = key("V", thing.identity)
        component = self._of_key(one, RegistryValue(thing.hive, thing.key, "", view=thing.view), name)
        self.add("Registry", name, root, thing.key, "+", None, component)

    def _of_key(self, one: Decided, thing: RegistryValue, path: str | None) -> str:
        """The component of a registry key; its first value is the component's key path."""
        which = (thing.hive, thing.view, thing.key.lower())
        if which not in self.keys:
            if path is None:
                return self._main()
            attributes = BY_REGISTRY | (0 if thing.view == "32" else WIDE)
            what = f"key {thing.hive}/{thing.view}\\{thing.key}"
            self.keys[which] = self.component(one.caught.part, what, self.home(), attributes, path)
        return self.keys[which]

    def service(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, Service)
        if one.caught.effect.change == "remove":
            self.add("ServiceControl", key("S", thing.name), thing.name, 1 | 2 | 8, None, 1, self._main())
            return
        if one.caught.effect.change == "change":
            raise ValueError("a service that was there already is not changed by a table")
        program, arguments = command_words(thing.command or "")
        found = self.files.get(usual(program.lower()))
        if found is None:
            raise ValueError(f"its program {program} is none of the files that the plan brings")
        needs = "".join(f"{name}[~]" for name in thing.depends_on or ())
        self.add(
            "ServiceInstall", key("S", thing.name), thing.name, thing.display_name, 16,
            _STARTS.get(thing.start or "demand", 3), 1, None, f"{needs}[~]" if needs else None,
            None if (thing.account or "LocalSystem").lower() == "localsystem" else thing.account, None,
            escaped(arguments) or None, found[0], None,
        )  # fmt: skip
        self.add("ServiceControl", key("S", thing.name), thing.name, 2 | 32 | 128, None, 1, found[0])

    def variable(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, Environment)
        scope = "*" if thing.scope == "machine" else ""
        if one.caught.effect.change == "remove":
            self.add("Environment", key("E", thing.identity), f"!-{scope}{thing.name}", None, self._main())
            return
        texts = [f"[~];{escaped(entry)}" for entry in added_to(one.caught)] or [escaped(thing.value or "")]
        for number, text in enumerate(texts):
            name = key("E", thing.identity, str(number))
            self.add("Environment", name, f"=-{scope}{thing.name}", text, self._main())

    def entry(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, IniValue)
        folder = self.places.of(parent(thing.path))
        name, row = key("I", thing.identity), (file_name(_last(thing.path)), folder, thing.section, thing.key)
        component = self.files.get(thing.path.lower(), (self._main(), ""))[0]
        if one.caught.effect.change == "remove":
            self.add("RemoveIniFile", name, *row, None, 2, component)
            return
        text = str(one.to) if one.to is not None else thing.value or ""
        if not text:
            raise ValueError("an empty entry has no value that a table could hold")
        self.add("IniFile", name, *row, escaped(text), 0, component)

    def shortcut(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, Shortcut)
        folder = self.places.of(parent(thing.path))
        if self.removed(one, thing.path, folder):
            return
        found = self.files.get((thing.target or "").lower())
        target = f"[#{found[1]}]" if found else _text_of_place(thing.target or "")
        working = self.places.of(thing.working_folder) if thing.working_folder else None
        name = re.sub(r"(?i)\.lnk$", "", _last(thing.path))
        self.add(
            "Shortcut", key("L", thing.path), folder, file_name(name), found[0] if found else self._main(), target,
            escaped(thing.arguments or "") or None, thing.description or None, None, None, None, None, working,
        )  # fmt: skip

    def icon(self, name: str, program: Path) -> str | None:
        """The key of a program's icon in table Icon; none where it has no icon. A shortcut that names a feature shows
        nothing of its program's, and the key has to end as the program does.
        """
        key_name = f"{name}{program.suffix.lower() or '.exe'}"
        if key_name not in self.icons:
            try:
                self.icons[key_name] = icon_file(program)
            except Unreadable:
                return None
            self.add("Icon", key_name, 1)
        return key_name

    def _main(self) -> str:
        """The component of what belongs to the whole. Raises ValueError where there is none."""
        if not self.main:
            raise ValueError("it needs a file, a folder or a value of the plan beside it, and there is none")
        return self.main

    def home(self) -> str:
        """The folder of components that have none: the first of the program's own."""
        own = [name for name in self.places.rows if name.startswith("D")]
        return own[0] if own else self.places.of("%ProgramFiles%")


def _last(path: str) -> str:
    return path.rpartition("\\")[2]


def _text_of_place(path: str) -> str:
    """A path as formatted text: its place by the environment."""
    match = re.match(r"%([^%]+)%(.*)$", path)
    return f"[%{match[1]}]{escaped(match[2])}" if match else escaped(path)


def _several_texts(texts: Sequence[str]) -> str:
    """A list of texts as table Registry writes it. Raises ValueError where it cannot."""
    if len(texts) < 2 or any(not text for text in texts):
        raise ValueError("a list of fewer than two texts, or with an empty one, has no form in table Registry")
    return "[~]".join(escaped(text) for text in texts)


def _registry_text(thing: RegistryValue, one: Decided) -> str | None:
    """A value as table Registry writes it. Raises ValueError where it cannot."""
    data = one.to if one.to is not None else thing.data
    bound = one.caught.bound
    if one.to is None and bound is not None and bound.data is not None:
        return re.sub(r"%COMPUTERNAME%", "[%COMPUTERNAME]", escaped(str(bound.data)))
    kind = "dword" if isinstance(data, int) and thing.type not in ("dword", "qword") else thing.type
    if kind == "dword":
        return f"#{escaped(str(data))}"
    if kind == "binary":
        return f"#x{data}".upper().replace("#X", "#x")
    if kind == "expand":
        return f"#%{escaped(str(data or ''))}"
    if kind == "multi":
        return _several_texts(list(data) if isinstance(data, tuple) else [str(data)])
    if kind == "qword":
        raise ValueError("a number of 64 bits has no form in table Registry")
    text = escaped(str(data or ""))
    return (f"#{text}" if text.startswith("#") else text) or None
