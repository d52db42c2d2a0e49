"""The standard actions that change a machine, one function each.

Each is found by its name in ``STANDARD``. An action with nothing to do here is in ``WITHOUT_EFFECT``;
tables whose actions are not carried out yet are in ``NOT_INTERPRETED`` and become blind spots.
Source: the Windows Installer's documentation of the action and of its table.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from yendo.effects import Environment, File, IniValue, RegistryKey, RegistryValue, Service, Shortcut, UninstallEntry
from yendo.effects.things import Data, View, parent
from yendo.effects.things import Product as ProductThing
from yendo.evidence import Evidence, row
from yendo.facts.versions import Version
from yendo.installers.msi.session import LOCAL, Failure, Session, all_clean, clean, long_name

Action = Callable[[Session], None]
STANDARD: dict[str, Action] = {}

UNINSTALL_KEY = r"Software\Microsoft\Windows\CurrentVersion\Uninstall"


def standard(name: str) -> Callable[[Action], Action]:
    def keep(function: Action) -> Action:
        STANDARD[name] = function
        return function

    return keep


# --- search and refusal ------------------------------------------------------------------------


@standard("LaunchConditions")
def launch_conditions(session: Session) -> None:
    for entry in session.database["LaunchCondition"]:
        if not session.holds(entry.text("Condition"), row("LaunchCondition", entry.text("Condition"))):
            raise Failure(1603, session.format(entry.text("Description")) or entry.text("Condition"))


def upgrade_matches(session: Session) -> list[tuple[str, str, bool]]:
    """``(product code, action property, only detect)`` for each installed product that an Upgrade row names."""
    found = []
    for entry in session.database["Upgrade"]:
        flags, languages = entry.number("Attributes"), entry.text("Language")
        wanted = {int(part) for part in languages.split(",") if part.strip().isdigit()}
        for memory in session.others.values():
            if memory.upgrade_code.upper() != entry.text("UpgradeCode").upper():
                continue
            if wanted and (memory.language in wanted) == bool(flags & 1024):
                continue
            if _between(memory.version, entry.text("VersionMin"), entry.text("VersionMax"), flags):
                found.append((memory.code, entry.text("ActionProperty"), bool(flags & 2)))
    return found


def _between(version: str, low: str, high: str, flags: int) -> bool:
    def product(text: str) -> tuple[int, int, int]:
        try:
            return Version.parse(text).product
        except ValueError:
            return (0, 0, 0)

    at = product(version)
    if low and (at < product(low) or (at == product(low) and not flags & 256)):
        return False
    return not (high and (at > product(high) or (at == product(high) and not flags & 512)))


@standard("FindRelatedProducts")
def find_related_products(session: Session) -> None:
    if session.installed:
        return
    for code, name, _ in upgrade_matches(session):
        known = session.prop(name)
        session.put_property(name, f"{known};{code}" if known and code not in known else code)


@standard("AppSearch")
def app_search(session: Session) -> None:
    for entry in session.database["AppSearch"]:
        name, signature = entry.text("Property"), entry.text("Signature_")
        where = row("AppSearch", name, signature)
        found = session.database["RegLocator"].find(signature)
        if found is None or session.database["Signature"].find(signature) is not None:
            session.blind_spot(f"property {name}", "searched for on the machine in a way that is not carried out here", where)
            continue
        kind = found.number("Type", 1)
        if kind & 3 != 2:
            session.blind_spot(f"property {name}", "searches for a file or folder named in the registry", where)
            continue
        hive = {0: "HKCR", 1: "HKCU", 2: "HKLM", 3: "HKU"}.get(found.number("Root"), "HKLM")
        key = f"{hive}/{'64' if kind & 16 else '32'}\\{found.text('Key')}!{found.text('Name')}"
        value = session.state.get("registry", key)
        if isinstance(value, RegistryValue) and value.data is not None:
            session.put_property(name, ("#" if value.type == "dword" else "") + str(value.data))


@standard("CostFinalize")
def cost_finalize(session: Session) -> None:
    session.resolve_directories()
    session.select()


# --- files ---------------------------------------------------------------------------------------


def _version(text: str) -> Version | None:
    try:
        return Version.parse(text) if text else None
    except ValueError:
        return None  # the key of a companion file stands in the column


@standard("CreateFolders")
def create_folders(session: Session) -> None:
    for entry in session.database["CreateFolder"]:
        if session.installs(entry.text("Component_")):
            session.put_folder(session.directory(entry.text("Directory_")), row("CreateFolder", entry.text("Directory_"), entry.text("Component_")))


@standard("RemoveFolders")
def remove_folders(session: Session) -> None:
    for entry in session.database["CreateFolder"]:
        if session.removes(entry.text("Component_")):
            _drop_empty(session, session.directory(entry.text("Directory_")), row("CreateFolder", entry.text("Directory_"), entry.text("Component_")))


def _drop_empty(session: Session, path: str, evidence: Evidence) -> None:
    """Takes a folder away while it is empty and was made by the installer, and so on upwards."""
    while path.lower() in session.created and session.state.is_empty(path):
        if not session.drop("folder", path, evidence):
            return
        path = parent(path)


@standard("InstallFiles")
def install_files(session: Session) -> None:
    made: set[str] = set()
    names = [long_name(named) for _, named in session.database["File"].pick("File", "FileName")]
    if not all_clean(names):
        for name in names:
            clean(name)
    components, there_is, folders = session.components, session.state.items().get, session.component_folder
    columns = session.database["File"].pick("File", "Component_", "FileSize", "Version")
    for name, (key, component, size, stated) in zip(names, columns, strict=True):
        if components.get(component) != LOCAL:
            continue
        evidence = Evidence("row", f"File[{key}]")
        folder = session.directory(folders[component])
        if folder not in made:
            session.put_folder(folder, evidence)
            made.add(folder)
        path = f"{folder}\\{name}"
        identity = ("file", path.lower())
        mine = _version(stated) if stated else None
        there = there_is(identity)
        if isinstance(there, File):
            if there.version and not (mine and mine > (_version(there.version) or mine)):
                continue  # the one on the machine is as new or newer
            if there.size == size and session.installed:
                continue
        session.put(File(path, size or 0, None, str(mine) if mine else None), evidence, identity)


@standard("RemoveFiles")
def remove_files(session: Session) -> None:
    if session.removing or session.installed:
        for entry in session.database["File"]:
            if not session.removes(entry["Component_"]):
                continue
            path = session.file_path(entry["File"])
            if path and session.drop("file", path, row("File", entry["File"])):
                _drop_empty(session, parent(path), row("File", entry["File"]))
    for entry in session.database["RemoveFile"]:
        mode = entry.number("InstallMode")
        component = entry.text("Component_")
        if not ((mode & 1 and session.installs(component)) or (mode & 2 and session.removes(component))):
            continue
        where = row("RemoveFile", entry.text("FileKey"))
        folder = session.prop(entry.text("DirProperty")).rstrip("\\")
        name = long_name(entry.text("FileName"))
        if not folder:
            continue
        if name:
            for path in _matching(session, folder, name):
                session.drop("file", path, where)
        _drop_empty(session, folder, where)
        if not name and session.state.is_empty(folder):
            session.drop("folder", folder, where)


def _matching(session: Session, folder: str, pattern: str) -> list[str]:
    from fnmatch import fnmatchcase

    if not any(character in pattern for character in "*?"):
        return [f"{folder}\\{pattern}"]
    head, wanted = folder.lower() + "\\", pattern.lower().replace("[", "[[]")
    return [
        thing.identity
        for thing in list(session.state.of("file"))
        if thing.identity.startswith(head) and "\\" not in thing.identity[len(head) :] and fnmatchcase(thing.identity[len(head) :], wanted)
    ]


@standard("DuplicateFiles")
def duplicate_files(session: Session) -> None:
    for entry in session.database["DuplicateFile"]:
        source = session.file_path(entry.text("File_"))
        if source and session.installs(entry.text("Component_")):
            path, where = (_duplicate(session, entry.text("DestFolder"), entry.text("DestName"), source), row("DuplicateFile", entry.text("FileKey")))
            there = session.state.get("file", source)
            if path and isinstance(there, File):
                session.put_folder(parent(path), where)
                session.put(File(path, there.size, there.sha256, there.version), where)


@standard("RemoveDuplicateFiles")
def remove_duplicate_files(session: Session) -> None:
    for entry in session.database["DuplicateFile"]:
        source = session.file_path(entry.text("File_"))
        if source and session.removes(entry.text("Component_")):
            path = _duplicate(session, entry.text("DestFolder"), entry.text("DestName"), source)
            where = row("DuplicateFile", entry.text("FileKey"))
            if path and session.drop("file", path, where):
                _drop_empty(session, parent(path), where)


def _duplicate(session: Session, folder: str, name: str, source: str) -> str:
    if folder and not session.prop(folder):
        return ""
    base = session.prop(folder).rstrip("\\") if folder else parent(source)
    return f"{base}\\{long_name(name) or source.rpartition(chr(92))[2]}"


# --- registry ------------------------------------------------------------------------------------

_ROOTS = {0: "HKCR", 1: "HKCU", 2: "HKLM", 3: "HKU"}


def place(session: Session, root: int, key: str, component: str) -> tuple[str, str, View]:
    """``(hive, key, view)`` of a Registry row, with classes and the 32-bit half put where they land."""
    hive = _ROOTS.get(root, "HKLM" if session.per_machine else "HKCU")
    if hive == "HKCR":
        hive, key = ("HKLM" if session.per_machine else "HKCU"), f"Software\\Classes\\{key}"
    key = key.strip("\\")
    lowered = key.lower()
    split = (
        hive == "HKLM"
        and lowered.startswith("software\\")
        and (not lowered.startswith("software\\classes\\") or lowered.split("\\")[2:3] in (["clsid"], ["interface"], ["mediatype"], ["directshow"]))
    )
    return hive, key, session.view(component) if split else "64"


def registry_data(text: str) -> tuple[str, Data]:
    """A value cell after formatting, as ``(type, data)``: ``#x`` binary, ``#%`` expand, ``#`` number."""
    if "\0" in text:
        return "multi", tuple(part for part in text.split("\0") if part)
    if text.startswith("#x"):
        digits = text[2:]
        return "binary", (("0" if len(digits) % 2 else "") + digits).lower()
    if text.startswith("#%"):
        return "expand", text[2:]
    if text.startswith("##"):
        return "sz", text[1:]
    if text.startswith("#"):
        digits = text[1:].lstrip("+")
        if digits.lstrip("-").isdigit():
            return "dword", int(digits) & 0xFFFFFFFF
    return "sz", text


