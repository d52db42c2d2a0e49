"""Bytes to records and back."""

from __future__ import annotations

import io
import os
import random
import struct
from pathlib import Path

import olefile
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.errors import Unreadable
from yendo.formats import cab, cfb, lnk, pe, registry_text
from yendo.formats.msi import Column, Database, DatabaseWriter, Summary
from yendo.formats.msi import names as stream_names
from yendo.formats.msi.strings import PoolWriter, codec_of, read_pool

GCAB = Path("/usr/libexec/installed-tests/libgcab-1.0")


# --- compound files ---------------------------------------------------------------------------------


def written(root: cfb.Storage, sector_size: int = 512) -> io.BytesIO:
    out = io.BytesIO()
    cfb.write(out, root, sector_size=sector_size)
    out.seek(0)
    return out


stream_name = st.text(
    st.characters(
        min_codepoint=33, max_codepoint=0x4840, blacklist_categories=["Cs", "Zs", "Cc"], blacklist_characters="/\\:!"
    ),
    min_size=1,
    max_size=20,
)


@given(st.dictionaries(stream_name, st.binary(max_size=9000), max_size=12), st.sampled_from([512, 4096]))
def test_compound_file_round_trip(streams: dict[str, bytes], sector_size: int) -> None:
    streams = {
        name: data for name, data in streams.items() if sum(other.upper() == name.upper() for other in streams) == 1
    }
    with cfb.CompoundFile(written(cfb.Storage(streams), sector_size)) as file:
        assert {entry.name: entry.read() for entry in file.entries()} == streams


@pytest.mark.parametrize("sector_size", [512, 4096])
def test_another_reader_agrees(sector_size: int) -> None:
    root = cfb.Storage(
        {"small": b"s" * 100, "exact": b"e" * 4096, "large": bytes(range(256)) * 5000, "empty": b""}, bytes(range(16))
    )
    root.storages["below"] = cfb.Storage({"inner": b"i" * 5000})
    data = written(root, sector_size)
    ole = olefile.OleFileIO(data)
    assert sorted(map(tuple, ole.listdir())) == [("below", "inner"), ("empty",), ("exact",), ("large",), ("small",)]
    assert ole.openstream("large").read() == bytes(range(256)) * 5000
    assert ole.openstream(["below", "inner"]).read() == b"i" * 5000
    assert not ole.parsing_issues


def test_a_file_whose_table_needs_the_second_level(tmp_path: Path) -> None:
    """Over 109 table sectors, so that the double-indirect table is written and read."""
    path, size = tmp_path / "big.cfb", 9_000_000
    piece = random.Random(1).randbytes(100_000)
    with path.open("wb") as file:
        cfb.write(file, cfb.Storage({"big": cfb.ByteSource(size, lambda: (piece for _ in range(90))), "small": b"x"}))
    with cfb.CompoundFile(path) as file:
        big = next(entry for entry in file.entries() if entry.name == "big")
        with big.open() as stream:
            stream.seek(8_999_990)
            assert stream.read() == piece[-10:]
            stream.seek(123_456)
            assert stream.read(10) == piece[23_456:23_466]
    assert olefile.OleFileIO(path).openstream("big").read() == piece * 90


def test_same_tree_same_bytes() -> None:
    streams = {f"s{at}": bytes([at]) * at * 100 for at in range(60)}
    assert written(cfb.Storage(streams)).getvalue() == written(cfb.Storage(dict(reversed(streams.items())))).getvalue()


@pytest.mark.parametrize("name", ["", "x" * 32])
def test_a_stream_name_that_does_not_fit(name: str) -> None:
    with pytest.raises(ValueError, match="31 UTF-16"):
        written(cfb.Storage({name: b""}))


# --- names, strings, summary --------------------------------------------------------------------------


@given(st.text(st.characters(min_codepoint=33, max_codepoint=0x37FF), max_size=40), st.booleans())
def test_names_round_trip(name: str, table: bool) -> None:
    assert stream_names.decode(stream_names.encode(name, table=table)) == (name, table)


@given(st.lists(st.text(st.characters(codec="cp1252", blacklist_categories=["Cs"]), max_size=30), max_size=40))
def test_string_pool_round_trip(texts: list[str]) -> None:
    writer = PoolWriter(1252)
    numbers = [writer.add(text) for text in texts]
    strings, page, width = read_pool(*writer.encode())
    assert [strings[number] for number in numbers] == texts and (page, width) == (1252, 2)


def test_a_string_the_code_page_lacks_is_named() -> None:
    with pytest.raises(ValueError, match="code page 1252"):
        PoolWriter(1252).add("Журнал")
    assert codec_of(65001) == "utf-8"


