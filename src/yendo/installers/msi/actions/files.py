"""Files and folders."""

from __future__ import annotations

from yendo.effects import File
from yendo.effects.things import parent
from yendo.evidence import Evidence, row
from yendo.facts.versions import Version
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import LOCAL, InstallSession, all_clean, clean, long_name


def _version(text: str) -> Version | None:
    try:
        return Version.parse(text) if text else None
    except ValueError:
        return None  # the key of a companion file stands in the column


@standard("CreateFolders")
def create_folders(session: InstallSession) -> None:
    for entry in session.database["CreateFolder"]:
        if session.installs(entry.text("Component_")):
            session.put_folder(
                session.directory(entry.text("Directory_")),
                row("CreateFolder", entry.text("Directory_"), entry.text("Component_")),
            )


@standard("RemoveFolders")
def remove_folders(session: InstallSession) -> None:
    for entry in session.database["CreateFolder"]:
        if session.removes(entry.text("Component_")):
            drop_empty(
                session,
                session.directory(entry.text("Directory_")),
                row("CreateFolder", entry.text("Directory_"), entry.text("Component_")),
            )


def drop_empty(session: InstallSession, path: str, evidence: Evidence) -> None:
    """Takes a folder away while it is empty and was made by the installer, and so on upwards."""
    while path.lower() in session.created and session.state.is_empty(path):
        if not session.drop("folder", path, evidence):
            return
        path = parent(path)


@standard("InstallFiles")
def install_files(session: InstallSession) -> None:
    made: set[str] = set()
    names = [long_name(named) for _, named in session.database["File"].pick("File", "FileName")]
    if not all_clean(names):
        for name in names:
            clean(name)
    components, there_is, folders = _without_assemblies(session), session.state.items().get, session.component_folder
    columns = session.database["File"].pick("File", "Component_", "FileSize", "Version")
    mode, contents = session.prop("REINSTALLMODE").lower() or "omus", session.contents
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
        sha256 = session.sha256_of(key) if contents else None
        if isinstance(there, File) and not _replaces(mode, there, mine, size, sha256):
            continue
        session.put(File(path, size or 0, sha256, str(mine) if mine else None), evidence, identity)
    place_isolated(session)


def _without_assemblies(session: InstallSession) -> dict[str, int]:
    """The states of components, without those whose files go to the machine's store of shared assemblies."""
    shared = {
        entry.text("Component_"): entry
        for entry in session.database["MsiAssembly"]
        if not entry.text("File_Application")
    }
    for component in shared:
        if session.installs(component):
            parts = {
                entry.text("Name").lower(): entry.text("Value")
                for entry in session.database["MsiAssemblyName"].where(Component_=component)
            }
            name = f"{parts.get('name', component)} {parts.get('version', '')}".strip()
            why = "its files go to the machine's store of assemblies, in folders that the store itself names"
            session.blind_spot(f"shared assembly {name}", why, row("MsiAssembly", component))
    return (
        {name: state for name, state in session.components.items() if name not in shared}
        if shared
        else session.components
    )


def _replaces(mode: str, there: File, mine: Version | None, size: int, sha256: str | None) -> bool:
    """Whether a file takes the place of one of its name.

    Source: "File Versioning Rules" and the property REINSTALLMODE. The date of an unversioned file
    is not known here: one that nobody has changed since it was installed is taken to be unchanged.
    """
    if "a" in mode:
        return True
    if "p" in mode:
        return False
    if there.version:
        old = _version(there.version)
        if mine is None or old is None:
            return False
        return mine > old or ("e" in mode and mine == old) or ("d" in mode and mine != old)
    if mine is not None:
        return True
    return there.size != size or (sha256 is not None and there.sha256 is not None and sha256 != there.sha256)


@standard("RemoveFiles")
def remove_files(session: InstallSession) -> None:
    if session.removing or session.installed:
        remove_isolated(session)
        for entry in session.database["File"]:
            if not session.removes(entry["Component_"]):
                continue
            path = session.file_path(entry["File"])
            if path and session.drop("file", path, row("File", entry["File"])):
                drop_empty(session, parent(path), row("File", entry["File"]))
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
        drop_empty(session, folder, where)
        if not name and session.state.is_empty(folder):
            session.drop("folder", folder, where)


