"""The benchmarks of setup programs: recognition against headers alone, size, cores, confusion, damage."""

from __future__ import annotations

import io
import os
import random
import shutil
import struct
import subprocess
import sys
import time
import zipfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process
from benchmarks.suite import MB, benchmark, noise

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
import family_specimens as specimens
import script_specimens as scripts

from yendo.machines.wine.machine import WineMachine

SAMPLES = scripts.SAMPLES
WHEELS = ("setuptools", "distlib", "numpy", "pillow", "pywin32")
MUTATIONS = 20_000


def others(folder: Path, count: int) -> list[Path]:
    """Programs and libraries that are no setups: of wheels for Windows, and of the Windows API layer."""
    wanted = ("--platform", "win_amd64", "--python-version", "311", "--only-binary=:all:")
    command = [
        sys.executable,
        "-m",
        "pip",
        "download",
        "-q",
        "--no-deps",
        *wanted,
        "-d",
        str(folder / "wheels"),
        *WHEELS,
    ]
    done = subprocess.run(command, capture_output=True, check=False)
    found: list[Path] = []
    for wheel in sorted((folder / "wheels").glob("*.whl")) if not done.returncode else ():
        with zipfile.ZipFile(wheel) as archive:
            for name in archive.namelist():
                if name.endswith((".exe", ".dll", ".pyd")):
                    target = folder / "others" / f"{len(found)}-{Path(name).name}"
                    target.parent.mkdir(exist_ok=True)
                    target.write_bytes(archive.read(name))
                    found.append(target)
    system = WineMachine(Path(os.environ.get("YENDO_CACHE") or folder / "cache")).template / "prefix/drive_c/windows"
    layer = sorted(
        path
        for half in ("system32", "syswow64")
        for pattern in ("*.exe", "*.dll")
        for path in (system / half).glob(pattern)
    )
    random.Random(1).shuffle(layer)
    return (found + layer)[:count]


def every_family(folder: Path) -> dict[Path, str]:
    """Samples and specimens, each with the family it is of."""
    made: dict[str, tuple[str, bytes]] = {
        "carrier.exe": ("carrier-exe", specimens.carrier_exe({"a0": b"MZ" * 30, "a1": b"x"})),
        "compiled.exe": ("compiled-script-exe", specimens.compiled_script_exe()),
        "compiled-later.exe": ("compiled-script-exe", specimens.compiled_script_exe((6, 4, 0))),
        **{
            f"extract-{kind}.exe": ("archive-exe", specimens.archive_exe(kind, {"a.txt": b"a"}))
            for kind in ("7z", "zip", "cabinet", "resource")
        },
        **{f"script-{name}.exe": ("script-exe", case().build()) for name, case in scripts.CASES.items()},
    }
    folder.mkdir(exist_ok=True)
    found = {}
    for name, (family, data) in made.items():
        (folder / name).write_bytes(data)
        found[folder / name] = family
    for path in sorted(SAMPLES.glob("*.exe")):
        known = {"clam-nsis.exe": "script-exe"} | dict.fromkeys(
            ("clam_IScab_ext.exe", "clam_IScab_int.exe", "clam_ISmsi_ext.exe", "clam_ISmsi_int.exe"), "answers-exe"
        )
        if path.name not in (
            "clam-mew.exe",
            "clam-upack.exe",
            "clam.exe",
        ):  # headers that no reader takes for a program's
            found[path] = known.get(path.name, "plain-exe")
    return found


_RECOGNISE = """
import sys, time
from pathlib import Path
from yendo.errors import YendoError
from yendo.installers import families, recognise
assert families.MODULES
begun = time.perf_counter()
for name in Path(sys.argv[1]).read_text().splitlines():
    try:
        recognise.recognise(Path(name))
    except YendoError:
        pass
print(time.perf_counter() - begun)
"""
_HEADERS = """
import sys, time
from pathlib import Path
import pefile
begun = time.perf_counter()
for name in Path(sys.argv[1]).read_text().splitlines():
    try:
        pefile.PE(name, fast_load=True).close()
    except pefile.PEFormatError:
        pass
print(time.perf_counter() - begun)
"""


def _timed(text: str, argument: Path) -> tuple[float, float]:
    done = subprocess.run([sys.executable, "-c", text, str(argument)], capture_output=True, text=True, check=True)
    return float(done.stdout), 0.0


@benchmark
def recognition(folder: Path) -> list[Figure]:
    """500 programs: which family, against reading their headers with pefile alone."""
    paths = others(folder, 500)
    (folder / "list.txt").write_text("\n".join(map(str, paths)))
    ratio, _, detail = in_turn(
        lambda: _timed(_RECOGNISE, folder / "list.txt"), lambda: _timed(_HEADERS, folder / "list.txt"), 5
    )
    return [Figure(f"recognition of {len(paths)} programs against pefile's headers", ratio, 1.5, detail=detail)]


