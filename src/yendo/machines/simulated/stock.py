"""Programs that every Windows has, as far as steps call them: what they change on a simulated machine, and the code
they leave with.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal, Protocol

from yendo.effects import Service, State
from yendo.effects.things import AccessRights, Part, PartSort
from yendo.formats.app_package import AppIdentity
from yendo.machines.protocol import Ran
from yendo.servicing.manifest import ServicedManifest

_FROM_PEOPLE = re.compile(r"Get-AppxPackage -AllUsers -Name '[^']+' \| Remove-AppxPackage -AllUsers")
_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')
# Source: the servicing program's codes: no such file; the source files could not be found; it is not for this system;
# no such package is known. The update program's: it is there already; it is not for this system.
_NOT_FOUND, _NO_SOURCE, _NOT_FOR_THIS, _UNKNOWN_PACKAGE = 2, -2146498529, -2146498530, -2146498555
_ALREADY, _NOT_APPLICABLE = 2359302, -2145124329
# Source: the Win32 error codes that the service control program leaves with.
_UNKNOWN, _EXISTS, _RUNNING, _STOPPED, _DISABLED = 1060, 1073, 1056, 1062, 1058


def words(line: str) -> list[str]:
    """A command line in words, quotes taken off where they stand around a whole word."""
    out = []
    for word in re.findall(r'(?:[^\s"]|"(?:[^"\\]|\\.)*")+', line):
        inner = re.sub(r'"((?:[^"\\]|\\.)*)"', lambda match: re.sub(r'\\(["\\])', r"\1", match[1]), word)
        out.append(inner)
    return out


class Files(Protocol):
    """What these programs read of the machine's files, by their Windows paths."""

    def inside(self, folder: str) -> bool | None:
        """Whether a folder holds files; None where it lies outside what was brought, so that nobody knows."""

    published: dict[str, str]  # the names that the driver store gave, in small letters -> each as it is listed

    def drivers(self, folder: str) -> list[str] | None:
        """The drivers below a folder as the store lists them, ``tidegauge.inf=2.1.0.0``; None where nobody knows."""

    def settle_devices(self) -> None:
        """Has every device use the best driver that the store has now."""

    def app(self, path: str) -> AppIdentity | None:
        """Who a modern app package says it is; None where the file is not there or is none."""

    def serviced(self, path: str) -> tuple[list[ServicedManifest], bool] | None:
        """The packages of the system in a file, and whether this machine's build fits; None where it is none."""


def run(line: str, state: State, files: Files) -> Ran | None:
    """Carries a command line out; None where the program is none of these."""
    parts = words(line)
    name = re.sub(r"(?i)\.exe$", "", parts[0].rpartition("\\")[2].lower()) if parts else ""
    program = _PROGRAMS.get(name)
    if name == "pnputil":
        code, output = _pnputil(parts[1:], state, files)
        return Ran(code, output, 0.0)
    if name == "powershell" and _FROM_PEOPLE.search(line):
        return Ran(0, "", 0.0)  # nobody logs on between, so nobody has an app of his own
    return Ran(program(parts[1:], state, files), "", 0.0) if program else None


def _option(parts: list[str], name: str) -> str:
    """``/name:value`` or ``name=value``, without regard to case."""
    for part in parts:
        match = re.fullmatch(rf"(?i)/?{re.escape(name)}[:=](.*)", part)
        if match:
            return match[1]
    return ""


def _after(parts: list[str], name: str) -> str:
    """``name value``."""
    lowered = [part.lower() for part in parts]
    return parts[lowered.index(name) + 1] if name in lowered[:-1] else ""


