"""COM classes, programmatic identifiers, file types, content types and type libraries: all of them registry keys."""

from __future__ import annotations

import uuid
from collections.abc import Iterator

from yendo.effects import RegistryKey, RegistryValue
from yendo.effects.things import Data
from yendo.evidence import Evidence, row
from yendo.formats.msi import TableRow
from yendo.installers.msi.actions.registry import drop_tree, place
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import LOCAL, InstallSession

_BASE_85 = "!$%&'()*+,-.0123456789=?@ABCDEFGHIJKLMNOPQRSTUVWXYZ[]^_`abcdefghijklmnopqrstuvwxyz{}~"


def descriptor(product: str, feature: str, component: str) -> str:
    """The text by which a registration says which feature and component brings it.

    Source: observed in registrations of the real installer: the product's and the component's
    identifiers in base 85, four numbers of five digits each, the feature's name between them.
    """

    def packed(code: str) -> str:
        raw, out = uuid.UUID(code).bytes_le, ""
        for at in range(0, 16, 4):
            number = int.from_bytes(raw[at : at + 4], "little")
            for _ in range(5):
                number, digit = divmod(number, 85)
                out += _BASE_85[digit]
        return out

    return f"{packed(product)}{feature}>{packed(component)}"


class _Writer:
    """Registry values below the classes, of one component and one row."""

    def __init__(self, session: InstallSession, component: str, evidence: Evidence) -> None:
        self.session, self.component, self.evidence = session, component, evidence

    def set(self, key: str, name: str, data: Data, kind: str | None = "sz") -> None:
        hive, path, view = place(self.session, 0, key, self.component)
        self.session.put(RegistryValue(hive, path, name, kind, data, view), self.evidence)

    def create(self, key: str) -> None:
        hive, path, view = place(self.session, 0, key, self.component)
        self.session.put(RegistryKey(hive, path, view), self.evidence)

    def drop(self, key: str) -> None:
        drop_tree(self.session, *place(self.session, 0, key, self.component), self.evidence)


def _registers(session: InstallSession, entry: TableRow) -> bool:
    """Whether a row with a feature and a component is registered in this run."""
    feature, component = entry.text("Feature_"), entry.text("Component_")
    if session.removing:
        return False
    return session.features.get(feature) == LOCAL and (session.installs(component) or component in session.kept)


def _withdraws(session: InstallSession, entry: TableRow) -> bool:
    """Whether a row with a feature and a component loses its registration in this run."""
    was = session.installed is not None and entry.text("Component_") in session.installed.components
    return was and session.features.get(entry.text("Feature_")) != LOCAL


def _icon(session: InstallSession, entry: TableRow) -> str:
    icon, index = entry.text("Icon_"), entry.get("IconIndex")
    if not icon:
        return ""
    path = f"{session.surroundings.folders['WindowsFolder']}\\Installer\\{session.product_code}\\{icon}"
    return f"{path},{index}" if index is not None else path


@standard("RegisterClassInfo")
def register_classes(session: InstallSession) -> None:
    for entry in session.database["Class"]:
        if not _registers(session, entry):
            continue
        code, context, component = entry.text("CLSID"), entry.text("Context"), entry.text("Component_")
        write = _Writer(session, component, row("Class", code, context, component))
        key = f"CLSID\\{code}"
        if entry.text("Description"):
            write.set(key, "", entry.text("Description"))
        program = session.key_path(component)
        argument = session.format(entry.text("Argument"))
        write.set(f"{key}\\{context}", "", f"{program} {argument}" if argument else program)
        if program_id := entry.text("ProgId_Default"):
            write.set(f"{key}\\ProgID", "", program_id)
            for other in session.database["ProgId"].where(ProgId_Parent=program_id):
                write.set(f"{key}\\VersionIndependentProgID", "", other.text("ProgId"))
        if application := entry.text("AppId_"):
            write.set(key, "AppID", application)
            _application(session, application, entry.text("Description"), component)
        if icon := _icon(session, entry):
            write.set(f"{key}\\DefaultIcon", "", icon)
        if handler := entry.text("DefInprocHandler"):
            names = {"1": [("InprocHandler", "ole.dll")], "2": [("InprocHandler32", "ole32.dll")]}
            both = [*names["1"], *names["2"]]
            for name, file in names.get(handler, both if handler == "3" else [("InprocHandler32", handler)]):
                write.set(f"{key}\\{name}", "", file)
        for at, mask in enumerate(filter(None, entry.text("FileTypeMask").split(";"))):
            write.set(f"FileType\\{code}\\{at}", "", mask)


