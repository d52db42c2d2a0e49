"""Yendo as a Windows process: how long it takes to start and to read, against bare Python there."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.demo import vendor
from yendo.errors import NoMachine

ROUNDS = 21


@benchmark
def windows(folder: Path) -> list[Figure]:
    """The Windows Python that ``YENDO_WINPYTHON`` names, and this one, everything in turn.

    Both load compiled modules, as ``pip install`` leaves them: each has a cache of its own that the first round fills.
    Raises NoMachine where there is no Windows Python.
    """
    there = os.environ.get("YENDO_WINPYTHON", "")
    if not there:
        raise NoMachine("no Windows Python: YENDO_WINPYTHON names its command")
    installer = vendor.lantern(folder)
    drive = Path(os.environ.get("WINEPREFIX", Path.home() / ".wine")) / "drive_c"
    plain = {key: value for key, value in os.environ.items() if key not in ("PYTHONDONTWRITEBYTECODE", "PYTHONPATH")}
    seconds: dict[str, list[float]] = {}
    with subprocess.Popen([there, "-c", "input()"], stdin=subprocess.PIPE, env=plain) as awake:  # the layer stays up
        time.sleep(2)
        copied = drive / installer.name
        shutil.copyfile(installer, copied)
        try:
            for turn in range(ROUNDS + 1):
                for where, python, path, cache in (
                    ("there", there, rf"C:\{installer.name}", "Z:" + str(folder / "there").replace("/", "\\")),
                    ("here", sys.executable, str(installer), str(folder / "here")),
                ):
                    for what, line in (
                        ("bare", ["-c", "pass"]),
                        ("help", ["-m", "yendo", "--help"]),
                        ("read", ["-m", "yendo", "read", path]),
                    ):
                        begun = time.perf_counter()
                        subprocess.run(
                            [python, *line],
                            env=plain | {"PYTHONPYCACHEPREFIX": cache},
                            stdout=subprocess.DEVNULL,
                            stderr=subprocess.DEVNULL,
                            check=True,
                        )
                        if turn:
                            seconds.setdefault(f"{where} {what}", []).append(time.perf_counter() - begun)
        finally:
            copied.unlink()
            awake.communicate(b"\n")
    medians = {name: statistics.median(taken) for name, taken in seconds.items()}
    ratio = {
        name: statistics.median(one / bare for one, bare in zip(taken, seconds[f"{name.split()[0]} bare"], strict=True))
        for name, taken in seconds.items()
    }
    told = ", ".join(f"{name} {value * 1000:.0f} ms" for name, value in medians.items())
    return [
        Figure("yendo --help as a Windows process, against bare Python there", ratio["there help"], 2.5, "x", told),
        Figure(
            "yendo read as a Windows process against bare Python there, over the same here",
            ratio["there read"] / ratio["here read"],
            1.0,
            "x",
            f"{ratio['there read']:.1f} there, {ratio['here read']:.1f} here",
        ),
    ]
