"""What people say of the drivers of a share, and in which sets each stands; kept in ``labels.toml`` at its top.

When the vendor's next version of a driver comes (the same ``.inf``, provider, class and processors, a later date or
version), ``newer`` says what becomes of the labels: ``merge`` puts those of the version before to its own, ``leave``
gives it none but its own, ``overwrite`` gives it those of the version before in place of its own, and ``pass`` keeps a
new one out of every set until somebody labels it.
"""

from __future__ import annotations

import tomllib
from collections import defaultdict
from collections.abc import Iterable, Mapping
from itertools import groupby
from pathlib import Path
from typing import Literal

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import atomic
from yendo.drivers.driver import Driver
from yendo.drivers.ranking import fields_of
from yendo.errors import Unreadable, Usage
from yendo.walk import text_in

FILE = "labels.toml"
MOST = 16 << 20
Newer = Literal["merge", "leave", "overwrite", "pass"]


class DriverLabels(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """``words`` are free texts, ``sets`` the names of the sets it stands in; each once, in the order given."""

    words: tuple[str, ...] = ()
    sets: tuple[str, ...] = ()

    def with_those(self, other: DriverLabels) -> DriverLabels:
        return DriverLabels(
            tuple(dict.fromkeys((*other.words, *self.words))), tuple(dict.fromkeys((*other.sets, *self.sets)))
        )


class LabelFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``driver`` has labels by the path of the ``.inf`` below the share, with slashes."""

    newer: Newer = "merge"
    driver: dict[str, DriverLabels] = {}


class LabelledShare(msgspec.Struct, frozen=True):
    """``labels`` as they count for each driver that has any; ``carried`` are those of which some was said of an older
    version, ``passed`` new versions that stand in no set for ``newer = "pass"``, ``gone`` entries whose driver is not
    there.
    """

    labels: Mapping[str, DriverLabels]
    carried: frozenset[str] = frozenset()
    passed: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()


def read(share: Path) -> LabelFile:
    """The labels of a share; empty where it has none. Raises Unreadable."""
    path = share / FILE
    if not path.is_file():
        return LabelFile()
    text = text_in(path, MOST)
    try:
        return msgspec.convert(tomllib.loads(text), LabelFile)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise Unreadable(f"{path} cannot be read: {error}") from error


def labelled(file: LabelFile, drivers: Mapping[str, Driver]) -> LabelledShare:
    """The labels as they count, from the oldest version of each driver to the newest."""
    lines: dict[tuple[object, ...], list[str]] = defaultdict(list)
    for path, driver in drivers.items():
        lines[driver.inf.lower(), driver.provider.lower(), driver.class_id, driver.architectures].append(path)
    found: dict[str, DriverLabels] = {}
    passed, carried = [], set()
    none = DriverLabels()
    for some in lines.values():
        before = none
        # versions of one age are the same thing twice: neither takes over from the other
        for _, same in groupby(sorted(some, key=lambda one: _age(drivers[one])), key=lambda one: _age(drivers[one])):
            of_age = none
            for path in same:
                own = file.driver.get(path, none)
                counts = _with_before(own, before, file.newer)
                if counts != own:
                    carried.add(path)
                elif before != none and own == none and file.newer == "pass":
                    passed.append(path)
                if counts != none:
                    found[path] = counts
                    of_age = of_age.with_those(counts)
            before = of_age if of_age != none else before
    gone = tuple(sorted(set(file.driver) - set(drivers)))
    return LabelledShare(found, frozenset(carried), tuple(sorted(passed)), gone)


def _with_before(own: DriverLabels, before: DriverLabels, newer: Newer) -> DriverLabels:
    """The labels of a version, where the one before it has some."""
    if newer == "merge":
        return own.with_those(before)
    return before if newer == "overwrite" and before != DriverLabels() else own


def _age(driver: Driver) -> tuple[str, tuple[int, ...]]:
    return driver.date, fields_of(driver.version)


def change(
    share: Path, paths: Iterable[str], *, words: Iterable[str] = (), sets: Iterable[str] = (),
    without: Iterable[str] = (), newer: Newer | None = None,
) -> LabelFile:  # fmt: skip
    """Gives drivers labels, takes some away, says what becomes of them when a newer version comes. Comments stay. What
    is in the file then. Raises Usage, Unreadable.
    """
    read(share)  # one that cannot be read is not written over
    place = share / FILE
    document = tomlkit.parse(place.read_text("utf-8")) if place.is_file() else tomlkit.document()
    if newer:
        document["newer"] = newer
    off = set(without)
    for path in paths:
        if not (share / path).is_file():
            raise Usage(f"{path} is no driver of {share}; name its .inf as yendo read shows it")
        held = document.setdefault("driver", tomlkit.table(is_super_table=True))
        table = held.setdefault(path, tomlkit.table())
        assert isinstance(table, Table)
        for key, more in (("words", words), ("sets", sets)):
            every = dict.fromkeys([*table.get(key, []), *more])
            left = [one for one in every if one not in off]
            if left:
                table[key] = left
            elif key in table:
                table.remove(key)
        if not table:
            held.remove(path)
    atomic.write(place, tomlkit.dumps(document).encode())
    return read(share)
