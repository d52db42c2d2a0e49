"""A farm on this computer for tests and benchmarks: a scheduler, workers that can be killed, and packages to play."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import yendo
from yendo.farm.job import Job
from yendo.farm.run import FarmCell
from yendo.plan import read
from yendo.prove import scenarios

SOURCE = str(Path(yendo.__file__).parent.parent)


def _started(*arguments: str, log: Path) -> subprocess.Popen[bytes]:
    with log.open("wb") as out:
        return subprocess.Popen(
            [sys.executable, "-m", "yendo", "farm", *arguments],
            stdout=out,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            env={**os.environ, "PYTHONPATH": SOURCE, "COLUMNS": "200"},
        )


class Farm:
    """A scheduler and its workers, each a process of its own."""

    def __init__(self, place: Path, *, keys: Path | None = None) -> None:
        self.place, self.keys = place, ["--keys", str(keys)] if keys else []
        self.workers: list[subprocess.Popen[bytes]] = []
        self.made = 0
        self.scheduler = _started("scheduler", "--port", "0", *self.keys, log=place / "scheduler.log")
        until = time.monotonic() + 60
        while not (said := re.search(r"a farm at (\S+)", (place / "scheduler.log").read_text())):
            assert time.monotonic() < until and self.scheduler.poll() is None, (place / "scheduler.log").read_text()
            time.sleep(0.1)
        self.address = said[1]

    def add(self, offers: str = "simulated=1") -> subprocess.Popen[bytes]:
        self.made += 1
        log = self.place / f"worker-{self.made}.log"
        worker = _started("worker", self.address, "--offers", offers, *self.keys, log=log)
        self.workers.append(worker)
        return worker

    def ready(self, count: int) -> None:
        """Waits until so many workers that are alive have said that they work."""
        until = time.monotonic() + 60
        while sum("working for" in path.read_text() for path in self.place.glob("worker-*.log")) < count:
            assert time.monotonic() < until, [path.read_text() for path in self.place.glob("worker-*.log")]
            time.sleep(0.1)

    def kill(self, worker: subprocess.Popen[bytes]) -> None:
        """At once, as a power cut would."""
        worker.kill()
        worker.wait()
        self.workers.remove(worker)

    def close(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.send_signal(signal.SIGTERM)
        for process in (*self.workers, self.scheduler):
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(10)
            process.kill()
            process.wait()


@contextlib.contextmanager
def farm(place: Path, count: int, *, keys: Path | None = None, offers: str = "simulated=1") -> Iterator[Farm]:
    place.mkdir(parents=True, exist_ok=True)
    found = Farm(place, keys=keys)
    try:
        for _ in range(count):
            found.add(offers)
        found.ready(count)
        yield found
    finally:
        found.close()


def copies(workspace: Path, count: int, target: Path) -> list[Path]:
    """Workspaces that are the same but for their place; records are left out."""
    made = []
    for number in range(count):
        made.append(target / f"copy-{number}")
        shutil.copytree(workspace, made[-1], ignore=shutil.ignore_patterns("*.proof-*"))
    return made


def cells(workspaces: list[Path], names: list[str]) -> list[FarmCell]:
    """The named scenarios of each workspace's package, on the simulated machine."""
    found = []
    for workspace in workspaces:
        package = next(path.parent for path in sorted((workspace / "package").glob("*/manifest.json")))
        plan, _ = read(workspace / "plan.toml")
        sites = [*plan.site] or [""]
        for one in scenarios.at_sites([scenarios.SCENARIOS[name] for name in names], sites):
            job = Job(str(package), one.id, one.site or "", "simulated", proving=plan.proof)
            found.append(FarmCell(package, workspace, one, job))
    return found
