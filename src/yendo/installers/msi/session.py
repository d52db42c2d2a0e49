"""One run of a database: its properties, folders, features and components, resolved.

The same session predicts effects and serves the simulated machine. Source for every rule not
named otherwise: the Windows Installer's documentation of the table or property concerned.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any

import msgspec

from yendo.effects import Effect, State
from yendo.effects.things import Thing, View
from yendo.errors import Unreadable
from yendo.evidence import BlindSpot, Evidence, row
from yendo.facts import conditions
from yendo.formats.msi import Database, TableRow
from yendo.installers.account import Wanted
from yendo.platforms.windows import systems
from yendo.platforms.windows.surroundings import Surroundings, for_everyone
from yendo.terms.rules import RegistryRule, Rule

ABSENT, LOCAL, ADVERTISED, UNKNOWN = 2, 3, 1, -1
MAX_DEPTH = 64
ROOTS = {0: "HKCR", 1: "HKCU", 2: "HKLM", 3: "HKU"}  # of the registry, as tables number them
MAX_TEXT = 1 << 16
_SET_ASIDE = 0xF0000  # private characters that stand for escaped ones while a text is resolved


class Memory(msgspec.Struct, frozen=True):
    """What the installer keeps on a machine about a product it has installed."""

    code: str
    name: str
    version: str
    language: int
    upgrade_code: str
    per_machine: bool
    package: str
    package_code: str
    folders: dict[str, str]
    features: dict[str, int]
    components: dict[str, str]  # component -> its identifier, for those that are installed
    key_paths: dict[str, str] = {}  # component -> the file or folder that stands for it
    created: frozenset[str] = frozenset()  # folders that it made, in lower case


class ActionFailure(Exception):
    """The run stops with an exit code; the message goes to the log."""

    def __init__(self, code: int, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


def long_name(text: str | None) -> str:
    """The long half of ``SHORT~1|long name``."""
    return (text or "").rpartition("|")[2]


def platform_of(template: str | None) -> str:
    """``x64``, ``x86``, ``arm64`` or ``ia64``, from the summary's template ("x64;1033")."""
    name = (template or "").partition(";")[0].split(",")[0].strip().lower()
    return {"x64": "x64", "amd64": "x64", "intel64": "ia64", "arm64": "arm64", "arm": "arm"}.get(name, "x86")


def _wanted(rule: Rule, value: str, condition: str) -> Wanted:
    """What a search finds, with a value for which the condition holds."""
    if not isinstance(rule, RegistryRule) or rule.equals is not None:
        return Wanted(rule, rule)
    least = ">" in condition
    if value.startswith("#"):
        number = int(value[1:])
        known = msgspec.structs.replace(rule, **({"number": f">={number}"} if least else {"equals": number}))
        return Wanted(known, known)
    if value == "1" and f'"{value}"' not in condition:
        return Wanted(rule, msgspec.structs.replace(rule, equals="1"))
    versioned = least and re.fullmatch(r"\d+(\.\d+){1,3}", value)
    known = msgspec.structs.replace(rule, **({"version": f">={value}"} if versioned else {"equals": value}))
    return Wanted(known, known)


def _no_circles(parents: Mapping[str, str]) -> None:
    """Raises ActionFailure where a feature is above itself."""
    for name in parents:
        seen, at = set(), name
        while at:
            if at in seen:
                raise ActionFailure(1603, f"Feature table: {name} is its own parent")
            seen.add(at)
            at = parents.get(at, "")