def _matching(session: InstallSession, folder: str, pattern: str) -> list[str]:
    from fnmatch import fnmatchcase

    if not any(character in pattern for character in "*?"):
        return [f"{folder}\\{pattern}"]
    head, wanted = folder.lower() + "\\", pattern.lower().replace("[", "[[]")
    return [
        thing.identity
        for thing in list(session.state.of("file"))
        if thing.identity.startswith(head)
        and "\\" not in thing.identity[len(head) :]
        and fnmatchcase(thing.identity[len(head) :], wanted)
    ]


@standard("DuplicateFiles")
def duplicate_files(session: InstallSession) -> None:
    for entry in session.database["DuplicateFile"]:
        source = session.file_path(entry.text("File_"))
        if source and session.installs(entry.text("Component_")):
            path, where = (
                _duplicate(session, entry.text("DestFolder"), entry.text("DestName"), source),
                row("DuplicateFile", entry.text("FileKey")),
            )
            there = session.state.get("file", source)
            if path and isinstance(there, File):
                session.put_folder(parent(path), where)
                session.put(File(path, there.size, there.sha256, there.version), where)


@standard("RemoveDuplicateFiles")
def remove_duplicate_files(session: InstallSession) -> None:
    for entry in session.database["DuplicateFile"]:
        source = session.file_path(entry.text("File_"))
        if source and session.removes(entry.text("Component_")):
            path = _duplicate(session, entry.text("DestFolder"), entry.text("DestName"), source)
            where = row("DuplicateFile", entry.text("FileKey"))
            if path and session.drop("file", path, where):
                drop_empty(session, parent(path), where)


def _duplicate(session: InstallSession, folder: str, name: str, source: str) -> str:
    if folder and not session.prop(folder):
        return ""
    base = session.prop(folder).rstrip("\\") if folder else parent(source)
    return f"{base}\\{long_name(name) or source.rpartition(chr(92))[2]}"


@standard("MoveFiles")
def move_files(session: InstallSession) -> None:
    """Copies or moves files that are on the machine already."""
    for entry in session.database["MoveFile"]:
        if not session.installs(entry.text("Component_")):
            continue
        where = row("MoveFile", entry.text("FileKey"))
        source, target = (
            session.prop(entry.text("SourceFolder")).rstrip("\\"),
            session.prop(entry.text("DestFolder")).rstrip("\\"),
        )
        name, new_name = long_name(entry.text("SourceName")), long_name(entry.text("DestName"))
        if not source or not target:
            continue
        paths = _matching(session, source, name) if name else [source]
        wild = any(character in name for character in "*?")
        for path in paths:
            there = session.state.get("file", path)
            if not isinstance(there, File):
                continue
            own = there.path.rpartition("\\")[2]
            session.put_folder(target, where)
            session.put(
                File(f"{target}\\{own if wild or not new_name else new_name}", there.size, there.sha256, there.version),
                where,
            )
            if entry.number("Options") & 1:
                session.drop("file", there.path, where)


@standard("IsolateComponents")
def isolate_components(session: InstallSession) -> None:
    """Notes which components are copied beside a program; the copies are made with the files."""
    for entry in session.database["IsolatedComponent"]:
        shared, application = entry.text("Component_Shared"), entry.text("Component_Application")
        if session.database["Component"].find(shared) is not None:
            session.isolated.append((shared, application))


def place_isolated(session: InstallSession) -> None:
    """The copies of shared components beside their program, and the empty file that makes the loader take them."""
    for shared, application in session.isolated:
        if not (session.installs(shared) and session.installs(application)):
            continue
        where = row("IsolatedComponent", shared, application)
        program = session.key_path(application)
        folder = parent(program)
        for key, component in list(session.database["File"].pick("File", "Component_")):
            path = session.file_path(key) if component == shared else None
            there = session.state.get("file", path) if path else None
            if isinstance(there, File):
                session.put(
                    File(f"{folder}\\{there.path.rpartition(chr(92))[2]}", there.size, there.sha256, there.version),
                    where,
                )
        session.put(File(f"{program}.LOCAL", 0), where)


def remove_isolated(session: InstallSession) -> None:
    for shared, application in session.isolated:
        if not session.removes(application):
            continue
        where, program = row("IsolatedComponent", shared, application), session.key_path(application)
        for key, component in list(session.database["File"].pick("File", "Component_")):
            path = session.file_path(key) if component == shared else None
            if path:
                session.drop("file", f"{parent(program)}\\{path.rpartition(chr(92))[2]}", where)
        session.drop("file", f"{program}.LOCAL", where)
