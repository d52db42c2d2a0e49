"""What a registry key stands for: some keys are an entry of a list, a service or an environment rather than values."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Literal

import msgspec

from yendo.effects.state import State
from yendo.effects.things import (
    Data,
    Environment,
    Part,
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
from yendo.platforms.windows import paths

MACHINE, PERSON, PEOPLE = "HKLM", "HKCU", "HKU"  # the hives as plans and records name them
_UNINSTALL = r"software\microsoft\windows\currentversion\uninstall" + "\\"
_INSTALLERS = tuple(
    paths.into(key) for key in (r"\currentversion\installer", r"classes\installer", r"\currentversion\uninstall")
)
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


def is_of_installer(value: RegistryValue) -> bool:
    """Whether an installer writes it for itself, wherever its product is: its books and the list of programs."""
    return any(part in value.identity for part in _INSTALLERS)


def unpack_code(packed: str) -> str:
    """A product code from the packed form the installer keeps it in."""
    groups = [packed[0:8], packed[8:12], packed[12:16]]
    rest = [packed[at : at + 2][::-1] for at in range(16, 32, 2)]
    return "{" + "-".join([*(group[::-1] for group in groups), "".join(rest[:2]), "".join(rest[2:])]).upper() + "}"


def pack_code(code: str) -> str:
    """A product's or component's code in the packed form of the installer's registry keys."""
    one, two, three, four, five = code.strip("{}").upper().split("-")
    return one[::-1] + two[::-1] + three[::-1] + "".join((four + five)[at : at + 2][::-1] for at in range(0, 16, 2))


# Keys that both halves of the registry share, which a 64-bit program sees twice. Source: the documentation of the
# registry keys that WOW64 affects.
_SHARED = tuple(
    f"software\\{name}"
    for name in (
        "classes\\appid",
        "classes\\typelib",
        "microsoft\\com3",
        "microsoft\\cryptography\\calais",
        "microsoft\\cryptography\\services",
        "microsoft\\ctf\\systemshared",
        "microsoft\\ctf\\tip",
        "microsoft\\enterprisecertificates",
        "microsoft\\eventsystem",
        "microsoft\\msmq",
        "microsoft\\non-driver signing",
        "microsoft\\ole",
        "microsoft\\ras",
        "microsoft\\rpc",
        "microsoft\\shared tools\\msinfo",
        "microsoft\\systemcertificates",
        "microsoft\\termservlicensing",
        "microsoft\\transaction server",
        "microsoft\\windows nt\\currentversion\\fonts",
        "microsoft\\windows nt\\currentversion\\fontdpi",
        "microsoft\\windows nt\\currentversion\\fontmapper",
        "microsoft\\windows nt\\currentversion\\fontsubstitutes",
        "microsoft\\windows nt\\currentversion\\networkcards",
        "microsoft\\windows nt\\currentversion\\perflib",
        "microsoft\\windows nt\\currentversion\\ports",
        "microsoft\\windows nt\\currentversion\\print",
        "microsoft\\windows nt\\currentversion\\profilelist",
        "microsoft\\windows nt\\currentversion\\time zones",
        "microsoft\\windows\\currentversion\\control panel\\cursors\\schemes",
        "microsoft\\windows\\currentversion\\group policy",
        "microsoft\\windows\\currentversion\\policies",
        "microsoft\\windows\\currentversion\\setup",
        "microsoft\\windows\\currentversion\\telephony\\locations",
        "policies",
        "registeredapplications",
    )
)


def is_shared(key: str) -> bool:
    """Whether both halves of HKLM share a key; it is then told once, as one of the 64-bit half."""
    lowered = key.lower() + "\\"
    return any(lowered.startswith(one + "\\") for one in _SHARED)


def located(hive: str, key: str) -> tuple[str, str, View]:
    """``(hive, key, view)`` of a key as a 64-bit program names it: aliases undone, the 32-bit half told apart."""
    parts = key.split("\\")
    lowered = [part.lower() for part in parts]
    if hive != "HKLM":
        return hive, key, "64"
    if lowered[:2] == ["system", "controlset001"]:
        parts[1] = "CurrentControlSet"
    for at in (1, 2):
        if (
            lowered[0] == "software"
            and lowered[at : at + 1] == ["wow6432node"]
            and (at == 1 or lowered[1] == "classes")
        ):
            del parts[at]
            return hive, "\\".join(parts), "32"
    return hive, "\\".join(parts), "64"


# The driver store: a key for each driver, and the folders in which the system keeps it.
_DRIVERS = "system\\driverdatabase\\"
_DRIVER_PACKAGE = re.compile(r"(?i)driverpackages\\(.+?\.inf)_[^\\]*$")
_DRIVER_FILES = re.compile(
    r"(?i)[a-z]:\\windows\\(?:system32\\(?:driverstore|catroot2?)(?:\\|$)|inf\\[^\\]+\.(?:inf|pnf)$)"
)


DRIVER_NAMES = r"System\DriverDatabase\DriverInfFiles"  # a key for each driver, by the name that the store gave it


def keeps_drivers(path: str) -> bool:
    """Whether a file or folder is where Windows keeps drivers: those are told as parts, by the store's own list."""
    return _DRIVER_FILES.match(path) is not None


def things_of_key(
    hive: str, key: str, view: View, found: Mapping[str, tuple[str, Data]], *, has_children: bool = False
) -> Iterator[Thing]:
    """The things that one key stands for; ``found`` maps a value's name to its type and data."""
    lowered = key.lower()
    texts = {name.lower(): data for name, (_, data) in found.items()}

    def text(name: str) -> str | None:
        value = texts.get(name)
        return value if isinstance(value, str) and value else None

    if lowered.startswith(_DRIVERS):
        if packaged := _DRIVER_PACKAGE.match(key[len(_DRIVERS) :]):
            yield Part("driver", packaged[1])  # its version stands in the store's files
        return  # what else is there is the system's own list of the same
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
    else:
        if match := _PRODUCTS.match(lowered):
            language = texts.get("language")
            yield Product(
                unpack_code(match[2].upper()),
                text("displayname"),
                text("displayversion"),
                language if isinstance(language, int) else None,
                "machine" if match[1] == "s-1-5-18" else "user",
            )
        yield from (RegistryValue(hive, key, name, kind, data, view) for name, (kind, data) in found.items())
        if not (match or found or has_children):
            yield RegistryKey(hive, key, view)


_LINE = re.compile(
    r"software\\(?:microsoft\\windows\\currentversion\\installer|classes\\installer)\\upgradecodes\\([0-9a-f]{32})",
    re.I,
)


def line_of(thing: Thing) -> dict[str, str]:
    """What a value says of a product's line: the upgrade code, by the identity of the product."""
    match = _LINE.fullmatch(thing.key) if isinstance(thing, RegistryValue) else None
    if not match or not isinstance(thing, RegistryValue) or not re.fullmatch("[0-9A-Fa-f]{32}", thing.name):
        return {}
    return {unpack_code(thing.name.upper()).lower(): unpack_code(match[1].upper())}


def add_lines(state: State, lines: Mapping[str, str]) -> None:
    """Gives the products of a state the upgrade codes of their lines."""
    for thing in list(state.of("product")):
        if isinstance(thing, Product) and thing.identity in lines:
            state.add(msgspec.structs.replace(thing, upgrade_code=lines[thing.identity]))


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
