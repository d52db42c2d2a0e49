"""Searching, refusing, selecting."""

from __future__ import annotations

from typing import Literal

from yendo.effects import File, IniValue, RegistryValue
from yendo.effects.things import parent
from yendo.evidence import Evidence, row
from yendo.facts.versions import Version
from yendo.formats.msi import TableRow
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import MAX_DEPTH, ROOTS, ActionFailure, InstallSession, long_name
from yendo.platforms.windows import systems
from yendo.terms.rules import FileRule, FolderRule, RegistryRule, Rule


@standard("LaunchConditions")
def launch_conditions(session: InstallSession) -> None:
    for entry in session.database["LaunchCondition"]:
        condition = entry.text("Condition")
        if not session.holds(condition, row("LaunchCondition", condition)) and not session.assume(condition):
            session.want(condition)
            raise ActionFailure(1603, session.format(entry.text("Description")) or entry.text("Condition"))


def upgrade_matches(session: InstallSession) -> list[tuple[str, str, bool]]:
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
def find_related_products(session: InstallSession) -> None:
    if session.installed:
        return
    for code, name, _ in upgrade_matches(session):
        known = session.prop(name)
        session.put_property(name, f"{known};{code}" if known and code not in known else code)


@standard("MigrateFeatureStates")
def migrate_feature_states(session: InstallSession) -> None:
    """Features of the same names get the states they have in the version that is upgraded from."""
    if session.installed or any(
        session.prop(name) for name in ("ADDLOCAL", "REMOVE", "ADDSOURCE", "ADDDEFAULT", "ADVERTISE")
    ):
        return
    migrating = {
        entry.text("ActionProperty") for entry in session.database["Upgrade"] if entry.number("Attributes") & 1
    }
    for code, name, detect in upgrade_matches(session):
        if detect or name not in migrating or code not in session.others:
            continue
        old = session.others[code].features
        changed = {feature: old[feature] for feature in session.features if feature in old}
        if changed:
            session.select(session.features | changed)
        return


@standard("AppSearch")
def app_search(session: InstallSession) -> None:
    for entry in session.database["AppSearch"]:
        name, signature = entry.text("Property"), entry.text("Signature_")
        found = _search(session, signature, row("AppSearch", name, signature), 0)
        if found:
            session.put_property(name, found)
        elif words := _unknown(session, signature, 0):
            session.unknown[name] = words
        elif (rule := _sought(session, signature)) is not None:
            session.absent[name] = rule


def _hive(locator: TableRow) -> str:
    return ROOTS.get(locator.number("Root"), "HKLM")


def _sought(session: InstallSession, signature: str) -> Rule | None:
    """What a search would find, as a rule; None where it takes more than one thing."""
    if (locator := session.database["RegLocator"].find(signature)) is not None:
        kind = locator.number("Type", 1)
        key = session.format(locator.text("Key"))
        if kind & 3 != 2 or not key:
            return None
        hive = _hive(locator)
        view: Literal["64", "32"] = "64" if kind & 16 else "32"
        return RegistryRule(key=f"{hive}\\{key}", name=session.format(locator.text("Name")), view=view)
    wanted = session.database["Signature"].find(signature)
    for locator in session.database["DrLocator"].where(Signature_=signature):
        path = session.format(locator.text("Path")).rstrip("\\")
        if locator.text("Parent") or not path:
            return None
        if wanted is None:
            return FolderRule(path=path)
        least = wanted.text("MinVersion")
        return FileRule(path=f"{path}\\{long_name(wanted.text('FileName'))}", version=f">={least}" if least else None)
    return None


def _unknown(session: InstallSession, signature: str, depth: int) -> str:
    """What a search that found nothing asks, where no data could say; empty where it is certainly not there."""
    database = session.database
    if depth > MAX_DEPTH:
        return ""
    if (locator := database["RegLocator"].find(signature)) is not None:
        hive = _hive(locator)
        key, name = session.format(locator.text("Key")), session.format(locator.text("Name"))
        known = systems.knows(session.surroundings.windows, key, name)
        return f"{hive}\\{key} has {name or 'a value'}" if systems.may_have(hive, key) and not known else ""
    if (locator := database["IniLocator"].find(signature)) is not None:
        name = long_name(locator.text("FileName")).lower()
        place = f"[{locator.text('Section')}] {locator.text('Key')}"
        return f"{name} of Windows has {place}" if name in systems.TEXTS else ""
    wanted = database["Signature"].find(signature)
    for locator in database["DrLocator"].where(Signature_=signature):
        path = session.format(locator.text("Path")).rstrip("\\")
        if locator.text("Parent"):
            return _unknown(session, locator.text("Parent"), depth + 1)
        if wanted is None:
            known = session.state.get("folder", path) is not None
            return f"{path} is there" if not known and systems.may_hold(path) else ""
        if not (path + "\\").lower().startswith(session.surroundings.folders["WindowsFolder"].lower()):
            return ""
        name = long_name(wanted.text("FileName"))
        least = wanted.text("MinVersion")
        there = session.state.get("file", f"{path}\\{name}")
        if isinstance(there, File) and not _only_later(there.version, least):
            return ""
        return f"{path}\\{name} is there" + (f" in version {least} or later" if least else "")
    return ""