@benchmark
def recognition_by_size(folder: Path) -> list[Figure]:
    """One program of 1 GB against one of 10 MB, for a family that is read and for one that is not."""
    figures = []
    for title, base in (
        ("a script's setup", scripts.CASES["files"]().build()),
        ("a plain program", specimens.program()),
    ):
        for name, size in (("big.exe", 1000 * MB), ("small.exe", 10 * MB)):
            with (folder / name).open("wb") as file:
                file.write(base)
                for piece in noise(size):
                    file.write(piece)
        big, small = folder / "big.exe", folder / "small.exe"
        ratio, memory, detail = in_turn(
            lambda big=big: process([YENDO, "read", str(big)]),
            lambda small=small: process([YENDO, "read", str(small)]),
            7,
            2,
        )
        figures += [
            Figure(f"read of {title} of 1 GB against 10 MB", ratio, 1.3, detail=detail),
            Figure("    its peak memory", memory, 150, "MB"),
        ]
    return figures


@benchmark
def catalogue_on_two_cores(folder: Path) -> list[Figure]:
    """A share of 200 setup programs read by one process and by two."""
    share = folder / "share"
    share.mkdir()
    for number in range(50):
        for name in ("clam_ISmsi_int.exe", "clam_ISmsi_ext.exe", "clam_IScab_int.exe", "clam-nsis.exe"):
            shutil.copyfile(SAMPLES / name, share / f"{number:02}-{name}")
    one = [YENDO, "read", str(share), "--quiet", "--jobs", "1"]
    two = [YENDO, "read", str(share), "--quiet", "--jobs", "2"]
    ratio, _, detail = in_turn(lambda: process(two), lambda: process(one), 3)
    return [Figure("a share read on two cores against one (1.7 times as fast is 0.59)", ratio, 1 / 1.7, detail=detail)]


@benchmark
def confusion(folder: Path) -> list[Figure]:
    """Which family programs of each family, and 500 others, are taken for."""
    from yendo.errors import YendoError
    from yendo.installers import recognise

    wanted = every_family(folder / "families") | dict.fromkeys(others(folder, 500), "none")
    table: Counter[tuple[str, str]] = Counter()
    for path, family in wanted.items():
        try:
            found = recognise.recognise(path)
        except YendoError:
            found = "unreadable"
        table[family, "none" if family == "none" and found == "plain-exe" else found] += 1
    columns = sorted({found for _, found in table})
    print(f"{'is':22}" + "".join(f"{name:>22}" for name in columns), file=sys.stderr)
    for family in sorted({family for family, _ in table}):
        origin = (
            ""
            if any(path.parent == SAMPLES for path, one in wanted.items() if one == family) or family == "none"
            else "  (specimens ours only)"
        )
        print(
            f"{family:22}" + "".join(f"{table[family, name] or '.':>22}" for name in columns) + origin, file=sys.stderr
        )
    wrong = sum(count for (family, found), count in table.items() if family != found)
    return [Figure(f"taken for the wrong family, of {sum(table.values())}", wrong, 0, "")]


def _mutated(seed: int, source: bytes) -> bytes:
    chance = random.Random(seed)
    data = bytearray(source)
    for _ in range(chance.randint(1, 8)):
        at = chance.randrange(max(len(data), 1))
        match chance.randrange(4):
            case 0:
                data[at : at + 1] = bytes([chance.randrange(256)])
            case 1:
                data[at : at + 4] = struct.pack(
                    "<I", chance.choice((0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, chance.getrandbits(32)))
                )
            case 2:
                data[at : at + chance.randint(1, 64)] = bytes(chance.randint(1, 64))
            case 3:
                del data[at : at + chance.randint(1, 4096)]
    return bytes(data[: chance.randrange(len(data) + 1)] if chance.random() < 0.1 else data)


def _read_mutated(job: tuple[int, int, str]) -> tuple[float, str]:
    """Seconds of the slowest, and what went wrong where anything did."""
    from yendo.errors import YendoError
    from yendo.installers import programs

    first, count, name = job
    source, slowest = Path(name).read_bytes(), 0.0
    for seed in range(first, first + count):
        data = _mutated(seed, source)
        begun = time.perf_counter()
        try:
            reading = programs.Reading(io.BytesIO(data), "mutated.exe")
            reading.contents()
            reading.tell()
        except YendoError:
            pass
        except Exception as error:
            return slowest, f"{Path(name).name}, seed {seed}: {type(error).__name__}: {error}"
        slowest = max(slowest, time.perf_counter() - begun)
    return slowest, ""


@benchmark
def mutations(folder: Path) -> list[Figure]:
    """Damaged copies of every sample and specimen: read or refused, none slow, none that ends in a defect."""
    sources = list(every_family(folder / "families"))
    heavy = {path for path in sources if path.stat().st_size > 500_000}  # fewer of these, each takes a while
    light = [path for path in sources if path not in heavy]
    jobs: list[tuple[int, int, str]] = [(seed, 50, str(path)) for path in heavy for seed in range(0, 200, 50)]
    left = MUTATIONS - sum(count for _, count, _ in jobs)
    each = -(-left // len(light))
    jobs += [(seed, min(200, each - seed), str(path)) for path in light for seed in range(0, each, 200)]

    def run() -> Iterator[tuple[float, str]]:
        with ProcessPoolExecutor(os.cpu_count()) as pool:
            yield from pool.map(_read_mutated, jobs)

    found = list(run())
    wrong = [text for _, text in found if text]
    for text in wrong[:20]:
        print(text, file=sys.stderr)
    total = sum(count for _, count, _ in jobs)
    return [
        Figure(f"defects among {total} damaged setup programs", len(wrong), 0, ""),
        Figure("    the slowest of them", max(seconds for seconds, _ in found), 10, "s"),
    ]
