"""Fonts, database drivers, published components, access rights, and settings of services."""

from __future__ import annotations

import msgspec

from yendo.effects import AccessRights, RegistryValue, Service
from yendo.evidence import Evidence, row
from yendo.installers.msi.actions.classes import descriptor
from yendo.installers.msi.actions.registry import place
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.commandline import PRODUCT_CODE
from yendo.installers.msi.session import InstallSession
from yendo.platforms.windows import systems
from yendo.platforms.windows.registry_keys import pack_code

_ODBC = r"Software\ODBC"


@standard("RegisterFonts")
def register_fonts(session: InstallSession) -> None:
    for entry in session.database["Font"]:
        file = session.database["File"].find(entry["File_"])
        if file is None or not session.installs(file.text("Component_")):
            continue
        where, path = row("Font", entry.text("File_")), session.file_path(entry.text("File_"))
        if not entry.text("FontTitle"):
            session.blind_spot(f"font {path}", "its title stands in the font itself", where)
            continue
        if path:
            session.put(
                RegistryValue("HKLM", systems.FONTS, entry.text("FontTitle"), "sz", path.rpartition("\\")[2]), where
            )


@standard("UnregisterFonts")
def unregister_fonts(session: InstallSession) -> None:
    for entry in session.database["Font"]:
        file = session.database["File"].find(entry["File_"])
        if file is not None and session.removes(file.text("Component_")) and entry.text("FontTitle"):
            session.drop(
                "registry",
                RegistryValue("HKLM", systems.FONTS, entry.text("FontTitle")).identity,
                row("Font", entry.text("File_")),
            )


def _odbc(session: InstallSession, table: str, list_name: str, key_column: str, *, coming: bool) -> None:
    for entry in session.database[table]:
        component = entry.text("Component_")
        if not (session.installs(component) if coming else session.removes(component)):
            continue
        where, name = row(table, entry.text(key_column)), entry.text("Description")
        _, key, view = place(session, 2, f"{_ODBC}\\ODBCINST.INI\\{name}", component)
        listed = RegistryValue("HKLM", f"{_ODBC}\\ODBCINST.INI\\{list_name}", name, "sz", "Installed", view)
        values = {("Driver" if table == "ODBCDriver" else "Translator"): session.file_path(entry.text("File_")) or ""}
        if entry.text("File_Setup"):
            values["Setup"] = session.file_path(entry.text("File_Setup")) or ""
        for attribute in session.database["ODBCAttribute"] if table == "ODBCDriver" else ():
            if attribute.text("Driver_") == entry.text(key_column):
                values[attribute.text("Attribute")] = session.format(attribute.text("Value"))
        things = [listed, *(RegistryValue("HKLM", key, at, "sz", value, view) for at, value in values.items())]
        things.append(RegistryValue("HKLM", key, "UsageCount", "dword", 1, view))
        for thing in things:
            if coming:
                session.put(thing, where)
            else:
                session.drop("registry", thing.identity, where)


@standard("InstallODBC")
def install_odbc(session: InstallSession) -> None:
    _odbc(session, "ODBCDriver", "ODBC Drivers", "Driver", coming=True)
    _odbc(session, "ODBCTranslator", "ODBC Translators", "Translator", coming=True)
    for entry in session.database["ODBCDataSource"]:
        if session.installs(entry.text("Component_")):
            what = f"data source {entry.text('Description')}"
            session.blind_spot(
                what,
                f"the driver {entry.text('DriverDescription')} writes it",
                row("ODBCDataSource", entry.text("DataSource")),
            )


@standard("RemoveODBC")
def remove_odbc(session: InstallSession) -> None:
    _odbc(session, "ODBCDriver", "ODBC Drivers", "Driver", coming=False)
    _odbc(session, "ODBCTranslator", "ODBC Translators", "Translator", coming=False)


def _packed(code: str) -> str:
    """The packed form; a text that is no code stays as it is."""
    return pack_code(code) if PRODUCT_CODE.fullmatch(code) else code


