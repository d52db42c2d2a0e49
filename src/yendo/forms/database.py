"""What a plan brings, as the tables of a database: a component a file and a key, codes that the next version keeps,
features by part.

Source of each mapping: the Windows Installer's documentation of the table. docs/forms.md has the map.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from yendo import digest
from yendo.effects.capture import added_to, usual
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
)
from yendo.errors import Unreadable, Usage
from yendo.facts.versions import VersionRange
from yendo.formats.msi.database import TableCell
from yendo.formats.msi.schema import SUGGESTED
from yendo.forms.classes import ClassRows
from yendo.forms.places import (
    PUBLIC,
    Directories,
    Impossible,
    Row,
    code,
    command_words,
    escaped,
    file_name,
    key,
    least_build,
    property_of,
)
from yendo.installers.programs import icon_file
from yendo.plan import Plan
from yendo.steps.captured import Decided
from yendo.steps.rights import RightsStep, descriptor

Reach = Literal["log-on", "shortcut"]
LOG_ON: Reach = "log-on"
SHORTCUT: Reach = "shortcut"
MOST_COMPONENTS = 1600  # of a feature: what older Windows take
_STARTS = {"auto": 2, "demand": 3, "disabled": 4}
_WIDE, _BY_REGISTRY = 256, 4
_ACTIVE = r"Software\Microsoft\Active Setup\Installed Components"

_ACTIONS = (
    "FindRelatedProducts", "AppSearch", "LaunchConditions", "ValidateProductID", "CostInitialize", "FileCost",
    "CostFinalize", "MigrateFeatureStates", "InstallValidate", "InstallInitialize", "RemoveExistingProducts",
    "ProcessComponents", "UnpublishFeatures", "StopServices", "DeleteServices", "UnregisterClassInfo",
    "UnregisterExtensionInfo", "UnregisterProgIdInfo", "UnregisterMIMEInfo", "RemoveRegistryValues",
    "RemoveShortcuts", "RemoveEnvironmentStrings", "RemoveIniValues", "RemoveFiles", "RemoveFolders", "CreateFolders",
    "InstallFiles", "CreateShortcuts", "RegisterClassInfo", "RegisterExtensionInfo", "RegisterProgIdInfo",
    "RegisterMIMEInfo", "WriteRegistryValues", "WriteIniValues", "WriteEnvironmentStrings",
    "InstallServices", "RegisterUser", "RegisterProduct", "PublishFeatures", "PublishProduct", "InstallFinalize",
)  # fmt: skip
_AFTER_INITIALIZE = 1501  # an old product goes first, within the transaction: it comes back where the new one fails
SEQUENCE: tuple[Row, ...] = tuple(
    (
        name,
        "VersionNT" if "Service" in name else None,
        {"RemoveExistingProducts": _AFTER_INITIALIZE}.get(name, SUGGESTED[name]),
    )
    for name in _ACTIONS
)
_SCHEDULED = {  # which actions stand there only for which table
    "StopServices": "ServiceControl", "DeleteServices": "ServiceControl", "InstallServices": "ServiceInstall",
    "RemoveShortcuts": "Shortcut", "CreateShortcuts": "Shortcut", "RemoveIniValues": "IniFile",
    "WriteIniValues": "IniFile", "RemoveEnvironmentStrings": "Environment", "WriteEnvironmentStrings": "Environment",
    "AppSearch": "AppSearch", "CreateFolders": "CreateFolder", "RemoveFolders": "CreateFolder",
    "UnregisterClassInfo": "Class", "RegisterClassInfo": "Class", "UnregisterMIMEInfo": "MIME",
    "RegisterMIMEInfo": "MIME", "UnregisterExtensionInfo": "Extension", "RegisterExtensionInfo": "Extension",
    "UnregisterProgIdInfo": "ProgId", "RegisterProgIdInfo": "ProgId",
}  # fmt: skip


class FormFile(msgspec.Struct, frozen=True):
    """A file of the database: its key, the file of this computer that it is made of, and that one's hash."""

    key: str
    path: Path
    size: int
    sha256: str
    hashed: bool
    """Whether table MsiFileHash has it: a file without a version."""


class Composed(msgspec.Struct, frozen=True):
    """The tables, the files in the order of their sequence numbers, and the product's code.

    ``notes`` are what a person has to know of it.
    """

    tables: dict[str, list[Row]]
    contents: tuple[FormFile, ...]
    product: str
    version: str
    notes: tuple[str, ...]
    icons: dict[str, bytes] = {}
    """Pictures of advertised shortcuts, by their names in table Icon."""


