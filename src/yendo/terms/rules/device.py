"""Devices, and the driver that each uses."""

from __future__ import annotations

from collections.abc import Iterator

from yendo.effects import RegistryValue, State
from yendo.platforms.windows.registry_keys import value_of
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Sight, bounds, fits, within

ENUM = r"System\CurrentControlSet\Enum"
CLASSES = r"System\CurrentControlSet\Control\Class"
IDENTIFIERS = ("hardwareid", "compatibleids")
_OTHER = "{4d36e97e-e325-11ce-bfc1-08002be10318}"  # the class of devices that have none of their own


class DeviceRule(BaseRule, tag="device", frozen=True, kw_only=True):
    """The machine knows a device, by one of its identifiers, and the device uses a driver: by anybody, or by this
    ``provider``, in a version within the range.

    Of several devices of that identifier one is enough. ``missing``: it holds also where no such device is known, for
    packages that go to machines with and without it. A device that was taken off stays known to the machine.

    Source: the system keeps devices below ``HKLM\\System\\CurrentControlSet\\Enum``, and the driver of each below
    ``Control\\Class``, where its ``Driver`` points.
    """

    device: Text
    provider: str = ""
    version: str | None = None
    missing: bool = False

    @property
    def title(self) -> str:
        which = " ".join(filter(None, ("a driver", f"by {self.provider}" if self.provider else "", self.version)))
        return f"device {self.device} uses {which}" + (", or is not there" if self.missing else "")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        fact = f"no device {self.device} is known here"
        holds = self.missing
        for key in sorted(devices(sight.state, self.device)):
            named = value_of(sight.state, "HKLM", "64", key, "Driver")
            if not named:
                holds, fact = False, f"{self.device} has no driver"
                continue
            place = rf"{CLASSES}\{named}"
            provider, version = (
                str(value_of(sight.state, "HKLM", "64", place, name) or "")
                for name in ("ProviderName", "DriverVersion")
            )
            fact = f"{self.device} uses {version or 'no version'} by {provider or 'nobody named'}"
            if (not self.provider or provider.lower() == self.provider.lower()) and fits(version or None, self.version):
                return True, fact
            holds = False
        return holds, fact

    def data(self) -> dict[str, object]:
        return {
            "device": self.device, "provider": self.provider, "version": bounds(self.version), "missing": self.missing
        }  # fmt: skip

    def fulfil(self, sight: Sight) -> None:
        add(sight.state, self.device)
        use(sight.state, rf"{ENUM}\{self.device}\1", self.provider, within(self.version) or "")


def devices(state: State, identifier: str) -> set[str]:
    """The keys of the devices that have an identifier."""
    wanted, head = identifier.lower(), ENUM.lower() + "\\"
    return {
        thing.key
        for thing in state.of("registry")
        if isinstance(thing, RegistryValue)
        and thing.hive == "HKLM"
        and thing.name.lower() in IDENTIFIERS
        and thing.key.lower().startswith(head)
        and wanted in map(str.lower, texts(thing.data))
    }


def texts(data: object) -> tuple[str, ...]:
    """A value of the registry as texts: identifiers stand in a list or, of some devices, as one text."""
    return tuple(map(str, data)) if isinstance(data, tuple) else (str(data),) if data else ()


def add(state: State, identifier: str) -> str:
    """A device that has an identifier and no driver yet; its key."""
    key = rf"{ENUM}\{identifier}\1"
    state.add(RegistryValue("HKLM", key, "HardwareID", "multi", (identifier,), "64"))
    return key


def use(state: State, key: str, provider: str, version: str, **more: str) -> None:
    """Has a device use a driver; ``more`` are further values of its place among the classes."""
    number = sum(1 for _ in _places(state))
    named = value_of(state, "HKLM", "64", key, "Driver") or rf"{_OTHER}\{number:04}"
    state.add(RegistryValue("HKLM", key, "Driver", "sz", str(named), "64"))
    for name, text in {"ProviderName": provider, "DriverVersion": version, **more}.items():
        if text:
            state.add(RegistryValue("HKLM", rf"{CLASSES}\{named}", name, "sz", text, "64"))


def values_of(state: State, named: str) -> dict[str, str]:
    """What the place of a driver among the classes says, as far as it is text."""
    place = rf"{CLASSES}\{named}".lower()
    return {
        thing.name: thing.data
        for thing in state.of("registry")
        if isinstance(thing, RegistryValue)
        and thing.hive == "HKLM"
        and thing.key.lower() == place
        and isinstance(thing.data, str)
    }


def free(state: State, key: str) -> None:
    """Takes the driver off a device."""
    named = value_of(state, "HKLM", "64", key, "Driver")
    place = rf"{CLASSES}\{named}".lower()
    for thing in list(state.of("registry")):
        if not isinstance(thing, RegistryValue) or thing.hive != "HKLM":
            continue
        if thing.key.lower() == place or (thing.key == key and thing.name == "Driver"):
            state.remove("registry", thing.identity)


def _places(state: State) -> Iterator[str]:
    head = CLASSES.lower() + "\\"
    for key in {thing.key.lower() for thing in state.of("registry") if isinstance(thing, RegistryValue)}:
        if key.startswith(head + _OTHER + "\\"):
            yield key
