"""An inventory as columns: 200,000 machines are a dozen arrays, a program is the list of the machines that have it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

import msgspec
import numpy as np

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
    """Machines by their number, from 0. ``listed`` says whose programs are known; ``on`` has the machines of program
    ``i`` from ``starts[i]`` to ``starts[i + 1]``, in order. ``texts`` are facts and whatever else was given of them.
    """

    computers: tuple[str, ...]
    texts: dict[str, TextColumn]
    numbers: dict[str, NDArray[np.int64]]
    programs: tuple[ListedProgram, ...]
    starts: NDArray[np.int64]
    on: Indices
    listed: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.computers)

    def having(self, program: int) -> Indices:
        """The machines that have a program, by its place in ``programs``."""
        return self.on[self.starts[program] : self.starts[program + 1]]

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
) -> Columns:
    """Columns from plain sequences; ``listed`` are the machines whose programs are known, all of them by default."""
    named = sorted(programs)
    starts, on = in_one([np.unique(np.fromiter(programs[one], np.uint32)) for one in named])
    known = np.ones(len(computers), np.bool_)
    if listed is not None:
        known[:] = False
        known[list(listed)] = True
    return Columns(
        computers=tuple(computers),
        texts={name: TextColumn.of(given) for name, given in texts.items()},
        numbers={
            name: np.array([-1 if one is None else one for one in given], np.int64) for name, given in numbers.items()
        },
        programs=tuple(named),
        starts=starts,
        on=on,
        listed=known,
    )


def in_one(lists: Sequence[Indices]) -> tuple[NDArray[np.int64], Indices]:
    """The machines of each program, one list behind the other: where each begins, and all of them."""
    starts = np.zeros(len(lists) + 1, np.int64)
    np.cumsum([len(one) for one in lists], out=starts[1:])
    return starts, np.concatenate(lists) if lists else np.zeros(0, np.uint32)