def version_of(text: str) -> str:
    """A version that the Windows Installer can compare: three fields, at most 255.255.65535.

    A fourth field is folded into the third, which is then their number in base 1000; a year of four digits loses its
    century. Raises ValueError where the version has other parts than numbers, or they do not fit.
    """
    fields = [int(field) for field in re.findall(r"\d+", text)]
    if not re.fullmatch(r"\d+(\.\d+){0,3}", text):
        raise ValueError(f"the version {text!r} is not made of up to four numbers, and a database is compared by them")
    first, second, third, fourth = (*fields, 0, 0, 0)[:4]
    if 1900 <= first <= 2154:
        first -= 1900 if first < 2000 else 2000
    if len(fields) == 4:  # also where the last is 0: 1.2.4.0 comes after 1.2.3.4
        if fourth > 999 or third > 64:
            raise ValueError(f"the last two fields of {text} do not fit into the third of a database's version")
        third = third * 1000 + fourth
    if first > 255 or second > 255 or third > 65535:
        raise ValueError(f"the version {text} does not fit into 255.255.65535, which a database is compared by")
    return f"{first}.{second}.{third}"


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

    def file(self, one: Decided) -> None:
        thing = one.caught.effect.thing
        assert isinstance(thing, File)
        folder = self.places.of(parent(thing.path))
        if one.caught.effect.change == "remove":
            self.add("RemoveFile", key("R", thing.path), self._main(), file_name(_last(thing.path)), folder, 1)
            return
        source = self.base / (str(one.to) if one.to is not None else one.caught.content)
        name = key("F", thing.path)
        wide = 0 if self.places.is_narrow(folder) else _WIDE
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
        wide = 0 if self.places.is_narrow(folder) else _WIDE
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
            attributes = _BY_REGISTRY | (0 if thing.view == "32" else _WIDE)
            what = f"key {thing.hive}/{thing.view}\\{thing.key}"
            self.keys[which] = self.component(one.caught.part, what, self._home(), attributes, path)
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
        if one.caught.effect.change == "remove":
            self.add("RemoveFile", key("R", thing.path), self._main(), file_name(_last(thing.path)), folder, 1)
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

    def _home(self) -> str:
        """The folder of components that have none: the first of the program's own."""
        own = [name for name in self.places.rows if name.startswith("D")]
        return own[0] if own else self.places.of("%ProgramFiles%")


def _last(path: str) -> str:
    return path.rpartition("\\")[2]


def _text_of_place(path: str) -> str:
    """A path as formatted text: its place by the environment."""
    match = re.match(r"%([^%]+)%(.*)$", path)
    return f"[%{match[1]}]{escaped(match[2])}" if match else escaped(path)


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
        texts = list(data) if isinstance(data, tuple) else [str(data)]
        if len(texts) < 2 or any(not text for text in texts):
            raise ValueError("a list of fewer than two texts, or with an empty one, has no form in table Registry")
        return "[~]".join(escaped(text) for text in texts)
    if kind == "qword":
        raise ValueError("a number of 64 bits has no form in table Registry")
    text = escaped(str(data or ""))
    return (f"#{text}" if text.startswith("#") else text) or None


# --- the whole --------------------------------------------------------------------------------------------------------


def compose(
    plan: Plan,
    wanted: Sequence[Decided],
    base: Path,
    more: Callable[[Composer, str], None] | None = None,
    *,
    reach: Reach = LOG_ON,
) -> Composed:
    """The tables for what a plan brings. ``more`` adds rows, told the product's code; ``reach`` is how settings of
    people's own come to everybody. Raises Impossible, Usage.
    """
    try:
        version = version_of(plan.package.version)
    except ValueError as error:
        raise Usage(str(error)) from error
    made = Composer(plan, base)
    made.all(wanted)
    if made.wrong:
        raise Impossible("a database", made.wrong)
    if not made.main:
        raise Usage("the plan brings nothing that a database could hold")
    package = plan.package
    line, product = code(package.id, "line"), code(package.id, "product", package.version, str(package.revision))
    notes = []
    if made.own and reach == LOG_ON:
        _first_log_on(made, product, version)
        notes.append(
            "settings of people's own are written for whoever installs, and for everybody else at their next log-on, "
            "by repairing this product's values for them"
        )
    elif made.own and not made.tables.get("Shortcut"):
        raise Usage(
            "the plan keeps no shortcut, by whose start settings of people's own would come: use --reach log-on"
        )
    elif made.own:
        notes.append(
            "settings of people's own are written for whoever installs, and for everybody else when they first start "
            "the program by its shortcut; one who starts it otherwise does not have them"
        )
    if version != package.version:
        notes.append(f"the database's version is {version}: it has three fields; see docs/forms.md for the rule")
    _hashes(made)
    _empty_folders(made)
    _rights(made)
    feature_of = _features(made)
    if made.own and reach == SHORTCUT:
        _advertised(made, feature_of)
    _about(made, line, product, version)
    _sequences(made)
    if more is not None:
        more(made, product)
    return Composed(made.tables, tuple(made.contents), product, version, tuple(notes), made.icons)


