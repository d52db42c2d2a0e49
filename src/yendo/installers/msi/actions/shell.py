"""Shortcuts, environment variables, ini files and services."""

from __future__ import annotations

from typing import Literal

from yendo.effects import Environment, File, IniValue, Service, Shortcut
from yendo.effects.things import parent
from yendo.evidence import row
from yendo.installers.msi.actions.files import drop_empty
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import InstallSession, long_name


@standard("CreateShortcuts")
def create_shortcuts(session: InstallSession) -> None:
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


def _shortcut_path(session: InstallSession, folder: str, name: str) -> str:
    plain = long_name(name)
    return f"{session.directory(folder)}\\{plain if plain.lower().endswith('.lnk') else plain + '.lnk'}"


@standard("RemoveShortcuts")
def remove_shortcuts(session: InstallSession) -> None:
    for entry in session.database["Shortcut"]:
        if session.removes(entry.text("Component_")):
            path, where = (
                _shortcut_path(session, entry.text("Directory_"), entry.text("Name")),
                row("Shortcut", entry.text("Shortcut")),
            )
            session.drop("shortcut", path, where)
            drop_empty(session, parent(path), where)


def _environment(name: str) -> tuple[str, str]:
    """``(flags, plain name)``; without a flag a variable is set and taken away again."""
    plain = name.lstrip("=+-!*")
    flags = name[: len(name) - len(plain)]
    return flags if set(flags) & set("=+!") else flags + ("" if "-" in flags else "=-"), plain


@standard("WriteEnvironmentStrings")
def write_environment_strings(session: InstallSession) -> None:
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
def remove_environment_strings(session: InstallSession) -> None:
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
def write_ini_values(session: InstallSession) -> None:
    for entry in session.database["IniFile"]:
        if not session.installs(entry.text("Component_")):
            continue
        where = row("IniFile", entry.text("IniFile"))
        thing = _ini(session, entry)
        if entry.number("Action") == 1 and session.state.has(thing):
            continue
        there = session.state.get("ini", thing.identity)
        if entry.number("Action") == 3 and isinstance(there, IniValue) and there.value:  # add a tag
            if thing.value in there.value.split(","):
                continue
            thing = IniValue(thing.path, thing.section, thing.key, f"{there.value},{thing.value}")
        session.put_folder(parent(thing.path), where)
        if session.state.get("file", thing.path) is None:
            session.put(File(thing.path), where)
        session.put(thing, where)


def _ini(session: InstallSession, entry: object) -> IniValue:
    text = entry.text  # type: ignore[attr-defined]
    folder = (
        session.prop(text("DirProperty")).rstrip("\\")
        if text("DirProperty")
        else session.surroundings.folders["WindowsFolder"]
    )
    return IniValue(
        f"{folder}\\{long_name(text('FileName'))}",
        session.format(text("Section")),
        session.format(text("Key")),
        session.format(text("Value")),
    )


@standard("RemoveIniValues")
def remove_ini_values(session: InstallSession) -> None:
    _remove_ini_rows(session)
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
                drop_empty(session, parent(thing.path), where)


def _remove_ini_rows(session: InstallSession) -> None:
    """Table RemoveIniFile: lines and single tags that go when the component comes."""
    for entry in session.database["RemoveIniFile"]:
        if not session.installs(entry.text("Component_")):
            continue
        thing, where = _ini(session, entry), row("RemoveIniFile", entry.text("RemoveIniFile"))
        there = session.state.get("ini", thing.identity)
        if not isinstance(there, IniValue):
            continue
        left = (
            [part for part in (there.value or "").split(",") if part and part != thing.value]
            if entry.number("Action") == 4
            else []
        )
        if left:
            session.put(IniValue(thing.path, thing.section, thing.key, ",".join(left)), where)
        else:
            session.drop("ini", thing.identity, where)


_STARTS = {0: "boot", 1: "system", 2: "auto", 3: "demand", 4: "disabled"}


@standard("InstallServices")
def install_services(session: InstallSession) -> None:
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
def delete_services(session: InstallSession) -> None:
    for entry in session.database["ServiceControl"]:
        event, component = entry.number("Event"), entry.text("Component_")
        if (event & 128 and session.removes(component)) or (event & 8 and session.installs(component)):
            session.drop(
                "service", session.format(entry.text("Name")), row("ServiceControl", entry.text("ServiceControl"))
            )
