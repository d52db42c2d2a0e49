"""Machine states that detection has to tell apart: the right ones, and the ways in which an installation is broken.

Everything here is made from three things: the machine before, the effects of the install, and other versions at hand.
A state is wanted (detection must hold), broken (it must not), and belongs to a class; a seed chooses where there are
too many of one class. Names are words for a person.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import Any, NamedTuple

import msgspec

from yendo.effects import (
    Effect,
    Environment,
    File,
    Product,
    RegistryValue,
    Service,
    Shortcut,
    State,
    UninstallEntry,
    apply,
)
from yendo.effects.things import Part, Thing, key_of, kind_of, label, parent
from yendo.facts.versions import Version
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.registry_keys import MACHINE, PERSON, is_of_installer
from yendo.platforms.windows.surroundings import windows

MOST_OF_A_CLASS = 60
_PROFILE = windows().environment["USERPROFILE"]
EDITED = (".ini", ".cfg", ".conf", ".json", ".xml", ".log", ".txt", ".yaml", ".toml")


class Case(msgspec.Struct, frozen=True):
    """One state: its class, its name, and whether the package counts as installed there.

    One that is a copy of everything with a little changed is made each time it is looked at: hundreds of copies of
    50,000 files are a gigabyte.
    """

    sort: str
    name: str
    made: State | Callable[[], State]
    wanted: bool

    @property
    def state(self) -> State:
        return self.made if isinstance(self.made, State) else self.made()


class Ground(msgspec.Struct, frozen=True):
    """What the states are made from.

    ``steps`` are states after each unfinished part of the install; ``removed`` the state after the uninstall;
    ``others`` states with another version or product installed: its words and whether it may count as this one.
    ``also`` are states in which the package is whole as well: on machines where a step's condition does not hold.
    """

    before: State
    after: State
    effects: tuple[Effect, ...]
    steps: tuple[tuple[str, State], ...] = ()
    removed: State | None = None
    others: tuple[tuple[str, State, bool], ...] = ()
    also: tuple[tuple[str, State], ...] = ()
    updates: bool = False  # the program may update itself, and a newer version then counts

    def steady(self, thing: Thing) -> bool:
        """Whether it is the same wherever the package is whole, as far as its content is known."""
        return all(_same(state.get(*key_of(thing)), thing) for _, state in self.also)

    @property
    def added(self) -> tuple[Thing, ...]:
        """What the install leaves, on every machine."""
        things = (effect.thing for effect in self.effects if effect.change != "remove")
        return tuple(thing for thing in things if all(state.has(thing) for _, state in self.also))


def _same(one: Thing | None, other: Thing) -> bool:
    if isinstance(one, File) and isinstance(other, File):
        return (one.version, one.size, one.sha256) == (other.version, other.size, other.sha256)
    if isinstance(one, RegistryValue) and isinstance(other, RegistryValue):
        return one.data == other.data
    return one == other


def older(version: str) -> str:
    """A version before this one; ``0.0.0.0`` has none and stays."""
    try:
        fields = list(Version.parse(version).fields)
    except ValueError:
        return "0.0.1"
    for at in (1, 0, 2, 3):
        if fields[at]:
            fields[at] -= 1
            return ".".join(map(str, fields))
    return version


def newer(version: str) -> str:
    """A version after this one."""
    try:
        fields = list(Version.parse(version).fields)
    except ValueError:
        return "9999.0"
    fields[1] = min(fields[1] + 1, 65535)
    return ".".join(map(str, fields))


def own_files(ground: Ground) -> list[File]:
    """The product's files, without what the Windows Installer keeps for itself."""
    return [
        thing
        for thing in ground.added
        if isinstance(thing, File) and paths.INSTALLERS_OWN not in thing.identity and thing.size != 0
    ]


def in_order(effects: Iterable[Effect]) -> list[Effect]:
    """In the order in which installers work: folders, files, registry and the rest, what registers the product last."""
    rank = {"folder": 0, "file": 1, "shortcut": 2, "uninstall-entry": 8, "product": 9}
    return sorted(effects, key=lambda effect: rank.get(effect.kind, 5))