class InstallSession:
    """Everything an action asks for. Effects are recorded in ``effects`` and already done in ``state``."""

    def __init__(
        self,
        database: Database,
        surroundings: Surroundings,
        state: State,
        given: Mapping[str, str],
        *,
        installed: Memory | None = None,
        others: Mapping[str, Memory] | None = None,
        package: str = r"C:\package\installer.msi",
        nesting: int = 0,
        contents: Mapping[str, bytes] | None = None,
    ) -> None:
        self.database, self.surroundings, self.state = database, surroundings, state
        self.installed, self.others, self.package = installed, dict(others or {}), package
        self.contents = contents or {}
        self.effects: list[Effect] = []
        self.more_than_adds = False  # a thing was changed or removed, so effects may have to be brought together
        self.blind: list[BlindSpot] = []
        self.unknown: dict[str, str] = {}  # properties whose searches nobody could answer, and what was asked
        self.absent: dict[str, Rule] = {}  # properties whose searches found nothing, and what would have been found
        self.wanting: list[Wanted] = []  # without which the installer does not go on
        self.log: list[str] = []
        self.steps: list[Any] = []  # of the sequence, as the engine tells them
        self.restart: str | None = None
        self.nesting = nesting
        self.published = False
        self.created: set[str] = set(installed.created) if installed else set()
        self.open_package: Callable[[Memory], Database | None] = lambda memory: None
        self.remove_other: Callable[[Memory], None] = lambda memory: None
        self.removed_products: list[str] = []
        self.isolated: list[tuple[str, str]] = []  # shared component, and that of the program that gets its own copy
        self.given = dict(given)
        self.platform = platform_of(database.summary.template)
        self.properties = self._first_properties()
        self.directories: dict[str, str] = {}
        self.features: dict[str, int] = {}
        self.components: dict[str, int] = {}
        self.kept: set[str] = set()  # components that are there and that this run does not touch
        self.costed = False

    # --- recording ---------------------------------------------------------------------------

    def put(self, thing: Thing, evidence: Evidence, key: tuple[str, str] | None = None) -> None:
        """The thing exists from now on. ``key`` is what identifies it, where the caller has it at hand."""
        before = self.state.put(key, thing) if key else self.state.add(thing)
        if before is None:
            self.effects.append(Effect("add", thing, "predicted", evidence))
        elif before != thing:
            self.more_than_adds = True
            self.effects.append(Effect("change", thing, "predicted", evidence))

    def drop(self, kind: str, identity: str, evidence: Evidence) -> bool:
        """The thing is gone from now on; False where it was not there."""
        before = self.state.remove(kind, identity)
        if before is not None:
            self.more_than_adds = True
            self.effects.append(Effect("remove", before, "predicted", evidence))
        return before is not None

    def put_folder(self, path: str, evidence: Evidence) -> None:
        """A folder and those above it; the ones it had to make are remembered for removal."""
        for folder in self.state.add_folders(path.rstrip("\\")):
            self.created.add(folder.identity)
            self.effects.append(Effect("add", folder, "predicted", evidence))

    def assume(self, condition: str) -> bool:
        """Takes a launch condition for met, where it hangs on answers that no data has, and says so; else False."""
        machine = {name: what for name, what in systems.ASKS_THE_MACHINE.items() if not self.prop(name)}
        known = machine | self.unknown
        asked = self._asked(known, condition)
        if self._met_with(asked, condition) is None:
            return False
        for name in asked:
            self.blind_spot(
                f"assumed: {known[name]}",
                "the installer goes on only then, and the data of this Windows do not say; a real machine has to "
                "confirm it",
                row("AppSearch", name) if name in self.unknown else row("LaunchCondition", condition),
            )
        return True

    def want(self, condition: str) -> None:
        """Remembers what would have to be there for a launch condition that does not hold, where searches decide it."""
        asked = self._asked(self.absent, condition)
        value = self._met_with(asked, condition)
        for name in asked if value is not None else ():
            self.wanting.append(_wanted(self.absent[name], str(value), condition))

    def _asked(self, known: Iterable[str], condition: str) -> list[str]:
        return [name for name in known if re.search(rf"(?<![\w.]){re.escape(name)}(?![\w.])", condition)]

    def _met_with(self, asked: Sequence[str], condition: str) -> str | None:
        """A value of these properties with which a condition holds, what they are compared with or any; they keep it.

        None where there is none, and they are as they were.
        """
        before = {name: self.prop(name) for name in asked}
        numbers = [f"#{number}" for number in re.findall(r"#?(\d+)", condition)]
        for value in ("1", *numbers, *re.findall(r'"([^"]+)"', condition), "#4294967295", "99999") if asked else ():
            for name in asked:
                self.put_property(name, value)
            if self.holds(condition, row("LaunchCondition", condition)):
                return str(value)
        for name, value in before.items():
            self.put_property(name, value)
        return None

    def blind_spot(self, what: str, why: str, evidence: Evidence) -> None:
        spot = BlindSpot(what, why, evidence)
        if spot not in self.blind:
            self.blind.append(spot)

    def note(self, line: str) -> None:
        self.log.append(line)

    # --- properties --------------------------------------------------------------------------

    def _first_properties(self) -> dict[str, str]:
        around = self.surroundings
        wide = self.platform != "x86"
        folders = {name: path + "\\" for name, path in around.folders.items()}
        if not wide:
            for name in ("ProgramFiles64Folder", "CommonFiles64Folder", "System64Folder"):
                folders.pop(name, None)
        values = {
            **systems.installer_properties(systems.of_build(around.windows)),
            "VersionMsi": "5.00",
            "Intel": "6",
            "PhysicalMemory": str(around.memory),
            "UserLanguageID": str(around.language),
            "SystemLanguageID": str(around.language),
            "Privileged": "1",
            "LogonUser": around.user,
            "ComputerName": around.computer,
            "UILevel": "2",
            "ProductState": "5" if self.installed else "-1",
            "ACTION": "INSTALL",
            "ROOTDRIVE": "C:\\",
            "OriginalDatabase": self.package,
            "DATABASE": self.package,
            **folders,
        }
        if around.architecture == "x64":
            values |= {"VersionNT64": "603", "MsiAMD64": "6", "Msix64": "6"}
        if around.account == "system":
            values["UserSID"] = "S-1-5-18"
        table = {row.text("Property"): row.text("Value") for row in self.database["Property"]}
        values |= table
        if self.installed:
            values["Installed"] = "00:00:00"
            values |= {
                name: path + "\\" for name, path in self.installed.folders.items() if name in self.custom_folders
            }
            if self.installed.per_machine:
                values["ALLUSERS"] = "1"
        values |= self.given
        if values.get("ALLUSERS") == "2":
            values["ALLUSERS"] = "1"
        if values.get("ALLUSERS") == "1":
            for name, path in for_everyone(around).items():
                if name not in self.given:
                    values[name] = path + "\\"
        return {name: value for name, value in values.items() if value != ""}

    @cached_property
    def custom_folders(self) -> set[str]:
        """Directory names that are not the system's own folders."""
        return {row.text("Directory") for row in self.database["Directory"]} - self.surroundings.folders.keys()

    def prop(self, name: str) -> str:
        return self.properties.get(name, "")

    def put_property(self, name: str, value: str) -> None:
        """Sets a property; an empty value removes it, as the installer does."""
        if value:
            self.properties[name] = value[:MAX_TEXT]
        else:
            self.properties.pop(name, None)

    @property
    def per_machine(self) -> bool:
        return self.prop("ALLUSERS") == "1"

    @property
    def removing(self) -> bool:
        return self.prop("REMOVE").upper() == "ALL"

    @property
    def product_code(self) -> str:
        return self.prop("ProductCode").upper()

    # --- conditions: the Values protocol ------------------------------------------------------

    def environment(self, name: str) -> str:
        folded = name.lower()
        return next((value for key, value in self.surroundings.environment.items() if key.lower() == folded), "")

    def component(self, name: str, *, action: bool) -> int | None:
        found = self._component_rows.get(name)
        if found is None:
            return None
        if action:
            return self.components.get(name, UNKNOWN)
        return LOCAL if self.installed and name in self.installed.components else ABSENT

    def feature(self, name: str, *, action: bool) -> int | None:
        if self.database["Feature"].find(name) is None:
            return None
        if action:
            state = self.features.get(name, UNKNOWN)
            if self.installed and state == self.installed.features.get(name, ABSENT) and name not in self.reinstalled:
                return UNKNOWN  # nothing is to be done with it
            return state
        return self.installed.features.get(name, ABSENT) if self.installed else ABSENT

    def holds(self, text: str | None, where: Evidence) -> bool:
        """Judges a condition cell. One that cannot be read counts as false, as the real code has it."""
        if not text or not text.strip():
            return True
        try:
            return conditions.evaluate(text, self)
        except conditions.ConditionError as error:
            self.blind_spot("a condition that cannot be read", f"{text!r}: {error}; taken as false", where)
            return False

    # --- formatted text -----------------------------------------------------------------------

    def format(self, text: str | None) -> str:
        """Resolves a Formatted cell: properties, environment, files, components, literals, groups."""
        if not text or ("[" not in text and "{" not in text):
            return text or ""
        text = re.sub(r"\[\\([!-~])\]", lambda match: chr(_SET_ASIDE + ord(match[1])), text)  # comes back at the end
        out = self._brackets(re.sub(r"\{([^{}]*)\}", self._group, text))[0]
        return "".join(
            chr(ord(character) - _SET_ASIDE) if _SET_ASIDE < ord(character) < _SET_ASIDE + 128 else character
            for character in out
        )[:MAX_TEXT]

    def _group(self, match: re.Match[str]) -> str:
        inner = match[1]
        if "[" not in inner:
            return match[0]
        resolved, complete = self._brackets(inner)
        return resolved if complete else ""

    def _brackets(self, text: str) -> tuple[str, bool]:
        complete = True

        def one(match: re.Match[str]) -> str:
            nonlocal complete
            value = self._reference(match[1])
            complete = complete and bool(value)
            return value

        for _ in range(4):  # a reference inside a reference: [[NAME]]
            text, count = re.subn(r"\[([^\[\]]*)\]", one, text)
            if not count or len(text) > MAX_TEXT:
                break
        return text, complete

    def _reference(self, inner: str) -> str:
        if inner == "~":
            return "\0"
        if inner.startswith("\\"):
            return inner[1:2]
        if inner.startswith("%"):
            return self.environment(inner[1:])
        if inner[:1] in ("#", "!"):
            return self.file_path(inner[1:]) or ""
        if inner.startswith("$"):
            found = self._component_rows.get(inner[1:])
            return self.directory(found.text("Directory_")) + "\\" if found else ""
        return self.prop(inner)

    # --- folders ------------------------------------------------------------------------------

    def directory(self, name: str) -> str:
        """The absolute path of a Directory row, without a trailing backslash. Raises Failure on a loop."""
        if name not in self.directories:
            self.directories[name] = self._resolve(name, 0)
        return self.directories[name]

    def _resolve(self, name: str, depth: int) -> str:
        if depth > MAX_DEPTH:
            raise ActionFailure(1603, f"Directory table: {name} lies in itself, or deeper than {MAX_DEPTH} folders")
        if value := self.prop(name):
            return value.rstrip("\\") if len(value) > 3 else value.rstrip("\\/")
        found = self.database["Directory"].find(name)
        if found is None:
            return "C:"
        above = found.text("Directory_Parent")
        if not above or above == name:
            return self.prop("ROOTDRIVE").rstrip("\\") if name == "TARGETDIR" else "C:"
        base = self.directories.get(above) or self._resolve(above, depth + 1)
        own = long_name(found.text("DefaultDir").partition(":")[0])
        path = base if own in (".", "") else f"{base}\\{clean(own)}"
        self.directories[above] = base
        return path

    def set_directory(self, name: str, value: str) -> None:
        """What a "set a directory" action does: the row and everything below it moves."""
        self.put_property(name, value if value.endswith("\\") else value + "\\")
        self._chosen.add(name)
        if self.costed:
            self.resolve_directories(keep=False)

    def resolve_directories(self, *, keep: bool = True) -> None:
        """Fills ``directories`` and the properties of the same names."""
        if not keep:
            for name in self.directories.keys() - self.surroundings.folders.keys() - self._chosen:
                self.properties.pop(name, None)
        self.directories.clear()
        for entry in self.database["Directory"]:
            name = entry.text("Directory")
            path = self.directory(name)
            if name in self.properties:
                self._chosen.add(name)
            self.properties[name] = path + "\\"
        self.costed = True

    @cached_property
    def _chosen(self) -> set[str]:
        return set(self.given) | {row.text("Property") for row in self.database["Property"]}

    # --- features and components ----------------------------------------------------------------

    @cached_property
    def _component_rows(self) -> dict[str, TableRow]:
        return {row.text("Component"): row for row in self.database["Component"]}

    def select(self, features: dict[str, int] | None = None) -> None:
        """Decides the state of every feature and component (what costing does).

        ``features`` are states decided elsewhere.
        """
        self.features = self._select_features() if features is None else features
        self.components.clear()
        self.kept.clear()
        local = {name for name, state in self.features.items() if state == LOCAL}
        wanted = {
            component
            for component, feature in self.database["FeatureComponents"].pick("Component_", "Feature_")
            if feature in local
        }
        plain = not self.installed
        for name, attributes, condition in self.database["Component"].pick("Component", "Attributes", "Condition"):
            if plain and not condition and not (attributes or 0) & 128:  # nearly all of them
                self.components[name] = LOCAL if name in wanted else UNKNOWN
            else:
                self.components[name] = self._component_state(name, self._component_rows[name], name in wanted)

    def _select_features(self) -> dict[str, int]:
        rows = {entry.text("Feature"): entry for entry in self.database["Feature"]}
        parents = {name: entry.text("Feature_Parent") for name, entry in rows.items()}
        _no_circles(parents)
        if self.removing:
            return dict.fromkeys(rows, ABSENT)
        levels = self._levels(rows)
        add = {name for kind in ("ADDLOCAL", "ADDSOURCE", "ADDDEFAULT") for name in self._listed(kind, rows)}
        chosen = self._wanted(rows, parents, levels, add)
        for name in list(chosen):  # a chosen child brings its parents
            chosen.update(_line(name, parents))
        for name, entry in rows.items():  # attribute 2: goes where its parent goes
            if entry.number("Attributes") & 2 and parents[name] in chosen and levels[name] > 0:
                chosen.add(name)
        remove = self._listed("REMOVE", rows)

        def stays(name: str) -> bool:
            above = list(_line(name, parents))
            off = levels[name] <= 0 or any(levels[one] == 0 for one in above)
            return not off and name not in remove and not any(one in remove for one in above)

        states = {name: LOCAL if name in chosen and stays(name) else ABSENT for name in rows}
        everything = "ALL" in {part.strip().upper() for part in self.prop("ADDLOCAL").split(",")}
        if not (self.installed or everything or add):
            self._advertise(rows, states)
        return states

    def _levels(self, rows: Mapping[str, TableRow]) -> dict[str, int]:
        """The level of each feature, as the conditions leave it."""
        levels = {name: entry.number("Level", 1) for name, entry in rows.items()}
        for entry in self.database["Condition"]:
            where = row("Condition", entry.text("Feature_"), entry.get("Level"))
            if entry.text("Feature_") in levels and self.holds(entry.text("Condition"), where):
                levels[entry.text("Feature_")] = entry.number("Level", 1)
        return levels

    def _listed(self, name: str, rows: Mapping[str, TableRow]) -> set[str]:
        """The features that a property names."""
        names = {part.strip() for part in self.prop(name).split(",") if part.strip()}
        return set(rows) if "ALL" in {part.upper() for part in names} else names & rows.keys()

    def _wanted(
        self, rows: Mapping[str, TableRow], parents: Mapping[str, str], levels: Mapping[str, int], add: set[str]
    ) -> set[str]:
        """Those that are asked for, are there already, or stand at the level of the installation."""
        usable = {name for name in rows if levels[name] > 0}
        if self.installed:
            there = {name for name, state in self.installed.features.items() if state == LOCAL and name in rows}
            return there | (add & usable)
        if add:
            return add & usable
        limit = int(self.prop("INSTALLLEVEL")) if self.prop("INSTALLLEVEL").isdigit() else 1
        chosen = {name for name in usable if levels[name] <= limit}
        return {name for name in chosen if all(above in chosen for above in _line(name, parents))}

    def _advertise(self, rows: Mapping[str, TableRow], states: dict[str, int]) -> None:
        """Attribute 4: comes when it is first used, unless somebody asks for it."""
        for name, entry in rows.items():
            if states[name] == LOCAL and entry.number("Attributes") & 0x17 == 4:
                states[name] = ADVERTISED
                what = f"feature {name} is only advertised"
                self.blind_spot(what, "its things come when it is first used", row("Feature", name))

    def _component_state(self, name: str, entry: TableRow, wanted: bool) -> int:
        was = bool(self.installed and name in self.installed.components)
        if not wanted:
            return ABSENT if was else UNKNOWN
        if was and not entry.number("Attributes") & 64:  # 64: the condition is judged again
            if name in self._reinstalled_components:
                return LOCAL
            self.kept.add(name)
            return UNKNOWN
        if not self.holds(entry.text("Condition"), row("Component", name)):
            return UNKNOWN
        if entry.number("Attributes") & 128 and not was and self._key_path_exists(entry):  # never overwrite
            return UNKNOWN
        return LOCAL

    @cached_property
    def reinstalled(self) -> set[str]:
        """The installed features that ``REINSTALL`` names."""
        if not self.installed:
            return set()
        there = {name for name, state in self.installed.features.items() if state == LOCAL}
        names = {part.strip() for part in self.prop("REINSTALL").split(",") if part.strip()}
        return there if "ALL" in {name.upper() for name in names} else there & names

    @cached_property
    def _reinstalled_components(self) -> set[str]:
        pairs = self.database["FeatureComponents"].pick("Component_", "Feature_")
        return {component for component, feature in pairs if feature in self.reinstalled}

    def _key_path_exists(self, entry: TableRow) -> bool:
        key = entry.text("KeyPath")
        if not key or entry.number("Attributes") & (4 | 32):
            return False
        path = self.file_path(key)
        return bool(path and self.state.get("file", path))

    def installs(self, component: str) -> bool:
        """Whether this run puts the component's things onto the machine."""
        return self.components.get(component) == LOCAL

    def removes(self, component: str) -> bool:
        """Whether this run takes the component's things away: not permanent, and nobody else's too."""
        if self.components.get(component) != ABSENT or not self.installed or component not in self.installed.components:
            return False
        entry = self._component_rows[component]
        identifier = self.installed.components[component]
        if entry.number("Attributes") & 16 or not identifier:
            return False
        return not any(identifier in other.components.values() for other in self.others.values())

    def view(self, component: str) -> View:
        """The registry view that the component writes to."""
        entry = self._component_rows.get(component)
        return "64" if entry is not None and entry.number("Attributes") & 256 else "32"

    @cached_property
    def _file_rows(self) -> dict[str, TableRow]:
        return {row.text("File"): row for row in self.database["File"]}

    @cached_property
    def component_folder(self) -> dict[str, str]:
        """The Directory key of every component."""
        return dict(self.database["Component"].pick("Component", "Directory_"))

    def sha256_of(self, key: str) -> str | None:
        """The hash of a file of the installer, where its contents are at hand."""
        data = self.contents.get(key)
        return None if data is None else hashlib.sha256(data).hexdigest()

    def file_path(self, key: str) -> str | None:
        """Where a File row lands, or None where there is no such row."""
        entry = self._file_rows.get(key)
        folder = self.component_folder.get(entry.text("Component_")) if entry else None
        if entry is None or folder is None:
            return None
        return f"{self.directory(folder)}\\{clean(long_name(entry.text('FileName')))}"

    def key_path(self, component: str) -> str:
        """The file or folder that stands for a component."""
        entry = self._component_rows.get(component)
        if entry is None:
            return ""
        return self.file_path(entry.text("KeyPath")) or self.directory(entry.text("Directory_"))


_NO_NAME = re.compile(r"[\\/:\x00-\x1f]|^\.\.$")


def all_clean(names: Iterable[str]) -> bool:
    """Whether every one of many names passes ``clean``, found out in one go; False also where it is not sure."""
    joined = f"|{'|'.join(names)}|"  # a long name holds no bar: it separates the short one
    return joined.isprintable() and not any(mark in joined for mark in ("\\", "/", ":", "|..|"))


def clean(name: str) -> str:
    """A folder or file name as it may appear below the target. Raises Unreadable on a name that climbs."""
    if _NO_NAME.search(name):
        raise Unreadable(f"the database names a file or folder {name!r}, which is not a name")
    return name


def _line(name: str, parents: Mapping[str, str]) -> list[str]:
    """The ancestors of a feature. Loops were refused before."""
    out, at = [], parents.get(name, "")
    while at:
        out.append(at)
        at = parents.get(at, "")
    return out
