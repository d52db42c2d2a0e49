"""Carries a delivery folder to computers over SSH, which take what is theirs by the same script that pulls.

The host that pushes holds a key to every computer, and nothing to sign with: what a computer carries out is signed
elsewhere, as for one that pulls. A computer that is off is tried again, each time after a longer pause.
"""

from __future__ import annotations

import asyncio
import contextlib
import functools
import socket
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta

import msgspec

from yendo.errors import NoMachine, Unreadable, Usage
from yendo.fleet import fetcher, machine_reports
from yendo.fleet.deliveries import Deliveries, DeliveryPlace, moment
from yendo.fleet.index import INDEX, SIGNERS, DeliveryFolder, Index, StoredContent, written
from yendo.fleet.reach import SshReach
from yendo.machines.live.ssh import NotLetIn, library, started
from yendo.platforms.windows import folders, paths

THERE = paths.join(folders.PROGRAMS, "Yendo pushed")
OUT = paths.join(THERE, "out")
EVERY = 1.0  # seconds between two looks for reports
PAUSES = (60, 300, 900, 3600, 4 * 3600)  # seconds until somebody who was missed is tried again

PushHeard = Callable[[str, str], object]


class WayThere(SshReach, frozen=True, kw_only=True):
    """How computers are reached and woken. ``root`` is the thumbprint of the root that they believe; ``wake`` maps
    them to the hardware addresses by which they are woken.
    """

    root: str
    wake: Mapping[str, str] = {}


class Pushed(msgspec.Struct, frozen=True):
    """What became of one computer: told, missed, under way, refused, and why."""

    computer: str
    became: str
    words: str = ""


def due(deliveries: Deliveries, index: Index, number: int, now: datetime) -> list[DeliveryPlace]:
    """The computers of a delivery that are to be reached now: their turn has come, and they have not told the end."""
    if number not in {order.number for order in index.orders}:
        raise Usage(f"the folder's index has no order {number}; put it there: yendo fleet publish")
    stamp = written(now)
    return [
        one
        for one in deliveries.places(number)
        if one.state in ("waiting", "later") and one.ready and one.ready <= stamp and one.next <= stamp
    ]


def push(
    deliveries: Deliveries,
    folder: DeliveryFolder,
    number: int,
    way: WayThere,
    heard: PushHeard = lambda name, text: None,
) -> list[Pushed]:
    """Reaches every computer whose turn has come, so many at once. What was broken off goes on at the next call.

    Raises Usage, NoMachine where the library is missing.
    """
    library()
    index = folder.index()
    if index is None:
        raise Usage(f"{folder.path} has no index yet; put one there: yendo fleet publish")
    if index.expires < moment():
        raise Usage(f"the index of {folder.path} is out of date since {index.expires}; sign it anew")
    places = due(deliveries, index, number, moment())
    return asyncio.run(_all(deliveries, folder, index, number, places, way, heard))


async def _all(
    deliveries: Deliveries, folder: DeliveryFolder, index: Index, number: int, places: Sequence[DeliveryPlace],
    way: WayThere, heard: PushHeard,
) -> list[Pushed]:  # fmt: skip
    room = asyncio.Semaphore(way.at_once)

    async def one(place: DeliveryPlace) -> Pushed:
        async with room:
            delivery = await asyncio.to_thread(deliveries.one, number)
            if delivery.state != "open":  # stopped in the meantime
                return Pushed(place.shown, "not begun", f"the delivery is {delivery.state}")
            found = await _Visit(deliveries, folder, index, number, place, way, heard).whole()
            if found.became in ("told", "refused"):
                await asyncio.to_thread(deliveries.judge, number, moment())
            return found

    return list(await asyncio.gather(*(one(place) for place in places)))


