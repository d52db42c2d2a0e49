"""A place where one cell is played at a time: a process of its own, kept warm between cells and ended at once by its
owner. What it plays cannot harm the owner, and dies with it.
"""

from __future__ import annotations

import contextlib
import os
import struct
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import IO

import msgspec

from yendo import errors
from yendo.errors import YendoError
from yendo.farm.job import Job, Making
from yendo.prove.proof import Proof

_LENGTH = struct.Struct(">I")


class Request(msgspec.Struct, frozen=True):
    job: Job
    root: str
    making: Making


class Reply(msgspec.Struct, frozen=True):
    """Something that is said meanwhile, the proof, or why there is none: the error's class and its words."""

    said: str = ""
    proof: Proof | None = None
    error: str = ""
    words: str = ""


class Died(Exception):
    """The process ended in the middle of a cell."""


def send(stream: IO[bytes], value: msgspec.Struct) -> None:
    body = msgspec.json.encode(value)
    stream.write(_LENGTH.pack(len(body)) + body)
    stream.flush()


def receive(stream: IO[bytes]) -> bytes | None:
    """The next message, or None at the end."""
    head = stream.read(_LENGTH.size)
    if len(head) < _LENGTH.size:
        return None
    body = stream.read(_LENGTH.unpack(head)[0])
    return body if len(body) == _LENGTH.unpack(head)[0] else None


class Slot:
    """One process. ``play`` is for one thread at a time; ``stop`` for any."""

    def __init__(self) -> None:
        self.process: subprocess.Popen[bytes] | None = None
        self.stopped = False
        self.lock = threading.Lock()

    def _started(self) -> subprocess.Popen[bytes]:
        with self.lock:
            if self.stopped:
                raise Died
            if self.process is None or self.process.poll() is not None:
                self.process = subprocess.Popen(
                    [sys.executable, "-m", "yendo.farm.child"],
                    stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE,
                    start_new_session=True,  # a Ctrl-C in the terminal is the owner's, who ends it
                    env={**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))},
                )
            return self.process

    def play(self, job: Job, root: Path, making: Making, heard: Callable[[str], object] = lambda text: None) -> Proof:
        """Plays a cell there. Raises Died, and what the play raised."""
        process = self._started()
        assert process.stdin is not None and process.stdout is not None
        try:
            send(process.stdin, Request(job, str(root), making))
            while body := receive(process.stdout):
                reply = msgspec.json.decode(body, type=Reply)
                if reply.proof is not None:
                    return reply.proof
                if reply.error:
                    raise _raised(reply)
                heard(reply.said)
        except (OSError, ValueError) as error:
            self._let_go()
            raise Died from error
        self._let_go()
        raise Died

    def _let_go(self) -> None:
        with self.lock:
            process, self.process = self.process, None
        if process is not None:
            end(process)

    def stop(self) -> None:
        """Ends what is played, and the process."""
        self.stopped = True
        self._let_go()


def end(process: subprocess.Popen[bytes]) -> None:
    """Ends a process: its standard input closes, upon which it ends what it plays; else it is killed."""
    with contextlib.suppress(OSError, ValueError):
        if process.stdin:
            process.stdin.close()
    try:
        process.wait(5)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    with contextlib.suppress(OSError, ValueError):
        if process.stdout:
            process.stdout.close()


def _raised(reply: Reply) -> Exception:
    kind = getattr(errors, reply.error, None)
    if isinstance(kind, type) and issubclass(kind, YendoError):
        return kind(reply.words)
    return RuntimeError(f"{reply.error}: {reply.words}")
