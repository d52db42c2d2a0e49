"""Detection rules from effects: at first sight for a draft, and derived from the states that they must tell apart."""

from __future__ import annotations

import itertools
import operator
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from yendo.detect.states import Case, Ground, broken, classes, counting, is_settings, listed, own_files, own_values
from yendo.detect.strength import Strength, Tried, of_verdicts
from yendo.effects import Effect, Environment, File, Product, RegistryValue, Service, UninstallEntry
from yendo.effects.things import Part, View, parent
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.terms.rules import (
    AppRule,
    BaseRule,
    DriverRule,
    EnvironmentRule,
    FeatureRule,
    FileListRule,
    FileRule,
    MsiProductRule,
    RegistryListRule,
    RegistryRule,
    Rule,
    ServiceRule,
    TaskRule,
    UninstallEntryRule,
)
from yendo.terms.rules.file_list import MAX_FILES, for_file

MOST_SINGLE = 20  # more rules than this are no longer read one by one
_KEPT = "\\windows\\installer\\"  # what the Windows Installer keeps for itself is no program of the product


def for_effects(effects: Iterable[Effect], main: Iterable[str] = ()) -> list[Rule]:
    """The product (or its entry in the list of programs) in its version, and the largest versioned program.

    Neither half alone is enough. Without any version a program stands for it by its content.

    ``main`` are names of programs to prefer, best first.
    """
    added = [effect.thing for effect in effects if effect.change != "remove"]
    rules: list[Rule] = [
        MsiProductRule(code=thing.code, version=f"=={thing.version}" if is_version(thing.version) else None)
        for thing in added
        if isinstance(thing, Product)
    ]
    if not rules:
        rules += [_entry(thing) for thing in added if isinstance(thing, UninstallEntry) and thing.name]
    versioned = [
        thing
        for thing in added
        if isinstance(thing, File)
        and is_version(thing.version)
        and thing.path.lower().endswith((".exe", ".dll"))
        and _KEPT not in thing.path.lower()
    ]
    preferred = [name.lower() for name in main]

    def rank(file: File) -> tuple[int, int, str]:
        name = file.path.rpartition("\\")[2].lower()
        return preferred.index(name) if name in preferred else len(preferred), -(file.size or 0), file.path

    if versioned:
        best = min(versioned, key=rank)
        rules.append(FileRule(path=best.path, version=f">={best.version}"))
        return rules
    hashed = [thing for thing in added if isinstance(thing, File) and thing.sha256 and thing.size]
    if hashed and not any(isinstance(rule, MsiProductRule) for rule in rules):
        best = min(hashed, key=rank)  # nothing tells its version, so the content does
        rules.append(FileRule(path=best.path, sha256=best.sha256))
    return rules


def _entry(thing: UninstallEntry) -> Rule:
    version = f"=={thing.version}" if is_version(thing.version) else None  # one in words can only be compared by name
    return UninstallEntryRule(name=thing.name or thing.key, version=version, view=thing.view)


def for_copies(folder: str, copies: Mapping[str, str]) -> list[Rule]:
    """Files placed below a folder, ``name -> sha256``: each by its content, many of them as a list."""
    if len(copies) > MOST_SINGLE:
        return list(_lists(folder, copies))
    return [FileRule(path=f"{folder}\\{name}", sha256=digest) for name, digest in copies.items()]


def _lists(folder: str, files: Mapping[str, int | str]) -> Iterator[FileListRule]:
    """Files below a folder as lists, as long as one may be."""
    for at in range(0, len(files), MAX_FILES):
        yield FileListRule(folder=folder, files=dict(itertools.islice(files.items(), at, at + MAX_FILES)))


# --- derived from states --------------------------------------------------------------------------------


class Chosen(msgspec.Struct, frozen=True):
    """A rule with what it is good for: the names of listed states that it tells apart from this version, those that it
    is the first to tell apart, and how many broken states in all it catches that those before it do not.
    """

    rule: Rule
    separates: tuple[str, ...]
    first: tuple[str, ...] = ()
    adds: int = 0


class Derived(msgspec.Struct, frozen=True):
    """The smallest set that was found, in the order of their worth, and what it is worth.

    ``confused`` are listed states that no candidate tells apart; ``further`` are rules for the survivors, each with
    what it would add.
    """

    rules: tuple[Chosen, ...]
    confused: tuple[str, ...]
    strength: Strength
    further: tuple[Chosen, ...] = ()


