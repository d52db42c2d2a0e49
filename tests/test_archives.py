"""Archives of other people's making: which reader unpacks them on this system, and what none of them takes.

On Linux libarchive reads, on Windows 7-Zip and ``cabinet.dll``; the same tests run as a Windows process.
"""

from __future__ import annotations

import io
import os
import random
import struct
import subprocess
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest

from yendo.errors import NotCovered, Unreadable
from yendo.formats import archives, cab, libarchive, seven_zip

FILES = {"setup.exe": random.Random(5).randbytes(70_000) + b"text " * 9000, "data/ä ö.txt": b"gauge", "empty": b""}


def _rar(name: bytes, content: bytes, *, flags: int = 0) -> bytes:
    """A rar archive of version 4 with one stored file. Source: the format's published technical note."""

    def block(kind: int, bits: int, body: bytes, behind: bytes = b"") -> bytes:
        head = struct.pack("<BHH", kind, bits, 7 + len(body)) + body
        return struct.pack("<H", zlib.crc32(head) & 0xFFFF) + head + behind

    file = struct.pack(
        "<IIBIIBBHI",
        len(content),
        len(content) + (100 if flags else 0),
        2,
        zlib.crc32(content),
        0x5A21_0000,
        20,
        0x30,
        len(name),
        32,
    )
    return (
        b"Rar!\x1a\x07\x00"
        + block(0x73, 0, bytes(6))
        + block(0x74, 0x8000 | flags, file + name, content)
        + block(0x7B, 0x4000, b"")
    )


def _seven_zip(tmp_path: Path, *options: str) -> bytes:
    """An archive by 7-Zip itself where it is here, else by libarchive."""
    if (program := seven_zip.program()) is None:
        if options:
            pytest.skip("libarchive writes no such archive")
        from family_specimens import seven_zip as written

        return written(FILES)
    for name, data in FILES.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(data)
    subprocess.run(
        [program, "a", "-bd", "-y", *options, "made.7z", *FILES], cwd=tmp_path, check=True, capture_output=True
    )
    return (tmp_path / "made.7z").read_bytes()


def _all(data: bytes, kind: archives.ArchiveKind, limit: int = 1 << 30) -> dict[str, bytes]:
    file = io.BytesIO(data)
    names = {member.name for member in archives.members(file, kind)}
    return {name: b"".join(pieces) for name, pieces in archives.contents(file, kind, names, limit)}


# The filter that 7-Zip itself chooses for programs splits them into four streams; it is what setups are packed with.
@pytest.mark.parametrize("options", [(), ("-m0=BCJ2", "-m1=LZMA:d16"), ("-m0=PPMd",), ("-m0=BZip2", "-ms=off")])
def test_seven_zip(tmp_path: Path, options: tuple[str, ...]) -> None:
    assert _all(_seven_zip(tmp_path, *options), "7z") == FILES


def test_an_archive_inside_a_program(tmp_path: Path) -> None:
    data = b"MZ" + bytes(4094) + _seven_zip(tmp_path)
    found = archives.find(io.BytesIO(data), 4096, len(data))
    assert found is not None and (found.kind, found.offset) == ("7z", 4096)
    assert _all(data[4096:], "7z") == FILES


def test_rar() -> None:
    if os.name == "nt":
        assert seven_zip.program() is not None, "7-Zip comes with Yendo on Windows"
    data = _rar(b"data\\gauge.txt", b"forty two")
    assert _all(data, "rar") == {"data/gauge.txt": b"forty two"}


@pytest.mark.parametrize("kind", ["7z", "rar"])
def test_one_that_unpacks_to_more_than_allowed(tmp_path: Path, kind: archives.ArchiveKind) -> None:
    data = _seven_zip(tmp_path) if kind == "7z" else _rar(b"a", bytes(9000))
    with pytest.raises(Unreadable, match="more than 5000 bytes"):
        _all(data, kind, 5000)


def test_encrypted(tmp_path: Path) -> None:
    if seven_zip.program() is None:
        pytest.skip("nothing here writes an encrypted archive")
    for options in (("-psecret",), ("-psecret", "-mhe=on")):
        with pytest.raises(NotCovered, match="encrypted"):
            _all(_seven_zip(tmp_path, *options), "7z")
        (tmp_path / "made.7z").unlink()


def test_one_volume_of_several_is_never_taken_for_the_whole() -> None:
    with pytest.raises((NotCovered, Unreadable)):
        _all(_rar(b"a.txt", b"the beginning", flags=0x02), "rar")


def _cut(data: bytes) -> bytes:
    return data[: len(data) // 2]


def _flipped(data: bytes) -> bytes:
    middle = len(data) // 2
    return data[:middle] + bytes([data[middle] ^ 0x55]) + data[middle + 1 :]


@pytest.mark.parametrize("damage", [_cut, _flipped])
def test_damage_is_told_without_the_library_s_inner_numbers(tmp_path: Path, damage: Callable[[bytes], bytes]) -> None:
    with pytest.raises(Unreadable) as caught:
        _all(damage(_seven_zip(tmp_path)), "7z")
    assert "errno" not in str(caught.value) and "0x" not in str(caught.value)


def test_a_sound_cabinet_that_libarchive_refuses_is_read_otherwise() -> None:
    """A folder of stored files of a few bytes each in a block of its own: libarchive 3.6 calls that damaged."""
    blocks = [b"TEST\n", b"test\n"]
    data_at = 36 + 8 + 2 * (16 + len("test1.txt") + 1)
    body = struct.pack("<IHH", data_at, 2, 0)
    for number, block in enumerate(blocks):
        name = f"test{number + 1}.txt".encode() + b"\0"
        body += struct.pack("<IIHHHH", len(block), 5 * number, 0, 0x226C, 0x59BA, 32) + name
    for block in blocks:
        body += struct.pack("<IHH", 0, len(block), len(block)) + block
    head = struct.pack("<IIIIIBBHHHHH", 0, 36 + len(body), 0, 44, 0, 3, 1, 1, 2, 0, 0, 0)
    assert dict(cab.extract(io.BytesIO(b"MSCF" + head + body))) == {"test1.txt": b"TEST\n", "test2.txt": b"test\n"}


def test_a_member_of_several_cabinets_is_refused_and_no_other() -> None:
    data = bytearray(cab.build([("whole.txt", b"whole"), ("on.txt", b"begins here")], compress=False))
    place = data.index(b"on.txt") - 16 + 8  # the number of its folder
    struct.pack_into("<H", data, place, 0xFFFE)
    with pytest.raises(NotCovered, match="several cabinets"):
        list(cab.extract(io.BytesIO(bytes(data))))
    assert dict(cab.extract(io.BytesIO(bytes(data)), {"whole.txt"})) == {"whole.txt": b"whole"}


def test_which_reader_is_used() -> None:
    assert (libarchive.load() is None) == (os.name == "nt")
