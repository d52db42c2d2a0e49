"""Detection rules from effects: at first sight for a draft, and derived from the states that they must tell apart."""

from __future__ import annotations

import itertools
import operator
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, TypeGuard

import msgspec

from yendo.detect.states import Case, Ground, broken, classes, counting, is_settings, listed, own_files, own_values
from yendo.detect.strength import Strength, Tried, of_verdicts
from yendo.effects import Effect, Environment, File, Product, RegistryValue, Service, Thing, UninstallEntry
from yendo.effects.things import Part, View, parent
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.platforms.windows import folders, paths
from yendo.terms.rules import (
    AppRule,
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
        and paths.INSTALLERS_OWN not in thing.path.lower()
    ]
    preferred = [name.lower() for name in main]

    def rank(file: File) -> tuple[int, int, str]:
        name = paths.name(file.path).lower()
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
    return [FileRule(path=paths.join(folder, name), sha256=digest) for name, digest in copies.items()]


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


def candidates(ground: Ground, environment: Mapping[str, str]) -> list[Rule]:
    """Every rule that the effects allow and that a self-update leaves true where it is tolerated.

    None asks for a shortcut: people delete and move them, and an installation without one is whole.
    """
    found: list[Rule] = []
    for thing in ground.added:
        found += _of_a_thing(thing, ground, environment)
    return [*found, *_of_values(ground, environment), *_of_files(ground, environment)]


def _of_a_thing(thing: Thing, ground: Ground, environment: Mapping[str, str]) -> Iterator[Rule]:
    """Rules for what is neither a file nor a value of the registry."""
    sign = ">=" if ground.updates else "=="
    match thing:
        case Product():
            version = f"{sign}{thing.version}" if is_version(thing.version) else None
            if thing.upgrade_code and ground.updates:
                yield MsiProductRule(upgrade_code=thing.upgrade_code, version=version)
            else:
                yield MsiProductRule(code=thing.code, version=version)
        case UninstallEntry() if thing.name and not thing.hidden:
            version = f"{sign}{thing.version}" if is_version(thing.version) else None
            yield UninstallEntryRule(name=thing.name, publisher=thing.publisher, version=version, view=thing.view)
        case Service():
            known = thing.start in ("auto", "demand", "disabled") and ground.steady(thing)
            wanted: dict[str, Any] = {"start": thing.start} if known else {}
            yield ServiceRule(name=thing.name, **wanted)
        case Environment() if thing.scope == "machine" and thing.name.lower() != "path":
            tied = _of_this_machine(thing.value, environment) or not ground.steady(thing)
            yield EnvironmentRule(name=thing.name, equals=None if tied else thing.value)
        case Part():
            yield from _of_a_part(thing, sign)


def _of_a_part(thing: Part, sign: str) -> Iterator[Rule]:
    match thing.sort:
        case "task":
            yield TaskRule(name=thing.name)
        case "driver" if thing.value:
            for name, _, version in (entry.partition("=") for entry in thing.value.split(";")):
                yield DriverRule(inf=name, version=sign + version if version else None)
        case "feature":
            yield FeatureRule(name=thing.name)
        case "app":
            yield AppRule(name=thing.name, version=sign + thing.value if thing.value else None)


def _can_be_asked(data: object) -> TypeGuard[str | int]:
    """Whether a rule may ask what a value says: a number, or a text on one line."""
    return isinstance(data, int) or (isinstance(data, str) and all(ord(letter) >= 32 for letter in data))


def _of_values(ground: Ground, environment: Mapping[str, str]) -> Iterator[Rule]:
    """A rule for each value of the registry, and one for all of a key where it has several."""
    keys: dict[tuple[str, str, View], dict[str, str | int]] = {}
    for value in own_values(ground):
        data = value.data
        if not _can_be_asked(data):
            continue
        versioned = ground.updates and isinstance(data, str) and data.count(".") and is_version(data)
        if tied := _of_this_machine(data, environment) or not ground.steady(value):
            wanted: dict[str, Any] = {}  # it is there: what it says differs between machines, or is decided
        else:
            wanted = {"version": f">={data}"} if versioned else {"equals": data}
        yield RegistryRule(key=paths.join(value.hive, value.key), name=value.name, **{"view": value.view, **wanted})
        there = [state.get("registry", value.identity) for _, state, counts in ground.others if counts]
        other_there = any(not isinstance(other, RegistryValue) or other.data != data for other in there)
        if all(there):
            free = versioned or tied or other_there
            keys.setdefault((value.hive, value.key, value.view), {})[value.name] = "*" if free else data
    for (hive, key, view), values in keys.items():
        if len(values) > 1:
            given: dict[str, Any] = {"values": values}
            yield RegistryListRule(key=paths.join(hive, key), view=view, **given)


def _of_files(ground: Ground, environment: Mapping[str, str]) -> Iterator[Rule]:
    """A rule for each file, and a list for each folder where it has several."""
    lists: dict[str, dict[str, int | str]] = {}
    top = _top(own_files(ground))
    for file in own_files(ground):
        if paths.is_below(file.path, folders.PROFILES):
            continue
        try:
            wanted = "*" if is_settings(file) else for_file(file, _counting(ground, file))  # people change settings
        except NotCovered:
            continue
        path = portable(file.path, environment)
        yield from FileListRule(folder=parent(path), files={paths.name(path): wanted}).rules
        folder = top.get(file.path, parent(file.path))
        # what differs from machine to machine is only asked to be there
        lists.setdefault(folder, {})[file.path[len(folder) + 1 :]] = wanted if ground.steady(file) else "*"
    for folder, files in lists.items():
        if len(files) > 1:
            yield from _lists(portable(folder, environment), files)


