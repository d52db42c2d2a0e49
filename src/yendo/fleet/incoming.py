"""Machines from files: CSV, JSON and Parquet tables, what the runner itself tells (``apply.cmd facts``), and what
``inventory.ps1`` found.

A table has a row for each machine, for each program on a machine (then it has a column ``program``), or for each of its
devices (a column ``hardware``: identifiers with semicolons between, the nearest first). Machines are
told apart by ``identity`` (a serial number, an identifier of the hardware) where it is given, else by their name.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from yendo.drivers.ranking import UsedDriver
from yendo.errors import Unreadable
from yendo.fleet.columns import NUMBERS, SORTS, Columns, Holders, ListedDevice, ListedProgram, columns_of, in_one
from yendo.walk import text_in

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Indices = NDArray[np.uint32]

MOST = 4 << 30  # bytes of a file
MOST_MACHINES = 2_000_000
LONGEST = 400  # characters of a value
MOST_IDENTIFIERS = 64  # of a device
_AMOUNT = re.compile(r"\d{1,18}")
_DISK = re.compile(r"disk ([A-Za-z])")
_PROGRAM_COLUMNS = ("program", "version", "publisher", "code", "sort")
_OF_DRIVERS = ("inf", "provider", "date", "version", "matching")
PERSONS = ("person", "user", "owner", "mail", "email", "phone")
"""Columns about people."""


class FleetMachine(msgspec.Struct, kw_only=True):
    """A machine as a file tells it. ``seen`` is when, as an ISO date or time; texts and numbers by their columns."""

    computer: str
    identity: str = ""
    seen: str = ""
    texts: dict[str, str] = {}
    numbers: dict[str, int] = {}
    programs: set[ListedProgram] | None = None
    """None where the file does not list them."""
    also: set[ListedProgram] = set()
    """Programs that are there, whatever else is: no list of all."""
    devices: set[ListedDevice] | None = None


class ProgramTable(msgspec.Struct, frozen=True):
    """Programs of many machines: row by row a place in ``computers`` and one in ``programs``."""

    computers: tuple[str, ...]
    programs: tuple[ListedProgram, ...]
    computer: Indices
    program: Indices


class Gathered(msgspec.Struct):
    """Machines by their key, and what is to be said of them: renamed, cloned, values that could not be read."""

    machines: dict[str, FleetMachine] = {}
    notes: list[str] = []
    tables: list[ProgramTable] = []

    def columns(self) -> Columns:
        some = list(self.machines.values())
        if self.tables:
            return self._with_tables(some)
        return self._columns(some)

    def without_persons(self) -> list[str]:
        """Leaves the columns about people out; which there were."""
        left = sorted({name for one in self.machines.values() for name in one.texts if name in PERSONS})
        for one in self.machines.values():
            one.texts = {name: text for name, text in one.texts.items() if name not in PERSONS}
        return left

    def _with_tables(self, some: Sequence[FleetMachine]) -> Columns:
        """The programs of large tables are put in order by their columns, not row by row."""
        whole = self._columns(some)
        numbers = {one.computer.lower(): number for number, one in enumerate(some)}
        lists: dict[ListedProgram, list[Indices]] = {}
        for number, program in enumerate(whole.programs):
            lists.setdefault(program, []).append(whole.having(number))
        for table in self.tables:
            places = np.array([numbers.get(name.lower(), -1) for name in table.computers], np.int64)[table.computer]
            order = np.argsort(table.program, kind="stable")
            ends = np.searchsorted(table.program[order], np.arange(len(table.programs) + 1))
            for number, program in enumerate(table.programs):
                found = places[order[ends[number] : ends[number + 1]]]
                lists.setdefault(program, []).append(found[found >= 0].astype(np.uint32))
            whole.listed[places[places >= 0]] = True
        named = sorted(lists)
        starts, on = in_one([np.unique(np.concatenate(lists[program])) for program in named])
        return msgspec.structs.replace(whole, programs=tuple(named), held=Holders(starts, on, whole.listed))

    def _columns(self, some: Sequence[FleetMachine]) -> Columns:
        texts = sorted({name for one in some for name in one.texts})
        numbers = sorted({name for one in some for name in one.numbers})
        programs: dict[ListedProgram, list[int]] = {}
        devices: dict[ListedDevice, list[int]] = {}
        for number, one in enumerate(some):
            for program in (one.programs or set()) | one.also:
                programs.setdefault(program, []).append(number)
            for device in one.devices or ():
                devices.setdefault(device, []).append(number)
        return columns_of(
            [one.computer for one in some],
            {name: [one.texts.get(name) for one in some] for name in texts},
            {name: [one.numbers.get(name) for one in some] for name in numbers},
            programs,
            [number for number, one in enumerate(some) if one.programs is not None],
            devices,
            [number for number, one in enumerate(some) if one.devices is not None],
        )


def gathered(paths: Iterable[Path]) -> Gathered:
    """Machines of several files. Raises Unreadable."""
    whole = Gathered()
    for path in paths:
        if path.suffix.lower() == ".parquet" and (table := _programs(path)) is not None:
            whole.tables.append(table)
            continue
        rows = list(_rows(path))
        if not rows:
            raise Unreadable(f"{path.name} has no row")
        for number, row in enumerate(rows, 2):
            _add(whole, row, f"{path.name}, row {number}")
        if len(whole.machines) > MOST_MACHINES:
            raise Unreadable(f"more than {MOST_MACHINES:,} machines")
    _told_apart(whole)
    return whole


def _rows(path: Path) -> Iterator[dict[str, Any]]:
    try:
        if path.stat().st_size > MOST:
            raise Unreadable(f"{path.name} is larger than {MOST >> 30} GB")
        if path.suffix.lower() == ".parquet":
            yield from _parquet(path)
        elif path.suffix.lower() == ".json":
            yield from _json(path)
        elif path.suffix.lower() == ".txt":
            yield _told(path.read_bytes().decode("utf-8-sig"), path.name)
        else:
            yield from table_rows(path.read_bytes().decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise Unreadable(f"{path.name} is not in UTF-8: {error.reason} at byte {error.start}") from error
    except csv.Error as error:
        raise Unreadable(f"{path.name} is no table: {error}") from error
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read: {error.strerror or error}") from error


def table_rows(text: str) -> Iterator[dict[str, Any]]:
    """The rows of a table as text, by its heads; what stands between cells is what its first line has most of."""
    head = text.partition("\n")[0]
    between = max(",;\t", key=head.count)
    yield from csv.DictReader(io.StringIO(text, newline=""), delimiter=between)


def named_rows(path: Path, most: int = 64 << 20) -> Iterator[dict[str, str]]:
    """The rows of a table's file as texts by the names of its columns in small letters. Raises Unreadable."""
    try:
        for row in table_rows(text_in(path, most)):
            yield {str(name).strip().lower(): (value or "").strip() for name, value in row.items() if name}
    except csv.Error as error:
        raise Unreadable(f"{path.name} is no table: {error}") from error