def test_unknown_code_page() -> None:
    """Refused, or read as that of western Windows and kept as it is named; nothing is written in it."""
    assert read_pool(struct.pack("<I", 4711), b"", any_page=True)[1] == 4711
    with pytest.raises(Unreadable, match="code page 4711"):
        read_pool(struct.pack("<I", 4711), b"")
    with pytest.raises(Unreadable, match="code page 4711"):
        codec_of(4711)


@pytest.mark.parametrize("pool", [b"", b"\0\0", struct.pack("<IHH", 1252, 10, 1), struct.pack("<IHH", 1252, 0, 5)])
def test_a_pool_that_runs_past_its_data(pool: bytes) -> None:
    with pytest.raises(Unreadable):
        read_pool(pool, b"short")


def test_summary_round_trip() -> None:
    from datetime import UTC, datetime

    summary = Summary(
        code_page=1251,
        title="Журнал",
        template="x64;1049",
        words=2,
        pages=500,
        created=datetime(2026, 3, 1, 12, tzinfo=UTC),
    )
    assert Summary.decode(summary.encode()) == summary


@given(st.binary(max_size=200))
def test_any_bytes_as_summary(noise: bytes) -> None:
    data = bytearray(Summary(title="x", words=2).encode())
    data[40 : 40 + len(noise)] = noise
    try:
        Summary.decode(bytes(data))
    except Unreadable:
        pass


# --- databases -----------------------------------------------------------------------------------------

cell_text = st.text(st.characters(codec="cp1252", blacklist_categories=["Cs"]), min_size=1, max_size=20)
row = st.tuples(
    cell_text,
    st.none() | st.integers(-32767, 32767),
    st.none() | st.integers(-0x7FFFFFFF, 0x7FFFFFFF),
    st.none() | cell_text,
)


def database(writer: DatabaseWriter, sector_size: int = 512) -> Database:
    out = io.BytesIO()
    writer.write(out, sector_size=sector_size)
    out.seek(0)
    return Database(out)


@given(st.lists(row, unique_by=lambda cells: cells[0], max_size=30))
def test_tables_round_trip(rows: list[tuple[str, int | None, int | None, str | None]]) -> None:
    writer = DatabaseWriter()
    writer.table("Sounding", ["Name! s72", "Short I2", "Long I4", "Note L0"], rows)
    with database(writer) as found:
        assert sorted(map(tuple, found["Sounding"]), key=str) == sorted(rows, key=str)
        assert [column.idt for column in found["Sounding"].columns] == ["s72", "I2", "I4", "L0"]
        for cells in rows:
            assert found["Sounding"].find(cells[0]) == cells


def test_wide_references() -> None:
    """Over 65,535 strings every reference takes three bytes."""
    writer = DatabaseWriter()
    writer.table("Many", ["Name! s72", "Value S0"], [(f"name {at}", f"value {at}") for at in range(40_000)])
    with database(writer) as found:
        assert found.reference_width == 3
        assert found["Many"].find("name 39999") == ("name 39999", "value 39999")
        assert len(found["Many"]) == 40_000


def test_long_strings_and_streams() -> None:
    writer = DatabaseWriter()
    writer.table("T", ["K! s10", "V L0"], [("long", "x" * 200_000), ("after", "short")])
    writer.table("Binary", ["Name! s72", "Data v0"], [("pic", 1)])
    writer.stream("Binary.pic", b"\x89PNG")
    with database(writer) as found:
        assert found["T"].find("long")["V"] == "x" * 200_000 and found["T"].find("after")["V"] == "short"
        assert found.stream("Binary.pic").read() == b"\x89PNG" and found["Binary"].columns[1].is_stream


@pytest.mark.parametrize(
    ("cells", "match"),
    [(("a",), "1 cells for 2"), ((None, "x"), "number, not 'x'"), (("a", 40_000), "does not fit"), ((5, 1), "is text")],
)
def test_rows_that_do_not_fit_are_named(cells: tuple[object, ...], match: str) -> None:
    with pytest.raises(ValueError, match=match):
        DatabaseWriter().table("T", ["K! s10", "N I2"], [cells])  # type: ignore[list-item]


def test_a_table_that_is_not_there_is_empty() -> None:
    writer = DatabaseWriter()
    writer.table("T", ["K! s10"], [("a",)])
    with database(writer) as found:
        assert len(found["Absent"]) == 0 and "Absent" not in found and list(found["T"].where(Nothing="a")) == []


def test_column_notation() -> None:
    for text in ("s72", "S0", "l64", "L255", "i2", "I2", "i4", "I4", "v0", "V0"):
        assert Column.parse(f"Name {text}").idt == text
    assert Column.parse("Name! s72").is_key


