"""Timing whole processes in turn, A B A B, and their peak memory."""

from __future__ import annotations

import statistics
import subprocess
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

YENDO = str(Path(sys.executable).with_name("yendo"))


@dataclass(frozen=True)
class Figure:
    """One line of the table: a ratio (or a share, or MB) and what it must not exceed."""

    name: str
    value: float
    limit: float
    unit: str = "x"
    detail: str = ""

    @property
    def reached(self) -> bool:
        return self.value <= self.limit


# A process of its own starts what is measured: a child's peak memory begins with that of whoever forks it.
_LAUNCHER = """
import os, subprocess, sys, time
begun = time.perf_counter()
child = subprocess.Popen(sys.argv[1:], stdout=subprocess.DEVNULL)
_, status, usage = os.wait4(child.pid, 0)
print(time.perf_counter() - begun, usage.ru_maxrss / 1024, os.waitstatus_to_exitcode(status))
"""


def process(command: Sequence[str]) -> tuple[float, float]:
    """Wall seconds and peak memory in MB of one process, which must end well."""
    done = subprocess.run(
        [sys.executable, "-I", "-S", "-c", _LAUNCHER, *command], capture_output=True, text=True, check=True
    )
    seconds, memory, code = done.stdout.split()
    assert code == "0", (command, code, done.stderr[-500:])
    return float(seconds), float(memory)


def shell(command: str) -> tuple[float, float]:
    return process(["sh", "-c", command])


def in_turn(
    one: Callable[[], tuple[float, float]], other: Callable[[], tuple[float, float]], runs: int, warm: int = 1
) -> tuple[float, float, str]:
    """The median of the ratios pair by pair, the peak memory of the first, and the medians in words."""
    for _ in range(warm):
        one(), other()
    pairs = [(one(), other()) for _ in range(runs)]
    ratio = statistics.median(left[0] / right[0] for left, right in pairs)
    left, right = (statistics.median(pair[side][0] for pair in pairs) for side in (0, 1))
    return ratio, max(pair[0][1] for pair in pairs), f"{left * 1000:.0f} ms against {right * 1000:.0f} ms, {runs} pairs"
