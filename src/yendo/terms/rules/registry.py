"""A registry value, or a key."""

from __future__ import annotations

from yendo.effects import RegistryValue
from yendo.effects.things import RegistryKey
from yendo.platforms.windows.registry_keys import value_of
from yendo.terms.amounts import Text
from yendo.terms.rules.base import (
    BaseRule,
    Criteria,
    Field,
    OvalTest,
    RuleView,
    Sight,
    bounds,
    fits,
    number_fits,
    number_states,
    numbers,
    version_states,
    within,
)

HIVES = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU"}
LONG = {short: long for long, short in HIVES.items()}


def parts_of(key: str) -> tuple[str, str]:
    """``(hive, key below it)``. Raises ValueError."""
    hive, _, rest = key.partition("\\")
    short = HIVES.get(hive.upper(), hive.upper())
    if short not in ("HKLM", "HKCU") or not rest:
        raise ValueError(f"key begins with HKLM\\ or HKCU\\, not {key!r}")
    return short, rest


class RegistryRule(BaseRule, tag="registry", frozen=True, kw_only=True):
    """A registry value exists, and equals a text or number, or is a version or a whole number within a range."""

    key: Text
    name: str = ""
    equals: str | int | None = None
    version: str | None = None
    number: str | None = None
    view: RuleView = "64"

    @property
    def parts(self) -> tuple[str, str]:
        """``(hive, key below it)``."""
        return parts_of(self.key)

    def __post_init__(self) -> None:
        super().__post_init__()
        parts_of(self.key)
        if self.number:
            numbers(self.number)

    @property
    def title(self) -> str:
        wanted = (
            f"= {self.equals}"
            if self.equals is not None
            else f"version {self.version}"
            if self.version
            else f"number {self.number}"
            if self.number
            else "exists"
        )
        return f"registry {self.key}\\{self.name} {wanted}"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        hive, key = self.parts
        data = value_of(sight.state, hive, self.view, key, self.name)
        if data is None:
            return False, "no such value"
        same = self.equals is None or str(data) == str(self.equals)
        counted = not self.number or (_whole(data) is not None and number_fits(_whole(data) or 0, self.number))
        return same and counted and fits(str(data), self.version), f"is {_shown(data)}"

    def data(self) -> dict[str, object]:
        hive, key = self.parts
        return {
            "hive": hive,
            "key": key,
            "name": self.name,
            "view": self.view,
            "compare": self.equals is not None,
            "equals": "" if self.equals is None else str(self.equals),
            "version": bounds(self.version),
            "numbers": [{"sign": sign, "number": str(number)} for sign, number in numbers(self.number)]
            if self.number
            else [],
        }

    def fulfil(self, sight: Sight) -> None:
        hive, key = self.parts
        data: str | int = self.equals if self.equals is not None else within(self.version) or ""
        if self.number:
            sign, number = numbers(self.number)[0]
            data = number + {">": 1, "<": -1}.get(sign, 0)
        sight.state.add(
            RegistryValue(hive, key, self.name, "dword" if isinstance(data, int) else "sz", data, self.view)
        )

    def oval(self) -> Criteria | OvalTest:
        hive, key = self.parts
        states = version_states("value", self.version)
        if self.equals is not None:
            states += (
                (Field("value", str(self.equals), datatype="int" if isinstance(self.equals, int) else "string"),),
            )
        if self.number:
            states += number_states("value", self.number)
        return OvalTest(
            "registry",
            (
                Field("hive", LONG[hive]),
                Field("key", key, "case insensitive equals"),
                Field("name", self.name, "case insensitive equals"),
            ),
            states,
            view=f"{self.view}_bit",
        )


def _shown(data: object) -> str:
    """A value as the scripts print it: lists and bytes with spaces between."""
    if isinstance(data, bytes | tuple | list):
        return " ".join(str(one) for one in data)
    return str(data)


def _whole(data: object) -> int | None:
    """A value as a whole number: what the scripts read as one."""
    if isinstance(data, int):
        return data
    text = str(data or "")
    return (
        int(text) if text.removeprefix("-").isascii() and text.removeprefix("-").isdigit() and len(text) < 16 else None
    )


class RegistryKeyRule(BaseRule, tag="registry-key", frozen=True, kw_only=True):
    """A registry key exists."""

    key: Text
    view: RuleView = "64"

    def __post_init__(self) -> None:
        super().__post_init__()
        parts_of(self.key)

    @property
    def title(self) -> str:
        return f"registry key {self.key} exists"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        hive, key = parts_of(self.key)
        head = RegistryKey(hive, key, self.view).identity
        if any(
            value_of(sight.state, hive, self.view, key, name) is not None
            for name in ("ImagePath", "DisplayName", "UninstallString")
        ):
            return True, "is there"
        kinds = ("registry", "registry-key", "uninstall-entry")
        there = any(
            thing.identity == head or thing.identity.startswith((head + "!", head + "\\"))
            for thing in sight.state.of(*kinds)
            if thing.identity.startswith(head)
        )
        return there, "is there" if there else "no such key"

    def data(self) -> dict[str, object]:
        hive, key = parts_of(self.key)
        return {"hive": hive, "key": key, "view": self.view}

    def fulfil(self, sight: Sight) -> None:
        hive, key = parts_of(self.key)
        sight.state.add(RegistryKey(hive, key, self.view))

    def oval(self) -> Criteria | OvalTest:
        hive, key = parts_of(self.key)
        return OvalTest(
            "registry",
            (Field("hive", LONG[hive]), Field("key", key, "case insensitive equals"), Field("name", None)),
            view=f"{self.view}_bit",
        )
