"""A database of many files against compressing the same files bare."""

from __future__ import annotations

import hashlib
import os
import random
import sys
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process
from benchmarks.suite import benchmark
from yendo.draft import captured
from yendo.effects import Effect, File
from yendo.platforms.windows.capture_record import Caught, WorkPart, WorkRun, content_name
from yendo.platforms.windows.surroundings import windows

FILES = 40_000
BYTES = int(os.environ.get("YENDO_BENCH_BYTES", str(1 << 30)))  # 4 GB was asked for: YENDO_BENCH_BYTES=4294967296
# The same bytes with the same level on the same cores, a few pieces ahead at a time, and what comes of it written.
# Pieces of 1 MB: what is packed is then as small as in a cabinet, whose blocks remember those before (blocks of 32 KB
# that do not take a quarter less time, and come to 7 % more).
BARE = """
import os, sys, zlib
from collections import deque
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
def blocks():
    rest = bytearray()
    for path in sorted(Path(sys.argv[1]).rglob("*.dat")):
        rest += path.read_bytes()
        while len(rest) >= 1 << 20:
            yield bytes(rest[: 1 << 20])
            del rest[: 1 << 20]
    yield bytes(rest)
with ThreadPoolExecutor(os.cpu_count()) as pool, open(sys.argv[2], "wb") as out:
    waiting = deque()
    for block in blocks():
        waiting.append(pool.submit(zlib.compress, block, 6))
        if len(waiting) >= 6:
            out.write(waiting.popleft().result())
    while waiting:
        out.write(waiting.popleft().result())
"""


@benchmark
def forms(folder: Path) -> list[Figure]:
    """What was captured of many files, as a database with cabinets beside."""
    from yendo.capture import WorkDone, sorted_out

    chance = random.Random(1)
    words = [bytes(chance.choices(b"abcdefghijklmnopqrstuvwxyz ", k=chance.randrange(3, 12))) for _ in range(4000)]
    text, noise = b" ".join(chance.choices(words, k=400_000)), chance.randbytes(1 << 20)
    gathered = captured.staging(folder / "w")
    caught = []
    for number in range(FILES):
        size = int(BYTES / FILES * chance.choice((0.2, 0.5, 1, 1, 2.3)))
        at, other = chance.randrange(len(text) - size), chance.randrange(len(noise) - size // 3)
        data = text[at : at + size - size // 3] + noise[other : other + size // 3]
        path = rf"%ProgramFiles%\Many\{number % 200:03}\{number}.dat"
        target = gathered / content_name(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
        thing = File(path, len(data), hashlib.sha256(data).hexdigest())
        caught.append(Caught(Effect("add", thing, "observed"), "install", content=content_name(path)))
    parts = (WorkPart("install", (WorkRun("setup", 0, 1.0),)),)
    capture = sorted_out(WorkDone(windows(), "a machine", parts, tuple(caught), ()))
    captured.write(folder / "w", capture, gathered, "many")
    bare = [sys.executable, "-c", BARE, str(folder / "w" / "extras"), str(folder / "out.bin")]
    ratio, memory, words_ = in_turn(
        lambda: process([YENDO, "build", str(folder / "w"), "--as", "msi", "--quiet"]), lambda: process(bare), 3, 0
    )
    detail = f"{FILES:,} files, {BYTES / (1 << 30):.1f} GB; {words_}"
    return [
        Figure("database of many files against compressing them", ratio, 1.15, "x", detail),
        Figure("its memory", memory, 300, "MB", detail),
    ]
