"""Steps that change the registry."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.effects.things import Data, View
from yendo.errors import Usage
from yendo.formats import registry_text
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step, below
from yendo.terms import events

if TYPE_CHECKING:
    from yendo.steps.host import Host

_HIVES = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU", "HKEY_CLASSES_ROOT": "HKCR"}


class RegistryStep(Step, tag="registry", frozen=True, rename={"source": "import"}, kw_only=True):
    """Sets and deletes registry values, or imports a .reg file from ``extras/``.

    ``values`` maps names to texts, numbers or lists; ``types`` says expand, binary (hexadecimal) or qword where the
    value does not. ``delete`` names values to take away, ``delete_key`` the whole key, ``empty_key`` the key where
    it is empty then. A key below HKCU is set for the account that runs the package, or with ``each_user`` for
    everybody who has a profile and for those who log on later.
    """

    key: Annotated[str, Meta(pattern=r"^(HKLM|HKCU|HKEY_LOCAL_MACHINE|HKEY_CURRENT_USER)\\.+")] | None = None
    values: dict[str, str | int | tuple[str, ...]] = {}
    types: dict[str, Literal["sz", "expand", "multi", "dword", "qword", "binary"]] = {}
    delete: tuple[str, ...] = ()
    delete_key: bool = False
    empty_key: bool = False
    source: str | None = None
    view: Literal["64", "32"] = "64"
    each_user: bool = False

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.key) == bool(self.source):
            raise ValueError("a registry step has exactly one of key and import")
        if self.key and not (self.values or self.delete or self.delete_key or self.empty_key):
            raise ValueError("a registry step with a key sets values, deletes some, or deletes the key")
        if self.each_user and self.key and not split(self.key)[0] == "HKCU":
            raise ValueError("each_user belongs to a key below HKCU")
        unknown = set(self.types) - set(self.values)
        if unknown:
            raise ValueError(f"types names {', '.join(sorted(unknown))}, which values does not")


def split(key: str) -> tuple[str, str]:
    """``(hive, key below it)``, with the hive's short name."""
    hive, _, rest = key.partition("\\")
    return _HIVES.get(hive.upper(), hive.upper()), rest.rstrip("\\")


def value(data: str | int | tuple[str, ...], kind: str | None) -> tuple[str, Data]:
    """A value of a plan as type and data. Raises ValueError."""
    if kind is None:
        kind = (
            "sz"
            if isinstance(data, str)
            else "multi"
            if isinstance(data, tuple)
            else "dword"
            if 0 <= data < 1 << 32
            else "qword"
        )
    if kind == "binary" and not re.fullmatch(r"(?:[0-9a-fA-F]{2})*", str(data)):
        raise ValueError(f"{data!r} is not hexadecimal")
    return kind, str(data).lower() if kind == "binary" else data


def text_of(data: bytes) -> str:
    """The text of a .reg file, which has a mark in front where it is UTF-16."""
    return data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig", "replace")


class RegistryItem(msgspec.Struct, frozen=True, kw_only=True):
    """Changes of one key. ``values`` are names, kinds and data; ``expanded`` those whose variables are put in when it
    is carried out; ``make_key`` makes the key also where it has no values.
    """

    hive: str
    view: View
    key: str
    values: tuple[tuple[str, str, Data], ...] = ()
    delete: tuple[str, ...] = ()
    delete_key: bool = False
    empty_key: bool = False
    make_key: bool | msgspec.UnsetType = msgspec.UNSET
    expanded: tuple[str, ...] | msgspec.UnsetType = msgspec.UNSET


class RegistryChanges(ActionData, frozen=True):
    """``each``: keys of a person are set for everybody."""

    items: tuple[RegistryItem, ...]
    each: bool = False


