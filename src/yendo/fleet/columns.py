"""An inventory as columns: 200,000 machines are a dozen arrays, a program is the list of the machines that have it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal, TypeVar

import msgspec
import numpy as np

from yendo.drivers.ranking import UsedDriver
from yendo.facts.machine import Facts

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Truth = NDArray[np.int8]
    """For each machine 1 for yes, 0 for no, -1 where the inventory does not tell."""
    Indices = NDArray[np.uint32]

YES, NO, UNKNOWN = 1, 0, -1
NOWHERE = "(no site)"
Sort = Literal["entry", "product", "app", "package"]
SORTS: dict[str, Sort] = {"entry": "entry", "product": "product", "app": "app", "package": "package"}
# The facts of run conditions that an inventory may have, as its columns are called. What changes within a day (power,
# network, who is logged on) is none of them.
TEXTS = ("windows", "architecture", "edition", "language", "domain", "shell", "dotnet", "multi_session")
NUMBERS = ("memory",)  # and "disk C", by its drive; in bytes


class ListedProgram(msgspec.Struct, frozen=True, order=True):
    """Something that is installed: a line of the list of programs, a product of the Windows Installer by its code, an
    app by its name, or a package of ours by its id.
    """

    name: str
    version: str = ""
    publisher: str = ""
    code: str = ""
    sort: Sort = "entry"


class ListedDevice(msgspec.Struct, frozen=True, order=True):
    """A device that a machine has now: what it says it is (the nearest first), what it is called, and its driver."""

    hardware: tuple[str, ...]
    compatible: tuple[str, ...] = ()
    name: str = ""
    used: UsedDriver = UsedDriver()


T = TypeVar("T", ListedProgram, ListedDevice)


class Holders(msgspec.Struct):
    """Who has each of several things: the machines of thing ``i``, in order, are ``on[starts[i] : starts[i + 1]]``.
    ``listed`` says of which machines it is known.
    """

    starts: NDArray[np.int64]
    on: Indices
    listed: NDArray[np.bool_]

    @classmethod
    def of(cls, each: Iterable[Iterable[int]], count: int, listed: Iterable[int] | None) -> Holders:
        """From the machines of each thing, of ``count`` in all; without ``listed`` it is known of all of them."""
        known = np.full(count, listed is None, np.bool_)
        known[list(listed or ())] = True
        return cls(*in_one([np.unique(np.fromiter(some, np.uint32)) for some in each]), known)

    def having(self, thing: int) -> Indices:
        return self.on[self.starts[thing] : self.starts[thing + 1]]

    def of_some(self, mask: NDArray[np.bool_], place: NDArray[np.int64]) -> list[Indices]:
        """The same lists for the machines in ``mask`` alone, by their new numbers."""
        every = (self.having(thing) for thing in range(len(self.starts) - 1))
        return [place[some[mask[some]]].astype(np.uint32) for some in every]


class TextColumn(msgspec.Struct):
    """Texts by number: ``codes`` has a place in ``values`` for each machine, -1 where it is not known."""

    codes: NDArray[np.int32]
    values: tuple[str, ...]

    @classmethod
    def of(cls, given: Iterable[str | None]) -> TextColumn:
        known: dict[str, int] = {}
        codes = [-1 if text is None or text == "" else known.setdefault(text, len(known)) for text in given]
        return cls(np.array(codes, np.int32), tuple(known))

    def truth(self, judged: Sequence[bool]) -> Truth:
        """The answer for each machine, from the answer for each value."""
        table = np.array([*(YES if holds else NO for holds in judged), UNKNOWN], np.int8)
        return table[self.codes]

    def at(self, machine: int) -> str | None:
        code = int(self.codes[machine])
        return None if code < 0 else self.values[code]


class Columns(msgspec.Struct):
    """Machines by their number, from 0. ``held`` says who has each of the ``programs``, ``fitted`` each of the
    ``devices``. ``texts`` are facts and whatever else was given of them.
    """

    computers: tuple[str, ...]
    texts: dict[str, TextColumn]
    numbers: dict[str, NDArray[np.int64]]
    programs: tuple[ListedProgram, ...]
    held: Holders
    devices: tuple[ListedDevice, ...]
    fitted: Holders

    def __len__(self) -> int:
        return len(self.computers)

    def having(self, program: int) -> Indices:
        """The machines that have a program, by its place in ``programs``."""
        return self.held.having(program)

    @property
    def listed(self) -> NDArray[np.bool_]:
        """Whose programs are known."""
        return self.held.listed

    def sites(self) -> list[str]:
        """The site of each machine."""
        column = self.texts.get("site")
        return [(column.at(number) or NOWHERE) if column else NOWHERE for number in range(len(self))]

    def facts(self, machine: int) -> Facts:
        """What run conditions see of a machine, as far as the inventory tells."""
        text = {name: column.at(machine) for name, column in self.texts.items() if name in TEXTS}
        multi = text.get("multi_session")
        numbers = {name: int(column[machine]) for name, column in self.numbers.items() if column[machine] >= 0}
        return Facts(
            windows=text.get("windows") or "",
            architecture=text.get("architecture") or "",
            edition=text.get("edition"),
            language=text.get("language"),
            domain=text.get("domain"),
            shell=text.get("shell"),
            dotnet=text.get("dotnet"),
            memory=numbers.pop("memory", None),
            disks={name[5:]: amount for name, amount in numbers.items() if name.startswith("disk ")},
            multi_session=None if multi is None else multi == "true",
            computer=self.computers[machine],
        )


def columns_of(
    computers: Sequence[str],
    texts: Mapping[str, Sequence[str | None]],
    numbers: Mapping[str, Sequence[int | None]],
    programs: Mapping[ListedProgram, Iterable[int]],
    listed: Iterable[int] | None = None,
    devices: Mapping[ListedDevice, Iterable[int]] = {},
    fitted: Iterable[int] = (),
) -> Columns:
    """Columns from plain sequences; ``listed`` are the machines whose programs are known, all of them by default,
    ``fitted`` those whose devices are.
    """
    named, known = sorted(programs), sorted(devices)
    return Columns(
        computers=tuple(computers),
        texts={name: TextColumn.of(given) for name, given in texts.items()},
        numbers={
            name: np.array([-1 if one is None else one for one in given], np.int64) for name, given in numbers.items()
        },
        programs=tuple(named),
        held=Holders.of((programs[one] for one in named), len(computers), listed),
        devices=tuple(known),
        fitted=Holders.of((devices[one] for one in known), len(computers), fitted),
    )


def joined(old: Columns, stays: NDArray[np.bool_], new: Columns, was: NDArray[np.int64]) -> Columns:
    """The machines of ``old`` that stay, and behind them all of ``new``. ``was`` says for each of these which of the
    old ones it is, -1 for none: what is not told of it anew stays as it was.
    """
    place, first = np.cumsum(stays) - 1, int(stays.sum())
    before, now = was[was >= 0], np.flatnonzero(was >= 0)
    texts = {}
    for name in {**old.texts, **new.texts}:
        one, other = old.texts.get(name), new.texts.get(name)
        words = dict.fromkeys(text for column in (one, other) if column for text in column.values)
        values = {text: at for at, text in enumerate(words)}
        mine, theirs = _codes(one, values, len(old)), _codes(other, values, len(new))
        theirs[now] = np.where(theirs[now] < 0, mine[before], theirs[now])
        texts[name] = TextColumn(np.concatenate([mine[stays], theirs]), tuple(values))
    numbers = {}
    for name in {**old.numbers, **new.numbers}:
        had, has = (whole.numbers.get(name, np.full(len(whole), -1, np.int64)).copy() for whole in (old, new))
        has[now] = np.where(has[now] < 0, had[before], has[now])
        numbers[name] = np.concatenate([had[stays], has])
    programs, held = _both(old.programs, old.held, new.programs, new.held, stays, place, first, was)
    devices, fitted = _both(old.devices, old.fitted, new.devices, new.fitted, stays, place, first, was)
    computers = (*(name for name, kept in zip(old.computers, stays, strict=True) if kept), *new.computers)
    return Columns(computers, texts, numbers, programs, held, devices, fitted)


def _codes(column: TextColumn | None, values: Mapping[str, int], count: int) -> NDArray[np.int32]:
    """A column's places in another list of values."""
    if column is None:
        return np.full(count, -1, np.int32)
    return np.array([*(values[text] for text in column.values), -1], np.int32)[column.codes]


