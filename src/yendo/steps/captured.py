"""Steps that bring what was captured, as far as the plan wants it: each becomes steps of the other kinds' work."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NamedTuple, TypeVar

import msgspec

from yendo import digest
from yendo.effects import Effect
from yendo.effects.things import (
    AccessRights,
    Data,
    Environment,
    File,
    Folder,
    IniValue,
    Part,
    Product,
    RegistryKey,
    RegistryValue,
    Service,
    Shortcut,
    Thing,
    UninstallEntry,
    View,
    label,
    parent,
)
from yendo.errors import Unreadable, Usage
from yendo.platforms.windows import capture_record as captures
from yendo.platforms.windows.capture_record import Capture, Caught, Promise
from yendo.steps.base import Action, At, Kind, Result, Reversal, Step, below, brought, quoted
from yendo.steps.copy import CopiedFile, CopyData
from yendo.steps.delete import DeleteData
from yendo.steps.edit import EditData
from yendo.steps.environment import PLACES, EnvironmentData
from yendo.steps.registry import RegistryChanges, RegistryItem
from yendo.steps.service import ServiceData
from yendo.steps.shortcut import ShortcutData
from yendo.terms.amounts import Text, Written
from yendo.terms.settings import names_in

if TYPE_CHECKING:
    from yendo.steps.host import Host

_UNINSTALL = r"Software\Microsoft\Windows\CurrentVersion\Uninstall"
_STARTS = {"boot": "auto", "system": "auto"}
Fate = Literal["kept", "left", "open", "cannot"]


class Which(Written, frozen=True, kw_only=True):
    """Things of a capture: ``thing`` as ``yendo capture --show`` names it, with ``*`` for anything; ``kind`` and
    ``part`` where not all are meant, or instead. One of the three is said: what names nothing would mean everything.
    """

    thing: str = ""
    kind: str = ""
    part: str = ""
    note: str = ""

    def __post_init__(self) -> None:
        if not (self.thing or self.kind or self.part):
            raise ValueError('it does not say what is meant: a thing, a kind or a part (thing = "*" for everything)')

    def names(self, one: Caught) -> bool:
        """Whether a thing is meant."""
        if (self.kind and self.kind != one.effect.kind) or (self.part and self.part != one.part):
            return False
        wanted = _pattern(self.thing or "*")
        return any(wanted.match(name) for name in one.names)


@lru_cache(maxsize=1024)
def _pattern(thing: str) -> re.Pattern[str]:
    """A decision's pattern; each is held against every thing of a capture. Paths as a person writes them are placed."""
    return re.compile(fnmatch.translate(captures.usual(thing.lower()).replace("[", "[[]")))


class Otherwise(Which, frozen=True, kw_only=True):
    """Values that are set to ``to`` instead: a registry value's or an ini entry's. ``{setting.NAME}`` may stand in it;
    of a file, ``to`` is one below ``extras/`` that comes instead.
    """

    to: str | int | tuple[str, ...]


class CapturedStep(Step, tag="captured", frozen=True, rename={"source": "from"}, kw_only=True):
    """Brings what was captured: ``from`` names the record below ``capture/``.

    ``leave`` names what is left out, ``keep`` what comes all the same, ``change`` what is set otherwise. What belongs
    to the machine that it was captured on comes only where ``keep`` names it.
    """

    source: Text = captures.RECORD
    leave: tuple[Which, ...] = ()
    keep: tuple[Which, ...] = ()
    change: tuple[Otherwise, ...] = ()

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.once:
            raise ValueError("once belongs to a single step; what was captured becomes many")


class Decided(msgspec.Struct, frozen=True):
    """What becomes of a thing of the capture, and why; ``to`` is what the plan sets instead."""

    caught: Caught
    fate: Fate
    why: str = ""
    to: str | int | tuple[str, ...] | None = None


class MadeStep(Step, tag="made", frozen=True, kw_only=True):
    """A step that another one was resolved into; no plan has it.

    ``files`` are what it brings of the workspace, ``back`` how it is taken back.
    """

    action: Action
    files: tuple[str, ...] = ()
    back: Reversal = "by record"


