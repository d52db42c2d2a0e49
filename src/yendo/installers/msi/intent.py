"""From what a packager wants different to the smallest transform that does it.

Every change is found in the base, turned into row edits, and held to what the base's columns and
code page can take; nothing is written while one of them has no target. What is added gets a
component of its own, whose identifier follows from what it is, so that the same addition to the
next version is the same component.
"""

from __future__ import annotations

import difflib
import hashlib
import re
import uuid
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from yendo import digest
from yendo.errors import Unreadable, YendoError
from yendo.formats import cab, pe
from yendo.formats.msi import Database
from yendo.formats.msi.database import TableCell, TableRow
from yendo.formats.msi.edit import DoesNotFit, Edits
from yendo.formats.msi.overlay import Overlay
from yendo.formats.msi.transform import HeldStream, RowKey, TableChange, Transform
from yendo.installers.msi.changes import noun
from yendo.installers.msi.fitting import facts, summary_for
from yendo.installers.msi.session import ROOTS, long_name, platform_of
from yendo.terms.changes import (
    DropChange,
    EnvironmentChange,
    FeatureChange,
    FileChange,
    PlannedChange,
    PropertyChange,
    RegistryChange,
    ServiceChange,
)

# Added files are numbered behind everything, and so is their medium: a patch numbers its own from where the
# vendor's files end, and of two media that could hold a file the first is taken.
FIRST_NUMBER, FIRST_DISK = 30_000, 29_000
MAX_ADDED = 256 << 20  # bytes of added files; more belongs beside the installer, in a copy step
_NAMESPACE = uuid.UUID("6d1f6f0c-9a0e-4d0b-8a55-3f3f9f2f6a43")
_ROOTS = {
    "HKCR": 0,
    "HKEY_CLASSES_ROOT": 0,
    "HKCU": 1,
    "HKEY_CURRENT_USER": 1,
    "HKLM": 2,
    "HKEY_LOCAL_MACHINE": 2,
    "HKU": 3,
    "HKEY_USERS": 3,
}
_STARTS = {"auto": 2, "demand": 3, "disabled": 4}
_DROPPED = {
    "shortcut": "Shortcut",
    "registry": "Registry",
    "file": "File",
    "service": "ServiceInstall",
    "environment": "Environment",
    "ini": "IniFile",
    "action": "InstallExecuteSequence",
    "component": "Component",
}
# Where a standard action belongs, if the base does not run it yet. Source: "Suggested InstallExecuteSequence".
_ACTIONS = {
    "RemoveRegistryValues": 2600,
    "RemoveEnvironmentStrings": 3300,
    "RemoveFiles": 3500,
    "InstallFiles": 4000,
    "WriteRegistryValues": 5000,
    "WriteEnvironmentStrings": 5200,
}


class IntentMisfit(msgspec.Struct, frozen=True):
    """A change that cannot be made: its position in the list (from 0), why, and what to do."""

    position: int
    message: str
    remedy: str


class IntentError(YendoError):
    """Some changes have no target or break a rule; nothing was written."""

    def __init__(self, misfits: Sequence[IntentMisfit]) -> None:
        super().__init__(
            "\n".join(f"change {misfit.position + 1}: {misfit.message}; {misfit.remedy}" for misfit in misfits)
        )
        self.misfits = tuple(misfits)


def transform_for(base: Database, changes: Sequence[PlannedChange], file: Callable[[str], Path]) -> Transform:
    """The transform that makes ``changes`` to ``base``. ``file`` finds what ``from`` names. Raises IntentError."""
    editor = _Editor(base, file)
    misfits = []
    for position, change in enumerate(changes):
        try:
            editor.make(change)
        except DoesNotFit as cannot:
            misfits.append(IntentMisfit(position, cannot.message, cannot.remedy))
    if misfits:
        raise IntentError(misfits)
    try:
        editor.finish()
    except DoesNotFit as cannot:
        raise IntentError([IntentMisfit(len(changes) - 1, cannot.message, cannot.remedy)]) from cannot
    return editor.transform()


