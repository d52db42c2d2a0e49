"""Where the Windows API layer is known to differ from Windows: counted apart, each with its reason.

Predictions follow Windows' documentation; before they are compared with this layer, they pass here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec

from yendo.effects import AccessRights, Effect, RegistryKey, RegistryValue, Service, UninstallEntry
from yendo.effects.things import Part
from yendo.evidence import Evidence


class Quirk(msgspec.Struct, frozen=True):
    """``adapt`` returns the effects as the layer shows them, or None where it makes no difference."""

    id: str
    reason: str
    adapt: Callable[[Effect], tuple[Effect, ...] | None]


def _with(effect: Effect, **fields: object) -> Effect:
    return msgspec.structs.replace(effect, thing=msgspec.structs.replace(effect.thing, **fields))


def _from(effect: Effect, *tables: str) -> bool:
    """Whether an effect comes from a row of one of these tables."""
    return effect.evidence is not None and effect.evidence.table in tables


def _service_quotes(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if isinstance(thing, Service) and thing.command and thing.command.startswith('"'):
        program, _, rest = thing.command[1:].partition('"')
        return (_with(effect, command=f"{program}{rest}"),)
    return None


def _list_of_the_machine(effect: Effect) -> tuple[Effect, ...] | None:
    return (
        (_with(effect, hive="HKLM"),)
        if isinstance(effect.thing, UninstallEntry) and effect.thing.hive == "HKCU"
        else None
    )


def _service_settings(effect: Effect) -> tuple[Effect, ...] | None:
    return (_with(effect, settings=None),) if isinstance(effect.thing, Service) and effect.thing.settings else None


def _rights(effect: Effect) -> tuple[Effect, ...] | None:
    return () if isinstance(effect.thing, AccessRights) else None


def _fonts(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if not (isinstance(thing, RegistryValue) and _from(effect, "Font")):
        return None
    path = f"C:\\windows\\Fonts\\{thing.data}"
    return _with(effect, data=path), _with(effect, data=path, key=thing.key.replace("Windows NT", "Windows"))


def _isolated(effect: Effect) -> tuple[Effect, ...] | None:
    return () if _from(effect, "IsolatedComponent") else None


def _odbc(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if not (isinstance(thing, RegistryValue) and _from(effect, "ODBCDriver")):
        return None
    if thing.name == "UsageCount":
        return effect, _with(effect, name="FileUsage", type="sz", data="1")
    own = thing.name in ("Driver", "Setup") or thing.key.endswith("ODBC Drivers")
    return None if own else ()


def _published(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if isinstance(thing, RegistryValue) and thing.hive == "HKLM" and _from(effect, "PublishComponent"):
        return (
            _with(
                effect,
                hive="HKCU",
                key=thing.key.replace(r"Software\Classes\Installer", r"Software\Microsoft\Installer"),
            ),
        )
    return None


def _type_library(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if (
        isinstance(thing, RegistryValue)
        and isinstance(thing.data, str)
        and _from(effect, "TypeLib")
        and thing.data[1:3] == ":\\"
    ):
        return (_with(effect, data=f"\\\\?\\{thing.data}"),)
    return None


def _parts(effect: Effect) -> tuple[Effect, ...] | None:
    return () if isinstance(effect.thing, Part) and effect.thing.sort != "driver" else None


def _drivers(effect: Effect) -> tuple[Effect, ...] | None:
    return (effect,) if isinstance(effect.thing, Part) and effect.thing.sort == "driver" else None


def _later_users(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    later = isinstance(thing, RegistryValue) and thing.hive == "HKU" and thing.key.lower().startswith("default\\")
    return () if later else None


def _whose_hive(effect: Effect) -> tuple[Effect, ...] | None:
    thing = effect.thing
    if not isinstance(thing, RegistryValue | RegistryKey) or thing.hive != "HKU":
        return None
    user, _, key = thing.key.partition("\\")
    if not user.upper().startswith("S-1-5-21-"):
        return None
    return (msgspec.structs.replace(effect, thing=msgspec.structs.replace(thing, hive="HKCU", key=key)),)


QUIRKS = (
    Quirk(
        "one-list",
        "the layer lists a product of one user in the machine's list of programs, not in that user's",
        _list_of_the_machine,
    ),
    Quirk(
        "service-quotes",
        "the layer registers a service's program without the quotes that Windows puts round a path with spaces",
        _service_quotes,
    ),
    Quirk(
        "service-settings",
        "the layer carries out no MsiConfigureServices: recovery and delayed start are not set",
        _service_settings,
    ),
    Quirk("rights", "the layer sets no access rights", _rights),
    Quirk("fonts", "the layer registers a font by its whole path, and in a second place", _fonts),
    Quirk("isolated", "the layer makes no private copies of isolated components", _isolated),
    Quirk(
        "odbc-attributes", "the layer writes FileUsage=1 for every database driver in place of its attributes", _odbc
    ),
    Quirk("type-library", "the layer registers a type library by its path in the long form", _type_library),
    Quirk("parts", "the layer's own programs for tasks, firewall, features and apps end well and do nothing", _parts),
    Quirk(
        "drivers",
        "drivers go into the layer's own store, by a program of Yendo's in place of the system's: nothing is shown of "
        "signatures, ranking and devices, and the store keeps a catalogue after its driver is gone",
        _drivers,
    ),
    Quirk("one-person", "the layer has one person's part of the registry, whoever runs the package", _whose_hive),
    Quirk("later-users", "the layer keeps no profile for people who log on for the first time", _later_users),
    Quirk("published", "the layer publishes components for the user even for an installation for everyone", _published),
)

# Differences where the layer does not do a thing at all, or does another.
LACKING = frozenset(
    quirk.reason for quirk in QUIRKS if quirk.id not in ("one-list", "one-person", "service-quotes", "type-library")
)

# What the layer's installer does not take away again, by the table that put it there.
_LEAVES = {
    "IniFile": "the layer takes values out of an ini file and leaves the file; Windows removes one that is empty then",
    "TypeLib": "the layer registers type libraries and never removes them",
    **dict.fromkeys(
        ("ODBCDriver", "ODBCTranslator", "ODBCDataSource", "ODBCAttribute"),
        "the layer registers database drivers and never removes them",
    ),
}
_OWN_KEYS = (r"software\classes", r"software\microsoft")  # Windows has keys of its own there, the layer makes them anew


def leaves(effect: Effect, because: Evidence | None, *, empty: bool) -> str:
    """Why the layer leaves something behind that Windows takes away; empty where it does as Windows does."""
    if effect.kind == "folder" and empty:
        return "an empty folder; the layer leaves those above a component's own, which Windows removes"
    if isinstance(effect.thing, RegistryKey) and effect.thing.key.lower().startswith(_OWN_KEYS):
        return "an empty key of the system's; Windows has it always, the layer makes it when it is first needed"
    return _LEAVES.get(because.table or "", "") if because is not None and effect.change == "add" else ""


# Source: the layer's own trace of such a repair: every file, of the database and of the patch, is passed over as
# "obsoleted by patch". Windows takes them from the copies of database and patch that it keeps.
UNMENDED = "the layer's installer puts no file of a patched product back, and ends with 0; Windows does"

# What Windows ends with, what the layer ends with, and why.
EXIT_CODES = {
    (1642, 1605): "the layer has one code for a patch whose product is missing and for a product that is missing"
}


def adapt(effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
    """Effects as the layer shows them, and how often each difference came up."""
    out: list[Effect] = []
    counted: dict[str, int] = {}
    for effect in effects:
        found = [effect]
        for quirk in QUIRKS:
            next_round: list[Effect] = []
            for one in found:
                changed = quirk.adapt(one)
                if changed is not None:
                    counted[quirk.reason] = counted.get(quirk.reason, 0) + 1
                next_round += [one] if changed is None else changed
            found = next_round
        out += found
    return out, counted
