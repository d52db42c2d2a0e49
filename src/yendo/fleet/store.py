"""Where an inventory is kept: SQLite beside the workspaces, or PostgreSQL by its address. Programs lie there as the
list of the machines that have them, so that loading 20,000,000 of them is reading a few megabytes.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
import sqlalchemy as sql
from sqlalchemy.dialects import postgresql, sqlite
from sqlalchemy.engine import Connection, Engine

from yendo import host_os
from yendo.errors import Unreadable, Usage
from yendo.fleet.columns import SORTS, Columns, Holders, ListedDevice, ListedProgram, TextColumn, in_one, joined
from yendo.fleet.incoming import PERSONS, Gathered

if TYPE_CHECKING:
    from numpy.typing import NDArray

FILE = "fleet.db"
_PERSONS = "persons until"  # a setting: the day after which nothing is kept of people
_LOCK = 0x59656E64  # of this program's migrations in a shared database


class FleetOutcome(msgspec.Struct, frozen=True, kw_only=True):
    """How a package ended on a machine. ``id`` is the reporter's own: the same report counts once. ``seconds`` it took;
    ``cause`` is that of a proof's diagnosis, or the code in words.
    """

    id: str
    package: str
    version: str
    computer: str
    site: str = ""
    ended: str = ""
    failed: bool = False
    cause: str = ""
    seconds: float = 0.0


class Inventory:
    """An inventory by its address: a path of a file, or ``postgresql://...``. Raises Usage."""

    def __init__(self, address: str | Path) -> None:
        self.address = str(address)
        url = self.address if "://" in self.address else f"sqlite:///{Path(self.address).resolve()}"
        url = url.replace("postgresql://", "postgresql+psycopg://", 1)
        try:
            # a database that was started anew is found again; a file waits for whoever writes to it
            more: dict[str, Any] = {"connect_args": {"timeout": 30}}
            if "://" in self.address:
                more = {"pool_pre_ping": True}
            self.engine: Engine = sql.create_engine(url, **more)
        except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError, ImportError) as error:
            raise Usage(f"{self.shown} is no address of a database: {error}") from error
        self.tables = sql.MetaData()

    @property
    def shown(self) -> str:
        """The address without its password."""
        return sql.make_url(self.address).render_as_string() if "://" in self.address else self.address

    @contextmanager
    def opened(self) -> Iterator[Connection]:
        """A connection within one transaction, after the tables are as this version has them."""
        self._migrated()
        with self.engine.begin() as connection:
            if not self.tables.tables:
                self.tables.reflect(connection)
            yield connection

    def _migrated(self) -> None:
        from alembic import command
        from alembic.config import Config

        if self.tables.tables:
            return
        config = Config()
        config.set_main_option("script_location", "yendo.fleet:migrations")
        lock = host_os.locked(Path(f"{self.address}.lock")) if "://" not in self.address else _nothing()
        try:
            with lock, self.engine.begin() as connection:
                if self.shared:
                    connection.execute(sql.text("SELECT pg_advisory_xact_lock(:key)"), {"key": _LOCK})
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        except sql.exc.OperationalError as error:
            raise Usage(f"{self.shown} cannot be opened: {str(error.orig).strip()}") from error
        except sql.exc.DatabaseError as error:
            raise Unreadable(f"{self.shown} is no inventory: {str(error.orig).strip()}") from error

    @property
    def shared(self) -> bool:
        """Whether several processes may have it, each told by the database that something came."""
        return self.engine.dialect.name == "postgresql"

    def added(self, table: sql.Table) -> postgresql.Insert | sqlite.Insert:
        """An insert that leaves what is there."""
        insert = postgresql.insert(table) if self.shared else sqlite.insert(table)
        return insert.on_conflict_do_nothing()

    # --- machines -------------------------------------------------------------------------------------------------

    def keep(self, found: Gathered, persons_until: date | None = None, *, others: bool = False) -> Columns:
        """Puts an inventory in the place of the one that is there; it is there whole or not at all. With ``others``
        machines that it does not have stay as they were. After ``persons_until`` its columns about people are taken
        out, by whoever opens it next.
        """
        columns = found.columns()
        machines = [(one.computer, one.identity, one.seen) for one in found.machines.values()]
        with self.opened() as connection:
            table = self.tables.tables
            if others and (stay := self._others(connection, machines)):
                old, mask, was, kept = stay
                columns, machines = joined(old, mask, columns, was), kept + machines
            for name in ("machine", "fact", "program", "device"):
                connection.execute(table[name].delete())
            rows = [
                {"number": number, "computer": computer, "identity": identity, "seen": seen}
                for number, (computer, identity, seen) in enumerate(machines)
            ]
            if rows:
                connection.execute(table["machine"].insert(), rows)
            connection.execute(table["fact"].insert(), list(_facts(columns)))
            programs = [
                {**msgspec.structs.asdict(program), "id": number, "machines": _packed(columns.having(number))}
                for number, program in enumerate(columns.programs)
            ]
            if programs:
                connection.execute(table["program"].insert(), programs)
            devices = [
                {"id": number, "words": msgspec.json.encode(device), "machines": _packed(columns.fitted.having(number))}
                for number, device in enumerate(columns.devices)
            ]
            if devices:
                connection.execute(table["device"].insert(), devices)
            if persons_until or not others:  # what is there of people is forgotten when it was to be
                connection.execute(table["setting"].delete().where(table["setting"].c.name == _PERSONS))
            if persons_until:
                row = {"name": _PERSONS, "value": persons_until.isoformat()}
                connection.execute(table["setting"].insert(), row)
        return columns

    def _forget_persons(self, connection: Connection) -> None:
        """Takes out what is kept of people, where its time is over."""
        settings, facts = self.tables.tables["setting"], self.tables.tables["fact"]
        until = connection.scalar(sql.select(settings.c.value).where(settings.c.name == _PERSONS))
        if until is not None and until < date.today().isoformat():
            connection.execute(facts.delete().where(facts.c.name.in_(PERSONS)))
            connection.execute(settings.delete().where(settings.c.name == _PERSONS))

    def _others(
        self, connection: Connection, machines: Iterable[tuple[str, str, str]]
    ) -> tuple[Columns, NDArray[np.bool_], NDArray[np.int64], list[tuple[str, str, str]]] | None:
        """What is there, which of it stays beside these machines, which of it each of these is (-1 for none), and how
        what stays is called; None where nothing is there. One identity under another name was renamed.
        """
        table = self.tables.tables["machine"]
        rows = connection.execute(
            sql.select(table.c.computer, table.c.identity, table.c.seen).order_by(table.c.number)
        ).all()
        if not rows:
            return None
        names = {computer.lower() for computer, _, _ in machines}
        same = {identity.lower() for _, identity, _ in machines if identity}
        mask = np.array([row[0].lower() not in names and row[1].lower() not in same for row in rows], np.bool_)
        kept = [(row[0], row[1], row[2]) for row, stays in zip(rows, mask, strict=True) if stays]
        named = {row[0].lower(): at for at, row in enumerate(rows)}
        known = {row[1].lower(): at for at, row in enumerate(rows) if row[1]}
        was = [known.get(identity.lower(), named.get(name.lower(), -1)) for name, identity, _ in machines]
        return self._loaded(connection), mask, np.array(was, np.int64), kept

    def load(self) -> Columns:
        """The inventory as columns. Raises Usage where there is none."""
        with self.opened() as connection:
            return self._loaded(connection)

    def _loaded(self, connection: Connection) -> Columns:
        table = self.tables.tables
        computers = tuple(
            connection.scalars(sql.select(table["machine"].c.computer).order_by(table["machine"].c.number))
        )
        if not computers:
            raise Usage(f"{self.shown} has no machine yet; yendo fleet add FILE puts them there")
        self._forget_persons(connection)
        facts = connection.execute(sql.select(table["fact"])).mappings().all()
        rows = connection.execute(sql.select(table["program"]).order_by(table["program"].c.id)).all()
        fitted = connection.execute(sql.select(table["device"]).order_by(table["device"].c.id)).all()
        texts: dict[str, TextColumn] = {}
        numbers: dict[str, NDArray[np.int64]] = {}
        known = dict.fromkeys(("listed", "fitted"), np.zeros(len(computers), np.bool_))
        for fact in facts:
            data = zlib.decompress(fact["data"])
            if fact["sort"] == "number":
                numbers[fact["name"]] = np.frombuffer(data, np.int64)
            elif fact["sort"] == "text":
                values = tuple(msgspec.json.decode(fact["words"], type=list[str]))
                texts[fact["name"]] = TextColumn(np.frombuffer(data, np.int32), values)
            else:
                known[fact["sort"]] = np.frombuffer(data, np.bool_)
        programs = tuple(ListedProgram(row.name, row.version, row.publisher, row.code, SORTS[row.sort]) for row in rows)
        devices = tuple(msgspec.json.decode(row.words, type=ListedDevice) for row in fitted)
        held, have = (in_one([_unpacked(row.machines) for row in some]) for some in (rows, fitted))
        return Columns(
            computers, texts, numbers, programs, Holders(*held, known["listed"]),
            devices, Holders(*have, known["fitted"]),
        )  # fmt: skip

    # --- questions ------------------------------------------------------------------------------------------------

    def ask_again(self, name: str) -> str:
        """A question that was kept by its name. Raises Usage."""
        with self.opened() as connection:
            known = self.tables.tables["question"]
            asked = connection.scalar(sql.select(known.c.asked).where(known.c.name == name))
            names = connection.scalars(sql.select(known.c.name).order_by(known.c.name)).all()
        if asked is None:
            raise Usage(f"no question is kept as {name!r}; known: {', '.join(names) or 'none'}")
        return str(asked)

    def keep_question(self, name: str, asked: str) -> None:
        with self.opened() as connection:
            known = self.tables.tables["question"]
            connection.execute(known.delete().where(known.c.name == name))
            connection.execute(known.insert(), {"name": name, "asked": asked})

    # --- outcomes -------------------------------------------------------------------------------------------------

    def report(self, outcomes: Iterable[FleetOutcome]) -> int:
        """Keeps outcomes; how many were new: one that is there already by its id is not kept again."""
        given = {one.id: msgspec.structs.asdict(one) for one in outcomes}
        with self.opened() as connection:
            known = self.tables.tables["outcome"]
            insert = self.added(known).returning(known.c.id)
            return len(connection.scalars(insert, list(given.values())).all()) if given else 0

    def outcomes(self) -> list[FleetOutcome]:
        with self.opened() as connection:
            known = self.tables.tables["outcome"]
            rows = connection.execute(sql.select(known).order_by(known.c.ended, known.c.id)).mappings().all()
        return [FleetOutcome(**row) for row in rows]


@contextmanager
def _nothing() -> Iterator[None]:
    yield


def _facts(columns: Columns) -> Iterator[dict[str, object]]:
    for name, column in columns.texts.items():
        data = zlib.compress(np.ascontiguousarray(column.codes, np.int32).tobytes(), 1)
        yield {"name": name, "sort": "text", "words": msgspec.json.encode(column.values), "data": data}
    for name, amounts in columns.numbers.items():
        yield {"name": name, "sort": "number", "words": b"", "data": zlib.compress(amounts.tobytes(), 1)}
    for sort, holders in (("listed", columns.held), ("fitted", columns.fitted)):
        yield {"name": f"({sort})", "sort": sort, "words": b"", "data": zlib.compress(holders.listed.tobytes(), 1)}


def _packed(machines: NDArray[np.uint32]) -> bytes:
    """Numbers in order as the steps between them, so that they pack well."""
    return zlib.compress(np.diff(machines, prepend=np.uint32(0)).astype(np.uint32).tobytes(), 1)


def _unpacked(data: bytes) -> NDArray[np.uint32]:
    return np.cumsum(np.frombuffer(zlib.decompress(data), np.uint32), dtype=np.uint32)
