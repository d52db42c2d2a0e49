"""A crowd of computers that leave reports with a server, again and again until each is acknowledged."""

from __future__ import annotations

import http.client
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from yendo.fleet import machine_reports
from yendo.fleet.deliveries import Deliveries, moment
from yendo.fleet.index import written
from yendo.fleet.machine_reports import MachineReport


def key_of(number: int) -> str:
    return f"{number:064x}"


def name_of(number: int) -> str:
    return f"pier-{number:05}"


def known(deliveries: Deliveries, count: int) -> None:
    """The computers have told their keys."""
    with deliveries.store.opened() as connection:
        rows = [{"computer": name_of(one), "key": key_of(one), "since": written(moment())} for one in range(count)]
        connection.execute(deliveries.store.tables.tables["computer_key"].insert(), rows)


def report(number: int, order: int, **more: Any) -> bytes:
    stamp = written(moment())
    given = {"sort": "ended", "code": 0, "order": order, "package": "tide", "version": "1.0", "verb": "install"} | more
    made = MachineReport(
        v=1, id=secrets.token_hex(16), computer=name_of(number), told=stamp, began=stamp, ended=stamp, **given
    )
    return machine_reports.sealed(made, key_of(number))


class ServerProcess:
    """``yendo fleet serve`` as a process of its own, which may be killed and started again."""

    def __init__(self, address: str, *more: str) -> None:
        with socket.socket() as found:
            found.bind(("127.0.0.1", 0))
            self.port = int(found.getsockname()[1])
        self.line = [
            sys.executable,
            "-m",
            "yendo",
            "fleet",
            "serve",
            "--inventory",
            address,
            "--port",
            str(self.port),
            *more,
        ]
        self.start()

    def start(self) -> None:
        self.process = subprocess.Popen(self.line, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        until = time.monotonic() + 60
        while time.monotonic() < until:
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                return
            except OSError:
                if self.process.poll() is not None:
                    break
                time.sleep(0.05)
        raise AssertionError((self.process.stderr.read() if self.process.stderr else b"").decode())

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def stop(self) -> int:
        """Asks it to end; its exit code."""
        self.process.send_signal(signal.SIGTERM if os.name == "posix" else signal.CTRL_BREAK_EVENT)
        return self.process.wait(30)

    @property
    def seconds(self) -> float:
        """The processor time that it has used."""
        import psutil

        times = psutil.Process(self.process.pid).cpu_times()
        return float(times.user + times.system)

    def ask(self, method: str, path: str, body: bytes | None = None, **headers: str) -> http.client.HTTPResponse:
        line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
        line.request(method, path, body, {name.replace("_", "-"): text for name, text in headers.items()})
        answer = line.getresponse()
        answer.body = answer.read()  # type: ignore[attr-defined]
        line.close()
        return answer


def leave(ports: Sequence[int], reports: Sequence[bytes], workers: int = 16) -> list[float]:
    """Leaves every report until it is acknowledged; how long each answer that counted took, in seconds."""
    took: list[float] = []
    waiting = list(enumerate(reports))
    lock = threading.Lock()

    def work() -> None:
        lines: dict[int, http.client.HTTPConnection] = {}
        while True:
            with lock:
                if not waiting:
                    return
                number, body = waiting.pop()
            port = ports[number % len(ports)]
            while True:
                begun = time.perf_counter()
                try:
                    line = lines.setdefault(port, http.client.HTTPConnection("127.0.0.1", port, timeout=20))
                    line.request("POST", "/reports", body)
                    answer = line.getresponse()
                    answer.read()
                    if answer.status == 200:
                        break
                    assert answer.status >= 500, answer.status
                except (OSError, http.client.HTTPException):
                    lines.pop(port, None)
                time.sleep(0.05)
            with lock:
                took.append(time.perf_counter() - begun)

    threads = [threading.Thread(target=work) for _ in range(workers)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    return took


def begun(deliveries: Deliveries, package: Path, computers: int) -> int:
    """A delivery to so many computers, all of whose turn has come."""
    from yendo.fleet.waves import Stop, Wave, Waves

    wave = Wave(name="all", computers=("x",), pause="0 s", at_once=1_000_000)
    now = moment()
    given = Waves(begin=now.date(), wave=(wave,), stop=Stop(limit="5 %"))
    rows = [(name_of(one), "quay" if one % 3 else "station") for one in range(computers)]
    number = deliveries.begin(package, given, [(wave, rows)], who="Ada", now=now)
    deliveries.open_next(number, who="Ada", now=now)
    return number