class _Visit:
    """One computer: brought what it needs, begun, and listened to."""

    def __init__(
        self, deliveries: Deliveries, folder: DeliveryFolder, index: Index, number: int, place: DeliveryPlace,
        way: WayThere, heard: PushHeard,
    ) -> None:  # fmt: skip
        self.deliveries, self.folder, self.index, self.number = deliveries, folder, index, number
        self.place, self.way = place, way
        self._heard = heard
        self.line = way.line(place.shown, self.heard)

    def heard(self, text: str) -> None:
        self._heard(self.place.shown, text)

    async def whole(self) -> Pushed:
        if not await self._door():
            return await self._missed("its port does not answer")
        try:
            await self._bring()
            await self.line.patiently(self._begin)
            return await self._listen()
        except NotLetIn as error:
            await self._note(str(error), None)
            return Pushed(self.place.shown, "refused", str(error))
        except NoMachine as error:
            return await self._missed(str(error))
        finally:
            self.line.lose()

    async def _door(self) -> bool:
        """Whether the port answers; a computer that is off is woken first, once."""
        for attempt in range(2):
            if await self.way.answers(self.place.shown):
                return True
            mac = self.way.wake.get(self.place.computer)
            if attempt or not mac:
                return False
            self.heard("it is off; waking it")
            wake(mac)
            await asyncio.sleep(30)
        return False

    async def _bring(self) -> None:
        order = next(one for one in self.index.orders if one.number == self.number)
        needed = [order.files, *(one for one, _ in self.folder.files(order.files))]
        # an index is read whole by the computer, so the lists of its other orders come along
        needed += [one.machines for one in self.index.orders]
        if self.index.fetcher:
            needed.append(self.index.fetcher)
        for content in dict.fromkeys(needed):
            await self.line.patiently(functools.partial(self._send, content))
        await self.line.patiently(self._lay_out)

    async def _send(self, content: StoredContent) -> None:
        await self.line.send(self.folder.path / content.place, paths.native(paths.join(THERE, content.place)))

    async def _lay_out(self) -> None:
        await self.line.folder(OUT)
        own = {SIGNERS: (self.folder.path / SIGNERS).read_bytes(), INDEX: (self.folder.path / INDEX).read_bytes()}
        for name, data in {fetcher.NAME: fetcher.script(), **own}.items():
            await self.line.replace(paths.join(THERE, name), data)

    async def _begin(self) -> None:
        self.heard("it has what it needs, and begins")
        words = rf'-Install -Begin -From "{THERE}" -Root {self.way.root} -Reports "{OUT}"'
        await self.line.begin(started(paths.join(THERE, fetcher.NAME), words))

    async def _listen(self) -> Pushed:
        """Takes the computer's reports until it has told how the order ended, or the patience is over."""
        loop = asyncio.get_running_loop()
        until = loop.time() + self.way.patience
        told: Pushed | None = None
        while loop.time() < until:
            for came in await self.line.patiently(self._reports):
                report = came.report
                if report.order == self.number and report.sort in ("ended", "later"):
                    words = f"exit code {report.code}"
                    told = Pushed(self.place.shown, "told" if report.sort == "ended" else "later", words)
                elif report.sort == "trouble":
                    told = told or Pushed(self.place.shown, "trouble", report.text)
            if told:
                return told
            await asyncio.sleep(EVERY)
        return Pushed(self.place.shown, "under way", "it has not told the end yet; the next push listens again")

    async def _reports(self) -> list[machine_reports.Sealed]:
        """What lies there, kept here before it is taken away there."""
        found = []
        # the first report tells the key; names begin with the time at which they were written
        for name in await self.line.names(OUT):
            if not name.endswith(".txt"):
                continue
            there = paths.join(OUT, name)
            try:
                data = await self.line.read(there, machine_reports.MOST)
                if data is None:
                    continue
                came = machine_reports.read(data)
                if came.report.computer.lower() != self.place.computer:
                    raise Unreadable(f"{name} speaks of {came.report.computer}")
                await asyncio.to_thread(self.deliveries.arrive, data, moment())
                found.append(came)
            except machine_reports.StrangerReport as error:
                self.heard(f"a report is left there: {error}")
                continue
            except Unreadable as error:
                self.heard(f"a report is not taken: {error}")
            await self.line.remove(there)
        return found

    async def _missed(self, why: str) -> Pushed:
        pause = PAUSES[min(self.place.tries, len(PAUSES) - 1)]
        await self._note(why, moment() + timedelta(seconds=pause))
        return Pushed(self.place.shown, "missed", f"{why}; tried again in {pause // 60} minutes at the earliest")

    async def _note(self, why: str, again: datetime | None) -> None:
        await asyncio.to_thread(self.deliveries.tried, self.number, self.place.computer, why, again)


def magic(mac: str) -> bytes:
    """The packet that wakes a network card: six bytes of ones, and its address sixteen times. Raises Usage."""
    plain = "".join(one for one in mac if one not in ":-. ")
    try:
        raw = bytes.fromhex(plain)
    except ValueError:
        raw = b""
    if len(raw) != 6:
        raise Usage(f"{mac!r} is no hardware address: it has six pairs of digits")
    return b"\xff" * 6 + raw * 16


def wake(mac: str, to: str = "255.255.255.255", port: int = 9) -> None:
    """Sends it into this host's own network, and no further. Raises Usage."""
    data = magic(mac)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out, contextlib.suppress(OSError):
        out.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        out.sendto(data, (to, port))
