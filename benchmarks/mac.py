"""Packages and images for macOS, against what unpacks and packs the same bare."""

from __future__ import annotations

import os
import random
import sys
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process, shell
from benchmarks.suite import MB, benchmark
from yendo.mac_half import sources

BYTES = int(os.environ.get("YENDO_BENCH_BYTES", "0")) or 256 * MB
ROUNDS = int(os.environ.get("YENDO_BENCH_ROUNDS", "3"))
_PLAN = """[package]
id = "charts"
name = "Charts"
version = "1.0"
identifier = "example.marrowby.charts"

[[media]]
file = "charts"
sha256 = "{digest}"

[[install]]
kind = "copy"
source = "charts"
to = "/Library/Tidewell/Charts"

[[detect]]
kind = "receipt"
identifier = "example.marrowby.charts"
"""


def _workspace(folder: Path) -> Path:
    """Files that compress to about half, as programs do."""
    chance = random.Random(1)
    half = chance.randbytes(1 << 19)
    place = folder / "work" / "media" / "charts"
    place.mkdir(parents=True)
    for number in range(max(4, BYTES // (16 * MB))):
        with (place / f"c{number:03}.dat").open("wb") as file:
            for _ in range(16):
                file.write(half + (b"quay %08d " % chance.randrange(10**8)) * ((1 << 19) // 14))
    (folder / "work" / "macos.toml").write_text(_PLAN.format(digest=sources.digest_of(place)), "utf-8")
    return folder / "work"


@benchmark
def mac_package(folder: Path) -> list[Figure]:
    """Building (``YENDO_BENCH_BYTES``) against tar and gzip at the same level, on the same cores; reading, listing."""
    work = _workspace(folder)
    built, packed = folder / "out", folder / "bare.tgz"
    build = [YENDO, "build", str(work), "--quiet"]
    bare = f"tar -C {work}/media -cf - charts | gzip -6 > {packed}"
    ratio, memory, words = in_turn(lambda: process(build), lambda: shell(bare), ROUNDS, warm=0)
    package = next((work / "package").glob("*/charts-1.0-r1.pkg"))
    figures = [
        Figure(f"building {BYTES // MB} MB against tar and gzip", ratio, 0.9, detail=words),
        Figure("memory while it is built", memory, 400, "MB"),
        Figure("its size against theirs", package.stat().st_size / packed.stat().st_size, 1.02),
    ]
    payload = built.with_suffix(".payload")
    shell(f"bsdtar -xOf {package} main.pkg/Payload > {payload}")
    gunzip = [sys.executable, "-c", _BARE, str(payload)]
    read = [YENDO, "read", str(package), "--json"]
    ratio, _, words = in_turn(lambda: process(read), lambda: process(gunzip), ROUNDS)
    figures.append(Figure("reading the package against unpacking its payload bare", ratio, 1.2, detail=words))
    listing = [*read, "--listing"]
    ratio, _, words = in_turn(lambda: process(listing), lambda: process(read), ROUNDS)
    figures.append(Figure("its listing by the bill against reading it", ratio, 0.1, detail=words))
    return figures


@benchmark
def mac_image(folder: Path) -> list[Figure]:
    """An image of so many bytes, in pieces of zlib: all taken out of it, and its list, against inflating it bare."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    import mac_images

    charts = _workspace(folder) / "media"
    image = folder / "charts.dmg"
    image.write_bytes(mac_images.image(mac_images.volume(charts, folder / "volume")))
    bare = [sys.executable, "-c", _PIECES, str(image)]
    turn = iter(range(1000))

    def taken() -> tuple[float, float]:
        return process([YENDO, "read", str(image), "--extract", str(folder / f"x{next(turn)}"), "--quiet"])

    ratio, _, words = in_turn(taken, lambda: process([*bare, str(folder / "bare")]), ROUNDS)
    figures = [
        Figure(f"taking {BYTES // MB} MB out of an image against inflating and writing them", ratio, 1.2, detail=words)
    ]
    listing = [YENDO, "read", str(image), "--listing", "--json"]
    ratio, _, words = in_turn(lambda: process(listing), lambda: process([*bare, os.devnull]), ROUNDS)
    return [*figures, Figure("its listing by the catalogue against inflating it", ratio, 0.1, detail=words)]


# Each piece by itself, as the list behind them says where they lie.
_PIECES = """
import plistlib, struct, sys, zlib
with open(sys.argv[1], "rb") as file, open(sys.argv[2], "wb") as out:
    file.seek(-512, 2)
    trailer = file.read(512)
    at, length = struct.unpack_from(">QQ", trailer, 216)
    file.seek(at)
    table = plistlib.loads(file.read(length))["resource-fork"]["blkx"][0]["Data"]
    for number in range(struct.unpack_from(">I", table, 200)[0]):
        kind, _, _, sectors, begin, size = struct.unpack_from(">IIQQQQ", table, 204 + 40 * number)
        if kind == 0x80000005:
            file.seek(begin)
            out.write(zlib.decompress(file.read(size)))
        elif kind == 0:
            out.write(bytes(512 * sectors))
"""
_BARE = """
import sys, zlib
state = zlib.decompressobj(31)
with open(sys.argv[1], "rb") as file:
    while piece := file.read(1 << 18):
        while state.decompress(piece, 1 << 18):
            piece = state.unconsumed_tail
"""