def _application(session: InstallSession, code: str, name: str, component: str) -> None:
    found = session.database["AppId"].find(code)
    if found is None:
        return
    write, key = _Writer(session, component, row("AppId", code)), f"AppID\\{code}"
    if name:
        write.set(key, "", name)
    for column, value in (
        ("RemoteServerName", "RemoteServerName"),
        ("LocalService", "LocalService"),
        ("ServiceParameters", "ServiceParameters"),
    ):
        if text := session.format(found.text(column)):
            write.set(key, value, text)
    if found.get("DllSurrogate") is not None:
        write.set(key, "DllSurrogate", found.text("DllSurrogate"))
    if found.number("ActivateAtStorage"):
        write.set(key, "ActivateAtStorage", "Y")
    if found.number("RunAsInteractiveUser"):
        write.set(key, "RunAs", "Interactive User")


@standard("UnregisterClassInfo")
def unregister_classes(session: InstallSession) -> None:
    for entry in session.database["Class"]:
        if not _withdraws(session, entry):
            continue
        code, component = entry.text("CLSID"), entry.text("Component_")
        write = _Writer(session, component, row("Class", code, entry.text("Context"), component))
        write.drop(f"CLSID\\{code}")
        if application := entry.text("AppId_"):
            write.drop(f"AppID\\{application}")
        if entry.text("FileTypeMask"):
            write.drop(f"FileType\\{code}")


def _program_ids(session: InstallSession, *, coming: bool) -> Iterator[tuple[TableRow, str]]:
    """The programmatic identifiers that come (or go) with a class or a file type, each with the component."""
    database = session.database
    owners: dict[str, str] = {}
    moves = _registers if coming else _withdraws
    for entry in database["Class"]:
        if entry.text("ProgId_Default") and moves(session, entry):
            owners[entry.text("ProgId_Default")] = entry.text("Component_")
    for entry in database["Extension"]:
        if entry.text("ProgId_") and moves(session, entry):
            owners[entry.text("ProgId_")] = entry.text("Component_")
    for entry in database["ProgId"]:  # those that name a class without being its default, and those without a version
        for known in database["Class"].where(CLSID=entry.text("Class_")):
            if entry.text("Class_") and moves(session, known):
                owners.setdefault(entry.text("ProgId"), known.text("Component_"))
    for _ in range(8):
        more = {
            entry.text("ProgId"): owners[entry.text("ProgId_Parent")]
            for entry in database["ProgId"]
            if entry.text("ProgId_Parent") in owners and entry.text("ProgId") not in owners
        }
        if not more:
            break
        owners |= more
    for entry in database["ProgId"]:
        if entry.text("ProgId") in owners:
            yield entry, owners[entry.text("ProgId")]


@standard("RegisterProgIdInfo")
def register_program_ids(session: InstallSession) -> None:
    for entry, component in _program_ids(session, coming=True):
        key, above = (
            entry.text("ProgId"),
            session.database["ProgId"].find(entry["ProgId_Parent"]) if entry["ProgId_Parent"] else None,
        )
        write = _Writer(session, component, row("ProgId", key))
        if entry.text("Description"):
            write.set(key, "", entry.text("Description"))
        code = entry.text("Class_") or (above.text("Class_") if above is not None else "")
        if code:
            write.set(f"{key}\\CLSID", "", code)
        if icon := _icon(session, entry):
            write.set(f"{key}\\DefaultIcon", "", icon)
        if above is not None:
            write.set(f"{key}\\CurVer", "", above.text("ProgId"))


@standard("UnregisterProgIdInfo")
def unregister_program_ids(session: InstallSession) -> None:
    for entry, component in _program_ids(session, coming=False):
        _Writer(session, component, row("ProgId", entry.text("ProgId"))).drop(entry.text("ProgId"))


@standard("RegisterExtensionInfo")
def register_extensions(session: InstallSession) -> None:
    for entry in session.database["Extension"]:
        if not _registers(session, entry):
            continue
        component, program_id = entry.text("Component_"), entry.text("ProgId_")
        write, key = (
            _Writer(session, component, row("Extension", entry.text("Extension"), component)),
            f".{entry.text('Extension')}",
        )
        if entry.text("MIME_"):
            write.set(key, "Content Type", entry.text("MIME_"))
        if program_id:
            write.set(key, "", program_id)
            write.create(f"{key}\\{program_id}\\ShellNew")
        _verbs(session, entry, program_id)