class _Editor(Edits):
    """Turns changes into row edits."""

    def __init__(self, base: Database, file: Callable[[str], Path]) -> None:
        super().__init__(base)
        self.file = file
        self.added: list[tuple[str, bytes]] = []
        self.wide = platform_of(base.summary.template) != "x86"

    # --- finding -------------------------------------------------------------------------------

    def find(self, table: str, name: str, called: Callable[[TableRow], list[str]]) -> tuple[RowKey, TableRow]:
        """The row of this key or of this name, without regard to case. Raises DoesNotFit with what is near."""
        exact = self.row(table, name) if table in self.base else None
        if exact is not None:
            return (name,), exact
        folded = name.lower()
        names: dict[str, list[tuple[RowKey, TableRow]]] = {}
        for row in self.rows(table):
            key = self.key_of(table, row)
            for text in {*called(row), *([str(key[0])] if len(key) == 1 else [])}:
                names.setdefault(text.lower(), []).append((key, row))
        found = names.get(folded, [])
        if len(found) == 1:
            return found[0]
        if found:
            keys = ", ".join(str(key[0]) for key, _ in found)
            raise DoesNotFit(f"{len(found)} rows of {table} are called {name!r}", f"name one by its key: {keys}")
        near = [_as_written(word, names[word], called) for word in difflib.get_close_matches(folded, names, 3)]
        raise DoesNotFit(
            f"the installer has no {noun(table)} {name!r}",
            f"did you mean {' or '.join(near)}?" if near else f"see `yendo msi rows FILE {table}`",
        )

    def _uses(self, component: str) -> int:
        """How many things a component has."""
        count = 0
        for table in {*self.base.tables, *self.tables} - {
            "FeatureComponents",
            "Component",
            "ServiceControl",
            "MsiAssemblyName",
        }:
            if any(column.name == "Component_" for column in self.base.schema.get(table, [])):
                count += [owner for (owner,) in self.base[table].pick("Component_")].count(component)
            change = self.tables.get(table)
            if change:
                count -= sum(
                    row is not None and row.get("Component_") == component
                    for row in (self.base[table].find(*key) for key in change.deleted)
                )
                count += sum(
                    cells[at] == component
                    for at, column in enumerate(change.columns)
                    if column.name == "Component_"
                    for cells in change.inserted.values()
                )
        return count

    def let_go(self, table: str, key: RowKey, row: TableRow) -> None:
        """Takes a row out of the install without breaking its component."""
        component = row.text("Component_")
        owner = self.row("Component", component)
        if owner is None or owner.text("KeyPath") != key[0] or table not in ("File", "Registry", "ODBCDataSource"):
            self.delete(table, key)
            return
        if (
            self._uses(component) == 1
        ):  # the component stands for this thing alone: it is left out as a whole, and keeps its identity
            self.update("Component", (component,), Condition="0")
            return
        self.delete(table, key)
        self.update("Component", (component,), KeyPath=None, Attributes=owner.number("Attributes") & ~(4 | 32))

    # --- one change a method ---------------------------------------------------------------------

    def make(self, change: PlannedChange) -> None:
        match change:
            case DropChange():
                self.drop(change)
            case FeatureChange():
                self.feature(change)
            case PropertyChange():
                self.property(change)
            case RegistryChange():
                self.registry(change)
            case ServiceChange():
                self.service(change)
            case EnvironmentChange():
                self.environment(change)
            case FileChange():
                self.place(change)

    def drop(self, change: DropChange) -> None:
        table = _DROPPED[change.what]
        key, row = self.find(table, change.name, _CALLED[table])
        if table == "InstallExecuteSequence" and self.base["CustomAction"].find(key[0]) is None:
            raise DoesNotFit(
                f"{key[0]} is a standard action; without it the installer no longer does what its tables say",
                "drop the rows it acts on instead",
            )
        if table == "Component":  # everything in it stays out, and its identity is kept
            self.update("Component", key, Condition="0")
            return
        if table == "File":
            self._nothing_needs(str(key[0]), row.text("Component_"))
        if table == "ServiceInstall":
            for control in list(self.rows("ServiceControl", Name=row.text("Name"))):
                self.delete("ServiceControl", (control["ServiceControl"],))
        self.let_go(table, key, row)
        if (
            table == "File"
            and self.row("MsiFileHash", key[0]) is not None
            and key in self.tables.get("File", TableChange([])).deleted
        ):
            self.delete("MsiFileHash", key)

    def _nothing_needs(self, file: str, component: str) -> None:
        """Refuses to drop a file that something else of the installer points to."""
        whole = self._uses(component) == 1
        for row in self.rows("ServiceInstall", Component_=component):
            raise DoesNotFit(
                f"the service {row.text('Name')} runs {file}",
                'drop the service as well, before it: { kind = "drop", what = "service", ... }',
            )
        for row in self.rows("Shortcut"):
            if f"[#{file}]" in row.text("Target") or f"[!{file}]" in row.text("Target"):
                if whole and row.text("Component_") == component:
                    continue
                raise DoesNotFit(
                    f"the shortcut {long_name(row.text('Name'))} points to {file}",
                    "drop the shortcut as well, before it",
                )
        for row in self.rows("CustomAction", Source=file):
            if (
                row.number("Type") & 0x3F in (17, 18, 21, 22)
                and self.row("InstallExecuteSequence", row.text("Action")) is not None
            ):
                raise DoesNotFit(
                    f"the custom action {row.text('Action')} runs {file}", "drop the action as well, before it"
                )

    def feature(self, change: FeatureChange) -> None:
        key, row = self.find("Feature", change.name, lambda row: [row.text("Title")])
        if not change.install:
            self.update("Feature", key, Level=0)
            self._without_conditions(str(key[0]))
            return
        at: TableRow | None = row
        for _ in range(64):  # a feature needs those above it
            if at is None:
                return
            if not 0 < at.number("Level") <= 1:
                self.update("Feature", (at["Feature"],), Level=1)
            self._without_conditions(at.text("Feature"))
            at = self.row("Feature", at["Feature_Parent"]) if at["Feature_Parent"] else None

    def _without_conditions(self, feature: str) -> None:
        for row in list(self.rows("Condition", Feature_=feature)):
            self.delete("Condition", (row["Feature_"], row["Level"]))

    def property(self, change: PropertyChange) -> None:
        there = self.row("Property", change.name)
        if change.value is None or change.value == "":
            if there is None:
                raise DoesNotFit(
                    f"the installer has no property {change.name}",
                    f"see `yendo msi properties FILE`; near: {self._near(change.name)}",
                )
            self.delete("Property", (change.name,))
        elif there is None:
            self.insert("Property", Property=change.name, Value=str(change.value))
        else:
            self.update("Property", (change.name,), Value=str(change.value))

    def _near(self, name: str) -> str:
        return (
            ", ".join(difflib.get_close_matches(name, [row.text("Property") for row in self.base["Property"]], 3))
            or "none"
        )

    def registry(self, change: RegistryChange) -> None:
        hive, _, key = change.key.partition("\\")
        root = _ROOTS.get(hive.upper())
        if root is None or not key:
            raise DoesNotFit(
                f"the key {change.key!r} begins with none of HKLM, HKCU, HKCR, HKU", "write HKLM\\Software\\..."
            )
        value = _registry_text(change)
        for row in self.rows("Registry"):
            same = row.get("Root") == root and row.text("Key").strip("\\").lower() == key.strip("\\").lower()
            if same and row.text("Name").lower() == change.name.lower():
                self.update("Registry", (row["Registry"],), Value=value)
                return
        name = _tag(f"{hive}\\{key}!{change.name}")
        component = self._component(name, change.feature, key_path=name, attributes=4)
        self.insert(
            "Registry", Registry=name, Root=root, Key=key, Name=change.name or None, Value=value, Component_=component
        )
        self._runs("WriteRegistryValues", "RemoveRegistryValues")

    def service(self, change: ServiceChange) -> None:
        key, row = self.find("ServiceInstall", change.name, _CALLED["ServiceInstall"])
        self.update("ServiceInstall", key, StartType=_STARTS[change.start])
        if change.start == "disabled":  # starting it would fail, and the installation with it
            for control in list(self.rows("ServiceControl", Name=row.text("Name"))):
                event = control.number("Event") & ~0x11
                if event:
                    self.update("ServiceControl", (control["ServiceControl"],), Event=event)
                else:
                    self.delete("ServiceControl", (control["ServiceControl"],))

    def environment(self, change: EnvironmentChange) -> None:
        for row in self.rows("Environment"):
            if row.text("Name").lstrip("=+-!*").lower() == change.name.lower():
                self.update("Environment", (row["Environment"],), Value=change.value)
                return
        name = _tag(f"environment {change.name}")
        component = self._component(name, change.feature, key_path=None, attributes=0)
        self.insert("Environment", Environment=name, Name=f"=-*{change.name}", Value=change.value, Component_=component)
        self._runs("WriteEnvironmentStrings", "RemoveEnvironmentStrings")

    def place(self, change: FileChange) -> None:
        path = self.file(change.source)
        data = self._bytes(path)
        folder, _, rest = change.to[1:].partition("]")
        parts = [part for part in rest.replace("/", "\\").split("\\") if part]
        if rest.endswith(("\\", "/")) or not parts:
            parts.append(path.name)
        if any(part in (".", "..") or re.search(r'[<>:"|?*\x00-\x1f]', part) for part in parts):
            raise DoesNotFit(f"{change.to!r} is no place for a file", "write [INSTALLDIR]folder\\name")
        directory = self._directory(folder, parts[:-1])
        version = None
        if path.suffix.lower() in (".exe", ".dll", ".sys", ".ocx"):
            try:
                version = pe.read(path).version
            except Unreadable:
                version = None
        there = self._file_in(directory, parts[-1])
        if there is None:
            name = _tag(f"file {folder} {rest.lower()}")
            component = self._component(name, change.feature, key_path=name, attributes=0, directory=directory)
            short = _short(parts[-1], name)
            file_name = parts[-1] if short == parts[-1] else f"{short}|{parts[-1]}"
            self.insert(
                "File",
                File=name,
                Component_=component,
                FileName=file_name,
                FileSize=len(data),
                Version=version,
                Attributes=512,
                Sequence=0,
            )
            self._runs("InstallFiles", "RemoveFiles")
        else:
            name = there
            self.update("File", (name,), FileSize=len(data), Version=version)
        if version is None:
            hashed = {f"HashPart{at}": part for at, part in enumerate(digest.of_installer(data), 1)}
            if self.row("MsiFileHash", name) is not None:
                self.update("MsiFileHash", (name,), **hashed)
            else:
                self.insert("MsiFileHash", File_=name, Options=0, **hashed)
        self.added = [entry for entry in self.added if entry[0] != name] + [(name, data)]

    def _bytes(self, path: Path) -> bytes:
        if not path.is_file():
            raise DoesNotFit(f"{path.name} is not there", "put it below extras/")
        size = path.stat().st_size + sum(len(data) for _, data in self.added)
        if size > MAX_ADDED:
            raise DoesNotFit(
                f"the added files have {size} bytes, a transform carries up to {MAX_ADDED}",
                "place large files by a copy step",
            )
        return path.read_bytes()

    def _directory(self, folder: str, parts: list[str]) -> str:
        if self.row("Directory", folder) is None:
            near = difflib.get_close_matches(folder, [row.text("Directory") for row in self.rows("Directory")], 3)
            raise DoesNotFit(
                f"the installer has no folder {folder}",
                f"did you mean {' or '.join(near)}?" if near else "see `yendo msi rows FILE Directory`",
            )
        for part in parts:
            found = next(
                (
                    row.text("Directory")
                    for row in self.rows("Directory", Directory_Parent=folder)
                    if long_name(row.text("DefaultDir").partition(":")[0]).lower() == part.lower()
                ),
                None,
            )
            if found is None:
                found = _tag(f"folder {folder} {part.lower()}")
                short = _short(part, found)
                self.insert(
                    "Directory",
                    Directory=found,
                    Directory_Parent=folder,
                    DefaultDir=part if short == part else f"{short}|{part}",
                )
            folder = found
        return folder

    def _file_in(self, directory: str, name: str) -> str | None:
        here = {name for name, folder in self.base["Component"].pick("Component", "Directory_") if folder == directory}
        for change in filter(None, [self.tables.get("Component")]):
            at = [column.name for column in change.columns].index("Directory_")
            here |= {str(key[0]) for key, cells in change.inserted.items() if cells[at] == directory}
        folded = name.lower()
        for file, component, named in self.base["File"].pick("File", "Component_", "FileName"):
            if component in here and long_name(named).lower() == folded and self.row("File", file) is not None:
                return str(file)
        added = [self.row("File", *key) for key in self.tables["File"].inserted] if "File" in self.tables else []
        return next(
            (
                row.text("File")
                for row in added
                if row and row.text("Component_") in here and long_name(row.text("FileName")).lower() == folded
            ),
            None,
        )

    # --- what an addition needs beside its row -----------------------------------------------------

    def _component(
        self, name: str, feature: str | None, *, key_path: str | None, attributes: int, directory: str | None = None
    ) -> str:
        features = self.rows("Feature")
        if feature:
            owner: TableCell = self.find("Feature", feature, lambda row: [row.text("Title")])[0][0]
        else:
            said = self.row("Property", "INSTALLLEVEL")
            level = int(said.text("Value")) if said is not None and said.text("Value").isdigit() else 1
            usual = [row for row in features if not row["Feature_Parent"] and 0 < row.number("Level") <= level]
            if not usual:
                raise DoesNotFit(
                    "no feature is installed by default, so an addition would never come",
                    'say which one brings it: feature = "..."',
                )
            owner = usual[0]["Feature"]
        if directory is None:
            components = {
                component
                for feature_, component in self.base["FeatureComponents"].pick("Feature_", "Component_")
                if feature_ == owner
            }
            folders = (
                folder
                for name_, folder in self.base["Component"].pick("Component", "Directory_")
                if name_ in components
            )
            directory = next(folders, "TARGETDIR")
        identity = f"{facts(self.base).get('UpgradeCode', facts(self.base).get('ProductCode', ''))} {name}"
        code = "{" + str(uuid.uuid5(_NAMESPACE, identity)).upper() + "}"
        attributes |= 256 if self.wide else 0
        self.insert(
            "Component", Component=name, ComponentId=code, Directory_=directory, Attributes=attributes, KeyPath=key_path
        )
        self.insert("FeatureComponents", Feature_=owner, Component_=name)
        return name

    def _runs(self, *actions: str) -> None:
        """Makes sure that the silent sequence runs what carries out the rows that were added."""
        for action in actions:
            if self.row("InstallExecuteSequence", action) is None:
                self.insert("InstallExecuteSequence", Action=action, Sequence=_ACTIONS[action])

    def finish(self) -> None:
        """Gives added files their medium."""
        if not self.added:
            return
        rows = list(self.base["Media"])
        numbers = [number for (number,) in self.base["File"].pick("Sequence") if isinstance(number, int)]
        first = max([row.number("LastSequence") for row in rows] + numbers + [0])
        limit = (
            0x7FFFFFFF if any(c.name == "Sequence" and c.width == 4 for c in self.change("File").columns) else 0x7FFF
        )
        if first + len(self.added) > limit:
            raise DoesNotFit(
                f"the installer's files are numbered up to {first} already, and its column ends at {limit}",
                "place the files by a copy step",
            )
        cabinet = next(
            name for name in (f"added{number}.cab" for number in range(1, 1000)) if self.base.stream(name) is None
        )
        if max(first, FIRST_NUMBER) + len(self.added) <= limit:
            first = max(first, FIRST_NUMBER)
        for at, (name, _) in enumerate(self.added, first + 1):
            flags = self.row("File", name)
            self.update(
                "File",
                (name,),
                Sequence=at,
                Attributes=((flags.number("Attributes") if flags else 512) & ~0x2000) | 0x4000,
            )
        disk = max([row.number("DiskId") for row in rows] + [FIRST_DISK - 1]) + 1
        self.insert("Media", DiskId=disk, LastSequence=first + len(self.added), Cabinet=f"#{cabinet}")
        self.cabinet = (cabinet, cab.build(self.added))

    cabinet: tuple[str, bytes] | None = None

    def transform(self) -> Transform:
        tables = {name: change for name, change in self.tables.items() if change}
        streams = {self.cabinet[0]: HeldStream(self.cabinet[1])} if self.cabinet else {}
        found = Transform(tables, streams, code_page=self.base.code_page)
        own = {"Property": self.tables["Property"]} if "Property" in tables else {}
        found.summary = summary_for(self.base, Overlay(self.base, [Transform(own)]))
        return found