class MadeKind(Kind[MadeStep]):
    step = MadeStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def reversal_of(self, step: MadeStep) -> Reversal:
        return step.back

    def resolve(self, step: MadeStep, at: At) -> Action:
        if step.action.kind != "copy":
            return step.action
        own, known = CopyData.of(step.action), []
        for item in own.items:
            found = at.digest(below(at.base, item.source, "extras"))
            if found and item.sha256 and found != item.sha256:
                raise Usage(f"{item.source} is not what was captured; capture it again, or change it in the plan")
            known.append(msgspec.structs.replace(item, sha256=found))
        replace = msgspec.structs.replace
        return replace(step.action, data=replace(own, items=tuple(known)).plain())

    def sources(self, step: MadeStep, base: Path) -> list[Path]:
        return [path for name in step.files for path in brought(base, name)]

    def perform(self, action: Action, host: Host) -> Result:
        raise NotImplementedError("what it was made into is carried out")


class CapturedKind(Kind[CapturedStep]):
    step = CapturedStep
    reversal = "by record"
    executed = ("API layer", "simulation")
    composed = True

    def resolve(self, step: CapturedStep, at: At) -> Action:
        raise Usage("a captured step stands in the install only: what it brings is taken back by its record")

    def perform(self, action: Action, host: Host) -> Result:
        raise NotImplementedError("what it was made into is carried out")

    def sources(self, step: CapturedStep, base: Path) -> list[Path]:
        return []

    def expand(self, step: CapturedStep, base: Path, kept: str) -> tuple[Step, ...]:
        actions = list(_actions(decided(step, capture_of(step, base)), base, kept))
        shared = {name: getattr(step, name) for name in Step.__struct_fields__ if name not in ("probe", "once")}
        made = [MadeStep(action=action, files=_sources(action), **shared) for action in actions]
        if made:  # what tells that it took is known once all of it is there
            made[-1] = msgspec.structs.replace(made[-1], probe=step.probe)
        return tuple(made)

    def mistakes(self, step: CapturedStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            capture = capture_of(step, at.base)
        except Usage as error:
            yield "from", str(error), "yendo capture makes it"
            return
        every = decided(step, capture)
        waiting = [one for one in every if one.fate == "open"]
        if waiting:
            some = "; ".join(f"{label(one.caught.effect.thing)} ({one.why})" for one in waiting[:3])
            more = f"; and {len(waiting) - 3} more" if len(waiting) > 3 else ""
            yield (
                "",
                f"{len(waiting)} of the captured things belong to the machine, and nobody has decided: {some}{more}",
                "leave or keep each of them; `yendo capture NAME --show --open` lists them",
            )
        for one in (one for one in every if one.fate == "cannot" and not _is_a_persons(one.caught)):
            yield "keep", f"{label(one.caught.effect.thing)} cannot be brought: {one.why}", "leave it, with a note"
        for name in ("leave", "keep", "change"):
            for number, which in enumerate(getattr(step, name)):
                if not any(which.names(one) for one in capture.caught):
                    yield (
                        name,
                        f"{name} {number + 1} names nothing of the capture: {which.thing or which.kind or which.part}",
                        "correct it, or drop it",
                    )


def capture_of(step: CapturedStep, base: Path) -> Capture:
    """The record that a step names. Raises Usage."""
    path = (base / step.source.replace("\\", "/")).resolve()
    if not path.is_relative_to((base / "capture").resolve()):
        raise Usage(f"{step.source!r} is not below capture/")
    try:
        status = path.stat()
        return _read(path, status.st_mtime_ns, status.st_size)
    except FileNotFoundError as error:
        raise Usage(f"{step.source} is not there; yendo capture makes it") from error
    except Unreadable as error:
        raise Usage(str(error)) from error


@lru_cache(maxsize=4)
def _read(path: Path, changed: int, size: int) -> Capture:
    """The same record is asked for by every step that it becomes."""
    return captures.read(path)


def decided(step: CapturedStep, capture: Capture) -> list[Decided]:
    """What becomes of everything that was captured. The plan goes before the lists, ``keep`` before ``leave``."""
    return list(_all_decided(msgspec.json.encode(step), _Same(step, capture)))


class _Same(NamedTuple):
    """A step and a capture that are the same only as these objects: the same question is asked several times a build,
    and has 40,000 answers.
    """

    step: CapturedStep
    capture: Capture

    def __hash__(self) -> int:
        return id(self.capture)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and self.capture is other.capture


@lru_cache(maxsize=4)
def _all_decided(key: bytes, same: _Same) -> tuple[Decided, ...]:
    return tuple(_decided(same.step, one) for one in same.capture.caught)


def _decided(step: CapturedStep, one: Caught) -> Decided:
    change, keep, leave = _last(step.change, one), _last(step.keep, one), _last(step.leave, one)
    if change and (cannot := _unchangeable(one)):
        return Decided(one, "cannot", cannot)
    if chosen := keep or change:
        why = chosen.note or "as the plan says"
        if cannot := _impossible(one):
            return Decided(one, "cannot", cannot)
        return Decided(one, "kept", why, change.to if change else None)
    if leave:
        return Decided(one, "left", leave.note or "as the plan says")
    if one.left:
        return Decided(one, "left", one.left)
    if one.bound and one.bound.data is None:
        return Decided(one, "open", one.bound.why + (", guessed" if one.bound.guessed else ""))
    if cannot := _impossible(one):
        return Decided(one, "cannot", cannot)
    return Decided(one, "kept", f"{one.bound.why}, which a variable names" if one.bound else "")


WhichT = TypeVar("WhichT", bound=Which)


def _last(some: Sequence[WhichT], one: Caught) -> WhichT | None:
    """The last decision that names a thing: it goes before those above it."""
    return next((which for which in reversed(some) if which.names(one)), None)


def _unchangeable(one: Caught) -> str:
    if one.effect.change == "remove" or not isinstance(one.effect.thing, RegistryValue | IniValue | File):
        return f"a {one.effect.kind} has no value that could be another"
    return ""


def _is_a_persons(one: Caught) -> bool:
    """Whether it lies in the profile of the person who did the work."""
    thing = one.effect.thing
    return isinstance(thing, File | Folder | Shortcut | IniValue) and captures.is_own(thing)


def _impossible(one: Caught) -> str:
    """Why no step brings a thing; empty where one does."""
    thing = one.effect.thing
    if one.effect.change != "remove" and isinstance(thing, File) and not one.content:
        return "its content was not kept, since a list leaves it out"
    if _is_a_persons(one):
        return "of the person who did the work: it would reach nobody else"
    if isinstance(thing, RegistryValue) and thing.hive == "HKU":
        return "of another person's part of the registry"
    if isinstance(thing, RegistryValue) and thing.type not in ("sz", "expand", "multi", "dword", "qword", "binary"):
        return "a value of a kind that no step sets"
    if isinstance(thing, AccessRights | Part | Product):
        return f"no step brings what was captured of the kind {one.effect.kind}"
    if isinstance(thing, Service) and one.effect.change == "change":
        return "a service that was there already is set by a step of its own"
    return ""


def promise(step: CapturedStep, base: Path) -> Promise:
    """What a package with this step is held against. Raises Usage."""
    every = decided(step, capture_of(step, base))
    edited = {
        one.caught.effect.thing.path.lower()
        for one in every
        if one.fate == "kept" and isinstance(one.caught.effect.thing, IniValue)
    }
    return Promise(
        kept=tuple(_promised(one, edited, base) for one in every if one.fate == "kept"),
        left=tuple(
            effect
            for effect in (one.caught.effect for one in every if one.fate != "kept")
            if effect.change == "add" and not isinstance(effect.thing, IniValue)
        ),
    )


def _promised(one: Decided, edited: set[str], base: Path) -> Effect:
    """The effect as it is to be on another machine: with the plan's values, and without what is told only there."""
    effect, replace = one.caught.effect, msgspec.structs.replace
    thing: Thing = effect.thing
    match thing:
        case File() if one.to is not None:
            own = digest.of_file(base / str(one.to))
            thing = replace(thing, size=None, sha256=own, version=None, architecture=None)
        case File() if thing.identity in edited:
            thing = replace(thing, size=None, sha256=None)
        case RegistryValue() if one.to is not None:
            kind, data = _data(thing, one.to)
            thing = replace(thing, type=kind, data=tuple(data) if isinstance(data, list) else data)
        case RegistryValue() if one.caught.bound and one.caught.bound.data is not None:
            thing = replace(thing, data=one.caught.bound.data)
        case IniValue() if one.to is not None:
            thing = replace(thing, value=str(one.to))
        case UninstallEntry():
            thing = replace(thing, uninstall=None, quiet_uninstall=None)
        case Environment() if added := captures.added_to(one.caught):
            thing = replace(thing, value=";".join(added) + ";")
    if names_in(getattr(thing, "data", None) or getattr(thing, "value", None) or ""):  # chosen when it is delivered
        thing = replace(thing, data=None) if isinstance(thing, RegistryValue) else replace(thing, value=None)
    return replace(effect, thing=thing)


# --- what is brought, as the work of the other kinds --------------------------------------------------------------


def _actions(every: Sequence[Decided], base: Path, kept: str) -> Iterator[Action]:
    wanted = [one for one in every if one.fate == "kept"]
    yield from _files(wanted)
    for one in wanted:
        if one.caught.effect.change == "remove" and isinstance(one.caught.effect.thing, File | Shortcut):
            path = one.caught.effect.thing.path
            data = DeleteData(path, keep=True, only_empty=False, empty_parents=False)
            yield Action("delete", f"delete {path}", data=data.plain())
    yield from _registry(wanted, kept)
    yield from _variables(wanted)
    yield from _entries(wanted)
    yield from _services(wanted)
    for one in wanted:
        link = one.caught.effect.thing
        if isinstance(link, Shortcut) and one.caught.effect.change != "remove":
            made = ShortcutData(
                link.path,
                link.target or "",
                link.arguments or "",
                link.working_folder or "",
                link.description or "",
                icon="",
            )
            yield Action("shortcut", f"make shortcut {link.path}", data=made.plain())


def _sources(action: Action) -> tuple[str, ...]:
    return tuple(item.source for item in CopyData.of(action).items) if action.kind == "copy" else ()


def _files(wanted: Iterable[Decided]) -> Iterator[Action]:
    """Files in one go, and the folders that nothing else brings; one with places of settings each for itself."""
    items, folders, inner = [], [], set()
    for one in wanted:
        thing = one.caught.effect.thing
        if one.caught.effect.change == "remove" or not isinstance(thing, File | Folder):
            continue
        if isinstance(thing, Folder):
            folders.append(thing.path)
            continue
        source = one.caught.content
        if one.to is not None:
            if not isinstance(one.to, str) or not one.to.replace("\\", "/").startswith("extras/"):
                raise Usage(f"what comes in place of {thing.path} is a file below extras/, not {one.to!r}")
            source = one.to.replace("\\", "/")
        items.append(CopiedFile(source, thing.path, "" if one.to is not None else thing.sha256 or ""))
        above = parent(thing.path.lower())
        while "\\" in above and above not in inner:
            inner.add(above)
            above = parent(above)
    empty = [path for path in folders if path.lower() not in inner]
    empty = [path for path in empty if not any(other.lower().startswith(path.lower() + "\\") for other in empty)]
    if items or empty:
        words = f"place {len(items)} captured files" if items else f"make {len(empty)} captured folders"
        data = CopyData(tuple(items), keep=False, mirror="", folders=tuple(empty))
        yield Action("copy", words, data=data.plain())


def _registry(wanted: Iterable[Decided], kept: str) -> Iterator[Action]:
    """The machine's values in one go, those of people in another, which everybody gets."""
    of: dict[bool, dict[tuple[str, str, str], _KeyChanges]] = {False: {}, True: {}}

    def item(hive: str, view: View, key: str) -> _KeyChanges:
        return of[hive == "HKCU"].setdefault((hive, view, key.lower()), _KeyChanges(hive, view, key))

    for one in wanted:
        thing, removed = one.caught.effect.thing, one.caught.effect.change == "remove"
        match thing:
            case RegistryValue() if removed:
                item(thing.hive, thing.view, thing.key).delete.append(thing.name)
            case RegistryValue():
                held = item(thing.hive, thing.view, thing.key)
                bound = one.caught.bound
                named = bound.data if bound and one.to is None else None
                kind, data = _data(thing, named if one.to is None else one.to)
                if named is not None:
                    held.expanded.append(thing.name)
                held.values.append((thing.name, kind, data))
            case RegistryKey() if not removed:
                item(thing.hive, thing.view, thing.key).make_key = True
            case UninstallEntry() if not removed:
                held = item(thing.hive, thing.view, rf"{_UNINSTALL}\{thing.key}")
                held.values += _entry(thing, kept)
    for each, items in of.items():
        if items:
            words = "set what was captured of people's own values" if each else "set captured registry values"
            yield Action(
                "registry", words, data=RegistryChanges(tuple(held.item for held in items.values()), each).plain()
            )


class _KeyChanges:
    """What one key gets, as it is collected."""

    def __init__(self, hive: str, view: View, key: str) -> None:
        self.hive, self.view, self.key, self.make_key = hive, view, key, False
        self.values: list[tuple[str, str, Data]] = []
        self.delete: list[str] = []
        self.expanded: list[str] = []

    @property
    def item(self) -> RegistryItem:
        return RegistryItem(
            hive=self.hive, view=self.view, key=self.key, values=tuple(self.values), delete=tuple(self.delete),
            make_key=self.make_key, expanded=tuple(self.expanded),
        )  # fmt: skip


def _data(thing: RegistryValue, to: Data) -> tuple[str, Data]:
    """A value's kind and data, as the registry steps have them."""
    data = thing.data if to is None else to
    kind = thing.type or "sz"
    if to is not None and isinstance(to, int) and kind not in ("dword", "qword"):
        kind = "dword"
    return kind, "" if data is None else data


def _entry(thing: UninstallEntry, kept: str) -> list[tuple[str, str, Data]]:
    """The line in the list of programs, which starts this package's own removal and offers nothing else."""
    texts = {"DisplayName": thing.name, "DisplayVersion": thing.version, "Publisher": thing.publisher}
    found: list[tuple[str, str, Data]] = [(name, "sz", text) for name, text in texts.items() if text]
    if not thing.hidden:
        found.append(("UninstallString", "expand", f'"{kept}\\apply.cmd" uninstall'))
    else:
        found.append(("SystemComponent", "dword", 1))
    return [*found, ("NoModify", "dword", 1), ("NoRepair", "dword", 1)]


def _variables(wanted: Iterable[Decided]) -> Iterator[Action]:
    for one in wanted:
        thing = one.caught.effect.thing
        if not isinstance(thing, Environment):
            continue
        if one.caught.effect.change == "remove":
            changes = [("delete", "")]
        else:
            changes = [("append", entry) for entry in captures.added_to(one.caught)] or [("set", thing.value or "")]
        for change, value in changes:
            words = f"append to variable {thing.name}" if change == "append" else f"{change} variable {thing.name}"
            data = EnvironmentData(*PLACES[thing.scope], thing.name, value, change)
            yield Action("environment", words, data=data.plain())


def _entries(wanted: Iterable[Decided]) -> Iterator[Action]:
    """Entries of ini files: those that were there, and those that are set otherwise in one that comes as a whole."""
    of: dict[str, tuple[str, list[tuple[str, str]], list[str]]] = {}
    for one in wanted:
        thing = one.caught.effect.thing
        if isinstance(thing, IniValue):
            path, put, gone = of.setdefault(thing.path.lower(), (thing.path, [], []))
            place = f"{thing.section}/{thing.key}"
            if one.caught.effect.change == "remove":
                gone.append(place)
            else:
                put.append((place, str(one.to if one.to is not None else thing.value or "")))
    for path, put, gone in of.values():
        data = EditData(path, "ini", tuple(put), tuple(gone), make=True)
        yield Action("edit", f"edit {path}", data=data.plain())


def _services(wanted: Iterable[Decided]) -> Iterator[Action]:
    for one in wanted:
        thing = one.caught.effect.thing
        if not isinstance(thing, Service):
            continue
        if one.caught.effect.change == "remove":
            yield _service(thing, "delete", f"sc.exe delete {quoted(thing.name)}", "")
            continue
        start = _STARTS.get(thing.start or "", thing.start or "demand")
        words = ["sc.exe create", quoted(thing.name), "binPath=", quoted(thing.command or ""), "start=", start]
        words += ["DisplayName=", quoted(thing.display_name)] if thing.display_name else []
        words += ["obj=", quoted(thing.account)] if thing.account and thing.account.lower() != "localsystem" else []
        words += ["depend=", quoted("/".join(thing.depends_on))] if thing.depends_on else []
        yield _service(thing, "create", " ".join(words), f"sc.exe delete {quoted(thing.name)}")


def _service(thing: Service, change: str, command: str, reverse: str) -> Action:
    return Action(
        "service",
        f"{change} service {thing.name}",
        command,
        timeout=120,
        data=ServiceData(thing.name, change, 0).plain(),
        reverse=reverse,
    )
