"""The side of a cluster's worker: packages in its cache, and slots that play."""

from __future__ import annotations

import secrets
import socket
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from yendo.farm import bundle
from yendo.farm.job import Job, Making
from yendo.farm.slots import Died, Slot
from yendo.prove.proof import Proof

if TYPE_CHECKING:
    from distributed import Worker

RESOURCE = "yendo-"  # in front of a machine's name among a worker's resources
_ATTRIBUTE = "yendo_place"


class Played(msgspec.Struct, frozen=True):
    """What comes back of a cell."""

    proof: Proof | None = None
    trouble: str = ""


class WorkerPlace:
    """What a worker has for playing: a cache of packages, and as many slots as it has threads."""

    def __init__(self, cache: Path, making: Making, slots: int) -> None:
        self.cache, self.making = cache, making
        self.free = [Slot() for _ in range(slots)]
        self.busy: list[Slot] = []
        self.arriving: dict[str, bundle.Arriving] = {}
        self.lock = threading.Lock()

    def play(self, job: Job, digest: str) -> Played:
        root = bundle.arrived(self.cache, digest)
        if root is None:
            return Played(trouble="its package is not here any more")
        with self.lock:
            slot = self.free.pop() if self.free else Slot()
            self.busy.append(slot)
        try:
            return Played(slot.play(job, root, self.making))
        except Died:
            return Played(trouble="the process that played it ended in its middle")
        except Exception as error:
            return Played(trouble=str(error) or type(error).__name__)
        finally:
            with self.lock:
                self.busy.remove(slot)
                if not slot.stopped:
                    self.free.append(slot)

    def stop(self) -> None:
        with self.lock:
            busy = list(self.busy)
        for slot in busy:
            slot.stop()

    def close(self) -> None:
        self.stop()
        for slot in self.free:
            slot.stop()


def _place() -> WorkerPlace:
    from distributed import get_worker

    found: WorkerPlace = getattr(get_worker(), _ATTRIBUTE)
    return found


# --- what runs on a worker as a task ----------------------------------------------------------------------


def has(digest: str) -> bool:
    return bundle.arrived(_place().cache, digest) is not None


def put(digest: str, number: int, piece: bytes) -> None:
    place = _place()
    with place.lock:
        coming = place.arriving.setdefault(digest, bundle.Arriving(place.cache, digest))
    coming.put(number, piece)


def arrive(digest: str, count: int) -> None:
    place = _place()
    with place.lock:
        coming = place.arriving.pop(digest)
    coming.end()


def play(job: bytes, digest: str) -> bytes:
    return msgspec.json.encode(_place().play(msgspec.json.decode(job, type=Job), digest))


def stop(dask_worker: Worker) -> None:
    """Ends what is played on a worker."""
    place: WorkerPlace = getattr(dask_worker, _ATTRIBUTE)
    place.stop()


# --- the worker itself ------------------------------------------------------------------------------------


async def serve(
    address: str,
    offers: Mapping[str, int],
    at_once: int,
    cache: Path,
    making: Making,
    *,
    security: Any = None,
    started: Any = None,
) -> None:
    """Works for a cluster until it is ended or the scheduler goes. ``started`` is called with the worker."""
    from distributed import Worker

    place = WorkerPlace(cache, making, at_once)
    resources = {f"{RESOURCE}{name}": count for name, count in offers.items()}
    try:
        async with Worker(
            address,
            name=f"{socket.gethostname()}-{secrets.token_hex(4)}",
            nthreads=at_once,
            resources=resources,
            security=security,
            memory_limit=0,
            death_timeout=60,
            dashboard=False,
        ) as worker:
            setattr(worker, _ATTRIBUTE, place)
            if started:
                started(worker)
            await worker.finished()
    finally:
        place.close()
