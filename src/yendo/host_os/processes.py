"""Processes that we started: whether they live, what they used, and ending them by their id. The library that asks the
system is loaded by whoever asks, since most commands start no process.
"""

from __future__ import annotations

import contextlib
import os
import signal
import time
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, TypedDict

from yendo.host_os.system import WINDOWS

if TYPE_CHECKING:
    import subprocess


_CREATE_NEW_PROCESS_GROUP = 0x200  # Source: the documentation of CreateProcess


class ProcessGroup(TypedDict, total=False):
    """What ``subprocess`` is told so that a child and its children can be ended together."""

    start_new_session: bool
    creationflags: int


def new_group() -> ProcessGroup:
    return {"creationflags": _CREATE_NEW_PROCESS_GROUP} if WINDOWS else {"start_new_session": True}


def is_alive(process: int) -> bool:
    """Whether a process with this id runs; one that has ended and waits for its parent does not."""
    import psutil

    try:
        return psutil.Process(process).status() not in (psutil.STATUS_ZOMBIE, psutil.STATUS_DEAD)
    except psutil.NoSuchProcess:
        return False
    except psutil.AccessDenied:
        return True


def cpu_seconds(process: int) -> float:
    """Processor time of a process in seconds; 0 where it has ended."""
    import psutil

    try:
        times = psutil.Process(process).cpu_times()
    except psutil.Error:
        return 0.0
    return float(times.user + times.system)


def bytes_moved(process: int) -> int:
    """Bytes that a process has read and written; 0 where it has ended or the system does not count them."""
    import psutil

    try:
        counters = psutil.Process(process).io_counters()
    except (psutil.Error, AttributeError):
        return 0
    return int(counters.read_bytes + counters.write_bytes)


def below(process: int) -> tuple[int, int]:
    """How many processes a process has below it, and the memory of all in bytes (what is shared counts for each)."""
    import psutil

    try:
        children = psutil.Process(process).children(recursive=True)
    except psutil.Error:
        return 0, 0
    memory = 0
    for child in children:
        with contextlib.suppress(psutil.Error):
            memory += child.memory_info().rss
    return len(children), memory


def environment_of(name: str, value: str) -> Iterator[tuple[int, str]]:
    """Id and name of every process of this computer that has such a value in its environment."""
    import psutil

    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error, OSError):
            if process.pid != os.getpid() and process.environ().get(name) == value:
                yield process.pid, process.name()


def end(processes: Iterable[int], *, at_once: bool = False) -> None:
    """Asks processes to end, or ends them."""
    for process in processes:
        with contextlib.suppress(OSError):
            os.kill(process, signal.SIGTERM if WINDOWS or not at_once else signal.SIGKILL)


def end_group(process: subprocess.Popen[bytes]) -> None:
    """Ends a process that we started in a group of its own, and what it started there, if it is still there."""
    import psutil

    if process.poll() is not None:
        return
    if WINDOWS:
        with contextlib.suppress(psutil.Error):
            end([child.pid for child in psutil.Process(process.pid).children(recursive=True)], at_once=True)
        process.kill()
    else:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    process.wait()


@contextlib.contextmanager
def paused(process: int) -> Iterator[None]:
    """A process and all below it do nothing while the block runs; those that ended meanwhile are passed over."""
    import psutil

    stopped: set[psutil.Process] = set()
    with contextlib.suppress(psutil.Error):
        top = psutil.Process(process)
        # one that was not stopped yet may have started another
        while more := {top, *top.children(recursive=True)} - stopped:
            for one in more:
                with contextlib.suppress(psutil.Error):
                    one.suspend()
            stopped |= more
    try:
        yield
    finally:
        for one in stopped:
            with contextlib.suppress(psutil.Error):
                one.resume()


def gone(processes: Iterable[int], limit: float) -> bool:
    """Waits until these processes have ended, for at most ``limit`` seconds."""
    wanted, until = list(processes), time.monotonic() + limit
    while any(is_alive(process) for process in wanted):
        if time.monotonic() > until:
            return False
        time.sleep(0.005)
    return True