@standard("WriteRegistryValues")
def write_registry_values(session: Session) -> None:
    for entry in session.database["Registry"]:
        component, name = entry.text("Component_"), entry.text("Name")
        value = entry.get("Value")
        if not session.installs(component) or (name == "-" and value is None):
            continue
        where = row("Registry", entry.text("Registry"))
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if name in ("+", "*") and value is None:
            if not any(thing.identity.startswith(f"{hive}/{view}\\{key}".lower()) for thing in session.state.of("registry")):
                session.put(RegistryKey(hive, key, view), where)
            continue
        kind, data = registry_data(session.format(value))
        name = session.format(name)
        if kind == "multi" and (value or "").startswith("[~]") != (value or "").endswith("[~]"):
            there = session.state.get("registry", RegistryValue(hive, key, name, view=view).identity)
            if isinstance(there, RegistryValue) and isinstance(there.data, tuple) and isinstance(data, tuple):
                more = tuple(part for part in data if part not in there.data)
                data = there.data + more if (value or "").startswith("[~]") else more + there.data
        session.drop("registry-key", RegistryKey(hive, key, view).identity, where)
        session.put(RegistryValue(hive, key, name, kind, data, view), where)


@standard("RemoveRegistryValues")
def remove_registry_values(session: Session) -> None:
    for entry in session.database["Registry"]:
        component = entry.text("Component_")
        if not session.removes(component):
            continue
        where = row("Registry", entry.text("Registry"))
        name, value = entry.text("Name"), entry.get("Value")
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if value is None and name in ("-", "*"):
            _drop_tree(session, hive, key, view, where)
        elif value is None and name == "+":
            session.drop("registry-key", RegistryKey(hive, key, view).identity, where)
        else:
            session.drop("registry", RegistryValue(hive, key, session.format(name), view=view).identity, where)
    for entry in session.database["RemoveRegistry"]:  # these go when the component comes
        component = entry.text("Component_")
        if not session.installs(component):
            continue
        where = row("RemoveRegistry", entry.text("RemoveRegistry"))
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if entry.text("Name") == "-":
            _drop_tree(session, hive, key, view, where)
        else:
            session.drop("registry", RegistryValue(hive, key, session.format(entry.text("Name")), view=view).identity, where)