def _sc(parts: list[str], state: State, files: Files) -> int:
    verb, name = parts[0].lower(), parts[1]
    there = state.get("service", name)
    service = there if isinstance(there, Service) else None
    if verb == "create":
        if service:
            return _EXISTS
        start, account = _after(parts, "start=") or "demand", _after(parts, "obj=") or "LocalSystem"
        shown, needs = _after(parts, "displayname=") or name, tuple(filter(None, _after(parts, "depend=").split("/")))
        state.add(Service(name, shown, _after(parts, "binpath="), start, account, needs, False))
        return 0
    if service is None:
        return _UNKNOWN
    if verb == "delete":
        state.remove("service", name)
    elif verb == "start":
        if service.running or service.start == "disabled":
            return _RUNNING if service.running else _DISABLED
        state.add(_replaced(service, running=True))
    elif verb == "stop":
        if not service.running:
            return _STOPPED
        state.add(_replaced(service, running=False))
    elif verb == "config":
        state.add(_replaced(service, start=_after(parts, "start=") or service.start))
    return 0


def _replaced(service: Service, **fields: object) -> Service:
    import msgspec

    return msgspec.structs.replace(service, **fields)


def _part(state: State, sort: PartSort, name: str, value: str | None, *, there: bool, missing: int = 1) -> int:
    if there:
        state.add(Part(sort, name, value))
        return 0
    return 0 if state.remove("part", Part(sort, name).identity) else missing


def _schtasks(parts: list[str], state: State, files: Files) -> int:
    return _part(state, "task", _after(parts, "/tn"), None, there=parts[0].lower() == "/create")


def _netsh(parts: list[str], state: State, files: Files) -> int:
    value = " ".join(part for part in parts[4:] if not part.startswith("name="))
    return _part(state, "firewall-rule", _option(parts, "name"), value, there=parts[2].lower() == "add")


def _pnputil(parts: list[str], state: State, files: Files) -> tuple[int, str]:
    """The driver store: a part for each ``.inf``, whose value lists the versions of it that are kept.

    Source: the driver program's codes. 259: nothing to do. A name that the store does not know: 0xE000023C.
    """
    published = files.published
    if parts[0].lower() == "/delete-driver":
        listed = published.pop(parts[1].lower(), None)
        if listed is None:
            return 0xE000023C, ""
        _keep(state, listed, there=False)
        files.settle_devices()
        return 0, ""
    folder = parts[1].rpartition("\\")[0]
    found = files.drivers(folder)
    if found is None:  # nobody knows what lies there: one driver, named after its folder
        found = [folder.rpartition("\\")[2]]
    added, lines = 0, []
    for listed in found:
        name = next((name for name, other in published.items() if other.lower() == listed.lower()), "")
        if not name:
            number = next(number for number in range(1, len(published) + 2) if f"oem{number}.inf" not in published)
            name = f"oem{number}.inf"
            published[name] = listed
            _keep(state, listed, there=True)
            added += 1
        lines.append(f"Published name: {name}\n")
    if "/install" in [part.lower() for part in parts]:
        files.settle_devices()
    return (0 if added else 259 if found else _NOT_FOUND), "".join(lines)


def _keep(state: State, listed: str, *, there: bool) -> None:
    """One driver of the store, ``tidegauge.inf=2.1.0.0``, comes or goes; others of its name stay."""
    inf = listed.partition("=")[0]
    known = state.get("part", Part("driver", inf).identity)
    value = known.value if isinstance(known, Part) else None
    kept = [one for one in (value or "").split(";") if one and one.lower() != listed.lower()]
    if there and inf.lower().endswith(".inf"):
        kept.append(listed)
    if kept or there:
        state.add(Part("driver", inf, ";".join(sorted(kept)) or None))
    else:
        state.remove("part", Part("driver", inf).identity)


def _sourced(parts: list[str], state: State, files: Files, sort: Literal["feature", "capability"]) -> int:
    """A feature or a capability comes, from a folder where one is named."""
    source = _option(parts, "source")
    if source and files.inside(source) is False:
        return _NO_SOURCE
    return _part(state, sort, _option(parts, f"{sort}name"), None, there=True)