def _parquet(path: Path) -> Iterator[dict[str, Any]]:
    from pyarrow import ArrowException, parquet

    try:
        with parquet.ParquetFile(path) as file:
            for batch in file.iter_batches():
                yield from batch.to_pylist()
    except ArrowException as error:
        raise Unreadable(f"{path.name} is no Parquet table: {str(error)[:200]}") from error


def _programs(path: Path) -> ProgramTable | None:
    """A Parquet table with a row for each program on a machine; None where it has a row for each machine."""
    import pyarrow.compute as compute
    from pyarrow import ArrowException, parquet, string

    try:
        with parquet.ParquetFile(path) as file:
            names = {name.lower(): name for name in file.schema_arrow.names}
            if "program" not in names or "computer" not in names:
                return None
            wanted = ["computer", *(name for name in _PROGRAM_COLUMNS if name in names)]
            table = file.read([names[name] for name in wanted])
        filled = {name: compute.fill_null(table[names[name]].cast(string()), "") for name in wanted}
        joined = compute.binary_join_element_wise(*(filled[name] for name in wanted[1:]), "\x1f")
        machines = filled["computer"].combine_chunks().dictionary_encode()
        whole = joined.combine_chunks().dictionary_encode()
    except (ArrowException, OSError) as error:
        raise Unreadable(f"{path.name} is no Parquet table: {str(error)[:200]}") from error
    fields = [dict(zip(wanted[1:], text.split("\x1f"), strict=False)) for text in whole.dictionary.to_pylist()]
    programs = [_program({k: _text(v) for k, v in one.items()}, path.name) for one in fields]
    return ProgramTable(
        tuple(_text(name) for name in machines.dictionary.to_pylist()),
        tuple(one or ListedProgram("") for one in programs),
        machines.indices.to_numpy(zero_copy_only=False).astype(np.uint32),
        whole.indices.to_numpy(zero_copy_only=False).astype(np.uint32),
    )