def _drop_tree(session: Session, hive: str, key: str, view: str, where: Evidence) -> None:
    head = f"{hive}/{view}\\{key}".lower()
    for thing in list(session.state.of("registry", "registry-key")):
        if thing.identity.startswith((head + "\\", head + "!")) or thing.identity == head:
            session.drop("registry" if isinstance(thing, RegistryValue) else "registry-key", thing.identity, where)


# --- shortcuts, environment, ini files, services ---------------------------------------------------


@standard("CreateShortcuts")
def create_shortcuts(session: Session) -> None:
    for entry in session.database["Shortcut"]:
        component = entry.text("Component_")
        if not session.installs(component):
            continue
        where = row("Shortcut", entry.text("Shortcut"))
        path = _shortcut_path(session, entry.text("Directory_"), entry.text("Name"))
        target = entry.text("Target")
        advertised = "[" not in target
        folder = session.prop(entry.text("WkDir")).rstrip("\\") if entry.text("WkDir") else None
        session.put_folder(parent(path), where)
        session.put(
            Shortcut(
                path,
                session.key_path(component) if advertised else session.format(target),
                session.format(entry.text("Arguments")),
                folder or None,
                entry.text("Description") or None,
            ),
            where,
        )


def _shortcut_path(session: Session, folder: str, name: str) -> str:
    plain = long_name(name)
    return f"{session.directory(folder)}\\{plain if plain.lower().endswith('.lnk') else plain + '.lnk'}"


