"""Parts of the system that its own programs look after: tasks, drivers, features, modern apps."""

from __future__ import annotations

import re

from yendo.effects.things import Part
from yendo.errors import NotCovered
from yendo.terms.amounts import Text, driver_name
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight, bounds, fits, version_states, within

_LOCAL = Field("hive", "HKEY_LOCAL_MACHINE")


class TaskRule(BaseRule, tag="task", frozen=True, kw_only=True):
    """A scheduled task exists, by its path without the first backslash.

    Source: the scheduler keeps its tree of tasks below ``Schedule\\TaskCache\\Tree``.
    """

    name: Text

    @property
    def title(self) -> str:
        return f"task {self.name} exists"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        there = sight.state.get("part", f"task:{self.name}") is not None
        return there, f"task {self.name} {'is there' if there else 'does not exist'}"

    def data(self) -> dict[str, object]:
        return {"name": self.name.lstrip("\\")}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("task", self.name))

    def oval(self) -> Criteria | OvalTest:
        key = rf"SOFTWARE\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tree\{self.name}"
        return OvalTest(
            "registry",
            (_LOCAL, Field("key", key, "case insensitive equals"), Field("name", "Id", "case insensitive equals")),
            view="64_bit",
        )


class DriverRule(BaseRule, tag="driver", frozen=True, kw_only=True):
    """The driver store holds a driver, by the name of its ``.inf`` file, in a version within the range.

    Without a range an older one holds as well: the store keeps several versions of one driver.

    Source: the store lists its packages below ``HKLM\\System\\DriverDatabase\\DriverPackages`` as
    ``NAME.inf_ARCHITECTURE_HASH``, and keeps each in a folder of that name below ``DriverStore\\FileRepository``, whose
    ``.inf`` states the version (``DriverVer``).
    """

    inf: Text
    version: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        driver_name(self.inf)

    @property
    def title(self) -> str:
        return f"driver {self.inf}{f' {self.version}' if self.version else ''} is in the store"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        there = [thing for thing in sight.state.of("part") if isinstance(thing, Part) and thing.sort == "driver"]
        ours = next((thing for thing in there if thing.name.lower() == self.inf.lower()), None)
        if ours is None:
            if any(not thing.name.lower().endswith(".inf") for thing in there):  # a folder of nobody knows what
                raise NotCovered(f"which drivers are in the store is known only on a real machine: {self.inf}")
            return False, f"{self.inf} is not in the store"
        if ours.value is None:
            if self.version:
                raise NotCovered(f"the version of the driver {self.inf} is known only on the machine itself")
            return True, f"{self.inf} is in the store"
        versions = [entry.partition("=")[2] for entry in ours.value.split(";")]
        fitting = [version for version in versions if fits(version or None, self.version)]
        version = (fitting or versions)[0]
        return bool(fitting), f"{self.inf} {version} is in the store".replace("  ", " ")

    def data(self) -> dict[str, object]:
        return {"inf": self.inf, "version": bounds(self.version)}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("driver", self.inf, f"{self.inf}={within(self.version) or ''}"))

    def oval(self) -> Criteria | OvalTest:
        if self.version:
            raise NotCovered(f"OVAL 5.11 cannot find the folder of a driver in the store: “{self.title}”")
        key = rf"(?i)^SYSTEM\\DriverDatabase\\DriverPackages\\{re.escape(self.inf)}_[^\\]+$"
        return OvalTest("registry", (_LOCAL, Field("key", key, "pattern match"), Field("name", None)), view="64_bit")


class FeatureRule(BaseRule, tag="feature", frozen=True, kw_only=True):
    """An operating-system feature is switched on."""

    name: Text

    @property
    def title(self) -> str:
        return f"feature {self.name} is on"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        there = sight.state.get("part", f"feature:{self.name}") is not None
        return there, f"{self.name} is {'on' if there else 'off'}"

    def data(self) -> dict[str, object]:
        return {"name": self.name}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("feature", self.name))

    def oval(self) -> Criteria | OvalTest:
        name = self.name.replace("'", "''")
        query = f"SELECT InstallState FROM Win32_OptionalFeature WHERE Name = '{name}'"
        return OvalTest(
            "wmi57",
            (Field("namespace", "root\\cimv2"), Field("wql", query)),
            ((Field("result", "installstate=1", datatype="record"),),),
        )


class CapabilityRule(BaseRule, tag="capability", frozen=True, kw_only=True):
    """A capability of the system is installed, by its name (``NAME~~~LANGUAGE~VERSION``); pending is not installed."""

    name: Text

    @property
    def title(self) -> str:
        return f"capability {self.name} is there"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        there = sight.state.get("part", f"capability:{self.name}") is not None
        return there, f"{self.name} is {'there' if there else 'not there'}"

    def data(self) -> dict[str, object]:
        return {"name": self.name}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("capability", self.name))


class SystemPackageRule(BaseRule, tag="system-package", frozen=True, kw_only=True):
    """A package of the system is installed, by the name in its identity, in a version within the range. Staged,
    superseded and pending ones are not installed; of one that a later one has replaced the range has to admit that.
    """

    name: Text
    version: str | None = None

    @property
    def title(self) -> str:
        return f"system package {self.name}{f' {self.version}' if self.version else ''} is installed"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        found = sight.state.get("part", f"system-package:{self.name}")
        if not isinstance(found, Part):
            return False, f"{self.name} is not installed"
        return fits(found.value, self.version), f"{self.name} {found.value or ''} is installed".replace("  ", " ")

    def data(self) -> dict[str, object]:
        return {"name": self.name, "version": bounds(self.version)}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("system-package", self.name, within(self.version) or "10.0.0.1"))


class AppRule(BaseRule, tag="app", frozen=True, kw_only=True):
    """A modern app package is provided to everyone, by the name in its identity, in a version within the range.

    Source: provided packages are keys below ``Appx\\AppxAllUserStore\\Applications``, named
    ``NAME_VERSION_ARCHITECTURE_..._PUBLISHER``.
    """

    name: Text
    version: str | None = None

    @property
    def title(self) -> str:
        return f"app {self.name}" + (f" {self.version}" if self.version else " is provided")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        found = sight.state.get("part", f"app:{self.name}")
        if not isinstance(found, Part):
            return False, f"app {self.name} is not provided"
        if self.version and found.value is None:
            raise NotCovered(f"the version of the app {self.name} is known only on a real machine")
        return fits(found.value, self.version), f"app {self.name} {found.value or ''} is provided".replace("  ", " ")

    def data(self) -> dict[str, object]:
        return {"name": self.name, "version": bounds(self.version)}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Part("app", self.name, within(self.version)))

    def oval(self) -> Criteria | OvalTest:
        if self.version:
            raise NotCovered(f"OVAL 5.11 cannot compare a version within a key's name: “{self.title}”")
        key = rf"(?i)^SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Appx\\AppxAllUserStore\\Applications\\{re.escape(self.name)}_[^\\]+$"  # noqa: E501
        return OvalTest(
            "registry",
            (_LOCAL, Field("key", key, "pattern match"), Field("name", None)),
            version_states("value", None),
            view="64_bit",
        )