def _json(path: Path) -> Iterator[dict[str, Any]]:
    """A list of objects, or what the runner tells: an object with ``computer`` and the facts by their names."""
    try:
        found = msgspec.json.decode(path.read_bytes())
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise Unreadable(f"{path.name} is no JSON: {error}") from error
    rows = found if isinstance(found, list) else [found]
    for row in rows:
        if not isinstance(row, dict):
            raise Unreadable(f"{path.name} is no list of objects")
        facts = row.get("facts")
        yield {**row, **facts, "domain": facts.get("domain") or "-"} if isinstance(facts, dict) else row


def _told(text: str, shown: str) -> dict[str, Any]:
    """What ``apply.cmd facts`` prints, a fact a line, as ``windows: 10.0.19045.2965``, or ``apply.cmd status``: that
    one package is there. Raises Unreadable.
    """
    found = dict(re.findall(r"(?m)^([a-z][a-z -]*(?: [A-Z])?): (.*?)\r?$", text))
    if "computer" not in found:
        raise Unreadable(f"{shown} is not what `apply.cmd facts` or `status` prints: it names no computer")
    if "package" in found and "installed" in found:
        version = found["installed"].removeprefix("version ")
        return {
            "computer": found["computer"],
            "one package": found["package"] if version != "no" else "",
            "version": version,
        }
    found["domain"] = found.get("domain") or "-"
    changing = {"power", "network", "people", "quiet", "time"}  # within a day
    return {name: text for name, text in found.items() if name not in changing}


def _add(whole: Gathered, row: Mapping[str, Any], where: str) -> None:
    """A row: of a machine with all that it says, of one program, of one device, or of one package of ours."""
    given = {
        str(name).strip().lower(): _text(value)
        for name, value in row.items()
        if name is not None and value is not None and not isinstance(value, list | dict)
    }
    computer = given.pop("computer", "")
    if not computer:
        raise Unreadable(f"{where}: it has no column computer, or nothing in it")
    identity, seen = given.pop("identity", ""), given.pop("seen", "")
    key = f"{identity.lower()}|{computer.lower()}" if identity else computer.lower()
    one = whole.machines.setdefault(key, FleetMachine(computer=computer, identity=identity, texts={}, numbers={}))
    one.seen = max(one.seen, seen)
    if name := given.get("one package"):
        one.also.add(ListedProgram(name, given.get("version", ""), sort="package"))
    elif "program" in given:
        _programs_of(one, [given], where)
    elif "hardware" in given:
        one.devices = (one.devices or set()) | _devices([given])
    elif "one package" not in given:
        for name, text in given.items():
            if wrong := _fact(one, name, text):
                whole.notes.append(f"{where}: {wrong}")
        _lists(one, row, where)


def _fact(one: FleetMachine, name: str, text: str) -> str:
    """A machine's fact by its column; what is wrong with it, empty where nothing is."""
    column = _DISK.sub(lambda found: f"disk {found[1].upper()}", name.replace("-", "_"))
    if column in NUMBERS or _DISK.fullmatch(name):
        if _AMOUNT.fullmatch(text):
            one.numbers[column] = int(text)
        elif text:
            return f"{name} is {text!r}, and not a number of bytes"
    elif column == "multi_session":
        one.texts[column] = {"yes": "true", "no": "false"}.get(text.lower(), text.lower())
    elif text:
        one.texts[column] = text.lower() if column == "architecture" else text
    return ""


