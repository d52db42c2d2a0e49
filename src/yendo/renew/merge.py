"""Three plans made one: what was drafted from the old installer, what a person made of it, what is drafted from the new
one.

A value that nobody touched follows the new draft. One that a person changed stays; where the draft changed it too, that
is a conflict: the person's stays, and both reasons are told. Nothing of a person's is lost without being listed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import AoT, Table

from yendo.draft import writing

MARK = "CONFLICT"
_ABSENT: Any = object()


class Moved(msgspec.Struct, frozen=True):
    """A value that follows the new installer; None where there is or was none."""

    place: str
    old: Any
    new: Any


class Kept(msgspec.Struct, frozen=True):
    """Something a person has written or taken out, and that stays so."""

    place: str
    what: str


class MergeConflict(msgspec.Struct, frozen=True):
    """Two who disagree: ``yours`` and ``theirs`` with a reason each, and what stands in the plan now.

    ``taken_out`` is the TOML of what had to leave it.
    """

    place: str
    yours: str
    why_yours: str
    theirs: str
    why_theirs: str
    outcome: str
    taken_out: str = ""


class Ids(msgspec.Struct, frozen=True):
    """By what a plan names its installer: the file, its patches in order, the product code."""

    installer: str
    patches: tuple[str, ...] = ()
    product: str = ""

    def role(self, step: Mapping[str, Any]) -> str | None:
        """What a step is to the installer."""
        if step.get("media") == self.installer:
            return "the installer"
        if step.get("patch") in self.patches:
            return f"patch {self.patches.index(step['patch']) + 1}"
        return "the product" if self.product and str(step.get("product", "")).upper() == self.product.upper() else None

    def medium(self, medium: Mapping[str, Any]) -> str:
        name = str(medium.get("file"))
        if name == self.installer:
            return "the installer"
        return f"patch {self.patches.index(name) + 1}" if name in self.patches else name


def plain(value: Any) -> Any:
    """A value of a document without its layout."""
    return value.unwrap() if hasattr(value, "unwrap") else value


def said(value: Any) -> str:
    """A value for a person."""
    if value is _ABSENT or value is None:
        return "nothing"
    if isinstance(value, list) and value and all(isinstance(one, dict) for one in value):
        return ", ".join(
            str(next((one[key] for key in ("package", "name", "kind", "file") if key in one), "one more"))
            for one in value
        )
    return (
        tomlkit.item(value).as_string()
        if not isinstance(value, dict | list)
        else ", ".join(map(str, value))
        if isinstance(value, list)
        else str(value)
    )


class Merge:
    """One merge; what came of it is in ``moved``, ``kept`` and ``conflicts``."""

    def __init__(self, old: Ids, new: Ids, words: tuple[str, str]) -> None:
        self.old, self.new, self.words = old, new, words  # the versions, as a person says them
        self.moved: list[Moved] = []
        self.kept: list[Kept] = []
        self.conflicts: list[MergeConflict] = []

    def document(
        self, mine: tomlkit.TOMLDocument, base: Mapping[str, Any], new: Mapping[str, Any], skip: Sequence[str]
    ) -> None:
        """Merges into ``mine``. ``skip`` are tables that others look after."""
        for key in dict.fromkeys([*base, *new, *mine]):
            if key in skip:
                continue
            if key in ("install", "uninstall", "repair"):
                self._array(mine, key, base.get(key, []), new.get(key, []), lambda step, ids: ids.role(step))
            elif key == "media":
                self._array(mine, key, base.get(key, []), new.get(key, []), lambda medium, ids: ids.medium(medium))
            else:
                self._entry(mine, key, base.get(key, _ABSENT), new.get(key, _ABSENT), key)

    # --- tables and values ---------------------------------------------------------------------------

    def _entry(self, mine: Any, key: str, base: Any, new: Any, place: str) -> None:
        there = mine.get(key, _ABSENT)
        if isinstance(there, Mapping) and base is _ABSENT and new is _ABSENT:
            self.kept.append(Kept(place, ", ".join(there)))
            return
        if (
            isinstance(there, Mapping)
            and (base is _ABSENT or isinstance(base, Mapping))
            and (new is _ABSENT or isinstance(new, Mapping))
        ):
            before, after = ({} if side is _ABSENT else side for side in (base, new))
            for inner in dict.fromkeys([*before, *after, *there]):
                self._entry(there, inner, before.get(inner, _ABSENT), after.get(inner, _ABSENT), f"{place}.{inner}")
            if not there and base is not _ABSENT and new is _ABSENT:
                del mine[key]
            return
        if there is _ABSENT and isinstance(base, Mapping) and isinstance(new, Mapping) and (base or new):
            self.kept.append(
                Kept(place, "taken out")
            )  # who takes a whole table out does not want its new entries either
            return
        self._value(mine, key, base, new, place)

    def _value(self, mine: Any, key: str, base: Any, new: Any, place: str) -> None:
        there = plain(mine.get(key, _ABSENT))
        if there == base:
            if base != new:
                self._put(mine, key, new)
                self.moved.append(Moved(place, None if base is _ABSENT else base, None if new is _ABSENT else new))
            return
        if base == new or there == new:
            if there != new:
                self.kept.append(Kept(place, "taken out" if there is _ABSENT else said(there)))
            return
        if all(
            isinstance(side, list) and not any(isinstance(item, dict) for item in side) for side in (there, base, new)
        ):
            together = [item for item in there if item in new or item not in base] + [
                item for item in new if item not in base and item not in there
            ]
            self._put(mine, key, together)
            self.moved.append(Moved(place, there, together))
            self.kept.append(
                Kept(place, ", ".join(str(item) for item in there if item not in base) or "some of it taken out")
            )
            return
        old, fresh = self.words
        self.conflicts.append(
            MergeConflict(
                place,
                said(there),
                f"you changed it; from {old} it was {said(base)}",
                said(new),
                f"read from {fresh}",
                "yours stays" if there is not _ABSENT else "it stays out",
            )
        )
        if there is not _ABSENT:
            mine[key].comment(f"{MARK}: {fresh} says {said(new)}, {old} said {said(base)}")

    def _put(self, mine: Any, key: str, value: Any) -> None:
        if value is _ABSENT:
            del mine[key]
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            rows = tomlkit.array()
            for row in value:
                entry = tomlkit.inline_table()
                entry.update({name: writing.value(cell) for name, cell in row.items()})
                rows.append(entry)
            mine[key] = rows.multiline(True)
        else:
            mine[key] = writing.value(value)

    # --- arrays of tables -------------------------------------------------------------------------------

    def _array(
        self,
        mine: tomlkit.TOMLDocument,
        key: str,
        base: Sequence[Any],
        new: Sequence[Any],
        role_of: Callable[[Any, Ids], str | None],
    ) -> None:
        there: list[Any] = list(mine.get(key, []))
        before = {role: item for item in base if (role := role_of(item, self.old))}
        after = {role: item for item in new if (role := role_of(item, self.new))}
        mine_of: dict[str, int] = {}
        for number, item in enumerate(there):
            role = role_of(plain(item), self.old)
            if role:
                mine_of.setdefault(role, number)
        gone: list[int] = []
        behind: list[Any] = []
        for role in dict.fromkeys([*before, *after]):
            at, place = mine_of.get(role), f"{key}, {role}"
            if role in before and role in after:
                if at is None:
                    self.kept.append(Kept(place, "taken out"))
                    continue
                self._entries(there[at], before[role], after[role], place)
            elif role in before:
                if at is not None:
                    self._left_out(place, there[at], before[role])
                    gone.append(at)
            elif at is None:
                behind.append((role, after[role]))
        for at, item in enumerate(there):
            if at not in mine_of.values():
                named = (plain(item).get(name) for name in ("kind", "file", "package"))
                self.kept.append(Kept(f"{key} {at + 1}", str(next((one for one in named if one is not None), ""))))
        if not gone and not behind:
            return
        last = max((place for role, place in mine_of.items() if role in after), default=-1)
        self._written(mine, key, there, last, gone, behind)

    def _entries(self, there: Any, before: Mapping[str, Any], after: Mapping[str, Any], place: str) -> None:
        """Each value of a table that both versions have."""
        for inner in dict.fromkeys([*before, *after, *there]):
            if inner != "change":  # wishes are no values: each is tried on the new installer
                was, now = before.get(inner, _ABSENT), after.get(inner, _ABSENT)
                self._entry(there, inner, was, now, f"{place}.{inner}")

    def _written(
        self,
        mine: tomlkit.TOMLDocument,
        key: str,
        there: Sequence[Any],
        last: int,
        gone: Sequence[int],
        behind: Sequence[Any],
    ) -> None:
        """The array anew: without what is gone, and what is new behind the last that came along."""
        rows = [item for at, item in enumerate(there[: last + 1]) if at not in gone]
        for role, item in behind:
            self.moved.append(Moved(f"{key}, {role}", None, item.get("file") or item.get("kind")))
            rows.append(_table(item))
        rows += [item for at, item in enumerate(there[last + 1 :], last + 1) if at not in gone]
        if rows:
            mine[key] = writing.array(*rows)
        else:
            mine.pop(key, None)

    def _left_out(self, place: str, item: Any, base: Mapping[str, Any]) -> None:
        text, fresh = plain(item), self.words[1]
        if text == base:
            self.moved.append(Moved(place, text.get("patch") or text.get("file") or text.get("kind"), None))
            return
        edited = [
            name for name in dict.fromkeys([*text, *base]) if text.get(name) != base.get(name) and name != "origin"
        ]
        if not edited:  # where an old file came from is of no interest for what takes its place
            self.moved.append(Moved(place, text.get("file"), None))
            return
        why = f"you changed {', '.join(edited)}"
        self.conflicts.append(
            MergeConflict(
                place, "it is there", why, "it is not", f"{fresh} has no use for it", "taken out", as_toml(item)
            )
        )


def _table(item: Mapping[str, Any]) -> Table:
    table = tomlkit.table()
    for key, value in item.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            rows = tomlkit.array()
            for row in value:
                entry = tomlkit.inline_table()
                entry.update(row)
                rows.append(entry)
            table.add(key, rows.multiline(True))
        elif isinstance(value, dict):
            table.add(key, _table(value))
        else:
            table.add(key, writing.value(value))
    return table


def as_toml(item: Any) -> str:
    """A table's own text."""
    document = tomlkit.document()
    for key, value in plain(item).items():
        document.add(key, value)
    return tomlkit.dumps(document).strip()


def renamed(item: Any, names: Mapping[str, str], place: str = "") -> list[Moved]:
    """Puts new names for old ones into every text of a table; returns where."""
    found: list[Moved] = []
    pairs = list(item.items()) if isinstance(item, Mapping) else list(enumerate(item))
    for key, value in pairs:
        where = (
            f"{place}.{key}"
            if isinstance(key, str) and place
            else f"{place} {key + 1}"
            if isinstance(key, int)
            else str(key)
        )
        if isinstance(value, str):
            new = str(value)
            for old, other in names.items():
                new = new.replace(old, other)
            if new != value:
                item[key] = writing.literal(new)
                found.append(Moved(where, str(value), new))
        elif isinstance(value, Mapping | AoT | list):
            found += renamed(value, names, where)
    return found