def candidates(ground: Ground, environment: Mapping[str, str]) -> list[BaseRule]:
    """Every rule that the effects allow and that a self-update leaves true where it is tolerated.

    None asks for a shortcut: people delete and move them, and an installation without one is whole.
    """
    sign = ">=" if ground.updates else "=="
    found: list[BaseRule] = []
    for thing in ground.added:
        match thing:
            case Product():
                version = f"{sign}{thing.version}" if is_version(thing.version) else None
                if thing.upgrade_code and ground.updates:
                    found.append(MsiProductRule(upgrade_code=thing.upgrade_code, version=version))
                else:
                    found.append(MsiProductRule(code=thing.code, version=version))
            case UninstallEntry() if thing.name and not thing.hidden:
                version = f"{sign}{thing.version}" if is_version(thing.version) else None
                found.append(
                    UninstallEntryRule(name=thing.name, publisher=thing.publisher, version=version, view=thing.view)
                )
            case Service():
                wanted_start: dict[str, Any] = (
                    {"start": thing.start} if thing.start in ("auto", "demand", "disabled") else {}
                )
                found.append(ServiceRule(name=thing.name, **(wanted_start if ground.steady(thing) else {})))
            case Environment() if thing.scope == "machine" and thing.name.lower() != "path":
                tied = _of_this_machine(thing.value, environment) or not ground.steady(thing)
                found.append(EnvironmentRule(name=thing.name, equals=None if tied else thing.value))
            case Part(sort="task"):
                found.append(TaskRule(name=thing.name))
            case Part(sort="driver") if thing.value:
                for name, _, version in (entry.partition("=") for entry in thing.value.split(";")):
                    found.append(DriverRule(inf=name, version=sign + version if version else None))
            case Part(sort="feature"):
                found.append(FeatureRule(name=thing.name))
            case Part(sort="app"):
                found.append(AppRule(name=thing.name, version=sign + thing.value if thing.value else None))
    keys: dict[tuple[str, str, View], dict[str, str | int]] = {}
    for value in own_values(ground):
        if isinstance(value.data, str | int) and not (
            isinstance(value.data, str) and any(ord(letter) < 32 for letter in value.data)
        ):
            versioned = (
                ground.updates and isinstance(value.data, str) and value.data.count(".") and is_version(value.data)
            )
            if tied := _of_this_machine(value.data, environment) or not ground.steady(value):
                wanted: dict[str, Any] = {}  # it is there: what it says differs between machines, or is decided
            else:
                wanted = {"version": f">={value.data}"} if versioned else {"equals": value.data}
            found.append(
                RegistryRule(key=f"{value.hive}\\{value.key}", name=value.name, **{"view": value.view, **wanted})
            )
            there = [state.get("registry", value.identity) for _, state, counts in ground.others if counts]
            free = (
                versioned
                or tied
                or any(not isinstance(other, RegistryValue) or other.data != value.data for other in there)
            )
            if all(there):
                keys.setdefault((value.hive, value.key, value.view), {})[value.name] = "*" if free else value.data
    for (hive, key, view), values in keys.items():
        if len(values) > 1:
            given: dict[str, Any] = {"values": values}
            found.append(RegistryListRule(key=f"{hive}\\{key}", view=view, **given))
    lists: dict[str, dict[str, int | str]] = {}
    top = _top(own_files(ground))
    for file in own_files(ground):
        if file.identity.startswith("c:\\users\\"):
            continue
        try:
            wanted_of_it = (
                "*" if is_settings(file) else for_file(file, _counting(ground, file))
            )  # people change settings
        except NotCovered:
            continue
        path = portable(file.path, environment)
        found += FileListRule(folder=parent(path), files={path.rpartition("\\")[2]: wanted_of_it}).rules
        folder = top.get(file.path, parent(file.path))
        # what differs from machine to machine is only asked to be there
        lists.setdefault(folder, {})[file.path[len(folder) + 1 :]] = wanted_of_it if ground.steady(file) else "*"
    for folder, files in lists.items():
        if len(files) > 1:
            found += _lists(portable(folder, environment), files)
    return found


def _of_this_machine(data: object, environment: Mapping[str, str]) -> bool:
    """Whether a value names a folder that may lie elsewhere on another machine."""
    if not isinstance(data, str):
        return False
    drive = environment.get("SystemDrive", "C:").lower() + "\\"
    return drive in data.lower()


def _counting(ground: Ground, file: File) -> list[File | None]:
    """The file in versions that count as well; where none is at hand and an update counts, any content may come."""
    others = counting(ground, file)
    if not ground.updates:
        return []
    return others or [msgspec.structs.replace(file, sha256=None, size=0)]


def is_version(text: str | None) -> bool:
    """Whether a text is a version that can be compared."""
    try:
        VersionRange.parse(f"=={text}")
    except ValueError:
        return False
    return bool(text)


