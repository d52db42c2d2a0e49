"""Packages of very many files and of a very large one, against hashing the same files bare."""

from __future__ import annotations

import hashlib
import os
import statistics
import sys
from pathlib import Path

from benchmarks.measure import YENDO, Figure, process
from benchmarks.suite import MB, benchmark, noise

FILES, ROUNDS = int(os.environ.get("YENDO_BENCH_FILES", "10000")), 3
BYTES = int(os.environ.get("YENDO_BENCH_BYTES", "0")) or 512 * MB
_BARE = """
import hashlib, os, sys
for place, _, names in os.walk(sys.argv[1]):
    for name in names:
        with open(os.path.join(place, name), "rb") as file:
            hashlib.file_digest(file, "sha256").digest()
"""


def _drafted(folder: Path) -> Path:
    """A workspace for ``folder/data``, decided."""
    workspace = folder / "work"
    process([YENDO, "draft", str(workspace), "--files", str(folder / "data"), "--to", r"%ProgramData%\Tidewell\data"])
    plan = workspace / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('contact = ""', 'contact = "packaging@marrowby.example"'), "utf-8")
    return workspace


@benchmark
def many_files(folder: Path) -> list[Figure]:
    """10,000 small files (``YENDO_BENCH_FILES``): each command takes at most three times hashing them and 5 s."""
    for number in range(FILES):
        path = folder / "data" / f"d{number // 100:04}" / f"f{number:06}.dat"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(hashlib.sha256(str(number).encode()).digest() * 64)
    workspace = str(_drafted(folder))
    bare = [sys.executable, "-c", _BARE, str(folder / "data")]
    commands = {
        # into a new folder each time: some file systems are slow where as many files were deleted just before
        "build": [YENDO, "build", workspace, "--output", ""],
        "prove": [YENDO, "prove", workspace],
        "strength": [YENDO, "detect", "strength", workspace],
        "dossier": [YENDO, "dossier", workspace, "--out", str(folder / "dossier.html")],
    }
    times: dict[str, list[float]] = {name: [] for name in ("hash", *commands)}
    memory = dict.fromkeys(commands, 0.0)
    # modules stay compiled, as pip leaves them, also where the environment forbids it
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    os.environ["PYTHONPYCACHEPREFIX"] = str(folder / "compiled")
    process([YENDO, "build", workspace])
    for command in (commands["prove"], commands["dossier"]):
        process(command)
    for number in range(ROUNDS):
        times["hash"].append(process(bare)[0])
        for name, command in commands.items():
            seconds, peak = process([word or str(folder / f"out{number}") for word in command])
            times[name].append(seconds)
            memory[name] = max(memory[name], peak)
    middle = {name: statistics.median(some) for name, some in times.items()}
    figures = []
    for name in commands:
        detail = f"{FILES} files of 2 KB; hashing them bare {middle['hash']:.2f} s"
        figures.append(Figure(f"{name} of {FILES} files", middle[name], 3 * middle["hash"] + 5, "s", detail))
        figures.append(Figure("    its peak memory", memory[name], 400, "MB"))
    return figures


@benchmark
def one_large_file(folder: Path) -> list[Figure]:
    """One file of half a gigabyte (``YENDO_BENCH_BYTES``): built and proved without a copy of it in memory."""
    data = folder / "data"
    data.mkdir()
    with (data / "large.dat").open("wb") as file:
        for piece in noise(BYTES):
            file.write(piece)
    workspace = str(_drafted(folder))
    bare, _ = process([sys.executable, "-c", _BARE, str(data)])
    figures = []
    for name in ("build", "prove"):
        seconds, peak = process([YENDO, name, workspace])
        detail = f"{BYTES / 1e9:.1f} GB, {seconds:.1f} s where hashing it bare takes {bare:.1f} s"
        figures.append(Figure(f"{name} of one large file, its peak memory", peak, 200, "MB", detail))
    return figures
