"""A share full of drivers, against reading and hashing the same files bare."""

from __future__ import annotations

import random
import sys
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process
from benchmarks.suite import benchmark

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
FILES = 10
FOLDERS, CONTENTS = 2_000, 300
# The bytes of a file, from and to: small ones, and as in the packs that vendors hand out for a model.
SMALL, USUAL = (20_000, 200_000), (100_000, 1_100_000)
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


def _share(share: Path, folders: int, least: int, most: int) -> None:
    """The large files of all folders are links to a few hundred contents, each of which both sides read anew: 12 GB
    would measure the disk.
    """
    import driver_specimens

    who = driver_specimens.signer(uses=("1.3.6.1.4.1.311.10.3.5",))
    contents = share.parent / f"{share.name}-contents"
    contents.mkdir(parents=True)
    chance = random.Random(7)
    for number in range(CONTENTS):
        (contents / str(number)).write_bytes(chance.randbytes(chance.randrange(least, most)))
    for number in range(folders):
        chance = random.Random(number)
        files = {f"part{at}.tab": contents / str(chance.randrange(CONTENTS)) for at in range(FILES - 3)}
        driver_specimens.folder(
            share / str(number),
            {"gauge.sys": driver_specimens.PROGRAM + chance.randbytes(8), **files},
            who=who,
            devices=rf"USB\VID_FFFE&PID_{number:04X}",
        )


@benchmark
def driver_share(folder: Path) -> list[Figure]:
    """Folders of ten files, each with its catalogue: read, held against it, compared with one another."""
    figures = []
    for name, (least, most) in {"small": SMALL, "usual": USUAL}.items():
        share = folder / name
        _share(share, FOLDERS, least, most)
        ratio, memory, told = in_turn(
            lambda share=share: process([YENDO, "read", str(share), "--json"]),  # type: ignore[misc]
            lambda share=share: process([sys.executable, "-c", _BARE, str(share)]),  # type: ignore[misc]
            5,
        )
        what = f"{FOLDERS} drivers, files of {(least + most) // 2000} KB"
        figures += [
            Figure(f"a share of {what}, to the table, against reading and hashing them bare", ratio, 1.3, detail=told),
            Figure("    its peak memory", memory, 300, "MB"),
        ]
    return figures