def _hashes(made: Composer) -> None:
    """The files without a version, by which the Windows Installer tells whether they were changed."""
    hashed = [one for one in made.contents if one.hashed]
    some = [hashed[at : at + AT_ONCE] for at in range(0, len(hashed), AT_ONCE)]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for batch, found in zip(some, pool.map(_numbers, some), strict=True):
            for one, numbers in zip(batch, found, strict=True):
                made.add("MsiFileHash", one.key, 0, *numbers)


def _numbers(some: Sequence[FormFile]) -> list[tuple[int, int, int, int]]:
    return [digest.of_file_for_installer(one.path) for one in some]


AT_ONCE = 64  # files that one thread hashes before it is given more


def _first_log_on(made: Composer, product: str, version: str) -> None:
    """What Windows starts once for every person who logs on: it puts the missing values of that person in place.

    Source: the key Installed Components of Active Setup.
    """
    key_name = rf"{_ACTIVE}\{product}"
    component = made.component("install", f"first log-on {product}", made._home(), _BY_REGISTRY | _WIDE, "FirstLogOn")
    rows = (
        ("", made.plan.package.name),
        ("StubPath", f"msiexec.exe /fu {product} /qn"),
        ("Version", version.replace(".", ",")),
    )
    for number, (name, text) in enumerate(rows):
        row = "FirstLogOn" if name == "StubPath" else f"FirstLogOn{number}"
        made.add("Registry", row, 2, escaped(key_name), name or None, escaped(text), component)


def _empty_folders(made: Composer) -> None:
    """Every folder of the product's own is made by it, and goes with it where it is empty then; inner ones first."""
    own = {name: str(row[1]) for name, row in made.places.rows.items() if name.startswith("D")}

    def depth(name: str) -> int:
        return 1 + depth(own[name]) if name in own else 0

    made_already = {row[0] for row in made.tables.get("CreateFolder", [])}
    for name in sorted(own.keys() - made_already, key=lambda name: (-depth(name), name)):
        made.add("CreateFolder", name, made.main)


def _rights(made: Composer) -> None:
    """Rights on folders and files of the database. Raises Impossible for a place that is none of them."""
    wrong = []
    for step in made.plan.install:
        if not isinstance(step, RightsStep):
            continue
        place = usual(step.on.lower()).rstrip("\\")
        name, text = key("A", place, step.who), descriptor(step)
        if step.file and place in made.files:
            made.add("MsiLockPermissionsEx", name, made.files[place][1], "File", text, None)
        elif not step.file and (folder := made.places.known(place)):
            made.add("MsiLockPermissionsEx", name, folder, "CreateFolder", text, None)
        else:
            what = "file" if step.file else "folder"
            wrong.append((f"rights on {step.on}", f"it is no {what} that the database brings"))
    if wrong:
        raise Impossible("a database", wrong)


def _advertised(made: Composer, feature_of: Mapping[str, str]) -> None:
    """Shortcuts to the product's programs name a feature: the installer then looks whether its components are all
    there, those of the features above too, and mends what a person lacks.

    Source: the documentation of table Shortcut, column Target, and of advertised shortcuts.
    """
    programs = {one.key: one.path for one in made.contents}
    rows: list[Row] = []
    for row in made.tables["Shortcut"]:
        target, component = str(row[4]), str(row[3])
        if not target.startswith("[#"):
            rows.append(row)
            continue
        icon = made.icon(target[2:-1], programs[target[2:-1]])
        rows.append((*row[:4], feature_of[component], *row[5:8], icon, 0 if icon else None, *row[10:]))
    made.tables["Shortcut"] = rows


