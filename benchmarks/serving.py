"""The server: a crowd of computers that all report within a minute, while it is killed and its database starts anew."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.fleet.deliveries import Deliveries
from yendo.fleet.store import Inventory

REPORTS = int(os.environ.get("YENDO_BENCH_REPORTS", "5000"))
ROUNDS = int(os.environ.get("YENDO_BENCH_ROUNDS", "10"))
MACHINES = 100_000


@benchmark
def fleet_crowd(folder: Path) -> list[Figure]:
    """Ten rounds with fresh computers each: in three a process is killed, in one the database starts anew."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import postgres_server
    import serving_crowd as crowd
    from delivery_office import package_of

    package = package_of(folder / "package")
    slowest = late = lost = doubled = 0.0
    used = 0.0
    with postgres_server.started(safe=True) as database:
        deliveries = Deliveries(Inventory(database.address))
        crowd.known(deliveries, REPORTS)
        serving = [crowd.ServerProcess(database.address, "--proxy", "X-Remote-User@127.0.0.1") for _ in range(2)]
        try:
            for number in range(ROUNDS):
                order = crowd.begun(deliveries, package, REPORTS)
                before = len(deliveries.store.outcomes())
                reports = [crowd.report(one, order) for one in range(REPORTS)]
                took: list[float] = []
                ports = [one.port for one in serving]
                began = time.perf_counter()
                worker = threading.Thread(target=lambda: took.extend(crowd.leave(ports, reports)))  # noqa: B023
                spent = sum(one.seconds for one in serving)
                worker.start()
                if number in (2, 4, 6):
                    time.sleep(5)
                    serving[0].kill()
                    serving[0].start()
                elif number == 8:
                    time.sleep(5)
                    database.restart()
                else:
                    worker.join()
                    used = (sum(one.seconds for one in serving) - spent) / REPORTS
                worker.join()
                late = max(late, time.perf_counter() - began)
                slowest = max(slowest, sorted(took)[int(len(took) * 0.99)])
                done = sum(one.state == "done" for one in deliveries.places(order))
                lost += REPORTS - done
                doubled += len(deliveries.store.outcomes()) - before - done
        finally:
            for one in serving:
                one.kill()
    told = f"{ROUNDS} rounds of {REPORTS:,} reports, two processes; 99th percentile {slowest * 1000:.0f} ms"
    return [
        Figure("reports that were lost", lost, 0, "", told),
        Figure("reports that counted twice", doubled, 0, "", told),
        Figure("the slowest round", late, 60, "s", f"{told}; {used * 1000:.1f} ms of processor time a report"),
    ]


@benchmark
def fleet_page(folder: Path) -> list[Figure]:
    """A page with 100,000 computers in a real browser: until its list is there and may be used."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import browser
    import serving_crowd as crowd
    from delivery_office import package_of

    deliveries = Deliveries(Inventory(folder / "fleet.db"))
    number = crowd.begun(deliveries, package_of(folder / "package"), MACHINES)
    line = [sys.executable, "-m", "yendo", "fleet", "status", str(number), "--page", "page.html", "--quiet"]
    subprocess.run([*line, "--inventory", "fleet.db"], cwd=folder, check=True)
    with browser.browser() as page:
        shown = page.go((folder / "page.html").as_uri())
        begun = time.perf_counter()
        page.ask("document.getElementById('find').focus()")
        page.type("pier-09999")
        while "1 of 100,000" not in page.ask("document.getElementById('count').textContent"):
            assert time.perf_counter() < begun + 30
        answered = time.perf_counter() - begun
    size = (folder / "page.html").stat().st_size / 1e6
    return [
        Figure("page with 100,000 computers, shown", shown, 2, "s", f"{size:.1f} MB, Chromium"),
        Figure("a name looked for in it, answered", answered, 0.5, "s"),
    ]
