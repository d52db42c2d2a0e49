"""Registry hives: ours read by another reader (libhivex), its read by us, a real one of a real Windows where it is at hand,
damaged ones refused.
"""

from __future__ import annotations

import gzip
import io
import os
import random
import shutil
import struct
import subprocess
from pathlib import Path

import pytest
from conftest import missing
from hypothesis import given, settings
from hypothesis import strategies as some

from yendo.errors import Unreadable
from yendo.formats import hive
from yendo.formats.hive import HiveKey, HiveValue

SCRIPT = Path(__file__).with_name("hives.pl")
OTHER = shutil.which("perl") and not subprocess.run(["perl", "-MWin::Hivex", "-e", "1"], capture_output=True).returncode
SIZES = (0, 1, 4, 5, 100, 16343, 16344, 16345, 40000)


def written(root: HiveKey) -> bytes:
    out = io.BytesIO()
    hive.write(out, root)
    return out.getvalue()


def lines(root: HiveKey) -> set[tuple[str, ...]]:
    """Keys and values as the other reader's script writes them."""
    found: set[tuple[str, ...]] = set()
    for path, key in root.every():
        at = ("\\" + path if path else "").encode().hex()
        found.add(("key", at))
        found |= {("value", at, one.name.encode().hex(), str(one.type), one.data.hex()) for one in key.values}
    return found


def dumped(path: Path) -> set[tuple[str, ...]]:
    done = subprocess.run(["perl", SCRIPT, "dump", path], capture_output=True, text=True, check=True)
    return {tuple(line.split("\t")) for line in done.stdout.splitlines()}


def made(chance: random.Random, depth: int = 3, wide: bool = False) -> HiveKey:
    def name() -> str:
        text = "".join(chance.choice("abcXYZ äößΩЖ日-_.{}09") for _ in range(chance.randrange(1, 24)))
        return text.strip() or "x"

    def key(own: str, left: int) -> HiveKey:
        found = HiveKey(own, [], [])
        for number in range(chance.randrange(5)):
            kind = chance.choice((1, 2, 3, 4, 7, 11, 0, 200))
            data = {4: chance.randbytes(4), 11: chance.randbytes(8)}.get(kind, chance.randbytes(chance.choice(SIZES)))
            found.values.append(HiveValue(f"{name()}{number}" if number else "", kind, data))
        if left:
            count = 1300 if wide and left == depth else chance.choice((0, 1, 3, 6))
            found.keys = [key(f"{name()}{number}", left - 1 if number < 6 else 0) for number in range(count)]
        return found

    return key("ROOT", depth)


def test_by_another_reader(tmp_path: Path) -> None:
    """What we write it reads, key by key and byte by byte; what it adds to an empty one of ours, we read."""
    if not OTHER:
        missing("libhivex for Perl", "apt-get install libwin-hivex-perl")
    chance = random.Random(11)
    for number in range(200 if os.environ.get("YENDO_THOROUGH") else 24):
        root = made(chance, wide=number == 3)
        path, empty, theirs = tmp_path / "ours", tmp_path / "empty", tmp_path / "theirs"
        path.write_bytes(written(root))
        assert dumped(path) == lines(root) == lines(hive.read(io.BytesIO(path.read_bytes())))
        empty.write_bytes(written(HiveKey("ROOT")))
        # it writes no values of more than one piece, and its script sorts by no alphabet of Windows'
        small = made(chance, 2)
        for _, key in small.every():
            key.values = [one for one in key.values if len(one.data) <= 16344]
        ordered = ["\t".join(("key", ("\\" + at if at else "").encode().hex())) for at, _ in small.every()]
        ordered += ["\t".join(line) for line in sorted(lines(small)) if line[0] == "value"]
        subprocess.run(["perl", SCRIPT, "fill", empty, theirs], input="\n".join(ordered), text=True, check=True)
        assert lines(hive.read(io.BytesIO(theirs.read_bytes()))) == lines(small)


@pytest.mark.skipif(not (OTHER and os.environ.get("YENDO_HIVE")), reason="YENDO_HIVE names a hive of a real Windows")
def test_a_real_one(tmp_path: Path) -> None:
    raw = Path(os.environ["YENDO_HIVE"]).read_bytes()
    real = tmp_path / "real"
    real.write_bytes(gzip.decompress(raw) if raw[:2] == b"\x1f\x8b" else raw)
    root = hive.read(io.BytesIO(real.read_bytes()))
    (tmp_path / "ours").write_bytes(written(root))
    assert dumped(real) == lines(root) == dumped(tmp_path / "ours")


@given(some.data())
@settings(max_examples=60, deadline=None)
def test_there_and_back(data: some.DataObject) -> None:
    texts = some.text(some.characters(exclude_characters="\\\0", exclude_categories=("Cs",)), min_size=1, max_size=30)
    pairs = some.lists(some.tuples(texts, some.integers(0, 2**32 - 1), some.binary(max_size=60)), max_size=6)
    root = HiveKey(
        "ROOT", [HiveValue(*one) for one in data.draw(pairs)], [HiveKey(name) for name in data.draw(some.lists(texts))]
    )
    raised = [[hive._raised(one.name) for one in some_of] for some_of in (root.values, root.keys)]
    if any(len(set(names)) < len(names) for names in raised):
        with pytest.raises(ValueError, match="twice"):
            written(root)
        return
    back = hive.read(io.BytesIO(written(root)))
    assert lines(back) == lines(root) and written(back) == written(back)
    assert [hive._raised(one.name) for one in back.keys] == sorted(
        (hive._raised(one.name) for one in root.keys), key=lambda name: name.encode("utf-16-be")
    )


def test_damaged_ones_are_refused() -> None:
    data = bytearray(written(made(random.Random(3))))
    for broken in (b"", b"regf", bytes(data[:4096]), b"x" + bytes(data[1:])):
        with pytest.raises(Unreadable):
            hive.read(io.BytesIO(broken))
    # a key that is its own child
    root = struct.unpack_from("<I", data, 36)[0]
    listed = struct.unpack_from("<I", data, 4096 + root + 4 + 28)[0]
    struct.pack_into("<I", data, 4096 + listed + 4 + 4, root)
    with pytest.raises(Unreadable, match="twice"):
        hive.read(io.BytesIO(bytes(data)))


def test_what_windows_does_not_take() -> None:
    for root in (
        HiveKey("ROOT", [], [HiveKey("a" * 256)]),
        HiveKey("ROOT", [HiveValue("a" * 16384, 1, b"")]),
        HiveKey("ROOT", [], [HiveKey("a\\b")]),
        HiveKey("ROOT", [], [HiveKey("Tide"), HiveKey("TIDE")]),
    ):
        with pytest.raises(ValueError):
            written(root)


def test_a_deep_one_needs_no_deep_stack() -> None:
    root = top = HiveKey("ROOT", [], [])
    for _ in range(hive.MAX_DEPTH):
        top.keys = [HiveKey("k", [], [])]
        top = top.keys[0]
    assert sum(1 for _ in hive.read(io.BytesIO(written(root))).every()) == hive.MAX_DEPTH + 1
    top.keys = [HiveKey("k")]
    with pytest.raises(Unreadable, match="deep"):
        hive.read(io.BytesIO(written(root)))
