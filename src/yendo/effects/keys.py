"""What a registry key stands for: some keys are an entry of a list, a service or an environment rather than values."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Literal

from yendo.effects.state import State
from yendo.effects.things import (
    Data,
    Environment,
    Product,
    RegistryKey,
    RegistryValue,
    Service,
    Thing,
    UninstallEntry,
    View,
    kind_of,
)
from yendo.errors import NotCovered

_UNINSTALL = r"software\microsoft\windows\currentversion\uninstall" + "\\"
_SERVICES = "system\\currentcontrolset\\services\\"
# Where environment variables lie, and whose they are.
SCOPES: dict[tuple[str, str], Literal["machine", "user"]] = {
    ("HKLM", r"system\currentcontrolset\control\session manager\environment"): "machine",
    ("HKCU", "environment"): "user",
}
_PRODUCTS = re.compile(
    r"software\\microsoft\\windows\\currentversion\\installer\\userdata\\([^\\]+)\\products\\([0-9a-f]{32})\\installproperties$"
)
_STARTS = {0: "boot", 1: "system", 2: "auto", 3: "demand", 4: "disabled"}


def unpack_code(packed: str) -> str:
    """A product code from the packed form the installer keeps it in."""
    groups = [packed[0:8], packed[8:12], packed[12:16]]
    rest = [packed[at : at + 2][::-1] for at in range(16, 32, 2)]
    return "{" + "-".join([*(group[::-1] for group in groups), "".join(rest[:2]), "".join(rest[2:])]).upper() + "}"


def pack_code(code: str) -> str:
    """A product's or component's code in the packed form of the installer's registry keys."""
    one, two, three, four, five = code.strip("{}").upper().split("-")
    return one[::-1] + two[::-1] + three[::-1] + "".join((four + five)[at : at + 2][::-1] for at in range(0, 16, 2))


def things_of_key(
    hive: str, key: str, view: View, found: Mapping[str, tuple[str, Data]], *, has_children: bool = False
) -> Iterator[Thing]:
    """The things that one key stands for; ``found`` maps a value's name to its type and data."""
    lowered = key.lower()
    texts = {name.lower(): data for name, (_, data) in found.items()}

    def text(name: str) -> str | None:
        value = texts.get(name)
        return value if isinstance(value, str) and value else None

    if (
        lowered.startswith(_UNINSTALL)
        and "\\" not in lowered[len(_UNINSTALL) :]
        and ("displayname" in texts or "uninstallstring" in texts)
    ):
        yield UninstallEntry(
            key[len(_UNINSTALL) :],
            hive,
            view,
            text("displayname"),
            text("displayversion"),
            text("publisher"),
            text("uninstallstring"),
            text("quietuninstallstring"),
            texts.get("systemcomponent") == 1,
        )
    elif lowered.startswith(_SERVICES) and "\\" not in lowered[len(_SERVICES) :] and "imagepath" in texts:
        depends = texts.get("dependonservice", ())
        yield Service(
            key[len(_SERVICES) :],
            text("displayname"),
            text("imagepath"),
            _STARTS.get(texts.get("start", 3)),  # type: ignore[arg-type]
            text("objectname"),
            depends if isinstance(depends, tuple) else (),
        )
    elif scope := SCOPES.get((hive, lowered)):
        yield from (Environment(name, str(data), scope) for name, (_, data) in found.items())
    elif match := _PRODUCTS.match(lowered):
        language = texts.get("language")
        yield Product(
            unpack_code(match[2].upper()),
            text("displayname"),
            text("displayversion"),
            language if isinstance(language, int) else None,
            "machine" if match[1] == "s-1-5-18" else "user",
        )
        yield from (RegistryValue(hive, key, name, kind, data, view) for name, (kind, data) in found.items())
    elif found:
        yield from (RegistryValue(hive, key, name, kind, data, view) for name, (kind, data) in found.items())
    elif not has_children:
        yield RegistryKey(hive, key, view)


_FIELDS = {  # values that are a field of a thing of its own
    "uninstall-entry": {
        "displayname": "name",
        "displayversion": "version",
        "publisher": "publisher",
        "uninstallstring": "uninstall",
        "quietuninstallstring": "quiet_uninstall",
        "systemcomponent": "hidden",
    },
    "service": {"displayname": "display_name", "imagepath": "command", "start": "start", "objectname": "account"},
}


def value_of(state: State, hive: str, view: View, key: str, name: str) -> Data:
    """A registry value's data, also where its key stands for a thing of its own. None where there is none.

    Raises NotCovered where the thing is there and what it stands for does not tell this value.
    """
    found = state.get("registry", RegistryValue(hive, key, name, view=view).identity)
    if isinstance(found, RegistryValue):
        return "" if found.data is None else found.data
    lowered, asked = key.lower(), name.lower()
    thing: Thing | None = None
    if lowered.startswith(_UNINSTALL):
        thing = state.get("uninstall-entry", UninstallEntry(key[len(_UNINSTALL) :], hive, view).identity)
    elif lowered.startswith(_SERVICES) and hive == "HKLM":
        thing = state.get("service", key[len(_SERVICES) :])
    elif scope := SCOPES.get((hive, lowered)):
        variable = state.get("environment", f"{scope}:{name}")
        return variable.value if isinstance(variable, Environment) else None
    if thing is None:
        return None
    field = _FIELDS[kind_of(thing)].get(asked)
    if field is None:
        raise NotCovered(f"{hive}\\{key}\\{name} is known only to the detection script itself")
    data = getattr(thing, field)
    if field == "start":
        return next((number for number, word in _STARTS.items() if word == data), None)
    return (1 if data else None) if field == "hidden" else data