def main_file(files: Iterable[File]) -> File | None:
    """The one that stands for the product: a program before a library or data, settings last, then the largest."""
    return max(
        files,
        key=lambda file: (
            file.identity.endswith(".exe"),
            file.version is not None,
            not is_settings(file),
            file.size or 0,
            file.identity,
        ),
        default=None,
    )


def own_values(ground: Ground) -> list[RegistryValue]:
    """The product's registry values, without those that the Windows Installer writes for itself."""
    return [
        thing
        for thing in ground.added
        if isinstance(thing, RegistryValue) and thing.hive == MACHINE and not is_of_installer(thing)
    ]


def counting(ground: Ground, file: File) -> list[File | None]:
    """The same file in every other version that counts; None where it is not there."""
    there = [state.get("file", file.path) for _, state, counts in ground.others if counts]
    return [thing if isinstance(thing, File) else None for thing in there]


def unchanging(ground: Ground, file: File) -> bool:
    """Whether a file is the same in every version that counts, so that another content is damage and no update."""
    others = counting(ground, file)
    return bool(others) and all(other is not None and other.sha256 == file.sha256 for other in others)


def is_settings(file: File) -> bool:
    """A file that people or the program itself may change."""
    return file.identity.endswith(EDITED)


def listed(ground: Ground) -> list[Case]:
    """The states that any detection has to tell apart."""
    found = [
        Case("fresh", "a fresh machine", ground.before, False),
        Case("installed", "this version", ground.after, True),
    ]
    found += [Case("installed", words, state, True) for words, state in ground.also]
    for words, state, counts in ground.others:
        found.append(Case("another version or product", words, state, counts))
    found += [Case("half installed", words, state, False) for words, state in ground.steps]
    if ground.removed is not None:
        found.append(Case("removed", "after the uninstall", ground.removed, False))
    found += _half(ground)
    found += _elsewhere(ground)
    return found


def _with(ground: Ground, change: Callable[[State], object]) -> State:
    state = ground.after.copy()
    change(state)
    return state