def _lists(one: FleetMachine, row: Mapping[str, Any], where: str) -> None:
    """What a JSON text lists of a machine."""
    if isinstance(programs := row.get("programs"), list):
        _programs_of(one, [each for each in programs if isinstance(each, dict)], where)
    if isinstance(devices := row.get("devices"), list):
        one.devices = (one.devices or set()) | _devices([each for each in devices if isinstance(each, dict)])


def _programs_of(one: FleetMachine, rows: Iterable[Mapping[str, Any]], where: str) -> None:
    one.programs = one.programs if one.programs is not None else set()
    for row in rows:
        if program := _program({name: _text(value) for name, value in row.items()}, where):
            one.programs.add(program)


def _devices(rows: Sequence[Mapping[str, Any]]) -> set[ListedDevice]:
    """Devices as a table or a JSON text has them; one without any identifier is none."""
    found = set()
    for row in rows:
        texts = {str(name).lower(): _text(value) for name, value in row.items() if isinstance(value, str | int)}
        hardware, compatible = (_identifiers(row.get(name)) for name in ("hardware", "compatible"))
        rank = texts.get("rank", "")
        inf, provider, day, version, matching = (texts.get(name, "") for name in _OF_DRIVERS)
        used = UsedDriver(inf, provider, day, version, matching, int(rank) if _AMOUNT.fullmatch(rank) else -1)
        if hardware or compatible:
            found.add(ListedDevice(hardware, compatible, texts.get("device", ""), used))
    return found


def _identifiers(given: object) -> tuple[str, ...]:
    some = given.split(";") if isinstance(given, str) else given if isinstance(given, list) else []
    return tuple(filter(None, (_text(one) for one in some[:MOST_IDENTIFIERS])))


def _program(given: Mapping[str, str], where: str) -> ListedProgram | None:
    sort = given.get("sort") or "entry"
    if sort not in SORTS:
        raise Unreadable(f"{where}: the sort {sort!r} is none of {', '.join(SORTS)}")
    name = given.get("program") or given.get("name") or ""
    found = SORTS[sort]
    code = given.get("code", "")
    if sort == "entry" and re.fullmatch(r"\{[0-9A-Fa-f-]{36}\}", code):
        found = "product"
    return ListedProgram(name, given.get("version", ""), given.get("publisher", ""), code, found) if name else None


def _text(value: object) -> str:
    text = ("true" if value else "false") if isinstance(value, bool) else str(value)
    return "".join(letter for letter in text.strip()[:LONGEST] if letter.isprintable())


def _told_apart(whole: Gathered) -> None:
    """One identity under several names: renamed where one of them was seen later, else cloned, and each counts."""
    by_identity: dict[str, list[str]] = {}
    by_name: dict[str, list[str]] = {}
    for key, one in whole.machines.items():
        if one.identity:
            by_identity.setdefault(one.identity.lower(), []).append(key)
        by_name.setdefault(one.computer.lower(), []).append(key)
    for keys in by_identity.values():
        if len(keys) < 2:
            continue
        some = sorted((whole.machines[key] for key in keys), key=lambda one: one.seen)
        names, last = ", ".join(one.computer for one in some), some[-1]
        if some[-2].seen[:10] < last.seen[:10]:
            whole.notes.append(f"{names}: one machine, which is called {last.computer} now")
            for key in keys:
                if whole.machines[key] is not last:
                    del whole.machines[key]
        else:
            whole.notes.append(f"{names}: one identity ({last.identity}) on the same day: cloned, each is counted")
    for keys in by_name.values():
        kept = [key for key in keys if key in whole.machines]
        bare = [key for key in kept if not whole.machines[key].identity]
        if bare and len(kept) == 2:  # a list of programs goes by the name alone
            other = whole.machines[next(key for key in kept if key not in bare)]
            _joined(other, whole.machines.pop(bare[0]))
        elif len(kept) > 1:
            whole.notes.append(f"{whole.machines[kept[0]].computer}: {len(kept)} machines have this name")


def _joined(one: FleetMachine, other: FleetMachine) -> None:
    one.texts = {**other.texts, **one.texts}
    one.numbers = {**other.numbers, **one.numbers}
    one.seen = max(one.seen, other.seen)
    one.also |= other.also
    if other.programs is not None:
        one.programs = (one.programs or set()) | other.programs
    if other.devices is not None:
        one.devices = (one.devices or set()) | other.devices