def imported(text: str) -> tuple[RegistryItem, ...]:
    """The changes of a .reg file, in its order. Raises ValueError where it is none."""
    lines = text.replace("\r\n", "\n").lstrip("\ufeff")
    if not re.match(r"\s*(Windows Registry Editor Version 5\.00|REGEDIT4)\s*\n", lines):
        raise ValueError("it does not begin as a .reg file does")
    found = []
    for block in re.split(r"\n(?=\[)", re.sub(r"\\\n\s*", "", lines)):
        match = re.match(r"\[(-?)([^\]\n]+)\]", block)
        if not match:
            continue
        hive, key = split(match[2])
        if hive == "HKCR":
            hive, key = "HKLM", "Software\\Classes\\" + key
        if hive not in ("HKLM", "HKCU"):
            raise ValueError(f"{match[2]} is below neither HKLM nor HKCU")
        view: View = "64"
        narrow = re.match(r"(?i)(software\\)(?:wow6432node)\\(.*)", key)
        if narrow:
            key, view = narrow[1] + narrow[2], "32"
        values, gone_names = [], []
        for line in block.split("\n")[1:]:
            gone = re.match(r'(?:"((?:[^"\\]|\\.)*)"|@)=-\s*$', line)
            if gone:
                gone_names.append(registry_text.unescape(gone[1] or ""))
                continue
            for name, (kind, data) in registry_text.values(line):
                values.append((name, kind, data))
        found.append(
            RegistryItem(
                hive=hive, view=view, key=key, values=tuple(values), delete=tuple(gone_names), delete_key=bool(match[1])
            )
        )
    return tuple(found)


class RegistryKind(Kind[RegistryStep]):
    step = RegistryStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: RegistryStep, at: At) -> Action:
        if step.source:
            try:
                items = imported(text_of(below(at.base, step.source, "extras").read_bytes()))
            except ValueError as error:
                raise Usage(f"{step.source}: {error}") from error
            return Action("registry", f"import {step.source}", data=RegistryChanges(items, step.each_user).plain())
        hive, key = split(step.key or "")
        values = tuple((name, *value(data, step.types.get(name))) for name, data in step.values.items())
        item = RegistryItem(
            hive=hive,
            view=step.view,
            key=key,
            values=values,
            delete=step.delete,
            delete_key=step.delete_key,
            empty_key=step.empty_key,
        )
        words = f"set {step.key}" if values else f"delete from {step.key}"
        return Action("registry", words, data=RegistryChanges((item,), step.each_user).plain())

    def sources(self, step: RegistryStep, base: Path) -> list[Path]:
        return [below(base, step.source, "extras")] if step.source else []

    def perform(self, action: Action, host: Host) -> Result:
        own = RegistryChanges.of(action)
        for item in own.items:
            for hive, prefix in _places(item.hive, own.each, host):
                self._one(item, hive, prefix + item.key, host)
        return DONE

    def _one(self, item: RegistryItem, hive: str, key: str, host: Host) -> None:
        view = item.view
        if item.delete_key:
            host.drop_keys(hive, view, key)
            host.tell(events.Changed("deleted", f"{hive}\\{key}"))
        there = host.session.has_key(hive, view, key)
        for name in item.delete:
            if host.set_value(hive, view, key, name, None):
                host.tell(events.Changed("deleted", f"{hive}\\{key}\\{name}"))
        if item.make_key:
            host.keys(hive, view, key)
        for name, kind, data in item.values:
            if name in (item.expanded or ()):
                data = host.expand(str(data))
            if kind in ("dword", "qword"):
                data = int(str(data))  # a setting fills a place with text
            host.set_value(hive, view, key, name, (kind, data))
            host.tell(events.Changed("set", f"{hive}\\{key}\\{name}"))
        if item.empty_key and there and host.session.drop_key(hive, view, key):
            host.tell(events.Changed("removed", f"{hive}\\{key}"))

    def mistakes(self, step: RegistryStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.key and re.match(r"(?i)(HKLM|HKEY_LOCAL_MACHINE)\\software\\wow6432node\\", step.key):
            yield "key", "Wow6432Node is named in the key", 'leave it out and write view = "32"'
        if step.source and not step.each_user:
            try:
                if any(item.hive == "HKCU" for item in RegistryChanges.of(self.resolve(step, at)).items):
                    yield (
                        "import",
                        "it sets values of HKCU, which are the system account's own",
                        "each_user = true sets them for everybody",
                    )
            except Usage as error:
                yield "import", str(error), "export it again, as .reg version 5"


def _places(hive: str, each: bool, host: Host) -> list[tuple[str, str]]:
    """Where a key of the user lies: once, or in every user's hive."""
    if hive != "HKCU" or not each:
        return [(hive, "")]
    return [("HKU", f"{user}\\") for user in host.session.user_hives()]