def _only_later(known: str | None, least: str) -> bool:
    """Whether a version that is asked for differs from the known one in its last number alone, which updates raise."""
    try:
        wanted, have = Version.parse(least), Version.parse(known or "")
    except ValueError:
        return True
    return str(wanted).split(".")[:3] == str(have).split(".")[:3]


def _search(session: InstallSession, signature: str, where: Evidence, depth: int) -> str:
    """What a signature finds on the machine: a value, a file, or a folder with its backslash; empty for nothing."""
    database = session.database
    if depth > MAX_DEPTH:
        return ""
    if (locator := database["RegLocator"].find(signature)) is not None:
        return _in_registry(session, locator, signature)
    if (locator := database["CompLocator"].find(signature)) is not None:
        return _component(session, locator, signature)
    if (locator := database["IniLocator"].find(signature)) is not None:
        return _in_ini(session, locator, signature)
    for locator in database["DrLocator"].where(Signature_=signature):
        return _in_folder(session, locator, signature, where, depth)
    session.blind_spot(f"what {signature} finds", "no table says where it is searched for", where)
    return ""


def _in_registry(session: InstallSession, locator: TableRow, signature: str) -> str:
    kind = locator.number("Type", 1)
    hive = _hive(locator)
    key = f"{hive}/{'64' if kind & 16 else '32'}\\{session.format(locator.text('Key'))}!{session.format(locator.text('Name'))}"  # noqa: E501
    value = session.state.get("registry", key)
    if not isinstance(value, RegistryValue) or value.data is None:
        return ""
    if kind & 3 == 2:
        return ("#" if value.type == "dword" else "") + str(value.data)
    return _named(session, str(value.data).strip('"'), signature, is_file=bool(kind & 1))


def _component(session: InstallSession, locator: TableRow, signature: str) -> str:
    wanted = locator.text("ComponentId").upper()
    for memory in (*session.others.values(), *([session.installed] if session.installed else [])):
        for component, code in memory.components.items():
            if code == wanted and component in memory.key_paths:
                path = memory.key_paths[component]
                return path if locator.number("Type") & 1 else _folder(parent(path))
    return ""


def _in_ini(session: InstallSession, locator: TableRow, signature: str) -> str:
    path = f"{session.surroundings.folders['WindowsFolder']}\\{long_name(locator.text('FileName'))}"
    there = session.state.get("ini", IniValue(path, locator.text("Section"), locator.text("Key")).identity)
    if not isinstance(there, IniValue) or not there.value:
        return ""
    field = locator.number("Field")
    parts = there.value.split(",")
    value = there.value if field <= 0 else parts[field - 1] if field <= len(parts) else ""
    return (
        value
        if locator.number("Type") & 3 == 2
        else _named(session, value, signature, is_file=bool(locator.number("Type") & 1))
    )


def _in_folder(session: InstallSession, locator: TableRow, signature: str, where: Evidence, depth: int) -> str:
    path = session.format(locator.text("Path")).rstrip("\\")
    if above := locator.text("Parent"):
        found = _search(session, above, where, depth + 1)
        if not found:
            return ""
        base = found.rstrip("\\") if found.endswith("\\") else parent(found)
        path = f"{base}\\{path}".rstrip("\\")
    if not path:
        session.blind_spot(f"what {signature} finds", "it is searched for on every drive", where)
        return ""
    return _named(session, path, signature, is_file=False, levels=locator.number("Depth"))


def _named(session: InstallSession, path: str, signature: str, *, is_file: bool, levels: int = 0) -> str:
    """A path that was found: the file that the signature describes in it, or the folder itself."""
    wanted = session.database["Signature"].find(signature)
    if wanted is None:
        there = session.state.get("file", path) if is_file else session.state.get("folder", path.rstrip("\\"))
        return "" if there is None else path if is_file else _folder(path)
    folder, name = parent(path) if is_file else path.rstrip("\\"), long_name(wanted.text("FileName")).lower()
    head = folder.lower() + "\\"
    for thing in session.state.of("file"):
        inside = thing.identity[len(head) :] if thing.identity.startswith(head) else ""
        if (
            isinstance(thing, File)
            and inside.rpartition("\\")[2] == name
            and inside.count("\\") <= levels
            and _as_described(thing, wanted)
        ):
            return thing.path
    return ""


def _folder(path: str) -> str:
    return path if path.endswith("\\") else path + "\\"


def _as_described(file: File, wanted: TableRow) -> bool:
    """Version and size within what a Signature row allows."""
    for column, low in (("MinVersion", True), ("MaxVersion", False)):
        if text := wanted.text(column):
            try:
                bound, mine = Version.parse(text), Version.parse(file.version or "")
            except ValueError:
                return False
            if mine < bound if low else mine > bound:
                return False
    size = file.size or 0
    return wanted.number("MinSize") <= size and (wanted.get("MaxSize") is None or size <= wanted.number("MaxSize"))


@standard("CostFinalize")
def cost_finalize(session: InstallSession) -> None:
    session.resolve_directories()
    session.select()