def _top(files: Sequence[File]) -> dict[str, str]:
    """For each file the outermost folder that others of the product lie in too, but none of the system's own."""
    shared = {
        "c:",
        "c:\\program files",
        "c:\\program files (x86)",
        "c:\\programdata",
        "c:\\windows",
        "c:\\windows\\system32",
        "c:\\windows\\syswow64",
    }
    shared |= {"c:\\program files\\common files", "c:\\program files (x86)\\common files", "c:\\windows\\fonts"}
    found = {}
    for file in files:
        folder = parent(file.path)
        while parent(folder).lower() not in shared and "\\" in parent(folder):
            folder = parent(folder)
        found[file.path] = folder
    return found


def portable(path: str, environment: Mapping[str, str]) -> str:
    """A path with the machine's variables in place of what may lie elsewhere."""
    for name in ("ProgramFiles(x86)", "ProgramW6432", "ProgramFiles", "ProgramData", "PUBLIC", "SystemRoot"):
        value = environment.get(name) or next(
            (known for key, known in environment.items() if key.lower() == name.lower()), ""
        )
        if value and path.lower().startswith(value.lower() + "\\"):
            return f"%{'ProgramFiles' if name == 'ProgramW6432' else name}%" + path[len(value) :]
    return path


def derive(
    ground: Ground,
    environment: Mapping[str, str],
    *,
    most: int = 10,
    seed: int = 1,
    enough: float = 0.95,
    tried: Tried | None = None,
) -> Derived:
    """The smallest set of rules that tells the listed states apart, grown by what adds most strength.

    The rules must hold in every wanted state. ``most`` is the limit; once the listed states are told apart and the
    score is ``enough``, more rules are only proposed. Greedy, then each rule that has become needless is taken out
    again. ``tried`` are the states where they are at hand.
    """
    tried = tried or Tried(broken(ground, seed), environment)
    cases = tried.cases
    names = {case.name for case in listed(ground)}
    possible = candidates(ground, environment)
    held, _ = tried.verdicts(possible)
    good = [case.wanted for case in cases]
    usable = [at for at in range(len(possible)) if all(itertools.compress(held[at], good))]
    wrong = [number for number, case in enumerate(cases) if not case.wanted]
    apart = {number for number in wrong if cases[number].name in names}
    sizes = {sort: sum(not case.wanted for case in some) for sort, some in classes(cases).items()}
    counted = {sort: size for sort, size in sizes.items() if size}
    weight = {number: 1 / (counted[cases[number].sort] * len(counted)) for number in wrong}

    def caught(at: int) -> set[int]:
        return set(itertools.compress(itertools.count(), map(operator.not_, held[at]))).intersection(wrong)

    catches = {at: caught(at) for at in usable}

    def worth(at: int, done: set[int]) -> tuple[float, float, int]:
        """What separates listed states comes first, then what adds most strength, then what costs least."""
        new = catches[at] - done
        separated = sum(weight[number] for number in new & apart)
        return (
            (1.0 if separated else 0.0) + sum(weight[number] for number in new) + separated,
            -_cost(possible[at]),
            -at,
        )

    chosen: list[int] = []
    done: set[int] = set()
    while len(chosen) < most:
        rest = [at for at in usable if at not in chosen]
        if not rest:
            break
        best = max(rest, key=lambda at: worth(at, done))
        new = catches[best] - done
        if not new or (not new & apart and sum(weight[number] for number in done) >= enough):
            break
        chosen.append(best)
        done |= new
    for at in list(reversed(chosen)):  # what the others have made needless
        others = set().union(*(catches[other] for other in chosen if other != at)) if len(chosen) > 1 else set()
        if catches[at] <= others:
            chosen.remove(at)
    rules = []
    seen_before: set[int] = set()
    for at in chosen:
        new = catches[at] - seen_before
        rules.append(Chosen(possible[at], _named(cases, catches[at] & apart), _named(cases, new & apart), len(new)))
        seen_before |= catches[at]
    further = []
    for at in usable:
        new = catches[at] - seen_before
        if at not in chosen and new:
            further.append(Chosen(possible[at], _named(cases, new & apart), _named(cases, new)[:6], len(new)))
            seen_before |= new
    strength = of_verdicts([possible[at] for at in chosen], cases, [held[at] for at in chosen])
    confused = tuple(cases[number].name for number in sorted(apart - done))
    return Derived(tuple(rules), confused, strength, tuple(sorted(further, key=lambda one: -one.adds)[:20]))


def _named(cases: Sequence[Case], numbers: Iterable[int]) -> tuple[str, ...]:
    return tuple(cases[number].name for number in sorted(numbers))


def _cost(rule: BaseRule) -> float:
    """Simple rules before long ones of the same worth, and what is registered by a code before what has a name."""
    if isinstance(rule, UninstallEntryRule):
        return 1.5
    return len(getattr(rule, "files", ()) or getattr(rule, "values", ())) or 1.0