def _of_this_machine(data: object, environment: Mapping[str, str]) -> bool:
    """Whether a value names a folder that may lie elsewhere on another machine."""
    if not isinstance(data, str):
        return False
    drive = paths.into(environment.get("SystemDrive", folders.DRIVE).lower())
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
    found = {}
    for file in files:
        folder = parent(file.path)
        while parent(folder).lower() not in folders.SHARED and paths.SEPARATOR in parent(folder):
            folder = parent(folder)
        found[file.path] = folder
    return found


def portable(path: str, environment: Mapping[str, str]) -> str:
    """A path with the machine's variables in place of what may lie elsewhere."""
    for name in ("ProgramFiles(x86)", "ProgramW6432", "ProgramFiles", "ProgramData", "PUBLIC", "SystemRoot"):
        value = environment.get(name) or next(
            (known for key, known in environment.items() if key.lower() == name.lower()), ""
        )
        if value and paths.is_below(path, value):
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
    search = _Search(tried or Tried(broken(ground, seed), environment), ground, candidates(ground, environment))
    chosen = search.chosen(most, enough)
    seen: set[int] = set()
    rules = [search.told(at, seen) for at in chosen]
    further = [search.proposed(at, seen) for at in search.usable if at not in chosen and search.catches[at] - seen]
    return Derived(
        tuple(rules),
        _named(search.cases, search.apart - set().union(*(search.catches[at] for at in chosen))),
        search.strength(chosen),
        tuple(sorted(further, key=lambda one: -one.adds)[:20]),
    )


class _Search:
    """Which candidate catches which unwanted state. ``apart`` are the numbers of the listed ones among those,
    ``usable`` the candidates that hold in every wanted state, ``catches`` what each of these tells apart.
    """

    def __init__(self, tried: Tried, ground: Ground, possible: Sequence[Rule]) -> None:
        self.cases, self.possible = tried.cases, possible
        self._held, _ = tried.verdicts(possible)
        names = {case.name for case in listed(ground)}
        good = [case.wanted for case in self.cases]
        self.usable = [at for at in range(len(possible)) if all(itertools.compress(self._held[at], good))]
        wrong = [number for number, case in enumerate(self.cases) if not case.wanted]
        self.apart = {number for number in wrong if self.cases[number].name in names}
        sizes = {sort: sum(not case.wanted for case in some) for sort, some in classes(self.cases).items()}
        counted = {sort: size for sort, size in sizes.items() if size}
        self._weight = {number: 1 / (counted[self.cases[number].sort] * len(counted)) for number in wrong}
        self.catches = {at: self._caught(at).intersection(wrong) for at in self.usable}

    def _caught(self, at: int) -> set[int]:
        return set(itertools.compress(itertools.count(), map(operator.not_, self._held[at])))

    def _worth(self, at: int, done: set[int]) -> tuple[float, float, int]:
        """What separates listed states comes first, then what adds most strength, then what costs least."""
        new = self.catches[at] - done
        separated = sum(self._weight[number] for number in new & self.apart)
        added = sum(self._weight[number] for number in new)
        return (1.0 if separated else 0.0) + added + separated, -_cost(self.possible[at]), -at

    def chosen(self, most: int, enough: float) -> list[int]:
        """Greedy, then each that the others have made needless is taken out again."""
        chosen: list[int] = []
        done: set[int] = set()
        while len(chosen) < most:
            rest = [at for at in self.usable if at not in chosen]
            if not rest:
                break
            best = max(rest, key=lambda at: self._worth(at, done))
            new = self.catches[best] - done
            score = sum(self._weight[number] for number in done)
            if not new or (not new & self.apart and score >= enough):
                break
            chosen.append(best)
            done |= new
        for at in list(reversed(chosen)):
            others: set[int] = set().union(*(self.catches[other] for other in chosen if other != at))
            if self.catches[at] <= others and len(chosen) > 1:
                chosen.remove(at)
        return chosen

    def told(self, at: int, seen: set[int]) -> Chosen:
        """A chosen rule with what it is good for; what it catches is seen afterwards."""
        new = self.catches[at] - seen
        found = self.catches[at] & self.apart
        seen |= self.catches[at]
        return Chosen(self.possible[at], _named(self.cases, found), _named(self.cases, new & self.apart), len(new))

    def proposed(self, at: int, seen: set[int]) -> Chosen:
        """One that is only proposed, with what it would add."""
        new = self.catches[at] - seen
        seen |= new
        return Chosen(self.possible[at], _named(self.cases, new & self.apart), _named(self.cases, new)[:6], len(new))

    def strength(self, chosen: Sequence[int]) -> Strength:
        return of_verdicts([self.possible[at] for at in chosen], self.cases, [self._held[at] for at in chosen])


def _named(cases: Sequence[Case], numbers: Iterable[int]) -> tuple[str, ...]:
    return tuple(cases[number].name for number in sorted(numbers))


def _cost(rule: Rule) -> float:
    """Simple rules before long ones of the same worth, and what is registered by a code before what has a name."""
    if isinstance(rule, UninstallEntryRule):
        return 1.5
    return len(getattr(rule, "files", ()) or getattr(rule, "values", ())) or 1.0
