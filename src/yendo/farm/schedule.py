"""Who plays what next. Pure: it is told who is there and what has ended, and says what to begin.

A cell goes to a worker that has its package already where it can; else the package with the most left to play is begun.
Within a package the longest comes first, so that no worker is left alone with a long one in the end. The cells of a
worker that has gone are played elsewhere; what has ended once ends no second time.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Iterator

import msgspec

MOST_DEATHS = 3  # of workers under one cell, before it is taken for the cell's doing


class Task(msgspec.Struct, frozen=True):
    """A cell to be played. ``cost`` is about how long it takes, in any unit; ``number`` its place in the matrix."""

    number: int
    package: str
    machine: str
    cost: float = 1.0


class Offer(msgspec.Struct, frozen=True):
    """What a worker plays on: how many at once on each kind of machine, and ``at_once`` in all."""

    machines: dict[str, int]
    at_once: int = 1


class _Worker:
    def __init__(self, offer: Offer) -> None:
        self.free, self.room = dict(offer.machines), offer.at_once
        self.packages: set[str] = set()
        self.playing: dict[int, Task] = {}


class Schedule:
    """The cells of one run. Not for several threads."""

    def __init__(self, tasks: Iterable[Task], most_deaths: int = MOST_DEATHS) -> None:
        self.most_deaths = most_deaths
        self.tasks = {task.number: task for task in tasks}
        self.done: set[int] = set()
        self.deaths: dict[int, int] = defaultdict(int)
        self._workers: dict[str, _Worker] = {}
        self._waiting: dict[str, dict[str, list[tuple[float, int]]]] = defaultdict(lambda: defaultdict(list))
        # What is waiting by machine and package, and the packages by it, the largest first.
        self._left: dict[tuple[str, str], float] = defaultdict(float)
        self._ranked: dict[str, list[tuple[float, str]]] = defaultdict(list)
        for task in self.tasks.values():
            self._wait(task)

    def _wait(self, task: Task) -> None:
        heapq.heappush(self._waiting[task.machine][task.package], (-task.cost, task.number))
        self._left[task.machine, task.package] += task.cost
        heapq.heappush(self._ranked[task.machine], (-self._left[task.machine, task.package], task.package))

    @property
    def left(self) -> int:
        """How many cells have not ended."""
        return len(self.tasks) - len(self.done)

    @property
    def workers(self) -> list[str]:
        return list(self._workers)

    def join(self, worker: str, offer: Offer) -> None:
        """A worker is there; nothing changes where it was there before."""
        if worker not in self._workers:
            self._workers[worker] = _Worker(offer)

    def leave(self, worker: str) -> list[Task]:
        """A worker has gone; what it played waits again. Gives the cells under which too many have gone by now: they
        have ended.
        """
        gone = self._workers.pop(worker, None)
        given_up = []
        for task in gone.playing.values() if gone else ():
            if task.number in self.done:
                continue
            self.deaths[task.number] += 1
            if self.deaths[task.number] >= self.most_deaths:
                self.done.add(task.number)
                given_up.append(task)
            else:
                self._wait(task)
        return given_up

    def ended(self, worker: str, number: int) -> bool:
        """A worker has ended a cell. False where it had ended before, or was taken from that worker: it does not count
        then.
        """
        there = self._workers.get(worker)
        task = there.playing.pop(number, None) if there else None
        if there is None or task is None:
            return False
        there.free[task.machine] += 1
        there.room += 1
        if number in self.done:
            return False
        self.done.add(number)
        return True

    def begin(self) -> Iterator[tuple[str, Task]]:
        """What can begin now, each by the worker that is named; they count as begun."""
        going = True
        while going:
            going = False
            # one each in turn, so that what has little left is spread
            for name, worker in self._workers.items():
                # machines that fewer have first: a worker that plays on everything is not filled with what all play
                for machine in sorted((one for one, free in worker.free.items() if free), key=self._rarity):
                    task = self._next(worker, machine) if worker.room else None
                    if task is not None:
                        worker.free[machine] -= 1
                        worker.room -= 1
                        worker.packages.add(task.package)
                        worker.playing[task.number] = task
                        going = True
                        yield name, task

    def _rarity(self, machine: str) -> int:
        return sum(machine in worker.free for worker in self._workers.values())

    def _next(self, worker: _Worker, machine: str) -> Task | None:
        waiting = self._waiting.get(machine)
        if not waiting:
            return None
        own = [package for package in worker.packages if waiting.get(package)]
        package = max(own, key=lambda one: self._left[machine, one], default=None) or self._largest(machine)
        if package is None:
            return None
        cost, number = heapq.heappop(waiting[package])
        self._left[machine, package] += cost  # which is negative
        if not waiting[package]:
            del waiting[package]
        else:
            heapq.heappush(self._ranked[machine], (-self._left[machine, package], package))
        return self.tasks[number]

    def _largest(self, machine: str) -> str | None:
        """The package with the most waiting. Entries that time has overtaken are put right when they come up."""
        ranked, waiting = self._ranked[machine], self._waiting[machine]
        while ranked:
            said, package = ranked[0]
            if not waiting.get(package):
                heapq.heappop(ranked)
            elif -said > self._left[machine, package] + 1e-9:
                heapq.heapreplace(ranked, (-self._left[machine, package], package))
            else:
                return package
        return None

    def nobody_offers(self) -> set[str]:
        """Kinds of machines that cells wait for and no worker has."""
        offered = {machine for worker in self._workers.values() for machine in worker.free}
        return {machine for machine, waiting in self._waiting.items() if any(waiting.values())} - offered
