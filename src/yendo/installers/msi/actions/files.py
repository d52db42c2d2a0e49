"""Files and folders."""

from __future__ import annotations

from yendo.effects import File
from yendo.effects.things import parent
from yendo.evidence import Evidence, row
from yendo.facts.versions import Version
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import LOCAL, Session, all_clean, clean, long_name


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
            drop_empty(session, session.directory(entry.text("Directory_")), row("CreateFolder", entry.text("Directory_"), entry.text("Component_")))


def drop_empty(session: Session, path: str, evidence: Evidence) -> None:
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
                drop_empty(session, parent(path), where)


def _duplicate(session: Session, folder: str, name: str, source: str) -> str:
    if folder and not session.prop(folder):
        return ""
    base = session.prop(folder).rstrip("\\") if folder else parent(source)
    return f"{base}\\{long_name(name) or source.rpartition(chr(92))[2]}"
