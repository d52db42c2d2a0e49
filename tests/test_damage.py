"""Formats of setup programs, damaged on purpose: each is refused with its place, or read as far as is certain."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path
from typing import Any

import family_specimens as specimens
import pytest
import script_specimens as scripts
from conftest import Yendo, missing
from hypothesis import given
from hypothesis import strategies as some
from samples import SAMPLES
from specimens import Specimen

from yendo.demo.vendor import write_installer
from yendo.errors import NotCovered, Unreadable
from yendo.formats import answers, archives, carrier
from yendo.formats import compiled_script as compiled
from yendo.formats.pe import Image, version_words
from yendo.formats.slices import Slice, size_of
from yendo.installers import programs, recognise
from yendo.installers.parts import bomb


@given(
    some.binary(max_size=200),
    some.integers(0, 250),
    some.integers(0, 250),
    some.lists(some.tuples(some.integers(-5, 60), some.integers(0, 2)), max_size=6),
)
def test_a_slice_is_a_file_of_its_own(data: bytes, start: int, size: int, moves: list[tuple[int, int]]) -> None:
    part = Slice(io.BytesIO(data), start, size)
    whole = io.BytesIO(data[start : start + size])
    if len(data) >= start + size:
        assert size_of(part) == size  # type: ignore[arg-type]
        for count, whence in moves:
            if whence == 0:
                assert part.seek(max(count, 0)) == whole.seek(max(count, 0))
            assert part.read(count) == whole.read(count)
    assert len(part.read()) <= size


def carrier_with(**changes: int) -> bytes:
    fields = {"mark": carrier.MARK, "form": 1, "count": 1, "size": 20} | changes
    section = struct.pack(
        "<II16sIIIIIII", fields["mark"], 3, bytes(16), 1024, 0, 0, 0, fields["form"], fields["count"], fields["size"]
    )
    return specimens.program(sections=[(carrier.SECTION, section)], behind=b"MSCF" + bytes(40))


@pytest.mark.parametrize(
    ("changes", "error", "words"),
    [
        ({"mark": 7}, Unreadable, "begins with 0x7"),
        ({"form": 2}, NotCovered, "format 2"),
        ({"size": 1 << 30}, Unreadable, "would end at offset"),
    ],
)
def test_carriers_that_make_no_sense(changes: dict[str, int], error: type[Exception], words: str) -> None:
    data = carrier_with(**changes)
    with pytest.raises(error, match=words):
        carrier.find(io.BytesIO(data), Image(io.BytesIO(data)))


def test_a_manifest_with_entities_is_refused(yendo: Yendo, tmp_path: Path) -> None:
    bomb_text = (
        '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><Manifest>&b;</Manifest>'
    )
    (tmp_path / "x.exe").write_bytes(specimens.carrier_exe({"a0": b"x"}, bomb_text))
    assert "manifest cannot be read" in yendo("read", "x.exe", expect=3).stderr


def test_a_bare_manifest_is_enough(tmp_path: Path) -> None:
    (tmp_path / "x.exe").write_bytes(specimens.carrier_exe({"a0": b"x"}, "<Manifest/>"))
    account = programs.account(tmp_path / "x.exe")
    assert (
        account.family == "carrier-exe"
        and account.silent.uninstall is None
        and [content.name for content in account.contents] == ["0", "u0", "a0"]
    )


def test_streams_say_which_piece_is_damaged() -> None:
    data = bytearray(specimens.compiled_script_exe())
    image = Image(io.BytesIO(bytes(data)))
    streams = compiled.find(io.BytesIO(bytes(data)), image)
    assert streams is not None
    place = streams.offsets.header + 64
    for at, words in (
        (place, "checksum of the block"),
        (place + 30, "checksum of the piece"),
        (place + 9 + 4 + 5, "checksum of the piece"),
    ):
        changed = bytearray(data)
        changed[at] ^= 0xFF
        with pytest.raises(Unreadable, match=rf"{words} at (offset )?\d+"):
            compiled.read(io.BytesIO(bytes(changed)), streams)
    with pytest.raises(Unreadable, match="cut short"):
        compiled.block(io.BytesIO(bytes(data[: place + 4])), place)
    huge = struct.pack("<IB", 0xFFFFFFF0, 1)
    with pytest.raises(Unreadable, match="states"):
        compiled.block(io.BytesIO(struct.pack("<I", zlib.crc32(huge)) + huge + bytes(8)), 0)


def test_a_table_of_offsets_that_leads_nowhere() -> None:
    for form, header, error in ((1, 99, Unreadable), (9, 0, NotCovered)):
        table = compiled.TABLE_MARK + struct.pack("<8I", form, 0, 0, 0, 0, header, 0, 0)
        data = specimens.program([(10, compiled.TABLE_RESOURCE, table)])
        with pytest.raises(error, match="table of offsets"):
            compiled.find(io.BytesIO(data), Image(io.BytesIO(data)))


def test_records_that_do_not_fill_their_block_are_not_believed() -> None:
    streams = specimens.Streams((5, 5, 9), name="Sounder", version="3.0.1")
    streams.file(r"{app}\a.exe")
    streams.records["file"][0] += b"more than is declared"
    data = streams.build()
    found = compiled.find(io.BytesIO(data), Image(io.BytesIO(data)))
    assert found is not None
    script = compiled.read(io.BytesIO(data), found)
    assert (
        script.records is None
        and "do not lie as they are declared" in script.reason
        and script.header.texts["name"] == "Sounder"
        and script.header.counts["file"] == 1
    )


def listed(name: bytes, data: bytes, size: int | None = None) -> bytes:
    return struct.pack("<260sIII8sH30s", name, 6, 0, len(data) if size is None else size, b"", 1, b"") + data


@pytest.mark.parametrize(
    ("count", "behind", "words"),
    [
        (2, listed(b"a.txt", b"abc"), "record 1 of 2 is cut short"),
        (1, listed(b"a.txt", b"abc", 9999), "would end at"),
        (1, listed(b"", b""), "record 0"),
    ],
)
def test_records_that_are_cut_short(count: int, behind: bytes, words: str) -> None:
    data = answers.MARK + struct.pack("<H", count) + bytes(30) + behind
    with pytest.raises(Unreadable, match=words):
        answers.find(io.BytesIO(data), 0, len(data))


@given(
    some.lists(
        some.tuples(some.text(alphabet="abc.", min_size=1, max_size=8), some.binary(max_size=3000)),
        min_size=1,
        max_size=4,
    )
)
def test_records_are_found_as_written(files: list[tuple[str, bytes]]) -> None:
    out = answers.MARK + struct.pack("<H", len(files)) + bytes(30)
    for name, data in files:
        out += listed(name.encode(), answers.fold(zlib.compress(data), name))
    found = answers.find(io.BytesIO(out), 0, len(out))
    assert found is not None and found.form == "listed"
    assert [(record.name, b"".join(answers.pieces(io.BytesIO(out), record))) for record in found.records] == files
    big = next((record for record, (_, data) in zip(found.records, files, strict=True) if len(data) > 10), None)
    if big:
        with pytest.raises(Unreadable, match="more than 5 bytes"):
            b"".join(answers.pieces(io.BytesIO(out), big, 5))


def plain_record(name: str, data: bytes, stated: int | None = None) -> bytes:
    return (
        b"\0".join(
            (
                name.encode(),
                f"Disk1\\{name}".encode(),
                b"1.2.3.4",
                str(len(data) if stated is None else stated).encode(),
            )
        )
        + b"\0"
        + data
    )


def test_plain_records_and_what_only_looks_like_them(tmp_path: Path) -> None:
    whole = plain_record("setup.ini", b"[Startup]\r\nAppName=Sounder\r\nCompanyName=Tidewell\r\n") + plain_record(
        "data1.cab", b"not a cabinet"
    )
    path = tmp_path / "x.exe"
    path.write_bytes(specimens.program(behind=whole))
    account = programs.account(path)
    assert (
        account.family == "answers-exe"
        and account.identity.name == "Sounder"
        and account.identity.publisher == "Tidewell"
    )
    assert [content.note for content in account.contents] == ["", "cannot be read: not a cabinet of this engine"]
    assert any("not a cabinet" in spot.why for spot in account.blind_spots)
    path.write_bytes(specimens.program(behind=plain_record("photo.png", b"x" * 90)))
    assert programs.account(path).family == "plain-exe"
    assert answers.find(io.BytesIO(b"just some text\0 and more" * 9), 0, 200) is None
    with pytest.raises(Unreadable, match="would end at"):
        answers.find(io.BytesIO(whole + plain_record("x", b"abc", 99999)), 0, len(whole) + 60)


def test_the_engines_cabinets_when_damaged() -> None:
    for data, error in (
        (b"ISc(" + bytes(10), Unreadable),
        (b"MSCF" + bytes(60), Unreadable),
        (b"ISc(" + struct.pack("<I", 0x01003000) + bytes(40), NotCovered),
    ):
        with pytest.raises(error):
            answers.cabinet_files(data)
    if not scripts.SAMPLES.is_dir():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    with (scripts.SAMPLES / "clam_IScab_int.exe").open("rb") as file:
        found = answers.find(file, *Image(file).appended)
        assert found is not None
        header = b"".join(answers.pieces(file, next(record for record in found.records if record.name == "data1.hdr")))
        volume = next(record for record in found.records if record.name == "data1.cab")
        held = next(entry for entry in answers.cabinet_files(header) if entry.path == "license.rtf")
        inside = Slice(file, volume.offset, volume.size)
        with pytest.raises(Unreadable):
            answers.unpack(inside, held, 100)  # type: ignore[arg-type]
        broken = io.BytesIO(bytes(inside.read()[: held.offset + 50]) + bytes(held.packed))
        with pytest.raises(Unreadable, match=r"damaged|bytes where"):
            answers.unpack(broken, held, 1 << 20)
    for cut in range(20, len(header), 997):
        try:
            answers.cabinet_files(header[:cut])
        except Unreadable as error:
            assert "cut short" in str(error) or "states" in str(error)


@pytest.mark.parametrize("kind", ["7z", "zip", "cabinet"])
def test_archives_that_are_cut_short(kind: str, tmp_path: Path) -> None:
    data = specimens.archive_exe(kind, {"a.txt": b"a" * 5000, "b/c.txt": b"c"})
    for cut in range(len(specimens.program()) + 1, len(data), 61):
        path = tmp_path / "x.exe"
        path.write_bytes(data[:cut])
        try:
            account = programs.account(path)
        except Unreadable:
            continue
        assert account.family in ("plain-exe", "archive-exe")


def test_archives_are_found_behind_programs_only() -> None:
    bare = specimens.program()
    assert archives.find(io.BytesIO(bare), len(bare), len(bare)) is None
    without_end = specimens.CONFIGURATION.partition(b";!@InstallEnd")[0]
    data = bare + without_end + specimens.seven_zip({"a": b"a"})
    assert archives.find(io.BytesIO(data), len(bare), len(data)) is None
    data = bare + specimens.CONFIGURATION + specimens.seven_zip({"a": b"a"})
    found = archives.find(io.BytesIO(data), len(bare), len(data))
    assert found is not None and dict(found.configuration)["RunProgram"] == "setup.exe /go" and found.kind == "7z"


def test_a_bomb_is_known_by_its_ratio() -> None:
    def part(size: int, packed: int | None) -> programs.InstallerPart:
        return programs.InstallerPart("x", size, None, packed, lambda limit: io.BytesIO())

    assert (
        bomb(part(200 << 20, 1000))
        and not bomb(part(200 << 20, 100 << 20))
        and not bomb(part(1 << 20, 10))
        and not bomb(part(200 << 20, None))
    )


@given(some.binary(max_size=300))
def test_any_version_resource_is_read(data: bytes) -> None:
    assert isinstance(version_words(data), dict)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"MZ", "no MZ header"),
        (b"MZ".ljust(60, b"\0") + struct.pack("<I", 0xFFFFFF00) + bytes(200), "no PE header at offset 4294967040"),
        (b"MZ".ljust(60, b"\0") + struct.pack("<I", 64) + b"PE\0\0" + bytes(20) + b"\x07\x01" + bytes(300), "unknown kind, 0x107"),
        (specimens.program()[:0x80 + 30], "cut short"),
    ],
)  # fmt: skip
def test_programs_with_broken_headers(data: bytes, words: str) -> None:
    with pytest.raises(Unreadable, match=words):
        Image(io.BytesIO(data))


def test_certificates_beyond_the_end_are_no_signature(yendo: Yendo, tmp_path: Path) -> None:
    data = bytearray(specimens.program())
    image = Image(io.BytesIO(bytes(data)))
    struct.pack_into("<II", data, image.header_offset + 24 + 144, 1 << 30, 500)
    (tmp_path / "x.exe").write_bytes(bytes(data))
    assert "not signed" in yendo("read", "x.exe", "--verify").stdout
    struct.pack_into("<II", data, image.header_offset + 24 + 144, len(data) - 64, 64)
    (tmp_path / "x.exe").write_bytes(bytes(data))
    assert "unreadable certificate" in yendo("read", "x.exe").stdout


# --- damage that can be lived with is told -------------------------------------------------------------


def _spots(tmp_path: Path, name: str, data: bytes) -> list[str]:
    path = tmp_path / name
    path.write_bytes(data)
    return [f"{spot.what}: {spot.why}" for spot in recognise.read(path).blind_spots]


def test_databases_with_flaws_are_read_and_say_so(tmp_path: Path) -> None:
    """Odd counts and a code page that does not exist: everything is read, and a person is told."""
    data = bytearray(Specimen("flawed").with_file().ours(tmp_path).read_bytes())
    assert _spots(tmp_path, "whole.msi", bytes(data)) == []
    assert "does not end with a whole sector" in _spots(tmp_path, "odd.msi", bytes(data) + b"x" * 40)[0]
    struct.pack_into("<I", data, 44, struct.unpack_from("<I", data, 44)[0] + 1)
    assert "sectors of allocation table" in _spots(tmp_path, "count.msi", bytes(data))[0]
    tables, summary = Specimen("pages").with_file()._finish()
    write_installer(tmp_path / "page.msi", tables, summary=summary, code_page=1252)
    page = (tmp_path / "page.msi").read_bytes()
    known = struct.pack("<I", 1252)  # in the summary, and as the pool's first record
    places = [at for at in range(len(page)) if page.startswith(known, at)]
    found = [_spots(tmp_path, "page.msi", page[:at] + struct.pack("<I", 31_999) + page[at + 4 :]) for at in places]
    assert any("code page 31999, which does not exist" in one for some in found for one in some), found


def changed(sample: Path) -> bytes:
    data = bytearray(sample.read_bytes())
    data[600] ^= 0xFF  # in the program's own code, not in what reading looks at
    return bytes(data)


def test_a_checksum_that_does_not_hold(tmp_path: Path) -> None:
    """Of a real sample, whose own checksum holds; one that is cut short says what is missing."""
    sample = SAMPLES / "clam-nsis.exe"
    if not sample.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    assert _spots(tmp_path, "whole.exe", sample.read_bytes()) == []
    assert "its own checksum does not hold" in _spots(tmp_path, "changed.exe", changed(sample))[0]
    assert _spots(tmp_path, "cut.exe", sample.read_bytes()[:-20])[0].startswith("the last 20 bytes")


@pytest.mark.wine
def test_the_real_stub_refuses_it(tmp_path: Path, wine: Any) -> None:
    sample = SAMPLES / "clam-nsis.exe"
    if not sample.exists() or "32" not in wine.widths:
        missing("clamav-testfiles and a layer for 32-bit programs", "apt-get install clamav-testfiles wine32")
    (tmp_path / "changed.exe").write_bytes(changed(sample))
    (tmp_path / "whole.exe").write_bytes(sample.read_bytes())
    codes = {}
    for name, more in (("whole", ""), ("changed", ""), ("changed", " /NCRC")):
        with wine.fresh() as session:
            session.bring(tmp_path, r"C:\Hand over")
            line = f'"C:\\Hand over\\{name}.exe" /S{more} /D=C:\\Clam'
            codes[name + more] = session.run(line, timeout=60).exit_code
            placed = session.state().get("file", r"C:\Clam\clam.exe") is not None
            assert placed == (name == "whole" or bool(more)), (name, more)
    assert codes["whole"] == 0 and codes["changed"] != 0
