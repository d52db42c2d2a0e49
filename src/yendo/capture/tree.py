"""A capture as a tree for people: where things lie, how many, and what becomes of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

import msgspec

from yendo.effects.effect import NOUNS
from yendo.effects.things import File, Folder, IniValue, RegistryKey, RegistryValue, Shortcut, label
from yendo.platforms.windows import paths
from yendo.platforms.windows.capture_record import value_of
from yendo.steps.captured import Decided

LONGEST = 60  # characters of a value that are shown


class Branch(msgspec.Struct):
    """A place with what lies in it and below it. ``counts`` by fate; ``leaf`` is the thing itself where it is one."""

    name: str
    counts: Counter[str] = msgspec.field(default_factory=Counter)
    inner: dict[str, Branch] = {}
    leaf: Decided | None = None

    @property
    def total(self) -> int:
        return self.counts.total()


def tree(every: Iterable[Decided]) -> Branch:
    """The things by their places: paths and keys by their parts, everything else below its kind."""
    top = Branch("")
    for one in every:
        node = top
        node.counts[one.fate] += 1
        for part in _parts(one):
            node = node.inner.setdefault(part.lower(), Branch(part))
            node.counts[one.fate] += 1
        node.leaf = node.leaf or one
    _joined(top)
    return top


def _parts(one: Decided) -> Sequence[str]:
    thing = one.caught.effect.thing
    match thing:
        case File() | Folder() | Shortcut():
            return paths.split(thing.path)
        case RegistryKey():
            return [thing.hive + ("" if thing.view == "64" else " (32-bit view)"), *paths.split(thing.key)]
        case RegistryValue():
            head = thing.hive + ("" if thing.view == "64" else " (32-bit view)")
            return [head, *paths.split(thing.key), thing.name or "(unnamed)"]
        case IniValue():
            return [*paths.split(thing.path), f"[{thing.section}] {thing.key}"]
    kind = one.caught.effect.kind
    return [NOUNS.get(kind, kind), label(thing)]


def _joined(node: Branch) -> None:
    """Places that hold nothing but one other are one line with it."""
    for key, inner in list(node.inner.items()):
        while len(inner.inner) == 1 and inner.leaf is None:
            (only,) = inner.inner.values()
            only.name = paths.join(inner.name, only.name)
            inner = only
        node.inner[key] = inner
        _joined(inner)


def value_text(one: Decided) -> str:
    """What a value is set to, in a few words; empty of every other thing."""
    if not isinstance(one.caught.effect.thing, IniValue | RegistryValue) or one.caught.effect.change == "remove":
        return ""
    data = one.to if one.to is not None else value_of(one.caught.effect.thing)
    text = "; ".join(data) if isinstance(data, tuple) else str(data)
    return text if len(text) <= LONGEST else text[: LONGEST - 3] + "..."


def reasons(every: Iterable[Decided]) -> list[tuple[str, int]]:
    """Why things do not come, most first."""
    return Counter(one.why for one in every if one.fate != "kept" and one.why).most_common()
