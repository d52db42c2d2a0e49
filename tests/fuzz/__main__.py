"""``./run fuzz [TARGET] [SECONDS]``: every target for so long, guided by coverage where atheris is here, else by seeded mutations.

Exit code 1 when an input was found that breaks what a target promises; it is kept in ``tests/fuzz/crashes`` to become a test.
"""

from __future__ import annotations

import hashlib
import os
import random
import subprocess
import sys
import time
import traceback
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from fuzz import targets

HERE = Path(__file__).parent
CORPUS, CRASHES = HERE / "corpus", HERE / "crashes"


def mutated(chance: random.Random, seeds: list[bytes]) -> bytes:
    """One input: a seed with bytes, numbers and pieces changed, cut, doubled, or crossed with another."""
    data = bytearray(chance.choice(seeds))
    for _ in range(chance.choice((1, 1, 2, 4, 8, 16))):
        if not data:
            data = bytearray(chance.randbytes(8))
        at = chance.randrange(len(data))
        match chance.randrange(8):
            case 0:
                data[at] = chance.randrange(256)
            case 1:
                data[at] ^= 1 << chance.randrange(8)
            case 2:
                width = chance.choice((1, 2, 4, 8))
                value = chance.choice(
                    (0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, len(data))
                )
                data[at : at + width] = (value & (1 << 8 * width) - 1).to_bytes(width, "little")
            case 3:
                del data[at : at + chance.choice((1, 2, 4, 64, 512, len(data)))]
            case 4:
                piece = data[at : at + chance.choice((1, 4, 64))]
                data[at:at] = piece * chance.choice((1, 2, 30))
            case 5:
                other = chance.choice(seeds)
                begin = chance.randrange(len(other)) if other else 0
                data[at : at + 64] = other[begin : begin + 64]
            case 6:
                data[at:at] = chance.randbytes(chance.choice((1, 2, 8)))
            case _:
                data[at : at + 1] = chance.choice(
                    (b"\0", b"\n", b"'", b'"', b"{", b"[", b"=", b"-", b"9", b"\xff", b"\xc3\xa4")
                )
    return bytes(data[: targets.MAX_INPUT])


def broken(name: str, data: bytes) -> str:
    """What went wrong with one input; nothing where the target kept its promise."""
    begun = time.monotonic()
    try:
        targets.TARGETS[name][0](data)
    except targets.promised(name):
        pass
    except Exception:
        return traceback.format_exc()
    took = time.monotonic() - begun
    return f"{took:.1f} seconds for one input" if took > targets.SECONDS else ""


def keep(name: str, data: bytes, why: str) -> None:
    CRASHES.mkdir(exist_ok=True)
    path = CRASHES / f"{name}-{hashlib.sha256(data).hexdigest()[:12]}"
    path.write_bytes(data)
    print(f"{name}: {path}\n{why}", flush=True)


def by_mutation(name: str, seconds: float, seed: int, most: int) -> tuple[int, int]:
    """Executions and defects."""
    chance, seeds = random.Random(f"{name} {seed}"), starting(name)
    until, count, found = time.monotonic() + seconds, 0, set()
    while time.monotonic() < until and count < most:
        data = mutated(chance, seeds)
        count += 1
        why = broken(name, data)
        if why and (last := why.strip().splitlines()[-3:]) and (mark := "".join(last)) not in found:
            found.add(mark)
            keep(name, data, why)
    return count, len(found)


def starting(name: str) -> list[bytes]:
    kept = sorted((CORPUS / name).glob("*")) if (CORPUS / name).is_dir() else []
    return targets.TARGETS[name][1]() + [path.read_bytes() for path in kept]


def by_coverage(name: str, seconds: float, most: int) -> tuple[int, int]:
    """The same, guided: in a process of its own, since the guide takes the process over. Executions and defects."""
    import re
    import tempfile

    with tempfile.TemporaryDirectory(prefix="yendo-corpus-") as folder:
        for number, data in enumerate(starting(name)):
            (Path(folder) / str(number)).write_bytes(data)
        line = [
            sys.executable,
            str(HERE / "guided.py"),
            name,
            folder,
            f"-max_total_time={int(seconds)}",
            *([f"-runs={most}"] if most < sys.maxsize else []),
            f"-max_len={targets.MAX_INPUT}",
            "-timeout=30",
            "-print_final_stats=1",
            "-rss_limit_mb=4096",
        ]
        done = subprocess.run(line, capture_output=True, text=True, check=False, cwd=folder)
    count = re.search(r"number_of_executed_units: *(\d+)", done.stderr)
    cover = re.findall(r"cov: (\d+) ft: (\d+) corp: (\d+)", done.stderr)
    if cover:
        print(f"{name}: edges {cover[-1][0]}, features {cover[-1][1]}, inputs in the corpus {cover[-1][2]}", flush=True)
    if done.returncode:
        print(f"{name}: ended with {done.returncode}\n{done.stderr[-3000:]}", flush=True)
    return int(count[1]) if count else 0, int(done.returncode != 0)


def main() -> int:
    words = sys.argv[1:]
    names = [words.pop(0)] if words and words[0] in targets.TARGETS else list(targets.TARGETS)
    seconds = float(words[0]) if words else 60.0
    most = int(os.environ.get("YENDO_FUZZ_MOST", "0")) or sys.maxsize
    try:
        import atheris  # noqa: F401

        guided = not os.environ.get("YENDO_FUZZ_PLAIN")
    except ImportError:
        guided = False
    defects = 0
    for name in names:
        count, found = (
            by_coverage(name, seconds, most)
            if guided
            else by_mutation(name, seconds, int(os.environ.get("YENDO_FUZZ_SEED", "1")), most)
        )
        defects += found
        print(
            f"{name}: {count} executions, {found} defects, {'guided by coverage' if guided else 'seeded mutations'}",
            flush=True,
        )
    return 1 if defects else 0


if __name__ == "__main__":
    sys.exit(main())
