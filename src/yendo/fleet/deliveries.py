"""Deliveries in an inventory's database: which computers each has, what was decided, and what computers have told.

Who gets a package is fixed when the delivery begins, so that a later inventory moves nobody into another wave; a
standing wave takes in whoever comes later.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import sqlalchemy as sql
from sqlalchemy.engine import Connection

from yendo.errors import Unreadable, Usage
from yendo.fleet import machine_reports
from yendo.fleet.chances import StopRule
from yendo.fleet.index import DeliveryFolder, Index, ListedComputer, Order, StoredContent, machines_text, written
from yendo.fleet.machine_reports import MachineReport, Sealed, StrangerReport
from yendo.fleet.reports import failed_by
from yendo.fleet.store import Inventory
from yendo.fleet.waves import Stop, Wave, Waves, When, part
from yendo.package import manifest as form
from yendo.prove.prove import digest_of
from yendo.terms.amounts import seconds

T = TypeVar("T", bound=msgspec.Struct)
VALID = timedelta(days=7)  # of an index
_ENDS = ("done", "failed", "refused")
TOLD = "delivery_told"  # the channel on which processes of one database tell each other that something came


class PackageDelivery(msgspec.Struct, frozen=True, kw_only=True):
    """``folder`` is the built package, ``digest`` that of its manifest; ``state`` is open, stopped or withdrawn."""

    number: int
    package: str
    version: str
    revision: int
    name: str
    verb: str
    run: str
    folder: str
    digest: str
    after: int
    offered: bool
    state: str
    opened: str
    waves: Waves

    @property
    def workspace(self) -> Path:
        """Where its package was built: lists that its waves name lie there."""
        return Path(self.folder).parent.parent


class DeliveryPlace(msgspec.Struct, frozen=True):
    """A computer of a delivery. ``ready`` is from when on it may begin, empty until its wave is opened; ``state``:
    waiting, later, done, failed, refused. ``there`` is what was found when it was looked at again.
    """

    computer: str
    shown: str
    site: str
    wave: str
    ready: str
    state: str
    code: int
    cause: str
    line: str
    ended: str
    seconds: float
    tries: int
    next: str
    there: str


class DeliveryDecision(msgspec.Struct, frozen=True):
    """What somebody decided, or the rule: begin, open, ask, stop, go-on, withdraw."""

    delivery: int
    time: str
    who: str
    what: str
    wave: str
    why: str
    figures: str


class Arrived(msgspec.Struct, frozen=True):
    """A report that came, as it is kept."""

    id: str
    computer: str
    sort: str
    delivery: int
    told: str
    received: str
    cause: str
    line: str
    text: str
    code: int


class Figures(msgspec.Struct, frozen=True, kw_only=True):
    """Where a delivery stands: its wave (the last that is open), the next, how much of the wave has told how it ended,
    how sure the rule is that too many fail (it stops at ``stops_at``), by what ended since somebody last said "go on".
    """

    wave: str
    next: str
    opened: str
    failed: int
    ended: int
    evidence: float
    stops_at: float
    told: float
    stops: bool


class _Said:
    """What reports say of places, as rows of a table to be changed: ends, waits, looks; and outcomes to be kept."""

    def __init__(self) -> None:
        self.ends: list[dict[str, object]] = []
        self.waits: list[dict[str, object]] = []
        self.looks: list[dict[str, object]] = []
        self.outcomes: list[dict[str, object]] = []

    def take(self, one: MachineReport, site: str, state: str, reason: tuple[str, str]) -> str:
        """One report about a place in a state; how that has ended by it, empty where it has not."""
        row: dict[str, object] = {"at_delivery": one.order, "at_computer": one.computer.lower()}
        (cause, line), code = reason, one.code or 0
        if one.sort == "looked":
            self.looks.append({**row, "to_there": one.text[:20]})
        if state in _ENDS or one.sort not in ("later", "ended"):
            return ""
        if one.sort == "later":
            self.waits.append({**row, "to_state": "later", "to_code": code, "to_line": line})
            return ""
        ended = ended_as(code)
        self.ends.append({**row, "to_state": ended, "to_code": code, "to_cause": cause, "to_line": line,
                          "to_ended": one.ended, "to_seconds": one.seconds})  # fmt: skip
        if ended != "refused":
            self.outcomes.append(msgspec.structs.asdict(one.outcome(site, cause)))
        return ended


class Deliveries:
    """What goes out from one inventory's database."""

    def __init__(self, store: Inventory) -> None:
        self.store = store

    # --- to begin -----------------------------------------------------------------------------------------------------

    def begin(
        self, package: Path, waves: Waves, groups: Sequence[tuple[Wave, Iterable[tuple[str, str]]]], *,
        who: str, now: datetime, verb: str = "install", after: int = 0,
    ) -> int:  # fmt: skip
        """Begins a delivery of a built package to groups of computers with their sites; its number. No wave is open
        yet. Raises Usage.
        """
        manifest = form.read(package)
        if not manifest.actions(verb):
            raise Usage(f"{manifest.name} {manifest.version} has nothing to {verb}")
        row = {
            "package": manifest.id, "version": manifest.version, "revision": manifest.revision, "name": manifest.name,
            "verb": verb, "run": manifest.run, "folder": str(package.resolve()), "after": after,
            "digest": digest_of(package),
            "waves": msgspec.json.encode(waves).decode(), "state": "open", "opened": written(now),
            "offered": any(wave.offered for wave in waves.wave),
        }  # fmt: skip
        with self.store.opened() as connection:
            table = self.store.tables.tables
            if after and connection.scalar(sql.select(table["delivery"].c.number).where(
                table["delivery"].c.number == after
            )) is None:  # fmt: skip
                raise Usage(f"there is no delivery {after}")
            number = int(
                connection.scalar(sql.insert(table["delivery"]).returning(table["delivery"].c.number), row) or 0
            )
            self._add(connection, number, groups)
            self._decided(connection, number, who, "begin", "", "", "", now)
        return number

    def _add(
        self, connection: Connection, number: int, groups: Sequence[tuple[Wave, Iterable[tuple[str, str]]]],
        ready: str = "",
    ) -> int:  # fmt: skip
        rows = [
            {
                "delivery": number, "computer": name.lower(), "shown": name, "site": site, "wave": wave.name,
                "ready": ready, "state": "waiting", "cause": "", "line": "", "ended": "", "code": 0, "seconds": 0.0,
                "tries": 0, "next": "", "there": "",
            }
            for wave, computers in groups
            for name, site in computers
        ]  # fmt: skip
        if rows:
            table = self.store.tables.tables["place"]
            connection.execute(self.store.added(table), rows)
        return len(rows)

    def take_in(self, number: int, wave: Wave, computers: Iterable[tuple[str, str]], *, now: datetime) -> int:
        """Takes computers that came later into a standing wave; how many were new. Those of an open wave begin now."""
        known = {one.computer for one in self.places(number)}
        new = [(name, site) for name, site in computers if name.lower() not in known]
        opened = wave.name in self.open_waves(number)
        with self.store.opened() as connection:
            return self._add(connection, number, [(wave, new)], written(now) if opened else "")

    # --- what is there ------------------------------------------------------------------------------------------------

    def all(self) -> list[PackageDelivery]:
        with self.store.opened() as connection:
            table = self.store.tables.tables["delivery"]
            rows = connection.execute(sql.select(table).order_by(table.c.number)).mappings().all()
        return [PackageDelivery(**{**row, "waves": msgspec.json.decode(row["waves"], type=Waves)}) for row in rows]

    def one(self, number: int) -> PackageDelivery:
        """Raises Usage."""
        found = {one.number: one for one in self.all()}
        if number not in found:
            raise Usage(f"there is no delivery {number}; known: {', '.join(map(str, found)) or 'none'}")
        return found[number]

    def places(self, number: int) -> list[DeliveryPlace]:
        return self._kept_as(DeliveryPlace, "place", lambda table: table.c.delivery == number, "computer")

    def decisions(self, number: int) -> list[DeliveryDecision]:
        return self._kept_as(DeliveryDecision, "decision", lambda table: table.c.delivery == number, "id")

    def history(self, computer: str) -> list[Arrived]:
        """What a computer has told, the oldest first."""
        return self._kept_as(Arrived, "arrived", lambda table: table.c.computer == computer.lower(), "received", "id")

    def troubles(self, since: datetime) -> list[Arrived]:
        """What went wrong before anything began, as computers told it."""

        def which(table: sql.Table) -> sql.ColumnElement[bool]:
            return sql.and_(table.c.sort == "trouble", table.c.received >= written(since))

        return self._kept_as(Arrived, "arrived", which, "received", "id")

    def _kept_as(
        self, kind: type[T], name: str, which: Callable[[sql.Table], sql.ColumnElement[bool]], *order: str
    ) -> list[T]:
        """Rows of a table as what they are."""
        with self.store.opened() as connection:
            table = self.store.tables.tables[name]
            wanted = sql.select(*(table.c[one] for one in kind.__struct_fields__)).where(which(table))
            return [kind(*row) for row in connection.execute(wanted.order_by(*(table.c[one] for one in order)))]

    def open_waves(self, number: int) -> list[str]:
        """The names of the waves that were opened, in their order."""
        return [one.wave for one in self.decisions(number) if one.what == "open"]

    # --- what is decided ----------------------------------------------------------------------------------------------

    def figures(self, number: int, places: Sequence[DeliveryPlace] | None = None) -> Figures:
        """Where a delivery stands, by all that was told of it."""
        delivery = self.one(number)
        places = self.places(number) if places is None else places
        decided = self.decisions(number)
        opened = [one for one in decided if one.what == "open"]
        # whoever says "go on" has seen these failures: only what comes afterwards can stop it again
        since = max((one.time for one in decided if one.what == "go-on"), default="")
        names = [wave.name for wave in delivery.waves.wave]
        last = opened[-1] if opened else None
        rule = _asked(delivery.waves.stop, places, since, self._heard(number) if since else {})
        ended = [one for one in places if one.state in ("done", "failed")]
        told = _told(places, last.wave) if last else 0.0
        done = {one.wave for one in opened}
        return Figures(
            wave=last.wave if last else "", next=next((name for name in names if name not in done), ""),
            opened=last.time if last else "", failed=sum(one.state == "failed" for one in ended), ended=len(ended),
            evidence=round(rule.evidence, 2) if rule.tried else 0.0,
            stops_at=2 / part(delivery.waves.stop.risk), told=told, stops=rule.stops,
        )  # fmt: skip

    def _heard(self, number: int) -> dict[str, str]:
        """When each computer's first end was told to us."""
        arrived = self.store.tables.tables["arrived"]
        mine = sql.and_(arrived.c.delivery == number, arrived.c.sort == "ended")
        asked = sql.select(arrived.c.computer, sql.func.min(arrived.c.received)).where(mine)
        with self.store.opened() as connection:
            return {str(row[0]): str(row[1]) for row in connection.execute(asked.group_by(arrived.c.computer))}

    def judge(self, number: int, now: datetime) -> Figures:
        """Asks the rule, and stops the delivery where it says so."""
        found = self.figures(number)
        delivery = self.one(number)
        if found.stops and delivery.state == "open":
            why = f"{found.failed} of {found.ended} have failed; at most {delivery.waves.stop.limit} may"
            with self.store.opened() as connection:
                if self._state(connection, number, "stopped"):  # by one of several processes
                    self._decided(connection, number, "the rule", "stop", found.wave, why, _words(found), now)
        return found

    def open_next(self, number: int, *, who: str, why: str = "", although: str = "", now: datetime) -> tuple[str, str]:
        """Opens the next wave: ("open", its name), or ("asked", its name) where a second person has to agree.

        ``although`` is the reason to do it before its time. Raises Usage with what hinders it.
        """
        found = self.judge(number, now)
        delivery = self.one(number)
        hindered = hindrances(delivery, found, now)
        if not found.next or (hindered and not although) or delivery.state != "open":
            raise Usage(f"the next wave is not opened: {'; '.join(hindered)}")
        wave = next(one for one in delivery.waves.wave if one.name == found.next)
        asked = [one for one in self.decisions(number) if one.what == "ask" and one.wave == wave.name]
        with self.store.opened() as connection:
            if delivery.waves.stop.two_persons and not any(one.who != who for one in asked):
                if not asked:
                    self._decided(connection, number, who, "ask", wave.name, although or why, _words(found), now)
                return "asked", wave.name
            table = self.store.tables.tables["place"]
            mine = connection.scalars(
                sql.select(table.c.computer).where(table.c.delivery == number, table.c.wave == wave.name)
            )
            # so many an hour: each hour's computers may begin an hour later
            rows = [
                {"at_computer": name, "to_ready": written(now + timedelta(hours=at // wave.at_once))}
                for at, name in enumerate(sorted(mine))
            ]
            if rows:
                this = sql.and_(table.c.delivery == number, table.c.computer == sql.bindparam("at_computer"))
                connection.execute(table.update().where(this).values(ready=sql.bindparam("to_ready")), rows)
            self._decided(connection, number, who, "open", wave.name, although or why, _words(found), now)
        return "open", wave.name

    def decide(self, number: int, what: str, *, who: str, why: str, now: datetime) -> None:
        """Stops, goes on with, or withdraws a delivery. Raises Usage."""
        state = {"stop": "stopped", "go-on": "open", "withdraw": "withdrawn"}[what]
        delivery, found = self.one(number), self.figures(number)
        if delivery.state == "withdrawn" or delivery.state == state:
            raise Usage(f"delivery {number} is {delivery.state} already")
        if not why.strip():
            raise Usage("say why: --why TEXT")
        with self.store.opened() as connection:
            self._state(connection, number, state)
            self._decided(connection, number, who, what, found.wave, why, _words(found), now)

    def _state(self, connection: Connection, number: int, state: str) -> bool:
        """Whether it was another one before."""
        table = self.store.tables.tables["delivery"]
        where = sql.and_(table.c.number == number, table.c.state != state)
        return connection.execute(table.update().where(where).values(state=state)).rowcount == 1

    def _decided(
        self, connection: Connection, number: int, who: str, what: str, wave: str, why: str, figures: str, now: datetime
    ) -> None:
        row = {"delivery": number, "time": written(now), "who": who, "what": what, "wave": wave, "why": why,
               "figures": figures}  # fmt: skip
        connection.execute(self.store.tables.tables["decision"].insert(), row)

    # --- what is told -------------------------------------------------------------------------------------------------

    def arrive(self, data: bytes, now: datetime) -> str:
        """Takes a report: "new" or "known". It is there when this returns. Raises Unreadable where it is malformed,
        StrangerReport where it is by somebody else than the computer that it speaks of, or by one that is not known.
        """
        (found,) = self.arrive_all([machine_reports.read(data)], now)
        if isinstance(found, StrangerReport):
            raise found
        return found

    def collect(
        self, paths: Iterable[Path], now: datetime, *, take_away: bool
    ) -> tuple[dict[str, int], dict[str, str]]:
        """Takes what computers have left as files: how many were new and known, and why others were refused."""
        counts, refused = {"new": 0, "known": 0}, {}
        # names begin with the computer and the time: so its first report, which tells its key, comes first
        for path in sorted(paths, key=lambda path: path.name):
            try:
                with path.open("rb") as file:
                    counts[self.arrive(file.read(machine_reports.MOST + 1), now)] += 1
            except (OSError, Unreadable) as error:
                refused[path.name] = str(error)
                continue
            if take_away:
                path.unlink()
        return counts, refused

    def arrive_all(self, came: Sequence[Sealed], now: datetime) -> list[str | StrangerReport]:
        """The same for several at once, in their order and in one transaction: each "new", "known", or why not."""
        with self.store.opened() as connection:
            answers = self._vouched(connection, came, now)
            kept = [one for one, answer in zip(came, answers, strict=True) if answer == "new"]
            reasons = {one.report.id: one.report.why() for one in kept}
            new = self._kept(connection, kept, reasons, now)
            self._placed(connection, [one.report for one in kept if one.report.id in new], reasons)
            if new and self.store.shared:
                connection.execute(sql.text(f"NOTIFY {TOLD}"))
        seen: set[str] = set()
        for at, (one, answer) in enumerate(zip(came, answers, strict=True)):
            if answer == "new" and (one.report.id not in new or one.report.id in seen):
                answers[at] = "known"
            seen.add(one.report.id)
        return answers

    def _vouched(self, connection: Connection, came: Sequence[Sealed], now: datetime) -> list[str | StrangerReport]:
        """Whether each is by the computer that it speaks of; a first report tells its key."""
        keys = self.store.tables.tables["computer_key"]
        names = {one.report.computer.lower() for one in came}
        known = {
            row.computer: row.key for row in connection.execute(sql.select(keys).where(keys.c.computer.in_(names)))
        }
        answers: list[str | StrangerReport] = []
        for one in came:
            computer, report = one.report.computer.lower(), one.report
            if computer not in known and report.sort == "joined" and report.key and one.by(report.key):
                row = {"computer": computer, "key": report.key, "since": written(now)}
                connection.execute(self.store.added(keys), row)
                told = connection.scalar(sql.select(keys.c.key).where(keys.c.computer == computer))
                known[computer] = str(told)
            if computer not in known:
                answers.append(StrangerReport(f"{computer} is not known here: it has not told its key yet"))
            elif not one.by(known[computer]) or (report.sort == "joined" and report.key != known[computer]):
                answers.append(
                    StrangerReport(f"the report is not from {computer}, or that one was set up anew: see --forget")
                )
            else:
                answers.append("new")
        return answers

    def _kept(
        self, connection: Connection, came: Sequence[Sealed], reasons: Mapping[str, tuple[str, str]], now: datetime
    ) -> set[str]:
        """Keeps reports with why they failed, by their ids; the ids of those that were not there yet."""
        rows = []
        for one in came:
            report = one.report
            cause, line = reasons[report.id]
            rows.append({
                "id": report.id, "computer": report.computer.lower(), "sort": report.sort, "delivery": report.order,
                "told": report.told, "received": written(now), "cause": cause, "line": line, "text": report.text,
                "code": report.code or 0,
            })  # fmt: skip
        arrived = self.store.tables.tables["arrived"]
        if not rows:
            return set()
        return set(connection.scalars(self.store.added(arrived).returning(arrived.c.id), rows))

    def _placed(
        self, connection: Connection, reports: Sequence[MachineReport], reasons: Mapping[str, tuple[str, str]]
    ) -> None:
        """What new reports say of deliveries: a computer's first end counts, what comes later does not change it."""
        place, outcome = self.store.tables.tables["place"], self.store.tables.tables["outcome"]
        about = [one for one in reports if one.order]
        if not about:
            return
        where = sql.and_(
            place.c.delivery.in_({one.order for one in about}),
            place.c.computer.in_({one.computer.lower() for one in about}),
        )
        rows = connection.execute(
            sql.select(place.c.delivery, place.c.computer, place.c.site, place.c.state).where(where)
        )
        known = {(row.delivery, row.computer): (row.site, row.state) for row in rows}
        said = _Said()
        for one in about:
            at = (one.order, one.computer.lower())
            site, state = known.get(at, ("", ""))
            if state and (ended := said.take(one, site, state, reasons.get(one.id, ("", "")))):
                known[at] = (site, ended)
        for some in (said.ends, said.waits, said.looks):
            if some:
                names = [name.removeprefix("to_") for name in some[0] if name.startswith("to_")]
                mine = sql.and_(
                    place.c.delivery == sql.bindparam("at_delivery"), place.c.computer == sql.bindparam("at_computer")
                )
                changed: dict[str, Any] = {name: sql.bindparam(f"to_{name}") for name in names}
                connection.execute(place.update().where(mine).values(**changed), some)
        if said.outcomes:
            connection.execute(self.store.added(outcome), said.outcomes)

    def forget(self, computer: str) -> bool:
        """Forgets the key of a computer that was set up anew, so that it may tell another; whether it had one."""
        with self.store.opened() as connection:
            keys = self.store.tables.tables["computer_key"]
            return connection.execute(keys.delete().where(keys.c.computer == computer.lower())).rowcount > 0

    def tried(self, number: int, computer: str, line: str, next_try: datetime | None) -> None:
        """A computer that was not reached, and when it is tried again."""
        with self.store.opened() as connection:
            place = self.store.tables.tables["place"]
            where = sql.and_(place.c.delivery == number, place.c.computer == computer.lower())
            changed = {"tries": place.c.tries + 1, "line": line, "next": written(next_try)}
            connection.execute(place.update().where(where).values(**changed))

    # --- what goes out ------------------------------------------------------------------------------------------------

    def index(
        self, folder: DeliveryFolder, *, now: datetime, reports: str = "", fetcher: StoredContent | None = None,
        valid: timedelta = VALID,
    ) -> Index:  # fmt: skip
        """The index of all that is open, its content put into the folder. Raises Usage where a package is not as it
        was.
        """
        windows: list[When] = []
        orders: list[Order] = []
        for delivery in self.all():
            places = [one for one in self.places(delivery.number) if one.ready]
            if delivery.state != "open" or not places:
                continue
            package = Path(delivery.folder)
            try:
                same = digest_of(package) == delivery.digest
            except OSError:
                same = False
            if not same:
                raise Usage(f"{package} is gone, or another package than delivery {delivery.number} began with")
            listed = machines_text(self._listed(delivery, places, windows))
            orders.append(
                Order(
                    number=delivery.number, verb=delivery.verb, package=delivery.package, version=delivery.version,
                    revision=delivery.revision, run=delivery.run, name=delivery.name, machines=folder.put(listed),
                    files=folder.put_package(package), offered=delivery.offered, after=delivery.after,
                )
            )  # fmt: skip
        return Index(
            version=self._count("index"), made=now, expires=now + valid, reports=reports, fetcher=fetcher,
            windows=tuple(windows), orders=tuple(orders),
        )  # fmt: skip

    def _listed(
        self, delivery: PackageDelivery, places: Iterable[DeliveryPlace], windows: list[When]
    ) -> Iterator[ListedComputer]:
        """The computers of an order with their windows, which are collected."""
        waves = {wave.name: wave for wave in delivery.waves.wave}
        for one in places:
            when = delivery.waves.site.get(one.site, delivery.waves.when)
            if when not in windows:
                windows.append(when)
            ready, wave = datetime.fromisoformat(one.ready), waves[one.wave]
            yield ListedComputer(one.computer, ready, windows.index(when), wave.by, wave.put_off)

    def _count(self, name: str) -> int:
        """The next number of a sort; no two processes get the same."""
        with self.store.opened() as connection:
            table = self.store.tables.tables["setting"]
            connection.execute(self.store.added(table), {"name": name, "value": "0"})
            # the row is held until the number is written
            connection.execute(table.update().where(table.c.name == name).values(value=table.c.value))
            number = int(connection.scalar(sql.select(table.c.value).where(table.c.name == name)) or 0) + 1
            connection.execute(table.update().where(table.c.name == name).values(value=str(number)))
        return number


def _asked(stop: Stop, places: Sequence[DeliveryPlace], since: str, heard: Mapping[str, str]) -> StopRule:
    """The rule, told of each computer that ended, in that order; after "go on" (``since``) only of those whose report
    came later: whoever decided cannot have seen them, whenever they ended.
    """
    rule = StopRule(part(stop.limit), part(stop.risk), Counter(one.site for one in places))
    ended = [one for one in places if one.state in ("done", "failed")]
    new = [one for one in ended if heard.get(one.computer, one.ended) > since]
    for one in sorted(new, key=lambda one: (one.ended, one.computer)):
        rule.report(one.site, failed=one.state == "failed")
    return rule


def _told(places: Iterable[DeliveryPlace], wave: str) -> float:
    """The share of a wave's computers that have told how it ended."""
    mine = [one.state in _ENDS for one in places if one.wave == wave]
    return sum(mine) / len(mine) if mine else 0.0


def hindrances(delivery: PackageDelivery, found: Figures, now: datetime) -> list[str]:
    """Why the next wave may not be opened yet; nothing where it may."""
    if not found.next:
        return ["every wave is open"]
    if delivery.state != "open":
        return [f"the delivery is {delivery.state}"]
    if not found.wave:
        begin = delivery.waves.begin
        return [] if now.date() >= begin else [f"it begins on {begin}"]
    wave = next(one for one in delivery.waves.wave if one.name == found.wave)
    why = []
    if found.told < part(delivery.waves.stop.reports):
        why.append(f"{found.told:.0%} of {found.wave} have told how it ended; {delivery.waves.stop.reports} are asked")
    rested = datetime.fromisoformat(found.opened) + timedelta(seconds=seconds(wave.pause))
    if now < rested:
        why.append(f"{found.wave} rests until {rested:%Y-%m-%d %H:%M} UTC")
    return why


def ended_as(code: int) -> str:
    """What a computer's state is after a run that ended with this code."""
    known = form.EXIT_CODES.get(code)
    if known and known.outcome == "not applicable":
        return "refused"
    return "failed" if failed_by(code) else "done"


def moment() -> datetime:
    """Now, to the second."""
    return datetime.now(UTC).replace(microsecond=0)


def _words(found: Figures) -> str:
    if not found.ended:
        return ""
    return f"{found.failed} of {found.ended} failed; evidence {found.evidence:g} of {found.stops_at:g}"