@standard("PublishComponents")
def publish_components(session: InstallSession) -> None:
    for entry in session.database["PublishComponent"]:
        component = entry.text("Component_")
        owner = session.database["Component"].find(component)
        if (
            not session.installs(component)
            or owner is None
            or not owner.text("ComponentId")
            or not session.product_code
        ):
            continue
        hive = "HKLM" if session.per_machine else "HKCU"
        base = (
            r"Software\Classes\Installer\Components"
            if session.per_machine
            else r"Software\Microsoft\Installer\Components"
        )
        text = descriptor(session.product_code, entry.text("Feature_"), owner.text("ComponentId")) + session.format(
            entry.text("AppData")
        )
        where = row("PublishComponent", entry.text("ComponentId"), entry.text("Qualifier"), component)
        session.put(
            RegistryValue(
                hive, f"{base}\\{_packed(entry.text('ComponentId'))}", entry.text("Qualifier"), "multi", (text,)
            ),
            where,
        )


@standard("UnpublishComponents")
def unpublish_components(session: InstallSession) -> None:
    for entry in session.database["PublishComponent"]:
        if not session.removes(entry.text("Component_")):
            continue
        hive = "HKLM" if session.per_machine else "HKCU"
        base = (
            r"Software\Classes\Installer\Components"
            if session.per_machine
            else r"Software\Microsoft\Installer\Components"
        )
        where = row("PublishComponent", entry.text("ComponentId"), entry.text("Qualifier"), entry.text("Component_"))
        value = RegistryValue(hive, f"{base}\\{_packed(entry.text('ComponentId'))}", entry.text("Qualifier"))
        session.drop("registry", value.identity, where)


def _guarded(session: InstallSession, table: str, key: str) -> str | None:
    """What an access rule is about, where this run installs it: a path, a registry key or a service."""
    entry = session.database[table].find(key)
    if table == "CreateFolder":
        found = [
            row
            for row in session.database["CreateFolder"].where(Directory_=key)
            if session.installs(row.text("Component_"))
        ]
        return session.directory(key) if found else None
    if entry is None or not session.installs(entry.text("Component_")):
        return None
    if table == "File":
        return session.file_path(key)
    if table == "Registry":
        hive, path, _ = place(
            session, entry.number("Root"), session.format(entry.text("Key")), entry.text("Component_")
        )
        return f"{hive}\\{path}"
    return f"service {session.format(entry.text('Name'))}" if table == "ServiceInstall" else None


# Source: the documentation of the table: these two are known by their English names on every Windows.
_EVERYWHERE = ("Administrators", "Everyone")


def lock_permissions(session: InstallSession) -> None:
    """Table LockPermissions: who gets which rights, in place of those that are there."""
    for entry in session.database["LockPermissions"]:
        if target := _guarded(session, entry.text("Table"), entry.text("LockObject")):
            who = "\\".join(filter(None, (session.format(entry.text("Domain")), session.format(entry.text("User")))))
            where = row(
                "LockPermissions",
                entry.text("LockObject"),
                entry.text("Table"),
                entry.text("Domain"),
                entry.text("User"),
            )
            if who and entry.text("User") not in _EVERYWHERE:
                session.blind_spot(
                    f"whether the account {who} is there",
                    "its name is that of a Windows in English; where it has another one, the installation fails (1609)"
                    if systems.is_account(who)
                    else "no fresh Windows has it; where it is not there, the installation fails (1609)",
                    where,
                )
            session.put(AccessRights(target, who, f"0x{entry.number('Permission') & 0xFFFFFFFF:08x}"), where)


def lock_permissions_extended(session: InstallSession) -> None:
    """Table MsiLockPermissionsEx: a whole security descriptor as text."""
    for entry in session.database["MsiLockPermissionsEx"]:
        where = row("MsiLockPermissionsEx", entry.text("MsiLockPermissionsEx"))
        target = _guarded(session, entry.text("Table"), entry.text("LockObject"))
        if target and session.holds(entry.text("Condition"), where):
            session.put(AccessRights(target, "", session.format(entry.text("SDDLText"))), where)


def forget_rights(session: InstallSession) -> None:
    """Rights go with what they are on."""
    for thing in list(session.state.of("access-rights")):
        if not isinstance(thing, AccessRights):
            continue
        target = thing.target.lower()
        if target.startswith("service "):
            there = session.state.get("service", target[8:]) is not None
        elif target.startswith("hk"):
            hive, _, key = target.partition("\\")
            heads = tuple(f"{hive}/{view}\\{key}{mark}" for view in ("64", "32") for mark in "\\!")
            there = any(value.identity.startswith(heads) for value in session.state.of("registry"))
        else:
            there = session.state.get("file", target) is not None or session.state.get("folder", target) is not None
        if not there:
            session.drop("access-rights", thing.identity, Evidence("rule", "rights end with what they are on"))