def mutated(data: bytes, seed: int) -> bytes:
    chance = random.Random(seed)
    out = bytearray(data)
    match chance.randrange(4):
        case 0:
            del out[chance.randrange(len(out)) :]
        case 1:
            at = chance.randrange(len(out))
            out[at : at + chance.randrange(1, 64)] = chance.randbytes(chance.randrange(1, 64))
        case _:
            for _ in range(chance.randrange(1, 20)):
                out[chance.randrange(len(out))] = chance.randrange(256)
    return bytes(out)


@pytest.mark.parametrize(
    ("table", "columns", "rows", "match"),
    [
        ("Feature", ["Feature! i2", "Level i2"], [(5, 1)], "is of kind i2"),
        ("Component", ["Component! s72", "KeyPath I2"], [("C", 4)], "KeyPath is of kind"),
        ("File", ["File! S72", "FileName l255"], [(None, "a")], "without its key"),
        ("Property", ["Value l0"], [("x",)], "lacks its key column"),
        ("Binary", ["Name! s72", "Data s0"], [("x", "y")], "Data is of kind"),
    ],
)
def test_standard_tables_are_held_to_their_kinds(
    table: str, columns: list[str], rows: list[tuple[object, ...]], match: str
) -> None:
    """A hostile schema is refused with its place, before anything above trips over it."""
    writer = DatabaseWriter()
    writer.table(table, columns, rows)  # type: ignore[arg-type]
    with database(writer) as found, pytest.raises(Unreadable, match=match):
        found[table]


def test_summary_fields_of_another_kind_are_passed_over() -> None:
    data = Summary(title="seven", words=7).encode()
    at = data.index(struct.pack("<II", 15, 0)[:4], 48)
    swapped = data[:at] + struct.pack("<I", 2) + data[at + 4 :]
    assert Summary.decode(swapped).words is None and isinstance(Summary.decode(swapped).title, str | None)


@pytest.mark.parametrize("seed", range(0, 300, 100))
def test_mutated_databases_are_refused_or_read(vendor: Path, tmp_path: Path, seed: int) -> None:
    """Never anything but an Unreadable, however the file was damaged."""
    from yendo.installers import recognise

    data = (vendor / "lantern-6.2.1.msi").read_bytes()
    path = tmp_path / "mutant.msi"
    outcomes = set()
    for number in range(seed, seed + 100):
        path.write_bytes(mutated(data, number))
        try:
            recognise.read(path, verify=True)
            outcomes.add("read")
        except Unreadable:
            outcomes.add("refused")
    assert outcomes == {"read", "refused"}


# --- cabinets ---------------------------------------------------------------------------------------------


@given(
    st.dictionaries(
        st.from_regex(r"[a-zX_0-9][a-zX_.0-9]{0,11}", fullmatch=True),
        st.binary(max_size=70_000),
        min_size=1,
        max_size=5,
    )
)
def test_cabinet_round_trip(files: dict[str, bytes]) -> None:
    data = cab.build(files.items())
    assert data == cab.build(files.items())
    assert {member.name: member.size for member in cab.index(io.BytesIO(data)).files} == {
        name: len(content) for name, content in files.items()
    }
    assert dict(cab.extract(io.BytesIO(data))) == files


def lzx_cabinet(content: bytes) -> bytes:
    """A cabinet whose one folder is LZX, written by hand: a single stored block. Source: [MS-PATCH] 2.3 and [MS-CAB]."""
    bits = (
        "0" + "011" + format(len(content), "024b") + "0000"
    )  # no call translation, stored block, its size, to the next word
    block = (
        b"".join(struct.pack("<H", int(bits[at : at + 16], 2)) for at in (0, 16))
        + struct.pack("<III", 1, 1, 1)
        + content
    )
    block += bytes(len(content) % 2)
    name, files_at = b"lzx.txt\0", 36 + 8
    data_at = files_at + 16 + len(name)
    body = struct.pack("<IHH", data_at, 1, 3 | 15 << 8) + struct.pack("<IIHHHH", len(content), 0, 0, 0, 0, 32) + name
    body += struct.pack("<IHH", 0, len(block), len(content)) + block
    return b"MSCF" + struct.pack("<IIIIIBBHHHHH", 0, 36 + len(body), 0, files_at, 0, 3, 1, 1, 1, 0, 0, 0) + body


def test_lzx_is_read() -> None:
    content = bytes(range(256)) * 20
    data = lzx_cabinet(content)
    assert cab.index(io.BytesIO(data)).compression == ("lzx",)
    assert dict(cab.extract(io.BytesIO(data))) == {"lzx.txt": content}


@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("CVE-2014-9732.cab", "."),
        ("CVE-2015-4470.cab", "."),
        ("CVE-2015-4471.cab", "cut short"),
        ("CVE-2014-9556.cab", "."),
        ("test-ncbytes-overflow.cab", "."),
    ],
)
def test_hostile_cabinets_of_the_system(name: str, why: str) -> None:
    if not GCAB.exists():
        from conftest import missing

        missing("libgcab-tests", "apt-get install libgcab-tests")
    with (GCAB / name).open("rb") as file, pytest.raises(Unreadable, match=why):
        list(cab.extract(file))


