"""A cluster of ``dask.distributed`` as a crew: packages travel to a worker once, by content; each cell is a task on the
worker that the schedule has chosen.

Whoever reaches a cluster's ports can run anything on its workers: docs/farm.md says how it is closed.
"""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Mapping
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, Any

import msgspec

from yendo.errors import NoMachine
from yendo.farm import bundle as bundles
from yendo.farm import worker as working
from yendo.farm.run import FarmCell, News
from yendo.farm.schedule import Offer

if TYPE_CHECKING:
    from distributed import Client, Future

HOW_TO_GET = "pip install 'yendo[farm]'"
BRINGING = 8  # packages that are brought at once, to whomever
ANSWER = 600.0  # seconds that a piece or a result may take between a worker and here
LOOK = 1.0  # seconds between two looks at who is there


def library() -> None:
    """Makes the library ready: quiet, and a worker that is silent for a minute has gone. Raises NoMachine where it is
    not here.
    """
    try:
        import dask
        import distributed  # noqa: F401
    except ImportError as error:
        raise NoMachine(f"a farm needs a library: {HOW_TO_GET}") from error
    # Its own words are for its maintainers.
    quiet = {"logging": {"distributed": "error", "distributed.http": "error"}}
    dask.config.set({**quiet, "distributed.scheduler.worker-ttl": "60s"})


def security(folder: Path | None) -> Any:
    """Keys and certificate of a cluster, from a folder with ``ca.pem``, ``cert.pem`` and ``key.pem``; None without one.

    Raises NoMachine.
    """
    if folder is None:
        return None
    from distributed.security import Security

    names = {"tls_ca_file": "ca.pem", "tls_client_cert": "cert.pem", "tls_client_key": "key.pem"}
    for role in ("scheduler", "worker"):
        names |= {f"tls_{role}_cert": "cert.pem", f"tls_{role}_key": "key.pem"}
    for name in set(names.values()):
        if not (folder / name).is_file():
            raise NoMachine(f"{folder} has no {name}; `yendo farm keys {folder}` makes the three")
    return Security(require_encryption=True, **{key: str(folder / name) for key, name in names.items()})


class _Hands:
    """Threads that do what they are given, and that nobody waits for when the program ends: the library's own calls may
    wait for a cluster that is not asked any more.
    """

    def __init__(self, name: str) -> None:
        self._todo: SimpleQueue[tuple[Callable[..., object], tuple[object, ...]]] = SimpleQueue()
        for number in range(BRINGING):
            threading.Thread(target=self._work, daemon=True, name=f"{name} {number}").start()

    def do(self, what: Callable[..., object], *arguments: object) -> None:
        self._todo.put((what, arguments))

    def _work(self) -> None:
        while True:
            what, arguments = self._todo.get()
            what(*arguments)


def _answers(address: str) -> None:
    """Raises NoMachine at once where nobody listens: the library would go on asking."""
    host, _, port = address.rpartition("://")[2].rpartition(":")
    if not port.isdigit():
        return
    try:
        socket.create_connection((host.strip("[]"), int(port)), timeout=15).close()
    except OSError as error:
        raise NoMachine(f"no farm answers at {address}: {error}") from error