def _dism(parts: list[str], state: State, files: Files) -> int:
    lowered = [part.lower() for part in parts]
    if "/enable-feature" in lowered:
        return _sourced(parts, state, files, "feature")
    if "/disable-feature" in lowered:
        _part(state, "feature", _option(parts, "featurename"), None, there=False)
    elif "/add-package" in lowered:
        path = _option(parts, "packagepath")
        if files.inside(path.rpartition("\\")[0]) is False:
            return _NOT_FOUND
        serviced = files.serviced(path)
        if serviced is not None:
            return _serviced(state, *serviced)
        _part(state, "feature", path.rpartition("\\")[2], None, there=True)
    elif "/remove-package" in lowered:
        whole = _option(parts, "packagename")
        name, version = whole.partition("~")[0], whole.rpartition("~")[2]
        known = state.get("part", Part("system-package", name).identity)
        if not isinstance(known, Part) or known.value != version:
            return _UNKNOWN_PACKAGE
        state.remove("part", known.identity)
    elif "/add-capability" in lowered:
        return _sourced(parts, state, files, "capability")
    elif "/remove-capability" in lowered:
        _part(state, "capability", _option(parts, "capabilityname"), None, there=False)
    elif "/add-provisionedappxpackage" in lowered:
        found = files.app(_option(parts, "packagepath"))
        if found is None:
            return _NOT_FOUND
        _part(state, "app", found.name, found.version, there=True)
    elif "/remove-provisionedappxpackage" in lowered:
        return _part(
            state, "app", _option(parts, "packagename").partition("_")[0], None, there=False, missing=_NOT_FOUND
        )
    return 0


def _serviced(state: State, found: list[ServicedManifest], fits: bool) -> int:
    """Packages come; a newer one of a name stays, an older one gives way. Parents that were added count as well."""
    if not fits:
        return _NOT_FOR_THIS
    for one in found:
        known = state.get("part", Part("system-package", one.identity.name).identity)
        have = known.value if isinstance(known, Part) else None
        if not have or _numbers(have) < _numbers(one.identity.version):
            state.add(Part("system-package", one.identity.name, one.identity.version))
        for name in one.capabilities:
            state.add(Part("capability", name))
    return 0


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".") if part.isdigit()]


def _wusa(parts: list[str], state: State, files: Files) -> int:
    found = files.serviced(parts[0]) if parts else None
    if found is None:
        return _NOT_FOUND
    if not found[1]:
        return _NOT_APPLICABLE
    names = [(one.identity, state.get("part", Part("system-package", one.identity.name).identity)) for one in found[0]]
    if names and all(isinstance(have, Part) and have.value == own.version for own, have in names):
        return _ALREADY
    return _serviced(state, *found)


def _icacls(parts: list[str], state: State, files: Files) -> int:
    """Grants, and grants taken back, on what is there; everything else that it can is passed over."""
    place, lowered = parts[0].rstrip("\\") if parts else "", [part.lower() for part in parts]
    own = place.lower()
    there = state.get("file", own) or state.get("folder", own)
    if not there and not any(file.identity.startswith(own + "\\") for file in state.of("file")):
        return _NOT_FOUND
    for option, who in zip(lowered, parts[1:], strict=False):
        if option == "/grant" and ":" in who:
            name, _, rights = who.partition(":")
            state.add(AccessRights(place, name.lstrip("*"), rights))
        elif option == "/remove:g":
            state.remove("access-rights", AccessRights(place, who.lstrip("*")).identity)
    return 0


def _change(parts: list[str], state: State, files: Files) -> int:
    """The host's mode, as a part of the system while it is the other one than usual."""
    return _part(state, "mode", "install", None, there="/install" in parts, missing=0)


_PROGRAMS: dict[str, Callable[[list[str], State, Files], int]] = {
    "sc": _sc,
    "schtasks": _schtasks,
    "netsh": _netsh,
    "dism": _dism,
    "wusa": _wusa,
    "change": _change,
    "shutdown": lambda parts, state, files: 0,
    "logoff": lambda parts, state, files: 0,
    "icacls": _icacls,
}
