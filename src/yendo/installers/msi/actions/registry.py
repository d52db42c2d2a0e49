"""Registry values."""

from __future__ import annotations

from yendo.effects import RegistryKey, RegistryValue
from yendo.effects.things import Data, View
from yendo.evidence import Evidence, row
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import ROOTS, InstallSession


def place(session: InstallSession, root: int, key: str, component: str) -> tuple[str, str, View]:
    """``(hive, key, view)`` of a Registry row, with classes and the 32-bit half put where they land."""
    hive = ROOTS.get(root, "HKLM" if session.per_machine else "HKCU")
    if hive == "HKCR":
        hive, key = ("HKLM" if session.per_machine else "HKCU"), f"Software\\Classes\\{key}"
    key = key.strip("\\")
    lowered = key.lower()
    split = (
        hive == "HKLM"
        and lowered.startswith("software\\")
        and (
            not lowered.startswith("software\\classes\\")
            or lowered.split("\\")[2:3] in (["clsid"], ["interface"], ["mediatype"], ["directshow"])
        )
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
def write_registry_values(session: InstallSession) -> None:
    for entry in session.database["Registry"]:
        component, name = entry.text("Component_"), entry.text("Name")
        value = entry.get("Value")
        if not session.installs(component) or (name == "-" and value is None):
            continue
        where = row("Registry", entry.text("Registry"))
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if name in ("+", "*") and value is None:
            if not any(
                thing.identity.startswith(f"{hive}/{view}\\{key}".lower()) for thing in session.state.of("registry")
            ):
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
def remove_registry_values(session: InstallSession) -> None:
    for entry in session.database["Registry"]:
        component = entry.text("Component_")
        if not session.removes(component):
            continue
        where = row("Registry", entry.text("Registry"))
        name, value = entry.text("Name"), entry.get("Value")
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if value is None and name in ("-", "*"):
            drop_tree(session, hive, key, view, where)
        elif value is None and name == "+":
            pass  # made at the install, and no more; source: the Registry table's documentation
        else:
            session.drop("registry", RegistryValue(hive, key, session.format(name), view=view).identity, where)
    for entry in session.database["RemoveRegistry"]:  # these go when the component comes
        component = entry.text("Component_")
        if not session.installs(component):
            continue
        where = row("RemoveRegistry", entry.text("RemoveRegistry"))
        hive, key, view = place(session, entry.number("Root"), session.format(entry.text("Key")), component)
        if entry.text("Name") == "-":
            drop_tree(session, hive, key, view, where)
        else:
            session.drop(
                "registry", RegistryValue(hive, key, session.format(entry.text("Name")), view=view).identity, where
            )


def drop_tree(session: InstallSession, hive: str, key: str, view: str, where: Evidence) -> None:
    """Takes a key away with everything below it."""
    head = f"{hive}/{view}\\{key}".lower()
    for thing in list(session.state.of("registry", "registry-key")):
        if thing.identity.startswith((head + "\\", head + "!")) or thing.identity == head:
            session.drop("registry" if isinstance(thing, RegistryValue) else "registry-key", thing.identity, where)