_SETTINGS = {
    3: "delayed start",
    5: "service identifier",
    6: "privileges",
    7: "time to shut down",
    4: "failure actions also without a crash",
}
_ACTIONS = {0: "nothing", 1: "restart the service", 2: "restart the machine", 3: "run the command"}


@standard("MsiConfigureServices")
def configure_services(session: InstallSession) -> None:
    for entry in session.database["MsiServiceConfig"]:
        kind = entry.number("ConfigType")
        words = f"{_SETTINGS.get(kind, f'setting {kind}')}: {session.format(entry.text('Argument')) or 'default'}"
        _configure(
            session,
            entry.text("Name"),
            entry.number("Event"),
            entry.text("Component_"),
            words,
            "MsiServiceConfig",
            entry.text("MsiServiceConfig"),
        )
    for entry in session.database["MsiServiceConfigFailureActions"]:
        kinds = [part for part in session.format(entry.text("Actions")).split("\0") if part]
        waits = [part for part in session.format(entry.text("DelayActions")).split("\0") if part]
        steps = [
            _ACTIONS.get(int(kind), kind)
            + (f" after {int(waits[at]) / 1000:g} s" if at < len(waits) and waits[at].isdigit() else "")
            for at, kind in enumerate(kinds)
            if kind.isdigit()
        ]
        words = f"on failure: {', '.join(steps) or 'nothing'}"
        table = "MsiServiceConfigFailureActions"
        _configure(
            session,
            entry.text("Name"),
            entry.number("Event"),
            entry.text("Component_"),
            words,
            table,
            entry.text(table),
        )


def _configure(
    session: InstallSession, name: str, event: int, component: str, words: str, table: str, key: str
) -> None:
    if not ((event & 1 and session.installs(component)) or (event & 2 and session.removes(component))):
        return
    there = session.state.get("service", session.format(name))
    if isinstance(there, Service):
        settings = (*(there.settings or ()), words)
        session.put(msgspec.structs.replace(there, settings=tuple(dict.fromkeys(settings))), row(table, key))


@standard("StartServices")
def start_services(session: InstallSession) -> None:
    for entry in session.database["ServiceControl"]:
        _control(
            session,
            entry.number("Event"),
            1,
            16,
            entry.text("Component_"),
            entry.text("Name"),
            entry.text("ServiceControl"),
            running=True,
        )


@standard("StopServices")
def stop_services(session: InstallSession) -> None:
    for entry in session.database["ServiceControl"]:
        _control(
            session,
            entry.number("Event"),
            2,
            32,
            entry.text("Component_"),
            entry.text("Name"),
            entry.text("ServiceControl"),
            running=False,
        )


def _control(
    session: InstallSession,
    event: int,
    install: int,
    remove: int,
    component: str,
    name: str,
    key: str,
    *,
    running: bool,
) -> None:
    if not ((event & install and session.installs(component)) or (event & remove and session.removes(component))):
        return
    there = session.state.get("service", session.format(name))
    if isinstance(there, Service) and bool(there.running) != running:
        session.put(msgspec.structs.replace(there, running=running), row("ServiceControl", key))


_COUNTED = 8  # Component.Attributes: other products may use its file, and their number is kept
_SHARED = r"Software\Microsoft\Windows\CurrentVersion\SharedDLLs"


@standard("ProcessComponents")
def process_components(session: InstallSession) -> None:
    """Keeps count of who uses shared files."""
    for entry in session.database["Component"]:
        component = entry.text("Component")
        path = session.file_path(entry.text("KeyPath"))
        if not entry.number("Attributes") & _COUNTED or path is None:
            continue
        where = row("Component", component)
        own = RegistryValue("HKLM", _SHARED, path, "dword", view=session.view(component))
        known = session.state.get("registry", own.identity)
        count = known.data if isinstance(known, RegistryValue) and isinstance(known.data, int) else None
        counted = session.installed is not None and component in session.installed.components
        if session.installs(component) and not counted:
            there = session.state.get("file", path) is not None
            now = (count if count is not None else int(there)) + 1
            session.put(msgspec.structs.replace(own, data=now), where)
        elif session.removes(component) and count is not None:
            if count > 1:
                session.put(msgspec.structs.replace(own, data=count - 1), where)
            else:
                session.drop("registry", own.identity, where)