@standard("RemoveShortcuts")
def remove_shortcuts(session: Session) -> None:
    for entry in session.database["Shortcut"]:
        if session.removes(entry.text("Component_")):
            path, where = _shortcut_path(session, entry.text("Directory_"), entry.text("Name")), row("Shortcut", entry.text("Shortcut"))
            session.drop("shortcut", path, where)
            _drop_empty(session, parent(path), where)


def _environment(name: str) -> tuple[str, str]:
    """``(flags, plain name)``; without a flag a variable is set and taken away again."""
    plain = name.lstrip("=+-!*")
    flags = name[: len(name) - len(plain)]
    return flags if set(flags) & set("=+!") else flags + ("" if "-" in flags else "=-"), plain


@standard("WriteEnvironmentStrings")
def write_environment_strings(session: Session) -> None:
    for entry in session.database["Environment"]:
        if not session.installs(entry.text("Component_")):
            continue
        where = row("Environment", entry.text("Environment"))
        flags, name = _environment(entry.text("Name"))
        scope: Literal["machine", "user"] = "machine" if "*" in flags else "user"
        there = session.state.get("environment", f"{scope}:{name}")
        old = there.value if isinstance(there, Environment) else None
        if "!" in flags or ("=" not in flags and "+" not in flags):
            session.drop("environment", f"{scope}:{name}", where)
            continue
        if "+" in flags and "=" not in flags and old is not None:
            continue
        value = session.format(entry.text("Value"))
        new = _joined(value, old or "")
        session.put(Environment(name, new, scope), where)


def _joined(value: str, old: str) -> str:
    """``[~];value`` goes behind what is there, ``value;[~]`` before it; twice does no harm."""
    if "\0" not in value:
        return value
    own = value.replace("\0", "").strip(";")
    if own.lower() in [part.lower() for part in old.split(";")]:
        return old
    if not old:
        return own
    return f"{old};{own}" if value.startswith("\0") else f"{own};{old}"


@standard("RemoveEnvironmentStrings")
def remove_environment_strings(session: Session) -> None:
    for entry in session.database["Environment"]:
        flags, name = _environment(entry.text("Name"))
        if not session.removes(entry.text("Component_")) or "-" not in flags:
            continue
        where = row("Environment", entry.text("Environment"))
        scope: Literal["machine", "user"] = "machine" if "*" in flags else "user"
        there = session.state.get("environment", f"{scope}:{name}")
        value = session.format(entry.text("Value"))
        if not isinstance(there, Environment):
            continue
        if "\0" in value:
            own = value.replace("\0", "").strip(";").lower()
            left = ";".join(part for part in (there.value or "").split(";") if part.lower() != own)
            if left:
                session.put(Environment(name, left, scope), where)
                continue
        session.drop("environment", f"{scope}:{name}", where)


