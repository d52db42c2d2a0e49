"""The simulated machine's registry: keys and values over a state that knows some keys as services, variables or entries
of a list.
"""

from __future__ import annotations

from yendo.effects import RegistryValue, State
from yendo.effects.things import Environment, RegistryKey, Service, Thing, UninstallEntry, View, kind_of, parent
from yendo.machines.protocol import Value
from yendo.platforms.windows.registry_keys import things_of_key

_ENVIRONMENT = {
    ("hklm", r"system\currentcontrolset\control\session manager\environment"): "machine",
    ("hkcu", "environment"): "user",
}
_SERVICES = "system\\currentcontrolset\\services\\"
_UNINSTALL = "software\\microsoft\\windows\\currentversion\\uninstall\\"
_STARTS = {"boot": 0, "system": 1, "auto": 2, "demand": 3, "disabled": 4}
# Keys that every Windows has; those above them too.
_THERE = (
    r"software\classes",
    r"software\microsoft\windows\currentversion\uninstall",
    r"software\microsoft\windows\currentversion\run",
    r"software\microsoft\windows\currentversion\runonce",
    r"software\microsoft\windows nt\currentversion\fonts",
    r"software\microsoft\systemcertificates\root\certificates",
    r"software\microsoft\systemcertificates\ca\certificates",
    r"software\microsoft\systemcertificates\trustedpublisher\certificates",
    r"software\policies\microsoft",
    r"system\currentcontrolset\services",
    r"system\currentcontrolset\control\session manager\environment",
    "environment",
)
_KNOWN = frozenset(path.rsplit("\\", cut)[0] for path in _THERE for cut in range(path.count("\\") + 1)) | {""}


def _view(text: str) -> View:
    return "32" if text == "32" else "64"


