"""The state of a machine: a set of things, with what operations on it need to be quick."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from yendo.effects.things import Folder, IniValue, Thing, folded, key_of, parent

ThingKey = tuple[str, str]
_ON_DISK = frozenset({"file", "folder", "link", "shortcut"})


class State:
    """Things by kind and identity. Adding one again replaces it."""

    def __init__(self, things: Iterable[Thing] = ()) -> None:
        self._things: dict[ThingKey, Thing] = {}
        self._inside: Counter[str] | None = None  # how many things lie directly in a folder, once anybody asks
        self._values: dict[str, set[ThingKey]] = {}  # the values in each ini file
        for thing in things:
            self.add(thing)

    def add(self, thing: Thing) -> Thing | None:
        """Adds or replaces; returns what was there before."""
        return self.put(key_of(thing), thing)

    def put(self, key: ThingKey, thing: Thing) -> Thing | None:
        """The same where the caller has the key at hand already."""
        before = self._things.get(key)
        if before is None and self._inside is not None and key[0] in _ON_DISK:
            self._inside[parent(key[1])] += 1
        if isinstance(thing, IniValue):
            self._values.setdefault(folded(thing.path), set()).add(key)
        self._things[key] = thing
        return before

    def remove(self, kind: str, identity: str) -> Thing | None:
        """Removes; returns what was there, or None."""
        key = folded(identity)
        thing = self._things.pop((kind, key), None)
        if thing is not None and self._inside is not None and kind in _ON_DISK:
            self._inside[parent(key)] -= 1
        if isinstance(thing, IniValue):
            self._values[folded(thing.path)].discard((kind, key))
        return thing

    def get(self, kind: str, identity: str) -> Thing | None:
        return self._things.get((kind, folded(identity)))

    def has(self, thing: Thing) -> bool:
        return key_of(thing) in self._things

    def values_in(self, path: str) -> list[IniValue]:
        """The values of an ini file, which go with it."""
        found = (self._things[key] for key in self._values.get(folded(path), ()))
        return sorted((one for one in found if isinstance(one, IniValue)), key=lambda one: one.identity)

    def is_empty(self, folder: str) -> bool:
        """Whether nothing lies directly in a folder."""
        if self._inside is None:
            self._inside = Counter(parent(identity) for kind, identity in self._things if kind in _ON_DISK)
        return self._inside[folded(folder)] <= 0

    def of(self, *kinds: str) -> Iterator[Thing]:
        return (thing for (kind, _), thing in self._things.items() if kind in kinds)

    def add_folders(self, path: str) -> list[Folder]:
        """Adds a folder and those above it; returns the new ones, outermost first."""
        missing = []
        while parent(path) and ("folder", folded(path)) not in self._things:
            missing.append(Folder(path))
            path = parent(path)
        for folder in reversed(missing):
            self.add(folder)
        return missing[::-1]

    def items(self) -> dict[ThingKey, Thing]:
        """The things themselves, not to be changed."""
        return self._things

    def copy(self) -> State:
        other = State()
        other._things, other._inside = dict(self._things), None if self._inside is None else Counter(self._inside)
        other._values = {path: set(keys) for path, keys in self._values.items()}
        return other

    def become(self, other: State) -> None:
        """Takes over another state as its own; the other must not be used any more."""
        self._things, self._inside, self._values = other._things, other._inside, other._values

    def __len__(self) -> int:
        return len(self._things)

    def __iter__(self) -> Iterator[Thing]:
        return iter(self._things.values())
