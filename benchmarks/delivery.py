"""Twenty computers on the layer get a package, pulled and pushed, while everything goes wrong that may."""

from __future__ import annotations

import sys
import threading
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path
from typing import Any

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.errors import NoMachine

PULLED, PUSHED = 14, 6
TROUBLES = ("none", "cut", "dead", "lies", "old", "stranger", "restart", "killed")


@benchmark
def fleet_twenty(folder: Path) -> list[Figure]:
    """Each ends right, once, and nothing is carried out that is not signed."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import delivery_office as offices
    from conftest import HOST
    from test_delivery import RESTART

    from yendo.machines.wine.machine import WineMachine

    machine = WineMachine(folder / "cache", HOST if HOST.exists() else None, unconfined=True)
    if not machine.has_powershell:
        raise NoMachine("a PowerShell for the layer is needed")
    office = offices.Office(folder / "office")
    names = [f"PIER-{number:02}" for number in range(PULLED + PUSHED)]
    plain = offices.package_of(folder / "plain", steps=offices.COUNTED)
    waits = '\n[[install]]\nkind = "wait"\ntime = "10 s"\n'
    slow = offices.package_of(folder / "slow", "mole", steps=offices.COUNTED + RESTART + waits)
    pulled, pushed = names[:PULLED], names[PULLED:]
    orders = {
        name: office.deliver(slow if _trouble(number) in ("restart", "killed") else plain, [name])
        for number, name in enumerate(pulled)
    }
    by_ssh = office.deliver(plain, pushed)
    office.publish(now=offices.moment() - timedelta(hours=2))
    older = (office.folder.path / "index.txt").read_bytes()
    office.publish()
    counted: Counter[int] = Counter()

    def pull(number: int) -> None:
        counted[_one(number, pulled[number], machine, office, older, folder)] += 1

    with ThreadPoolExecutor(2) as crew:
        list(crew.map(pull, range(PULLED)))
    counted.update(_pushed(pushed, by_ssh, machine, office, folder))
    places = [one for number in (*orders.values(), by_ssh) for one in office.deliveries.places(number)]
    wrong = [one.shown for one in places if one.state != "done"]
    again = sum(times for count, times in counted.items() if count != 1)
    detail = f"{PULLED} pulled, {PUSHED} pushed; not done: {', '.join(wrong) or 'none'}"
    return [
        Figure("computers that did not end right", len(wrong), 0, "", detail),
        Figure("computers on which it was done twice, or unsigned", again, 0, "", str(dict(counted))),
    ]


def _trouble(number: int) -> str:
    return TROUBLES[number % len(TROUBLES)]


def _one(number: int, name: str, machine: Any, office: Any, older: bytes, folder: Path) -> int:
    """A computer that pulls; how often its package was carried out."""
    import shutil

    import test_delivery as tests

    from yendo.fleet import index

    trouble = _trouble(number)
    place = folder / f"given-{number}"
    shutil.copytree(office.folder.path, place)
    good = (place / index.INDEX).read_bytes()
    server = tests.Server(place)
    try:
        with machine.fresh("system") as session:
            (folder / name).mkdir()
            computer = tests.Computer(session, name, office, server.url, server.url + "/reports", folder / name)
            if trouble == "cut":
                server.cut = 2
            elif trouble == "dead":
                server.refuses = True
            elif trouble == "lies":
                server.lie = b"@echo twice>> C:\\counted.txt\r\n"
            elif trouble == "stranger":
                found = index.read_index(good)
                (place / index.INDEX).write_bytes(index.signed(index.index_text(found), office.stranger, index.INDEX))
            if trouble == "killed":
                worker = threading.Thread(target=lambda: session.run(tests.ROUND, timeout=300))
                computer.call()
                worker.start()
                tests.waited(lambda: computer.counted > 0)
                session.end_programs("powershell")
                worker.join()
            else:
                computer.round()
            server.cut, server.lie, server.refuses = 0, None, False
            (place / index.INDEX).write_bytes(good)
            if trouble == "old":
                (place / index.INDEX).write_bytes(older)
                computer.round()
                (place / index.INDEX).write_bytes(good)
            if trouble in ("restart", "killed"):
                session.restart()
            for _ in range(3):
                computer.round()
                if trouble in ("restart", "killed"):
                    session.restart()
            with tests.LOCK:
                for data in server.took:
                    office.deliveries.arrive(data, tests.moment())
            return int(computer.counted)
    finally:
        server.shutdown()
        server.server_close()


def _pushed(names: list[str], number: int, machine: Any, office: Any, folder: Path) -> list[int]:
    """Computers that it is carried to over lines that are cut; how often each carried it out."""
    import test_delivery as tests

    from yendo.fleet import push

    with tests.offices(machine, folder / "pushed", len(names), first=PULLED) as computers:
        way = tests.way_to(computers, office, folder, patience=500.0, at_once=2)
        breakers = [threading.Thread(target=one.cut_now_and_then, args=(at,)) for at, one in enumerate(computers[:3])]
        for one in breakers:
            one.start()
        try:
            for _ in range(3):
                push.push(office.deliveries, office.folder, number, way)
        finally:
            for one in computers:
                one.over.set()
            for one in breakers:
                one.join()
        return [(one.session.read(r"C:\counted.txt") or b"").count(b"once") for one in computers]
