"""A cluster against processes, and the schedule of a large farm on paper."""

from __future__ import annotations

import heapq
import random
import statistics
import subprocess
import sys
import time
from collections import defaultdict
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.farm import run
from yendo.farm.cluster import Cluster
from yendo.farm.job import Making
from yendo.farm.schedule import Offer, Schedule, Task

WORKERS, PAIRS, COPIES = 4, 3, 24
PACKAGES, SCENARIOS = 500, 12
BRING = 20.0  # seconds that a package takes to a worker
KINDS = {"simulated": 2.0, "wine": 60.0, "ssh:w10": 240.0, "ssh:w11": 240.0}  # seconds of a cell, about


@benchmark
def farm(folder: Path) -> list[Figure]:
    """The same cells by four workers of a cluster and by four processes, one after the other, several times."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    import farm_crew

    subprocess.run([sys.executable, "-m", "yendo", "demo", "d", "--quiet"], cwd=folder, check=True)
    some = farm_crew.cells(
        farm_crew.copies(folder / "d" / "runtime", COPIES, folder / "w"), ["desk", "system", "repair", "twice"]
    )
    ratios, bare, through = [], [], []
    with farm_crew.farm(folder / "farm", WORKERS) as place:
        for turn in range(PAIRS + 1):
            processes = run.Processes(WORKERS, Making(str(folder)), ["simulated"])
            took = [_timed(some, processes), _timed(some, Cluster(place.address))]
            if turn:  # the first warms both
                bare.append(took[0])
                through.append(took[1])
                ratios.append(took[1] / took[0])
    detail = (
        f"{len(some)} cells: {statistics.median(bare):.1f} s by {WORKERS} processes, "
        f"{statistics.median(through):.1f} s by a cluster of {WORKERS} workers, which had the packages"
    )
    return [Figure("cells through a cluster against processes", statistics.median(ratios), 1.25, "x", detail)]


def _timed(some: list[run.FarmCell], crew: run.Crew) -> float:
    begun = time.monotonic()
    found = run.play(some, crew, keep=lambda proof, package: None)
    took = time.monotonic() - begun
    assert all(one.proof is not None for one in found), [one.trouble for one in found if one.proof is None]
    return took


def simulated(seed: int, *, dying: float) -> dict[str, float]:
    """500 packages x 12 scenarios x 4 kinds of machine on 40 workers, some of which go and come back. Times in seconds.

    ``dying`` is the chance that a worker goes within an hour; it comes back empty ten minutes later.
    """
    chance = random.Random(seed)
    tasks = [
        Task(number, f"p{number % PACKAGES}", kind, cost * chance.lognormvariate(0, 0.5))
        for number, (kind, cost) in enumerate(
            (kind, cost) for kind, cost in KINDS.items() for _ in range(PACKAGES * SCENARIOS)
        )
    ]
    offers = (
        [Offer({"simulated": 4, "wine": 2}, 4)] * 20
        + [Offer({"simulated": 2, "ssh:w10": 4}, 5)] * 10
        + [Offer({"simulated": 2, "ssh:w11": 4}, 5)] * 10
    )
    schedule, names, busy, has, brought = Schedule(tasks), {}, defaultdict(float), defaultdict(set), 0
    events: list[tuple[float, int, str, str, int]] = []
    serial = 0

    def after(when: float, what: str, who: str, number: int = 0) -> None:
        nonlocal serial
        serial += 1
        heapq.heappush(events, (when, serial, what, who, number))

    def come(when: float, which: int) -> None:
        name = f"w{which}.{serial}"
        names[name] = which
        schedule.join(name, offers[which])
        if dying:
            after(when + chance.expovariate(dying / 3600), "goes", name)

    for which in range(len(offers)):
        come(0.0, which)
    now, twice, lost = 0.0, 0, 0
    ended_once: set[int] = set()
    while schedule.left:
        for name, task in schedule.begin():
            bring = 0.0 if task.package in has[name] else BRING
            brought += bool(bring)
            has[name].add(task.package)
            after(now + bring + task.cost, "ends", name, task.number)
        now, _, what, name, number = heapq.heappop(events)
        if what == "goes" and name in schedule.workers:
            lost += len(schedule.leave(name))
            after(now + 600, "comes", name)
        elif what == "comes":
            come(now, names[name])
        elif what == "ends" and schedule.ended(name, number):
            twice += number in ended_once
            ended_once.add(number)
            busy[names[name]] += schedule.tasks[number].cost
    room = {kind: sum(offer.machines.get(kind, 0) for offer in offers) for kind in KINDS}
    ideal = max(sum(task.cost for task in tasks if task.machine == kind) / room[kind] for kind in KINDS)
    groups = [busy[which] for which in range(20, 40)]
    return {
        "hours": now / 3600,
        "ideal": ideal / 3600,
        "ratio": now / ideal,
        "uneven": max(groups) / min(groups),
        "brought": brought / (PACKAGES * len(offers)),
        "lost": lost,
        "twice": twice,
        "missing": len(tasks) - len(ended_once) - lost,
    }


@benchmark
def schedule(folder: Path) -> list[Figure]:
    """How long a large farm takes, against the time that its scarcest machines need for their cells alone."""
    quiet, rough = simulated(1, dying=0), simulated(2, dying=0.1)
    figures = []
    for name, one in (("none goes", quiet), ("each goes with a chance of 10 % an hour", rough)):
        detail = (
            f"{one['hours']:.1f} h, the scarcest machines alone {one['ideal']:.1f} h; the busiest of the real "
            f"machines' workers {one['uneven']:.2f} x the least; {one['brought']:.0%} of packages x workers "
            f"travelled; {one['missing']:.0f} cells lost, {one['lost']:.0f} given up, {one['twice']:.0f} twice"
        )
        figures.append(Figure(f"24,000 cells on 40 workers, {name}", one["ratio"], 1.15, "x", detail))
    return figures