def _half(ground: Ground) -> Iterator[Case]:
    """An install or uninstall that was cut off, and what an uninstall may leave behind."""
    effects = list(ground.effects)
    # folders go last, when they are empty, and what registers the product goes when the rest has gone
    rank = {"registry": 0, "service": 1, "file": 2, "shortcut": 3, "uninstall-entry": 4, "product": 4, "folder": 5}
    going = sorted(ground.added, key=lambda thing: rank.get(kind_of(thing), 3))
    for share in (25, 50, 75):
        cut = len(effects) * share // 100
        state = ground.before.copy()
        apply(effects[:cut], state)
        if 0 < cut < len(effects):
            yield Case("half installed", f"the install was cut off at {share} %", state, False)
        state = ground.after.copy()
        _take(state, going[: max(len(going) * share // 100, 1)])
        yield Case("half removed", f"the uninstall was cut off at {share} %", state, False)
    registered = [thing for thing in ground.added if isinstance(thing, Product | UninstallEntry)]
    files = own_files(ground)
    if registered and files:
        yield Case(
            "leftovers", "registered, but its files are gone", _with(ground, lambda state: _take(state, files)), False
        )
        yield Case(
            "leftovers",
            "its files are there, but no longer registered",
            _with(ground, lambda state: _take(state, registered)),
            False,
        )
    kept = [thing for thing in ground.added if kind_of(thing) == "folder"]
    left = ground.before.copy()
    for thing in [*kept, *(file for file in files if is_settings(file))]:
        left.add(thing)
    yield Case("leftovers", "uninstalled; folders and settings are left", left, False)


def _elsewhere(ground: Ground) -> Iterator[Case]:
    """The same software in a way that is not this package: another product of the vendor, a user's own copy, another
    architecture.
    """
    vendor = ground.before.copy()
    user = ground.before.copy()
    narrow = ground.before.copy()
    moved = False
    for thing in ground.added:
        match thing:
            case Product():
                vendor.add(
                    msgspec.structs.replace(
                        thing, code="{7A1DE000-0000-4000-8000-00000000BE51}", name="another product", upgrade_code=None
                    )
                )
                user.add(msgspec.structs.replace(thing, scope="user", code="{7A1DE000-0000-4000-8000-0000000005E7}"))
                narrow.add(msgspec.structs.replace(thing, code="{7A1DE000-0000-4000-8000-000000000086}"))
            case UninstallEntry():
                vendor.add(msgspec.structs.replace(thing, key="another product", name="another product"))
                user.add(msgspec.structs.replace(thing, hive=PERSON))
                narrow.add(msgspec.structs.replace(thing, view="32" if thing.view == "64" else "64"))
            case File() if paths.INSTALLERS_OWN not in thing.identity:
                beside = paths.join(parent(thing.path), "another-" + paths.name(thing.path))
                vendor.add(msgspec.structs.replace(thing, path=beside))
                below = thing.path[len(paths.into(folders.DRIVE)) :]
                own = paths.join(_PROFILE, folders.PERSONS_PROGRAMS, below)
                user.add(msgspec.structs.replace(thing, path=own))
                other = folders.of_other_width(thing.path)
                moved = moved or other != thing.path
                narrow.add(msgspec.structs.replace(thing, path=other))
            case RegistryValue() if thing.hive == MACHINE:
                user.add(msgspec.structs.replace(thing, hive=PERSON))
                narrow.add(msgspec.structs.replace(thing, view="32" if thing.view == "64" else "64"))
                moved = True
    yield Case("another version or product", "another product of the same vendor", vendor, False)
    yield Case("another version or product", "a user's own copy", user, False)
    if moved:
        yield Case("another version or product", "the other architecture's edition", narrow, False)


def _take(state: State, things: Iterable[Thing]) -> None:
    for thing in things:
        state.remove(*key_of(thing))


# --- broken states ------------------------------------------------------------------------------------


def broken(ground: Ground, seed: int = 1) -> list[Case]:
    """Everything that may be wrong with an installation, and what must not count as broken. Same seed, same states."""
    found = listed(ground)
    chosen = random.Random(seed)
    for one in _damage(ground):
        many = len(one.of) > MOST_OF_A_CLASS
        for thing in chosen.sample(one.of, MOST_OF_A_CLASS) if many else one.of:
            name, change = one.make(thing)
            found.append(Case(one.sort, name, partial(_with, ground, change), one.wanted))
    return found


Alteration = Callable[[State], object]


class _Damage(NamedTuple):
    """A class of broken states: what may be broken, and for one of it the state's name and how it comes about.

    A state is a copy of everything, so it is made only once it was chosen.
    """

    sort: str
    of: Sequence[Any]
    make: Callable[[Any], tuple[str, Alteration]]
    wanted: bool = False


def _damage(ground: Ground) -> Iterator[_Damage]:
    files = own_files(ground)
    # what another version that counts does without is not missed
    programs = [file for file in files if not is_settings(file) and None not in counting(ground, file)]
    # where a product has nothing but texts, one of them stands for it
    yield _Damage("file missing", programs or files, lambda file: (f"{file.path} is missing", _removing(file)))
    yield _Damage(
        "file truncated",
        programs,
        lambda file: (f"{file.path} is cut off", _adding(File(file.path, (file.size or 2) // 2, "0" * 64, None, None))),
    )
    yield _Damage(
        "file older",
        [
            file
            for file in programs
            if (older(file.version) != file.version if file.version else not ground.updates or unchanging(ground, file))
        ],
        lambda file: (f"{file.path} is of an older version", _adding(_aged(file, older))),
    )
    folders: dict[str, list[Thing]] = {}
    for file in programs:
        folders.setdefault(parent(file.path), []).append(file)
    keys: dict[str, list[Thing]] = {}
    for value in own_values(ground):
        keys.setdefault(paths.join(value.hive, value.key), []).append(value)
    yield _Damage(
        "component missing",
        [*folders.items(), *keys.items()],
        lambda one: (f"all of {one[0]} is missing", _removing(*one[1])),
    )
    for sort, kind in (("service missing", Service), ("variable missing", Environment), ("part missing", Part)):
        yield _Damage(
            sort,
            [thing for thing in ground.added if isinstance(thing, kind)],
            lambda thing: (f"{kind_of(thing)} {label(thing)} is missing", _removing(thing)),
        )
    yield _Damage(
        "registry value missing", own_values(ground), lambda value: (f"{label(value)} is missing", _removing(value))
    )
    yield from _other_versions(ground, files, programs)
    yield _Damage("user data", list(_harmless(ground)), lambda one: one, wanted=True)


def _other_versions(ground: Ground, files: Sequence[File], programs: Sequence[File]) -> Iterator[_Damage]:
    """The product as an older version, or as it is once it has updated itself."""
    registered = [thing for thing in ground.added if isinstance(thing, Product | UninstallEntry)]
    down = [_aged(file, older) for file in files] + [_dated(thing, older) for thing in registered]
    if any(file.version for file in files) or registered:
        yield _one("downgraded", "everything is of an older version", _adding(*down))
    versioned = [file for file in programs if file.version]
    if versioned:
        up = [_aged(file, newer) for file in versioned]
        yield _one("updated by itself", "the program updated its files", _adding(*up), wanted=ground.updates)
        whole = _adding(*up, *(_dated(thing, newer) for thing in registered))
        yield _one("updated by itself", "the program updated its files and its entry", whole, wanted=ground.updates)


def _one(sort: str, name: str, change: Alteration, *, wanted: bool = False) -> _Damage:
    return _Damage(sort, [(name, change)], lambda one: one, wanted)


def _harmless(ground: Ground) -> Iterator[tuple[str, Alteration]]:
    """What people and the program itself leave there in daily use."""
    ours = sorted({parent(file.path) for file in own_files(ground)})
    for folder in ours[:3]:
        yield (
            f"a cache and a log in {folder}",
            _adding(
                File(paths.join(folder, "cache.dat"), 4096, "1" * 64), File(paths.join(folder, "run.log"), 12, "2" * 64)
            ),
        )
    yield (
        "a person's settings and data",
        _adding(
            RegistryValue(PERSON, r"Software\Own settings", "Window", "sz", "1,2"),
            File(paths.join(_PROFILE, "Documents", "depths.dat"), 99, "3" * 64),
        ),
    )
    for file in own_files(ground):
        if is_settings(file):
            yield (
                f"{file.path} was edited",
                _adding(msgspec.structs.replace(file, size=(file.size or 0) + 7, sha256="4" * 64)),
            )
    shortcuts = [thing for thing in ground.added if isinstance(thing, Shortcut)]
    if shortcuts:
        yield "a person deleted its shortcuts", _removing(*shortcuts)
    yield (
        "other software beside it",
        _adding(
            UninstallEntry("other", name="Other software", version="1.0"),
            File(paths.join(folders.PROGRAMS, "Other", "other.exe"), 9, "5" * 64, "1.0.0.0"),
        ),
    )


def _adding(*things: Thing) -> Callable[[State], None]:
    def change(state: State) -> None:
        for thing in things:
            state.add(thing)

    return change


def _removing(*things: Thing) -> Callable[[State], None]:
    return lambda state: _take(state, things)


def _aged(file: File, to: Callable[[str], str]) -> File:
    content = "6" if to is older else "7"
    return msgspec.structs.replace(
        file, version=to(file.version) if file.version else None, size=(file.size or 0) + 11, sha256=content * 64
    )


def _dated(thing: Thing, to: Callable[[str], str]) -> Thing:
    version = getattr(thing, "version", None)
    return msgspec.structs.replace(thing, version=to(version)) if version else thing


def classes(cases: Sequence[Case]) -> dict[str, list[Case]]:
    """Cases by class, in the order of their first."""
    found: dict[str, list[Case]] = {}
    for case in cases:
        found.setdefault(case.sort, []).append(case)
    return found