class Cluster:
    """The workers of a cluster that are Yendo's. Raises NoMachine where it cannot be reached."""

    # A cell that ends the process it is played in says so itself; a worker that goes is hardly ever a cell's doing.
    most_deaths = 8

    def __init__(self, address: str, keys: Path | None = None) -> None:
        library()
        from distributed import Client

        if address.startswith("tls:") and keys is None:
            raise NoMachine(f"the farm at {address} has keys: give their folder with --farm-keys (yendo farm: --keys)")
        _answers(address)
        try:
            self.client: Client = Client(address, timeout=15, security=security(keys), set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise NoMachine(f"no farm answers at {address}: {error or type(error).__name__}") from error
        self._news: SimpleQueue[News] = SimpleQueue()
        self._there: dict[str, Offer] = {}
        self._addresses: dict[str, str] = {}  # by names: an address may come again, a name does not
        self._looked = 0.0
        self._bundles: dict[Path, bundles.Bundle] = {}
        self._bundling: dict[Path, threading.Lock] = defaultdict(threading.Lock)
        self._bringing: dict[tuple[str, str], threading.Lock] = defaultdict(threading.Lock)
        self._playing: dict[tuple[str, int], Future] = {}
        self._lock = threading.Lock()
        self._bringers, self._fetchers = _Hands("bringing"), _Hands("fetching")
        self._stopped = False

    @property
    def page(self) -> str:
        """The cluster's own page."""
        return str(self.client.dashboard_link)

    def there(self) -> Mapping[str, Offer]:
        if time.monotonic() - self._looked < LOOK:
            return self._there
        self._looked = time.monotonic()
        known = self.client.scheduler_info(n_workers=-1)["workers"]
        self._addresses = {str(entry["name"]): address for address, entry in known.items()}
        now = {
            str(entry["name"]): Offer(
                {
                    name.removeprefix(working.RESOURCE): int(count)
                    for name, count in entry["resources"].items()
                    if name.startswith(working.RESOURCE)
                },
                entry["nthreads"],
            )
            for entry in known.values()
        }
        self._there = {name: offer for name, offer in now.items() if offer.machines}
        with self._lock:
            gone = [at for at in self._playing if at[0] not in self._there]
            lost = [self._playing.pop(at) for at in gone]
        for future in lost:
            future.cancel()
        return self._there

    def start(self, worker: str, number: int, cell: FarmCell) -> None:
        self._bringers.do(self._start, worker, number, cell)

    def _start(self, worker: str, number: int, cell: FarmCell) -> None:
        if self._stopped:
            return
        try:
            bundle = self._bundle(cell)
            self._bring(worker, bundle)
            job = msgspec.structs.replace(cell.job, package=bundle.package, proving=bundle.proving)
            future = self._task(worker, working.play, msgspec.json.encode(job), bundle.digest)
        except Exception as error:
            if not self._goes(worker):
                self._news.put(News(worker, number, trouble=str(error) or type(error).__name__))
            return
        with self._lock:
            self._playing[worker, number] = future
        # not in the callback itself: a result whose worker has just gone is waited for, and all others behind it
        future.add_done_callback(lambda done: self._fetchers.do(self._ended, worker, number, done))

    def _goes(self, worker: str) -> bool:
        """Whether a worker that gave an error has gone, which is seen a moment later."""
        until = time.monotonic() + 3 * LOOK
        while worker in self._there and time.monotonic() < until and not self._stopped:
            time.sleep(0.1)
        return worker not in self._there

    def _result(self, worker: str, future: Future, patience: float) -> Any:
        """What a task gave, as long as its worker is there. Raises TimeoutError, and what the task raised."""
        until = time.monotonic() + patience
        while True:
            try:
                return future.result(LOOK)
            except TimeoutError:
                if self._stopped or worker not in self._there or time.monotonic() > until:
                    raise

    def _task(self, worker: str, what: Any, *arguments: Any) -> Future:
        """A task on a worker. Where that has gone, nobody does it: it is cancelled when that is seen."""
        address = self._addresses.get(worker, worker)
        return self.client.submit(what, *arguments, workers=[address], allow_other_workers=False, pure=False, retries=0)

    def _bundle(self, cell: FarmCell) -> bundles.Bundle:
        with self._bundling[cell.package]:
            if cell.package not in self._bundles:
                self._bundles[cell.package] = bundles.of(cell.package, cell.job.proving, cell.workspace)
            return self._bundles[cell.package]

    def _bring(self, worker: str, bundle: bundles.Bundle) -> None:
        """Brings a package to a worker that has it not. Pieces go one by one, so that none of us holds it whole."""
        with self._bringing[worker, bundle.digest]:
            if self._result(worker, self._task(worker, working.has, bundle.digest), ANSWER):
                return
            number = 0
            for number, piece in enumerate(bundles.pieces(bundle), 1):
                data = self.client.scatter(piece, workers=[self._addresses[worker]], hash=False)
                self._result(worker, self._task(worker, working.put, bundle.digest, number - 1, data), ANSWER)
            self._result(worker, self._task(worker, working.arrive, bundle.digest, number), ANSWER)

    def _ended(self, worker: str, number: int, future: Future) -> None:
        """Takes a result, which lies on its worker until then. One whose worker goes is cancelled by ``there``, and its
        cell played elsewhere.
        """
        try:
            reply = msgspec.json.decode(self._result(worker, future, ANSWER), type=working.Played)
            news = News(worker, number, reply.proof, reply.trouble)
        except Exception as error:  # among them that it was cancelled
            if self._stopped or self._goes(worker):
                return
            news = News(worker, number, trouble=str(error) or type(error).__name__)
        with self._lock:
            self._playing.pop((worker, number), None)
        self._news.put(news)

    def news(self, patience: float) -> News | None:
        try:
            return self._news.get(timeout=patience)
        except Empty:
            return None

    def stop(self) -> None:
        """Ends what is played, on every worker, and leaves the cluster."""
        self._stopped = True
        with self._lock:
            playing = list(self._playing)
            futures = list(self._playing.values())
            self._playing.clear()
        with contextlib.suppress(Exception):
            self.client.cancel(futures, force=True)
        if workers := sorted({self._addresses.get(worker, worker) for worker, _ in playing}):
            with contextlib.suppress(Exception):
                self.client.run(working.stop, workers=workers, on_error="ignore")
        with contextlib.suppress(Exception):
            self.client.close(timeout=5)