def _verbs(session: InstallSession, extension: TableRow, program_id: str) -> None:
    component, feature = extension.text("Component_"), extension.text("Feature_")
    owner = session.database["Component"].find(component)
    verbs = sorted(
        session.database["Verb"].where(Extension_=extension["Extension"]), key=lambda verb: verb.number("Sequence")
    )
    first = next((verb for verb in verbs if verb.get("Sequence") is not None), None)
    for verb in verbs if program_id else []:
        name, argument = verb.text("Verb"), session.format(verb.text("Argument"))
        write, key = (
            _Writer(session, component, row("Verb", extension.text("Extension"), name)),
            f"{program_id}\\shell\\{name}",
        )
        command = f'"{session.key_path(component)}"' + (f" {argument}" if argument else "")
        write.set(f"{key}\\command", "", command)
        if owner is not None and owner.text("ComponentId") and session.product_code:
            text = descriptor(session.product_code, feature, owner.text("ComponentId"))
            write.set(f"{key}\\command", "command", (f"{text} {argument}" if argument else text,), "multi")
        if verb.text("Command"):
            write.set(key, "", session.format(verb.text("Command")))
        if first is verb:
            write.set(f"{program_id}\\shell", "", name)


@standard("UnregisterExtensionInfo")
def unregister_extensions(session: InstallSession) -> None:
    for entry in session.database["Extension"]:
        if _withdraws(session, entry):
            component = entry.text("Component_")
            write = _Writer(session, component, row("Extension", entry.text("Extension"), component))
            write.drop(f".{entry.text('Extension')}")
            if entry.text("ProgId_"):
                write.drop(f"{entry.text('ProgId_')}\\shell")


@standard("RegisterMIMEInfo")
def register_content_types(session: InstallSession) -> None:
    for entry in session.database["MIME"]:
        for owner in session.database["Extension"].where(Extension=entry["Extension_"]):
            if _registers(session, owner):
                write = _Writer(session, owner.text("Component_"), row("MIME", entry.text("ContentType")))
                key = f"MIME\\Database\\Content Type\\{entry.text('ContentType')}"
                write.set(key, "Extension", f".{entry.text('Extension_')}")
                if entry.text("CLSID"):
                    write.set(key, "CLSID", entry.text("CLSID"))


@standard("UnregisterMIMEInfo")
def unregister_content_types(session: InstallSession) -> None:
    for entry in session.database["MIME"]:
        for owner in session.database["Extension"].where(Extension=entry["Extension_"]):
            if _withdraws(session, owner):
                write = _Writer(session, owner.text("Component_"), row("MIME", entry.text("ContentType")))
                write.drop(f"MIME\\Database\\Content Type\\{entry.text('ContentType')}")


@standard("RegisterTypeLibraries")
def register_type_libraries(session: InstallSession) -> None:
    for entry in session.database["TypeLib"]:
        component = entry.text("Component_")
        if not session.installs(component):
            continue
        write = _Writer(session, component, row("TypeLib", entry.text("LibID"), entry["Language"], component))
        key, code = f"TypeLib\\{entry.text('LibID')}", entry.get("Version")
        if not isinstance(code, int):
            session.blind_spot(
                f"type library {entry.text('LibID')}", "its version stands in the library itself", write.evidence
            )
            continue
        version = f"{code >> 8:x}.{code & 0xFF:x}"
        write.set(f"{key}\\{version}", "", entry.text("Description") or None, None)
        write.set(f"{key}\\{version}\\FLAGS", "", None, None)
        width = "win64" if session.view(component) == "64" else "win32"
        write.set(f"{key}\\{version}\\{entry.number('Language'):x}\\{width}", "", session.key_path(component))
        folder = session.directory(entry.text("Directory_")) if entry.text("Directory_") else None
        write.set(f"{key}\\{version}\\HELPDIR", "", folder, None)


@standard("UnregisterTypeLibraries")
def unregister_type_libraries(session: InstallSession) -> None:
    for entry in session.database["TypeLib"]:
        component = entry.text("Component_")
        if session.removes(component):
            _Writer(session, component, row("TypeLib", entry.text("LibID"), entry["Language"], component)).drop(
                f"TypeLib\\{entry.text('LibID')}"
            )
