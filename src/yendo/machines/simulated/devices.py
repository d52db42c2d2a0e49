"""Devices of the simulated machine: which driver of its store each of them takes, by Windows' own order.

A driver that was in use before and is not in the store (what ``[proof] there`` says, or the system brought) is taken to
match as well as any: only a higher version of the store's is put in its place.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from yendo.drivers import ranking, reading, target
from yendo.drivers.driver import Driver
from yendo.drivers.ranking import DeviceIdentifiers, RankedDriver
from yendo.effects import RegistryValue, State
from yendo.errors import Unreadable
from yendo.platforms.windows import systems
from yendo.platforms.windows.registry_keys import value_of
from yendo.platforms.windows.surroundings import Surroundings
from yendo.terms.rules import device as known


class Devices:
    """``outside`` are the values of a driver that the store does not have, by the device to which it goes back;
    ``given`` the names that the store has given so far.
    """

    def __init__(self) -> None:
        self.outside: dict[str, dict[str, str]] = {}
        self.given: set[str] = set()

    def settle(self, state: State, published: Mapping[str, Path], surroundings: Surroundings) -> None:
        """Has every device use the best that is there. ``published`` maps the store's names to their ``.inf`` files."""
        keys = sorted(
            thing.key
            for thing in state.of("registry")
            if isinstance(thing, RegistryValue) and thing.key.lower().startswith(known.ENUM.lower() + "\\")
            and thing.name.lower() == known.IDENTIFIERS[0]
        )  # fmt: skip
        if not keys:
            return
        processor = "x64" if surroundings.architecture == "x64" else "x86"
        windows = target.of_system(systems.of_build(surroundings.windows), processor)
        self.given |= set(published)
        drivers: dict[str, Driver] = {}
        for name, path in published.items():
            try:
                drivers[name] = reading.read(path, windows)
            except Unreadable:
                continue  # what nobody can read no device takes
        for key in keys:
            self._settle(state, key, drivers)

    def _settle(self, state: State, key: str, drivers: Mapping[str, Driver]) -> None:
        named = value_of(state, "HKLM", "64", key, "Driver")
        held = known.values_of(state, str(named)) if named else {}
        using = held.get("InfPath", "").lower()
        if named and using not in self.given:
            self.outside.setdefault(key, held)
            using = ""
        of_hardware, compatible = (known.texts(value_of(state, "HKLM", "64", key, name)) for name in known.IDENTIFIERS)
        best = self._best(drivers, DeviceIdentifiers(of_hardware, compatible))
        outside = self.outside.get(key)
        theirs = ranking.fields_of(outside.get("DriverVersion", "")) if outside else (0, 0, 0, 0)
        if best and outside and ranking.fields_of(best[1].driver.version) <= theirs:
            best = None
        if using == (best[0] if best else ""):
            return
        known.free(state, key)
        if best:
            driver, by = best[1].driver, best[1].identifier
            known.use(state, key, driver.provider, driver.version, InfPath=best[0], MatchingDeviceId=by)
        elif outside:
            rest = {name: text for name, text in outside.items() if name not in ("ProviderName", "DriverVersion")}
            known.use(state, key, outside.get("ProviderName", ""), outside.get("DriverVersion", ""), **rest)

    def _best(self, drivers: Mapping[str, Driver], device: DeviceIdentifiers) -> tuple[str, RankedDriver] | None:
        found = ranking.rank(drivers.values(), device).base
        if not found:
            return None
        return next(name for name, driver in drivers.items() if driver is found[0].driver), found[0]