@pytest.mark.parametrize("name", ["test-none.cab", "test-mszip.cab", "test-signed.cab"])
def test_cabinets_we_did_not_write(name: str) -> None:
    if not GCAB.exists():
        from conftest import missing

        missing("libgcab-tests", "apt-get install libgcab-tests")
    with (GCAB / name).open("rb") as file:
        assert {member: len(content) for member, content in cab.extract(file)} == {"test.sh": 9, "test.txt": 5}


@pytest.mark.parametrize(
    "name", ["../escape.txt", "a/../../b", "/etc/passwd", "C:\\Windows\\x", "..\\up", "a\x01b", "file:stream"]
)
def test_hostile_member_names(name: str) -> None:
    assert cab.unsafe(name)
    with pytest.raises(Unreadable, match="names a file"):
        list(cab.extract(io.BytesIO(cab.build([(name, b"x")]))))


def test_lying_sizes_are_found() -> None:
    data = bytearray(cab.build([("a", b"x" * 1000)], compress=False))
    at = struct.unpack_from("<I", data, 16)[0]
    struct.pack_into("<I", data, at, 5000)
    with pytest.raises(Unreadable):
        list(cab.extract(io.BytesIO(bytes(data))))


@pytest.mark.skipif(os.name == "nt", reason="Windows' own library unpacks it there")
def test_lzx_without_the_library_is_refused_clearly(tmp_path: Path) -> None:
    import os
    import subprocess
    import sys

    (tmp_path / "lzx.cab").write_bytes(lzx_cabinet(b"abc"))
    (tmp_path / "mszip.cab").write_bytes(cab.build([("a", b"x" * 10)]))
    code = (
        "import sys\nfrom yendo.errors import NotCovered\nfrom yendo.formats import cab\nassert dict(cab.extract(open('mszip.cab', 'rb'))) == {'a': b'x' * 10}\n"
        "try:\n    list(cab.extract(open('lzx.cab', 'rb')))\nexcept NotCovered as error:\n    assert 'libarchive13' in str(error)\nelse:\n    sys.exit('read')"
    )
    subprocess.run([sys.executable, "-c", code], cwd=tmp_path, env={**os.environ, "LIBARCHIVE": "/nowhere"}, check=True)


# --- the rest --------------------------------------------------------------------------------------------------

REGISTRY = r"""WINE REGISTRY Version 2

[Software\\Tide] 1700000000
#time=1da0000
@="unnamed"
"text"="a \"b\" \\ c\x0416"
"number"=dword:0000002a
"expand"=str(2):"%TEMP%\\x"
"multi"=str(7):"one\0two\0"
"binary"=hex:0a,0b,\
  0c
"wide"=hex(b):01,00,00,00,00,00,00,00

[Software\\Link] 1
#link
"SymbolicLinkValue"=hex(6):5c,00
"""


def test_registry_text() -> None:
    found = registry_text.blocks(REGISTRY)
    assert dict(registry_text.values(found["Software\\\\Tide"])) == {
        "": ("sz", "unnamed"),
        "text": ("sz", 'a "b" \\ cЖ'.replace("Ж", "\u0416")),
        "number": ("dword", 42),
        "expand": ("expand", "%TEMP%\\x"),
        "multi": ("multi", ("one", "two")),
        "binary": ("binary", "0a0b0c"),
        "wide": ("qword", 1),
    }
    assert registry_text.is_link(found["Software\\\\Link"]) and not registry_text.is_link(found["Software\\\\Tide"])


@given(st.binary(max_size=300))
def test_any_bytes_as_a_link(noise: bytes) -> None:
    try:
        lnk.read(b"\x4c\0\0\0" + noise)
    except Unreadable:
        pass


def test_program_version() -> None:
    from yendo.demo.vendor import PROGRAMS

    assert pe.read(PROGRAMS / "lantern-6.2.1.exe") == pe.Program("x64", "6.2.1.0")
    with pytest.raises(Unreadable):
        pe.read(PROGRAMS / "lantern.c")


def test_an_ini_line_that_goes_on_one_without_a_value() -> None:
    """What a machine holds is no file of ours: such a one ended the picture of the machine, and with it the proof."""
    from yendo.machines.contents import ini_values

    whole = b"[site]\nname = quay\nbare\n   goes on\n"
    assert list(ini_values("C:\\a.ini", whole)) == []
    assert [one.key for one in ini_values("C:\\a.ini", b"[site]\nname = quay\nbare\n")] == ["name", "bare"]