def _both(
    old: tuple[T, ...], had: Holders, new: tuple[T, ...], have: Holders,
    stays: NDArray[np.bool_], place: NDArray[np.int64], first: int, was: NDArray[np.int64],
) -> tuple[tuple[T, ...], Holders]:  # fmt: skip
    """The things of both, and who has them; one that nobody has any more goes. A machine of which they are not listed
    anew has what it had.
    """
    lists: dict[T, list[Indices]] = {}
    same = np.flatnonzero((was >= 0) & ~have.listed)
    place, kept = place.copy(), stays.copy()
    place[was[same]], kept[was[same]] = first + same, True
    listed = have.listed.copy()
    listed[same] = had.listed[was[same]]
    for thing, some in zip(old, had.of_some(kept, place), strict=True):
        if len(some):
            lists.setdefault(thing, []).append(some)
    for at, thing in enumerate(new):
        lists.setdefault(thing, []).append((have.having(at) + first).astype(np.uint32))
    named = sorted(lists)
    starts, on = in_one([np.unique(np.concatenate(lists[thing])) for thing in named])
    return tuple(named), Holders(starts, on, np.concatenate([had.listed[stays], listed]))


def in_one(lists: Sequence[Indices]) -> tuple[NDArray[np.int64], Indices]:
    """The machines of each program, one list behind the other: where each begins, and all of them."""
    starts = np.zeros(len(lists) + 1, np.int64)
    np.cumsum([len(one) for one in lists], out=starts[1:])
    return starts, np.concatenate(lists) if lists else np.zeros(0, np.uint32)
