"""Playing the cells of many packages: the same scheduling over this computer's processes and over a cluster."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Protocol

import msgspec

from yendo.errors import NoMachine
from yendo.farm.job import Job, Making
from yendo.farm.schedule import MOST_DEATHS, Offer, Schedule, Task
from yendo.farm.slots import Died, Slot
from yendo.prove import prove as proving
from yendo.prove.proof import Proof
from yendo.prove.scenarios import Scenario

SIMULATED_COST, OTHER_COST = 1.0, 12.0  # about how much longer a verb takes on a machine that is not simulated
PATIENCE = 120.0  # seconds without a worker that could play what waits


class FarmCell(msgspec.Struct, frozen=True):
    """A cell of the matrix over packages: where its package and workspace lie here, and what is played.

    ``proving`` names files as the workspace has them; ``job`` as they are below its root, which is the workspace.
    """

    package: Path
    workspace: Path
    scenario: Scenario
    job: Job


class Ended(msgspec.Struct, frozen=True):
    """How a cell ended: its proof, or why there is none. ``worker`` is who played it, or nobody."""

    cell: FarmCell
    proof: Proof | None = None
    trouble: str = ""
    worker: str = ""
    earlier: bool = False


class News(msgspec.Struct, frozen=True):
    """What a crew tells: a worker has ended a cell, or broken off because it ended itself (``died``)."""

    worker: str
    number: int
    proof: Proof | None = None
    trouble: str = ""
    died: bool = False


class Crew(Protocol):
    """Workers, wherever they are. ``most_deaths`` of them under one cell are taken for the cell's doing."""

    most_deaths: int

    def there(self) -> Mapping[str, Offer]:
        """Who is there now, and what each plays on."""

    def start(self, worker: str, number: int, cell: FarmCell) -> None:
        """Lets a worker play a cell; its news comes by ``news``."""

    def news(self, patience: float) -> News | None:
        """The next news, or None where there is none within so many seconds."""

    def stop(self) -> None:
        """Ends everything that is played."""


def play(
    cells: Sequence[FarmCell],
    crew: Crew,
    *,
    heard: Callable[[Ended | None, int, int], object] = lambda ended, count, workers: None,
    patience: float = PATIENCE,
    keep: Callable[[Proof, Path], object] = proving.keep,
) -> list[Ended]:
    """Plays cells by a crew and keeps a record of each as it ends; they come back in their order.

    ``heard`` hears of each end, how many have ended, and how many workers there are. Raises NoMachine where nobody
    comes who could play what is left.
    """
    tasks = [Task(at, str(cell.package), cell.job.machine, cost(cell)) for at, cell in enumerate(cells)]
    schedule = Schedule(tasks, crew.most_deaths)
    why = f"{crew.most_deaths} workers ended while they played it"
    found: dict[int, Ended] = {}
    idle_since = time.monotonic()

    def gone(worker: str) -> None:
        for task in schedule.leave(worker):
            over(task.number, Ended(cells[task.number], trouble=why, worker=worker))

    def over(number: int, ended: Ended) -> None:
        if ended.proof is not None:
            keep(ended.proof, ended.cell.package)
        found[number] = ended
        heard(ended, len(found), len(schedule.workers))

    try:
        while schedule.left:
            now = crew.there()
            for worker in set(schedule.workers) - now.keys():
                gone(worker)
            for worker, offer in now.items():
                schedule.join(worker, offer)
            for worker, task in schedule.begin():
                crew.start(worker, task.number, cells[task.number])
                idle_since = time.monotonic()
            news = crew.news(0.5)
            if news is None:
                if (missing := schedule.nobody_offers()) and time.monotonic() - idle_since > patience:
                    raise NoMachine(f"no worker plays on {', '.join(sorted(missing))}; start one that does")
                continue
            idle_since = time.monotonic()
            if news.died:
                gone(news.worker)
            elif schedule.ended(news.worker, news.number):
                over(news.number, Ended(cells[news.number], news.proof, news.trouble, news.worker))
    finally:  # after Ctrl-C as well
        crew.stop()
    return [found[number] for number in range(len(cells))]


def cost(cell: FarmCell) -> float:
    """About how long a cell takes."""
    return cell.scenario.verbs * (SIMULATED_COST if cell.job.machine == "simulated" else OTHER_COST)


class Processes:
    """This computer's own processes. One that dies is replaced; it counts as a worker that has gone."""

    most_deaths = MOST_DEATHS

    def __init__(self, count: int, making: Making, machines: Iterable[str]) -> None:
        self.making, self.offer = making, Offer(dict.fromkeys(machines, 1))
        self._news: SimpleQueue[News] = SimpleQueue()
        self._slots: dict[str, Slot] = {}
        self._next = 0
        for _ in range(count):
            self._add()

    def _add(self) -> None:
        self._next += 1
        self._slots[f"process {self._next}"] = Slot()

    def there(self) -> Mapping[str, Offer]:
        return dict.fromkeys(self._slots, self.offer)

    def start(self, worker: str, number: int, cell: FarmCell) -> None:
        slot = self._slots[worker]

        def run() -> None:
            try:
                self._news.put(News(worker, number, slot.play(cell.job, cell.workspace, self.making)))
            except Died:
                self._news.put(News(worker, number, died=True))
            except Exception as error:
                self._news.put(News(worker, number, trouble=str(error) or type(error).__name__))

        threading.Thread(target=run, daemon=True, name=f"{worker}: {number}").start()

    def news(self, patience: float) -> News | None:
        try:
            news = self._news.get(timeout=patience)
        except Empty:
            return None
        if news.died:
            self._slots.pop(news.worker, None)
            self._add()
        return news

    def stop(self) -> None:
        for slot in self._slots.values():
            slot.stop()