@standard("WriteIniValues")
def write_ini_values(session: Session) -> None:
    for entry in session.database["IniFile"]:
        if not session.installs(entry.text("Component_")):
            continue
        where = row("IniFile", entry.text("IniFile"))
        thing = _ini(session, entry)
        if entry.number("Action") == 1 and session.state.has(thing):
            continue
        session.put_folder(parent(thing.path), where)
        if session.state.get("file", thing.path) is None:
            session.put(File(thing.path), where)
        session.put(thing, where)


def _ini(session: Session, entry: object) -> IniValue:
    text = entry.text  # type: ignore[attr-defined]
    folder = session.prop(text("DirProperty")).rstrip("\\") if text("DirProperty") else session.surroundings.folders["WindowsFolder"]
    return IniValue(
        f"{folder}\\{long_name(text('FileName'))}", session.format(text("Section")), session.format(text("Key")), session.format(text("Value"))
    )


@standard("RemoveIniValues")
def remove_ini_values(session: Session) -> None:
    for entry in session.database["IniFile"]:
        if not session.removes(entry.text("Component_")):
            continue
        where = row("IniFile", entry.text("IniFile"))
        thing = _ini(session, entry)
        session.drop("ini", thing.identity, where)
        head = thing.path.lower() + "|"
        if not any(other.identity.startswith(head) for other in session.state.of("ini")):
            file = session.state.get("file", thing.path)
            if isinstance(file, File) and file.size is None:  # it was made for these values only
                session.drop("file", thing.path, where)
                _drop_empty(session, parent(thing.path), where)


_STARTS = {0: "boot", 1: "system", 2: "auto", 3: "demand", 4: "disabled"}


@standard("InstallServices")
def install_services(session: Session) -> None:
    for entry in session.database["ServiceInstall"]:
        component = entry.text("Component_")
        if not session.installs(component):
            continue
        program, arguments = session.key_path(component), session.format(entry.text("Arguments"))
        quoted = f'"{program}"' if " " in program else program
        depends = tuple(part for part in session.format(entry.text("Dependencies")).split("\0") if part)
        session.put(
            Service(
                session.format(entry.text("Name")),
                session.format(entry.text("DisplayName")) or None,
                f"{quoted} {arguments}".strip(),
                _STARTS.get(entry.number("StartType"), "demand"),
                session.format(entry.text("StartName")) or "LocalSystem",
                depends,
            ),
            row("ServiceInstall", entry.text("ServiceInstall")),
        )


@standard("DeleteServices")
def delete_services(session: Session) -> None:
    for entry in session.database["ServiceControl"]:
        event, component = entry.number("Event"), entry.text("Component_")
        if (event & 128 and session.removes(component)) or (event & 8 and session.installs(component)):
            session.drop("service", session.format(entry.text("Name")), row("ServiceControl", entry.text("ServiceControl")))


# --- the product itself ------------------------------------------------------------------------------


@standard("RegisterProduct")
def register_product(session: Session) -> None:
    if session.removing or not session.product_code:
        return
    get = session.prop
    where = row("Property", "ProductCode")
    hive = "HKLM" if session.per_machine else "HKCU"
    view: View = "64" if session.platform != "x86" or hive == "HKCU" else "32"
    changeable = not get("ARPNOMODIFY")
    session.put(
        UninstallEntry(
            session.product_code,
            hive,
            view,
            get("ProductName"),
            get("ProductVersion"),
            get("Manufacturer") or None,
            f"MsiExec.exe /{'I' if changeable else 'X'}{session.product_code}",
            None,
            get("ARPSYSTEMCOMPONENT") == "1",
        ),
        where,
    )


@standard("PublishProduct")
def publish_product(session: Session) -> None:
    where = row("Property", "ProductCode")
    _icons(session)
    if session.removing:
        session.drop("product", session.product_code, where)
        view: View = "64" if session.platform != "x86" or not session.per_machine else "32"
        hive = "HKLM" if session.per_machine else "HKCU"
        session.drop("uninstall-entry", UninstallEntry(session.product_code, hive, view).identity, where)
    elif session.product_code:
        session.published = True
        language = session.prop("ProductLanguage")
        session.put(
            ProductThing(
                session.product_code,
                session.prop("ProductName"),
                session.prop("ProductVersion"),
                int(language) if language.isdigit() else None,
                "machine" if session.per_machine else "user",
            ),
            where,
        )


