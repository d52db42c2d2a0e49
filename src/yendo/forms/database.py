"""What a plan brings, as the tables of a database: a component a file and a key, codes that the next version keeps,
features by part.

Source of each mapping: the Windows Installer's documentation of the table. docs/forms.md has the map.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from yendo import digest
from yendo.errors import Usage
from yendo.facts.versions import VersionRange
from yendo.formats.msi.schema import SUGGESTED
from yendo.forms.composer import BY_REGISTRY, WIDE, Composer, FormFile
from yendo.forms.places import PUBLIC, Impossible, Row, code, escaped, key, least_build, property_of
from yendo.plan import Plan
from yendo.platforms.windows.capture_record import usual
from yendo.steps.captured import Decided
from yendo.steps.rights import RightsStep, descriptor

Reach = Literal["log-on", "shortcut"]
LOG_ON: Reach = "log-on"
SHORTCUT: Reach = "shortcut"
MOST_COMPONENTS = 1600  # of a feature: what older Windows take
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
    component = made.component("install", f"first log-on {product}", made.home(), BY_REGISTRY | WIDE, "FirstLogOn")
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