class Registry:
    """Values by hive, view, key and name. Only ``HKLM\\Software`` has two views.

    ``own`` names the hive of the person whom the account is: what is set there is the account's own.
    """

    def __init__(self, state: State, own: str = "") -> None:
        self.state, self.own = state, own
        self._special: dict[
            tuple[str, str, str], dict[str, tuple[str, Value]]
        ] = {}  # keys that stand for another thing
        self._made: dict[tuple[str, str, str], str] = {}

    def _at(self, hive: str, view: str, key: str) -> tuple[str, str, str]:
        if self.own and hive == "HKU" and key.lower().startswith(self.own.lower() + "\\"):
            hive, key = "HKCU", key[len(self.own) + 1 :]
        narrow = hive == "HKLM" and view == "32" and key.lower().startswith("software\\")
        return hive, "32" if narrow else "64", key.rstrip("\\")

    def _is_special(self, hive: str, key: str) -> bool:
        lowered = key.lower()
        return (hive == "HKLM" and lowered.startswith(_SERVICES)) or lowered.startswith(_UNINSTALL)

    def _values(self, hive: str, view: str, key: str) -> dict[str, tuple[str, Value]]:
        """A special key's values by their lower-case names, from the thing it stands for where nobody set any."""
        at = (hive, view, key.lower())
        if at not in self._special:
            name = key.rpartition("\\")[2]
            thing: Thing | None
            if key.lower().startswith(_SERVICES):
                thing = self.state.get("service", name)
            else:
                thing = self.state.get("uninstall-entry", UninstallEntry(name, hive, _view(view)).identity)
            found = dict(_of(thing)) if thing is not None else {}
            self._special[at] = {label.lower(): (label, value) for label, value in found.items()}
        return self._special[at]

    def get(self, hive: str, view: str, key: str, name: str) -> Value | None:
        hive, view, key = self._at(hive, view, key)
        scope = _ENVIRONMENT.get((hive.lower(), key.lower()))
        if scope:
            variable = self.state.get("environment", f"{scope}:{name}")
            return (
                None
                if not isinstance(variable, Environment)
                else self._special.get((hive, view, f"{key}!{name}".lower()), {}).get(
                    "", ("", ("expand" if "%" in (variable.value or "") else "sz", variable.value))
                )[1]
            )
        if self._is_special(hive, key):
            return self._values(hive, view, key).get(name.lower(), ("", None))[1]
        found = self.state.get("registry", RegistryValue(hive, key, name, view=_view(view)).identity)
        return (found.type or "sz", found.data) if isinstance(found, RegistryValue) else None

    def set(self, hive: str, view: str, key: str, name: str, value: Value | None) -> None:
        hive, view, key = self._at(hive, view, key)
        scope = _ENVIRONMENT.get((hive.lower(), key.lower()))
        if scope:
            self._special[(hive, view, f"{key}!{name}".lower())] = {} if value is None else {"": ("", value)}
            if value is None:
                self.state.remove("environment", f"{scope}:{name}")
            else:
                self.state.add(Environment(name, str(value[1]), "machine" if scope == "machine" else "user"))
            return
        if self._is_special(hive, key):
            values = self._values(hive, view, key)
            for thing in self._things(hive, view, key, values):
                self.state.remove(kind_of(thing), thing.identity)
            if value is None:
                values.pop(name.lower(), None)
            else:
                values[name.lower()] = (name, value)
            for thing in self._things(hive, view, key, values):
                self.state.add(thing)
        elif value is None:
            self.state.remove("registry", RegistryValue(hive, key, name, view=_view(view)).identity)
        else:
            self.state.add(RegistryValue(hive, key, name, value[0], value[1], _view(view)))
        self._settle(hive, view, key)

    @staticmethod
    def _things(hive: str, view: str, key: str, values: dict[str, tuple[str, Value]]) -> list[Thing]:
        return list(things_of_key(hive, key, _view(view), dict(values.values()))) if values else []

    def names(self, hive: str, view: str, key: str) -> list[str]:
        hive, view, key = self._at(hive, view, key)
        if self._is_special(hive, key):
            return [label for label, _ in self._values(hive, view, key).values()]
        return sorted(
            thing.name
            for thing in self.state.of("registry")
            if isinstance(thing, RegistryValue) and self._same(thing, hive, view, key)
        )

    @staticmethod
    def _same(thing: RegistryValue, hive: str, view: str, key: str) -> bool:
        return thing.hive == hive and thing.view == view and thing.key.lower() == key.lower()

    def below(self, hive: str, view: str, key: str) -> list[str]:
        """A key and every key below it that is there."""
        hive, view, key = self._at(hive, view, key)
        found: dict[str, str] = {}
        for known_hive, known_view, path in self._paths():
            if (known_hive, known_view) == (hive, view) and f"{path}\\".lower().startswith(f"{key}\\".lower()):
                while len(path) >= len(key):
                    found.setdefault(path.lower(), path)
                    path = parent(path)
        return sorted(found.values())

    def _paths(self) -> list[tuple[str, str, str]]:
        paths = [(hive, view, path) for (hive, view, _), path in self._made.items()]
        for thing in self.state.of("registry", "registry-key"):
            if isinstance(thing, RegistryValue | RegistryKey):
                paths.append((thing.hive, thing.view, thing.key))
        for thing in self.state.of("service", "uninstall-entry"):
            if isinstance(thing, Service):
                paths.append(("HKLM", "64", r"System\CurrentControlSet\Services" + "\\" + thing.name))
            elif isinstance(thing, UninstallEntry):
                paths.append(
                    (thing.hive, thing.view, r"Software\Microsoft\Windows\CurrentVersion\Uninstall" + "\\" + thing.key)
                )
        return paths

    def has(self, hive: str, view: str, key: str) -> bool:
        hive, view, key = self._at(hive, view, key)
        return (
            (key.lower() in _KNOWN and hive != "HKU")
            or bool(self.below(hive, view, key))
            or (hive == "HKU" and "\\" not in key)
        )

    def make(self, hive: str, view: str, key: str) -> None:
        hive, view, key = self._at(hive, view, key)
        self._made[(hive, view, key.lower())] = key
        self._settle(hive, view, key)

    def drop(self, hive: str, view: str, key: str) -> bool:
        """Removes a key without values and keys; a special one goes with what it stands for."""
        hive, view, key = self._at(hive, view, key)
        if self.names(hive, view, key) or len(self.below(hive, view, key)) > 1 or key.lower() in _KNOWN:
            return False
        self._made.pop((hive, view, key.lower()), None)
        self.state.remove("registry-key", RegistryKey(hive, key, _view(view)).identity)
        self._settle(hive, view, parent(key))
        return True

    def _settle(self, hive: str, view: str, key: str) -> None:
        """A key that was made shows as a thing of its own while it is empty."""
        while key:
            made = self._made.get((hive, view, key.lower()))
            thing = RegistryKey(hive, made or key, _view(view))
            empty = not self.names(hive, view, key) and len(self.below(hive, view, key)) <= 1
            if made and empty:
                self.state.add(thing)
            else:
                self.state.remove("registry-key", thing.identity)
            key = parent(key)


def _of(thing: Thing) -> list[tuple[str, Value]]:
    """What stands in the key of a service or of an entry."""
    pairs: list[tuple[str, Value | None]] = []
    if isinstance(thing, Service):
        pairs = [
            ("DisplayName", ("sz", thing.display_name)),
            ("ImagePath", ("expand", thing.command)),
            ("ObjectName", ("sz", thing.account)),
            ("Start", ("dword", _STARTS.get(thing.start or "", 3))),
        ]
    elif isinstance(thing, UninstallEntry):
        pairs = [
            ("DisplayName", ("sz", thing.name)),
            ("DisplayVersion", ("sz", thing.version)),
            ("Publisher", ("sz", thing.publisher)),
            ("UninstallString", ("sz", thing.uninstall)),
            ("QuietUninstallString", ("sz", thing.quiet_uninstall)),
        ]
    return [(name, value) for name, value in pairs if value is not None and value[1] is not None]