def _as_written(folded: str, found: list[tuple[RowKey, TableRow]], called: Callable[[TableRow], list[str]]) -> str:
    key, row = found[0]
    return next((text for text in (*called(row), str(key[0])) if text.lower() == folded), folded)


def _registry_names(row: TableRow) -> list[str]:
    hive = ROOTS.get(row.number("Root"), "HKLM")
    return [f"{hive}\\{row.text('Key')}\\{row.text('Name')}".rstrip("\\")]


_CALLED: dict[str, Callable[[TableRow], list[str]]] = {
    "Shortcut": lambda row: [long_name(row.text("Name")), f"{row.text('Directory_')}\\{long_name(row.text('Name'))}"],
    "Registry": _registry_names,
    "File": lambda row: [long_name(row.text("FileName"))],
    "ServiceInstall": lambda row: [row.text("Name"), row.text("DisplayName")],
    "Environment": lambda row: [row.text("Name").lstrip("=+-!*")],
    "IniFile": lambda row: [f"{long_name(row.text('FileName'))}|{row.text('Section')}|{row.text('Key')}"],
    "InstallExecuteSequence": lambda row: [],
    "Component": lambda row: [],
}


def _registry_text(change: RegistryChange) -> str:
    """A value in the notation of the Registry table. Raises DoesNotFit where it does not fit its type."""
    value = change.value
    kind = change.type or ("dword" if isinstance(value, int) else "multi" if isinstance(value, tuple) else "sz")
    try:
        if kind == "dword":
            if re.fullmatch(r"\[[A-Z_][A-Z0-9_.]*\]", str(value)):
                return f"#{value}"  # a property, of which the installer takes the number
            return f"#{int(str(value), 0)}"
        if kind == "binary":
            return "#x" + bytes.fromhex(str(value)).hex()
    except ValueError:
        raise DoesNotFit(
            f"{value!r} is no {kind}", "write a number for dword, pairs of hex digits for binary"
        ) from None
    if kind == "multi":
        return (
            "[~]".join(value)
            if isinstance(value, tuple) and len(value) > 1
            else f"[~]{value[0] if isinstance(value, tuple) else value}[~]"
        )
    if isinstance(value, tuple):
        raise DoesNotFit(f"a list is no {kind}", 'write type = "multi"')
    if kind == "expand":
        return f"#%{value}"
    return f"#{value}" if str(value).startswith("#") else str(value)


def _tag(identity: str) -> str:
    """A key for an added row, the same for the same thing."""
    return "Added_" + hashlib.sha256(identity.lower().encode()).hexdigest()[:12]


def _short(name: str, tag: str) -> str:
    """The 8.3 half of a name, made from the tag where the name itself is none."""
    if re.fullmatch(r"[A-Za-z0-9_-]{1,8}(\.[A-Za-z0-9_-]{1,3})?", name):
        return name
    extension = re.sub(r"[^A-Za-z0-9]", "", Path(name).suffix)[:3].upper()
    return f"{tag[-6:].upper()}~1" + (f".{extension}" if extension else "")
