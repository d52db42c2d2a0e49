"""The program with its modules loaded already: a process that forks for every call, so that hundreds of calls do not each
load and prepare the same two seconds' worth of modules.

Each call is a process of its own, with the arguments, folder and environment of the call, and the program's own entry.
There are two of them with other orders of sets, taken in turn, so that what depends on that order still shows.
"""

from __future__ import annotations

import contextlib
import importlib
import io
import itertools
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import tempfile
from pathlib import Path

# What starts threads or takes long by itself, and few calls need.
APART = ("yendo.fleet", "yendo.farm", "yendo.mac_half.machine.standins", "yendo.__main__", "yendo.demo.delivery")
PLAN = '[package]\nid = "a"\nname = "A"\nversion = "1"\npublisher = "B"\n\n[[install]]\nkind = "restart"\n'


class Warm:
    """Two warm programs; ``run`` takes them in turn."""

    def __init__(self) -> None:
        self.started = [_Server(seed) for seed in (1, 2)]
        self.turn = itertools.cycle(self.started)

    def run(
        self, arguments: list[str], folder: Path, environment: dict[str, str], limit: float
    ) -> subprocess.CompletedProcess[str]:
        return next(self.turn).run(arguments, folder, environment, limit)

    def end(self) -> None:
        for one in self.started:
            one.end()


class _Server:
    def __init__(self, seed: int) -> None:
        self.place = tempfile.mkdtemp(prefix="yendo-warm-")
        self.address = f"{self.place}/socket"
        line = [sys.executable, str(Path(__file__)), self.address]
        self.process = subprocess.Popen(
            line, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, env={**os.environ, "PYTHONHASHSEED": str(seed)}
        )
        assert self.process.stdout and self.process.stdout.readline() == b"ready\n"

    def run(
        self, arguments: list[str], folder: Path, environment: dict[str, str], limit: float
    ) -> subprocess.CompletedProcess[str]:
        with (
            tempfile.TemporaryFile() as out,
            tempfile.TemporaryFile() as error,
            socket.socket(socket.AF_UNIX) as client,
        ):
            client.settimeout(limit)
            client.connect(self.address)
            asked = json.dumps({"arguments": arguments, "folder": str(folder), "environment": environment}).encode()
            head = len(asked).to_bytes(4, "little") + bytes([arguments[:1] == ["fleet"]])
            socket.send_fds(client, [head], [out.fileno(), error.fileno()])
            client.sendall(asked)
            process = int(client.recv(16).decode())
            try:
                code = int(client.recv(16).decode())
            except TimeoutError as late:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(process, signal.SIGKILL)
                raise subprocess.TimeoutExpired(arguments, limit) from late
            texts = []
            for file in (out, error):
                file.seek(0)
                texts.append(file.read().decode("utf-8").replace("\r\n", "\n"))
            return subprocess.CompletedProcess(arguments, code, *texts)

    def end(self) -> None:
        self.process.terminate()
        self.process.wait()
        if self.process.stdout:
            self.process.stdout.close()
        with contextlib.suppress(OSError):
            Path(self.address).unlink()
            Path(self.place).rmdir()


def serve(address: str) -> None:
    """Loads everything, then forks for every caller: one process that waits, and in it the program."""
    import yendo
    from yendo.plan import read_text

    names = [module.name for module in pkgutil.walk_packages(yendo.__path__, "yendo.")]
    for name in names:
        if not name.startswith(APART):
            importlib.import_module(name)
    read_text(PLAN, "plan.toml", None)
    with socket.socket(socket.AF_UNIX) as server:
        server.bind(address)
        server.listen(8)
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # who waits is reaped by the system
        os.write(1, b"ready\n")
        while True:
            caller, _ = server.accept()
            head, descriptors, _, _ = socket.recv_fds(caller, 5, 2)
            if head[4]:  # many numbers: loaded once somebody asks for them
                for name in names:
                    if name.startswith("yendo.fleet") and "migrations" not in name:
                        importlib.import_module(name)
            if os.fork() == 0:
                server.close()
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                _answer(caller, int.from_bytes(head[:4], "little"), descriptors)
            caller.close()
            for descriptor in descriptors:
                os.close(descriptor)


def _answer(caller: socket.socket, size: int, descriptors: list[int]) -> None:
    data = b""
    while len(data) < size:
        data += caller.recv(size - len(data))
    asked = json.loads(data)
    process = os.fork()
    if process == 0:
        caller.close()
        _program(asked["arguments"], asked["folder"], asked["environment"], descriptors)
    caller.sendall(str(process).encode().ljust(16))
    _, status = os.waitpid(process, 0)
    with contextlib.suppress(OSError):
        caller.sendall(str(os.waitstatus_to_exitcode(status)).encode().ljust(16))
    os._exit(0)


def _program(arguments: list[str], folder: str, environment: dict[str, str], descriptors: list[int]) -> None:
    """Ends as the program does, with what it does at its end."""
    for number, descriptor in enumerate(descriptors, 1):
        os.dup2(descriptor, number)
        os.close(descriptor)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = ["yendo", *arguments]
    sys.stdout = io.TextIOWrapper(io.FileIO(1, "w", closefd=False), "utf-8", "strict")
    sys.stderr = io.TextIOWrapper(io.FileIO(2, "w", closefd=False), "utf-8", "backslashreplace", line_buffering=True)
    from yendo.cli.main import main

    sys.exit(main())


if __name__ == "__main__":
    serve(sys.argv[1])