def _icons(session: Session) -> None:
    """The icons of the list of programs and of shortcuts, which the installer keeps in a folder of its own."""
    keeper = f"{session.surroundings.folders['WindowsFolder']}\\Installer"
    folder = f"{keeper}\\{session.product_code}"
    for entry in session.database["Icon"]:
        name, where = entry.text("Name"), row("Icon", entry.text("Name"))
        if not name or any(character in name for character in "\\/:"):
            continue
        if session.removing:
            session.drop("file", f"{folder}\\{name}", where)
            if session.state.is_empty(folder):
                session.drop("folder", folder, where)
            continue
        session.state.add_folders(keeper)  # the installer's own on every machine
        session.put_folder(folder, where)
        stream = session.database.stream(f"Icon.{name}")
        session.put(File(f"{folder}\\{name}", stream.size if stream else None), where)


@standard("ScheduleReboot")
def schedule_reboot(session: Session) -> None:
    session.restart = session.restart or "at the end"


@standard("ForceReboot")
def force_reboot(session: Session) -> None:
    session.restart = "in the middle"


@standard("RemoveExistingProducts")
def remove_existing_products(session: Session) -> None:
    from yendo.installers.msi.engine import remove_other

    if session.installed:
        return
    only_detect = {code for code, _, detect in upgrade_matches(session) if detect}
    for code, name, detect in upgrade_matches(session):
        if detect or code in only_detect or code not in session.prop(name) or code not in session.others:
            continue
        remove_other(session, session.others[code])


# Source: the documented list of standard actions; these change nothing that is not done elsewhere here.
WITHOUT_EFFECT = frozenset(
    """
    CostInitialize FileCost IsolateComponents InstallValidate InstallInitialize InstallFinalize InstallExecute
    InstallExecuteAgain ProcessComponents UnpublishComponents UnpublishFeatures PublishComponents PublishFeatures
    RegisterUser MigrateFeatureStates ValidateProductID ResolveSource SetODBCFolders StartServices StopServices
    AllocateRegistrySpace BindImage CCPSearch RMCCPSearch DisableRollback InstallAdminPackage ExecuteAction
    CreateShortcut MsiPublishAssemblies MsiUnpublishAssemblies SelfRegModules SelfUnregModules RegisterComPlus
    UnregisterComPlus InstallODBC RemoveODBC InstallSFPCatalogFile MoveFiles PatchFiles PublishPackage
    RegisterClassInfo RegisterExtensionInfo RegisterFonts RegisterMIMEInfo RegisterProgIdInfo
    RegisterTypeLibraries UnregisterClassInfo UnregisterExtensionInfo UnregisterFonts UnregisterMIMEInfo
    UnregisterProgIdInfo UnregisterTypeLibraries MsiConfigureServices LaunchConditionsDone ADMIN ADVERTISE INSTALL
    SEQUENCE
    """.split()
)

NOT_INTERPRETED = {
    "MoveFile": "files that are moved or copied on the machine",
    "Font": "fonts",
    "SelfReg": "modules that register themselves",
    "Class": "COM classes",
    "ProgId": "programmatic identifiers",
    "Extension": "file types",
    "MIME": "content types",
    "Verb": "verbs of file types",
    "TypeLib": "type libraries",
    "AppId": "application identifiers of COM",
    "ODBCDriver": "database drivers",
    "ODBCDataSource": "data sources",
    "ODBCTranslator": "translators of data sources",
    "LockPermissions": "access rights",
    "MsiLockPermissionsEx": "access rights",
    "MsiAssembly": "assemblies",
    "MsiServiceConfig": "recovery settings of services",
    "MsiServiceConfigFailureActions": "failure actions of services",
    "RemoveIniFile": "entries taken out of ini files",
    "PublishComponent": "components published for others",
    "Complus": "COM+ applications",
    "IsolatedComponent": "isolated components",
    "BindImage": "bound imports",
    "MsiShortcutProperty": "properties of shortcuts",
    "SFPCatalog": "system file catalogues",
}
