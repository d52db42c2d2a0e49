"""A share full of drivers, against reading and hashing the same files bare."""

from __future__ import annotations

import random
import sys
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process
from benchmarks.suite import benchmark

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
FOLDERS, FILES = 2_000, 10
_BARE = """
import hashlib, os, sys
from concurrent.futures import ProcessPoolExecutor
def one(path):
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").digest()
paths = [os.path.join(place, name) for place, _, names in os.walk(sys.argv[1]) for name in names]
with ProcessPoolExecutor() as pool:
    print(len(list(pool.map(one, paths, chunksize=64))))
"""


@benchmark
def driver_share(folder: Path) -> list[Figure]:
    """2,000 folders of ten files, each with its catalogue: read, held against it, compared with one another."""
    import driver_specimens

    share = folder / "share"
    who = driver_specimens.signer(uses=("1.3.6.1.4.1.311.10.3.5",))
    for number in range(FOLDERS):
        chance = random.Random(number)
        files = {f"part{at}.tab": chance.randbytes(chance.randrange(20_000, 200_000)) for at in range(FILES - 3)}
        driver_specimens.folder(
            share / str(number),
            {"gauge.sys": driver_specimens.PROGRAM + chance.randbytes(8), **files},
            who=who,
            devices=rf"USB\VID_FFFE&PID_{number:04X}",
        )
    ratio, memory, told = in_turn(
        lambda: process([YENDO, "read", str(share), "--json"]),
        lambda: process([sys.executable, "-c", _BARE, str(share)]),
        5,
    )
    return [
        Figure(
            f"a share of {FOLDERS} drivers to the table, against reading and hashing them bare", ratio, 1.3, detail=told
        ),
        Figure("    its peak memory", memory, 300, "MB"),
    ]