def _features(made: Composer) -> dict[str, str]:
    """A feature for the whole, and one below it for each part where there are several; the feature of a component.
    Settings of people's own are the whole's, so that the start of any part mends them.
    """
    made.add("Feature", "Complete", None, made.plan.package.name[:64], None, 1, 1, None, 0)
    of_people = {component for (hive, *_), component in made.keys.items() if hive == "HKCU"}
    feature_of: dict[str, str] = {}
    several = len(made.members) > 1 or any(len(some) > MOST_COMPONENTS for some in made.members.values())
    for number, (part, members) in enumerate(made.members.items(), 1):
        for at in range(0, len(members), MOST_COMPONENTS):
            name = f"Part{number}" + (f"_{at // MOST_COMPONENTS + 1}" if at else "")
            if several:
                made.add("Feature", name, "Complete", part[:64], None, 1, 1, None, 0)
            for member in members[at : at + MOST_COMPONENTS]:
                feature_of[member] = name if several and member not in of_people else "Complete"
                made.add("FeatureComponents", feature_of[member], member)
    for table, row in made.classes.of_features(feature_of) if made.classes else ():
        made.add(table, *row)
    return feature_of


def _about(made: Composer, line: str, product: str, version: str) -> None:
    package, plan = made.plan.package, made.plan
    made.tables["Property"] = [
        ("ProductCode", product),
        ("ProductName", package.name),
        ("ProductVersion", version),
        ("Manufacturer", package.publisher or package.name),
        ("ProductLanguage", "1033"),
        ("UpgradeCode", line),
        ("ALLUSERS", "1"),
        ("ARPNOMODIFY", "1"),
        ("INSTALLLEVEL", "1"),
    ]
    if package.contact:
        made.add("Property", "ARPCONTACT", package.contact)
    hidden = []
    for name, setting in plan.settings.items():
        if setting.default is not None:
            made.add("Property", property_of(name), setting.text_of(setting.default))
        if setting.secret:
            hidden.append(property_of(name))
    if hidden:
        made.add("Property", "MsiHiddenProperties", ";".join(hidden))
    made.tables["Upgrade"] = [
        (line, None, version, None, 1, None, "OLDERFOUND"),
        (line, version, None, None, 2, None, "NEWERFOUND"),
    ]
    made.add("LaunchCondition", "Installed OR NOT NEWERFOUND", "A newer version is installed already.")
    for name, setting in plan.settings.items():
        if setting.default is None:
            words = f"{property_of(name)} has no value: {setting.meaning}"
            made.add("LaunchCondition", f"Installed OR {property_of(name)}", escaped(words))
    _asked_of_windows(made)
    if PUBLIC in made.places.rows:
        made.add("CustomAction", "SetPublicFolder", 51, PUBLIC, "[%PUBLIC]")
    made.tables["Directory"] = list(made.places.rows.values())


def _asked_of_windows(made: Composer) -> None:
    """The build that the plan asks for, which the system's own property no longer tells."""
    asked = made.plan.when.os
    lowest = least_build(asked)
    if lowest:
        VersionRange.parse(str(asked))
        where = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion"
        made.add("AppSearch", "WINDOWSBUILD", "WindowsBuild")
        made.add("RegLocator", "WindowsBuild", 2, where, "CurrentBuild", 2 | 16)
        made.add(
            "LaunchCondition",
            f"Installed OR WINDOWSBUILD >= {lowest[1]}",
            f"It needs Windows 10.0.{lowest[1]} or later.",
        )
        secure = "WINDOWSBUILD"
    else:
        secure = ""
    names = [
        "OLDERFOUND",
        "NEWERFOUND",
        *(property_of(name) for name in made.plan.settings),
        *([secure] if secure else []),
    ]
    made.add("Property", "SecureCustomProperties", ";".join(names))


def _sequences(made: Composer) -> None:
    """Only the actions that have something to do, and those that every installation needs."""
    given = set(made.tables)
    there = given | ({"ServiceControl"} if "ServiceInstall" in given else set())
    there |= {"IniFile"} if "RemoveIniFile" in given else set()
    made.tables["InstallExecuteSequence"] = [
        row for row in SEQUENCE if _SCHEDULED.get(str(row[0]), "Property") in there
    ]
    made.tables["InstallUISequence"] = [
        *((name, None, SUGGESTED[name]) for name in ("FindRelatedProducts", "LaunchConditions", "CostInitialize")),
        *((name, None, SUGGESTED[name]) for name in ("FileCost", "CostFinalize", "ExecuteAction")),
        *([("AppSearch", None, SUGGESTED["AppSearch"])] if "AppSearch" in given else []),
    ]
    if PUBLIC in made.places.rows:
        for table in ("InstallExecuteSequence", "InstallUISequence"):
            made.tables[table].append(("SetPublicFolder", None, 750))
