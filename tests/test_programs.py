"""Setup programs: recognised by structure, listed level by level, taken out safely."""

from __future__ import annotations

import csv
import datetime
import io
import itertools
import json
import shutil
import struct
import subprocess
from pathlib import Path
from typing import Any

import family_specimens as specimens
import pytest
import script_specimens as scripts
from conftest import Yendo, missing, numeric
from hypothesis import given, settings
from hypothesis import strategies as some
from samples import SAMPLES

from yendo.errors import Unreadable, YendoError
from yendo.formats.pe import Image
from yendo.installers import catalogue, extract, families, programs, recognise
from yendo.installers.parts import MAX_DEPTH, hostile

FAMILIES = {
    "clam-nsis.exe": "script-exe", "clam_IScab_ext.exe": "answers-exe", "clam_IScab_int.exe": "answers-exe", "clam_ISmsi_ext.exe": "answers-exe",
    "clam_ISmsi_int.exe": "answers-exe", "clam.ea05.exe": "plain-exe", "clam.ea06.exe": "plain-exe", "clam-upx.exe": "plain-exe",
    "clam-aspack.exe": "plain-exe", "clam-fsg.exe": "plain-exe", "clam.cab": "cabinet", "clam.7z": "7z archive", "clam.zip": "zip archive",
}  # fmt: skip


@pytest.fixture(scope="session")
def samples() -> Path:
    if not SAMPLES.is_dir():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    return SAMPLES


def others(wine: Any, count: int) -> list[Path]:
    """Programs that are no setups: those of the Windows API layer itself."""
    folder = wine.template / "prefix/drive_c/windows/system32"
    found = itertools.chain.from_iterable(folder.glob(pattern) for pattern in ("*.exe", "*.dll"))
    return sorted(itertools.islice(found, count))


@pytest.mark.parametrize(("name", "family"), FAMILIES.items())
def test_samples_are_recognised(samples: Path, name: str, family: str) -> None:
    assert recognise.recognise(samples / name) == family


@pytest.mark.wine
def test_no_family_where_there_is_none(wine: Any) -> None:
    for path in others(wine, 120):
        with path.open("rb") as file:
            assert families.recognise(file, Image(file, path.name))[0].FAMILY == "plain-exe", path


@pytest.mark.wine
def test_headers_are_read_as_another_reader_reads_them(samples: Path, wine: Any) -> None:
    import pefile

    for path in [*sorted(samples.glob("*.exe")), *others(wine, 40)]:
        with path.open("rb") as file:
            try:
                mine = Image(file, path.name)
            except Unreadable:
                with pytest.raises(pefile.PEFormatError):
                    pefile.PE(str(path), fast_load=True)
                continue
            other = pefile.PE(str(path))
            words: dict[str, str] = {}
            for entry in (
                table
                for info in getattr(other, "FileInfo", ())
                for part in info
                for table in getattr(part, "StringTable", ())
            ):
                for key, value in entry.entries.items():
                    words.setdefault(key.decode(), value.decode("utf-8", "replace").strip())
            assert [(section.offset, section.size) for section in mine.sections] == [
                (section.PointerToRawData if section.SizeOfRawData else 0, section.SizeOfRawData)
                for section in other.sections
            ]
            assert mine.words == words, path.name
            assert set(mine.imports()) <= {
                entry.dll.decode().lower() for entry in getattr(other, "DIRECTORY_ENTRY_IMPORT", ())
            } | {""}


def listed_by_7z(path: Path) -> dict[str, int]:
    if not shutil.which("7z"):
        missing("7z", "apt-get install p7zip-full")
    told = subprocess.run(["7z", "l", "-slt", str(path)], capture_output=True, text=True, check=False).stdout.partition(
        "----------"
    )[2]
    rows = [dict(line.split(" = ", 1) for line in block.splitlines() if " = " in line) for block in told.split("\n\n")]
    return {row["Path"].replace("\\", "/"): int(row["Size"] or 0) for row in rows if row.get("Path")}


@pytest.mark.parametrize("name", ["clam-nsis.exe", "clam_IScab_ext.exe", "clam_IScab_int.exe"])
def test_contents_are_those_that_7z_lists(samples: Path, name: str) -> None:
    wanted = listed_by_7z(samples / name)
    contents = programs.account(samples / name).contents
    if name == "clam-nsis.exe":
        assert {content.name.rpartition("\\")[2] for content in contents} == set(wanted)
    else:  # 7z looks into the one ordinary cabinet only
        cabinet = next(content for content in contents if content.family == "cabinet")
        assert {inner.name: inner.size for inner in cabinet.contents} == wanted and cabinet.offset in (471993, 476556)


def test_every_file_inside_the_engines_cabinets_has_its_stated_hash(samples: Path) -> None:
    import hashlib

    from yendo.formats import answers
    from yendo.formats.slices import Slice

    for name in ("clam_IScab_ext.exe", "clam_IScab_int.exe"):
        with (samples / name).open("rb") as file:
            found = answers.find(file, *Image(file, name).appended)
            assert found is not None
            records = {record.name: record for record in found.records}
            listed = answers.cabinet_files(b"".join(answers.pieces(file, records["data1.hdr"])))
            for held in (held for held in listed if held.size and held.offset):
                volume = records[f"data{held.volume}.cab"]
                data = answers.unpack(Slice(file, volume.offset, volume.size), held, 1 << 24)  # type: ignore[arg-type]
                assert hashlib.md5(data).hexdigest() == held.md5, held.path


LANTERN: dict[str, bytes] = {}


def nested(vendor: Path) -> dict[str, bytes]:
    """A specimen of every family; the carrier holds a database, and an extractor that holds a script's setup."""
    if not LANTERN:
        msi = next(vendor.glob("lantern-6.2.1.msi")).read_bytes()
        inner = specimens.archive_exe(
            "zip", {"deep/read me.txt": b"hello", "again.exe": specimens.archive_exe("7z", {"x.txt": b"x"})}
        )
        LANTERN["carrier-exe"] = specimens.carrier_exe({"a0": msi, "a1": inner})
        LANTERN["compiled-script-exe"] = specimens.compiled_script_exe()
        LANTERN["archive-exe"] = specimens.archive_exe("7z", {"setup.exe": inner, "lantern.msi": msi})
    return LANTERN


def write(folder: Path, name: str, data: bytes) -> Path:
    path = folder / name
    path.write_bytes(data)
    return path


def names(contents: tuple[Any, ...], depth: int = 0) -> list[tuple[int, str, str | None]]:
    return [
        entry
        for content in contents
        for entry in [(depth, content.name, content.family), *names(content.contents, depth + 1)]
    ]


def test_nested_content_is_read_level_by_level(vendor: Path, tmp_path: Path) -> None:
    account = programs.account(write(tmp_path, "carrier.exe", nested(vendor)["carrier-exe"]))
    assert (
        account.family == "carrier-exe"
        and account.identity.name == "Tidewell suite"
        and account.identity.scope == "machine"
    )
    assert names(account.contents) == [
        (0, "0", None), (0, "u0", None), (0, "lantern.msi", "msi"), (0, "runtime.exe", "archive-exe"),
        (1, "deep/read me.txt", None), (1, "again.exe", "archive-exe"), (2, "x.txt", None),
    ]  # fmt: skip
    assert account.silent.uninstall and "Package Cache" in account.silent.uninstall.command
    assert {aspect.name: aspect.value for aspect in account.behaviour}["order"] == "Runtime, then Lantern"


def test_nesting_has_a_limit(tmp_path: Path) -> None:
    data = b"at last"
    for level in range(MAX_DEPTH + 3):
        data = specimens.archive_exe("zip", {f"level{level}.exe": data})
    account = programs.account(write(tmp_path, "deep.exe", data))
    assert any("nested deeper" in spot.why for spot in account.blind_spots)
    assert max(depth for depth, _, _ in names(account.contents)) == MAX_DEPTH


def test_what_a_manifest_says_of_its_packages(yendo: Yendo, vendor: Path, tmp_path: Path) -> None:
    write(tmp_path, "carrier.exe", nested(vendor)["carrier-exe"])
    told = yendo("read", "carrier.exe", "--script").stdout
    for text in (
        "1. Runtime: a program",
        "exit code 3010: done, restart needed",
        "there already if: RuntimeThere",
        "2. Lantern: an installer database 6.2.1",
        "property SITE = [Site]",
    ):
        assert text in told


@pytest.mark.parametrize("version", [(5, 5, 9), (5, 6, 1), (6, 0, 0), (6, 2, 0)])
def test_compiled_scripts_of_declared_versions(tmp_path: Path, version: tuple[int, ...]) -> None:
    account = programs.account(write(tmp_path, "compiled.exe", specimens.compiled_script_exe(version)))
    effects = {str(effect) for effect in account.effects}
    app = r"C:\Program Files (x86)\Tidewell\Sounder"
    assert {
        rf"add file {app}\sounder.exe",
        rf"add file {app}\charts\outer.chart",
        r"add registry HKLM\Software\Tidewell\Sounder\Depth (32-bit view)",
    } <= effects
    assert (
        "add uninstall-entry Sounder 3.0.1 3.0.1" in effects
        and account.identity.product_code == "{5A3D5C3E-7B39-4F5A-9D0B-9B6C2C9D1E57}_is1"
    )
    assert not any(effect.startswith("add shortcut") and "Desktop" in effect for effect in effects)  # an optional job
    assert {aspect.name for aspect in account.behaviour} >= {"language", "parts", "jobs"}
    assert account.silent.install and account.silent.install.confidence == "certain"


def test_an_unknown_record_version_is_said(tmp_path: Path) -> None:
    account = programs.account(write(tmp_path, "compiled.exe", specimens.compiled_script_exe((6, 4, 1))))
    assert account.identity.name == "Sounder" and any(
        "are not declared here" in spot.why for spot in account.blind_spots
    )


@pytest.mark.parametrize("kind", ["7z", "zip", "cabinet", "resource"])
def test_self_extractors_of_every_kind_are_taken_out(yendo: Yendo, tmp_path: Path, kind: str) -> None:
    files = {"setup.txt": b"hello", "charts/a.chart": b"a" * 1000}
    write(tmp_path, "x.exe", specimens.archive_exe(kind, files))
    assert json.loads(yendo("read", "x.exe", "--json").stdout)["family"] == "archive-exe"
    yendo("read", "x.exe", "--extract", "out")
    assert {
        path.relative_to(tmp_path / "out").as_posix(): path.read_bytes()
        for path in (tmp_path / "out").rglob("*")
        if path.is_file()
    } == files
    assert "not empty" in yendo("read", "x.exe", "--extract", "out", expect=2).stderr


HOSTILE = {
    "../up.txt": "climbs", "/etc/x": "absolute", "C:\\x": "absolute", "a:b": "drive or a stream", "con": "device", "sub/NUL.txt": "device", "dot.": "cannot hold",
    "q?.txt": "cannot hold", "x" * 300: "255", "tab\tname": "control",
}  # fmt: skip


@pytest.mark.parametrize(("name", "reason"), HOSTILE.items())
def test_hostile_names_are_named_and_never_written(yendo: Yendo, tmp_path: Path, name: str, reason: str) -> None:
    assert reason in (hostile(name) or "")
    write(tmp_path, "x.exe", specimens.archive_exe("zip", {name: b"bad", "good.txt": b"good"}))
    before = set(tmp_path.parent.rglob("*"))
    done = json.loads(yendo("read", "x.exe", "--extract", "out", "--json", expect=1).stdout)
    assert [path for path, _ in done["written"]] == ["good.txt"] and reason in done["left_out"][0][1]
    assert set(tmp_path.parent.rglob("*")) - before == {tmp_path / "out", tmp_path / "out" / "good.txt"}


def test_a_bomb_is_not_unpacked(yendo: Yendo, tmp_path: Path) -> None:
    write(tmp_path, "bomb.exe", specimens.archive_exe("zip", {"zeros.exe": bytes(80 << 20)}))
    told = yendo("read", "bomb.exe").stdout
    assert "not unpacked" in told
    assert json.loads(yendo("read", "bomb.exe", "--extract", "out", "--json", expect=1).stdout)["written"] == []


@given(some.text(max_size=40))
def test_a_name_that_is_not_hostile_stays_inside(name: str) -> None:
    if name and hostile(name) is None:
        folder = Path("/somewhere").resolve()
        assert (folder / name.replace("\\", "/")).resolve().is_relative_to(folder)


@settings(max_examples=150)
@given(some.data())
def test_damaged_programs_are_read_or_refused(data: some.DataObject) -> None:
    source = data.draw(some.sampled_from(["script", "compiled", "carrier", "7z", "resource"]))
    raw = bytearray(_sources()[source])
    for _ in range(data.draw(some.integers(1, 6))):
        at = data.draw(some.integers(0, len(raw) - 1))
        raw[at : at + 4] = struct.pack("<I", data.draw(some.integers(0, 0xFFFFFFFF)))
    cut = data.draw(some.integers(0, len(raw)))
    whole = bytes(raw[: cut if data.draw(some.booleans()) else None])
    try:
        reading = programs.Reading(io.BytesIO(whole), "damaged.exe")
        reading.tell()
        reading.contents()
    except YendoError as error:
        assert str(error)


_KEPT: dict[str, bytes] = {}


def _sources() -> dict[str, bytes]:
    if not _KEPT:
        if scripts.SAMPLE.exists():
            _KEPT["script"] = scripts.CASES["uninstaller"]().build()
        _KEPT["compiled"] = specimens.compiled_script_exe()
        _KEPT["carrier"] = specimens.carrier_exe({"a0": b"MZ" * 40, "a1": b"x"})
        _KEPT["7z"] = specimens.archive_exe("7z", {"a.txt": b"a" * 100})
        _KEPT["resource"] = specimens.archive_exe("resource", {"a.txt": b"a" * 100})
        _KEPT.setdefault("script", _KEPT["compiled"])
    return _KEPT


def test_a_resource_that_leads_to_itself_ends() -> None:
    raw = bytearray(specimens.archive_exe("resource", {"a.txt": b"a"}))
    image = Image(io.BytesIO(bytes(raw)))
    base = image.place(image.directories[2][0])
    assert base is not None
    raw[base + 20 : base + 24] = struct.pack("<I", 0x80000000)  # the first type's table is the root again
    assert Image(io.BytesIO(bytes(raw))).resources == ()


def test_an_icon_becomes_a_picture(yendo: Yendo, samples: Path, tmp_path: Path) -> None:
    yendo("read", samples / "clam-nsis.exe", "--icon", "icon.png")
    assert (tmp_path / "icon.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    write(tmp_path, "none.exe", specimens.program())
    assert "has no icon" in yendo("read", "none.exe", "--icon", "x.png", expect=3).stderr


def test_a_signature_holds_until_a_byte_changes(yendo: Yendo, tmp_path: Path) -> None:
    from signing import sign_program

    signed = sign_program(specimens.archive_exe("zip", {"a.txt": b"a"}), "Tidewell")
    write(tmp_path, "signed.exe", signed)
    found = json.loads(yendo("read", "signed.exe", "--verify", "--json").stdout)
    assert (
        found["family"] == "archive-exe"
        and found["signature"]["signer"] == "Tidewell"
        and found["signature"]["digest_holds"] is True
    )
    assert found["signature"]["chain"] == ["Tidewell"] and found["signature"]["timestamp"] is None
    seen = sign_program(specimens.program(), "Tidewell", datetime.datetime(2026, 3, 1, 12, tzinfo=datetime.UTC))
    write(tmp_path, "seen.exe", seen)
    assert (
        json.loads(yendo("read", "seen.exe", "--json").stdout)["signature"]["timestamp"] == "2026-03-01T12:00:00+00:00"
    )
    changed = bytearray(signed)
    changed[700] ^= 1
    write(tmp_path, "changed.exe", bytes(changed))
    assert "BUT THE FILE HAS CHANGED" in yendo("read", "changed.exe", "--verify").stdout


def test_what_is_no_setup_has_no_script(yendo: Yendo, tmp_path: Path) -> None:
    write(
        tmp_path,
        "plain.exe",
        specimens.program(sections=[(".rdata", b"\0/quiet-night\0 /unattended\0http://x/silent\0")]),
    )
    assert "no script" in yendo("read", "plain.exe", "--script", expect=2).stderr
    account = programs.account(tmp_path / "plain.exe")
    assert (
        account.silent.install
        and account.silent.install.command == '"plain.exe" /unattended'
        and account.silent.install.confidence == "to be tried"
    )
    assert [line.command for line in account.candidates][1] == '"plain.exe" /quiet-night' and account.candidates[
        2
    ].evidence.source == "rule"


# --- a folder of installers ------------------------------------------------------------------------------------------


@numeric
def test_a_folder_becomes_a_table(yendo: Yendo, vendor: Path, tmp_path: Path) -> None:
    share = tmp_path / "share"
    shutil.copytree(vendor, share)
    write(share, "carrier.exe", nested(vendor)["carrier-exe"])
    write(share, "copy.exe", nested(vendor)["carrier-exe"])
    write(share, "broken.exe", b"MZ and nothing more")
    found = json.loads(
        yendo("read", "share", "--json", "--csv", "out.csv", "--parquet", "out.parquet", expect=1).stdout
    )  # one cannot be read
    rows = {row["path"]: row for row in found["rows"]}
    assert (
        rows["lantern-6.2.1.msi"]["version"] == "6.2.1"
        and rows["carrier.exe"]["family"] == "carrier-exe"
        and rows["lantern-6.2.3.msp"]["family"] == "msi-patch"
    )
    summary = found["summary"]
    assert summary["duplicates"] == [["carrier.exe", "copy.exe"]] and [path for path, _ in summary["unreadable"]] == [
        "broken.exe"
    ]
    assert [old for old, new in summary["older"] if new == "lantern-6.2.3.msi"] == [
        "lantern-6.1.0.msi",
        "lantern-6.2.1.msi",
    ]
    table = list(csv.DictReader(io.StringIO((tmp_path / "out.csv").read_text("utf-8-sig"))))
    assert {row["path"] for row in table} == set(rows)
    from pyarrow import parquet

    assert parquet.read_table(tmp_path / "out.parquet").num_rows == len(rows)
    shown = yendo("read", "share", expect=1).stdout
    assert "the same bytes" in shown and "broken.exe" in shown


def test_one_process_and_two_read_the_same(vendor: Path) -> None:
    assert list(catalogue.rows(vendor, 1)) == list(catalogue.rows(vendor, 2))


def test_a_spreadsheet_takes_no_formula(yendo: Yendo, tmp_path: Path) -> None:
    share = tmp_path / "share"
    share.mkdir()
    write(share, "=cmd.exe", specimens.program())
    yendo("read", "share", "--csv", "out.csv")
    assert "'=cmd.exe" in (tmp_path / "out.csv").read_text("utf-8-sig")


def test_a_folder_without_installers_is_refused(yendo: Yendo, tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    assert "holds no file that ends like an installer" in yendo("read", "empty", expect=2).stderr


def test_extraction_keeps_two_files_of_one_name(tmp_path: Path) -> None:
    data = specimens.archive_exe("zip", {"a.txt": b"one", "A.txt": b"two"})
    taken = extract.extract(write(tmp_path, "x.exe", data), tmp_path / "out")
    assert len({path.lower() for path, _ in taken.written}) == 2


OLDER = {
    "by name and maker": (
        [("a.exe", "Sounder", "1.0", None), ("b.exe", "Sounder", "1.10", None), ("c.exe", "Lantern", "0.1", None)],
        [("a.exe", "b.exe")],
    ),
    "by upgrade code": (
        [("a.msi", "Lantern", "2.0", "{1}"), ("b.msi", "Lantern 3", "3.0", "{1}")],
        [("a.msi", "b.msi")],
    ),
    "another code is another line": ([("a.msi", "Lantern", "2.0", "{1}"), ("b.msi", "Lantern", "3.0", "{2}")], []),
    "the same version twice": ([("a.exe", "Sounder", "1.0", None), ("b.exe", "Sounder", "1.0", None)], []),
    "with commas and spaces": (
        [("a.exe", "Sounder", "1, 2, 0, 4", None), ("b.exe", "Sounder", "1.2.0.5", None)],
        [("a.exe", "b.exe")],
    ),
    "no number": ([("a.exe", "Sounder", "spring", None), ("b.exe", "Sounder", "2.0", None)], []),
}


@pytest.mark.parametrize(("files", "wanted"), OLDER.values(), ids=OLDER)
def test_older_versions_of_one_another(
    files: list[tuple[str, str, str, str | None]], wanted: list[tuple[str, str]]
) -> None:
    rows = [
        catalogue.CatalogueRow(
            path, 1, path, "plain-exe", name, version, "Tidewell", "x64", upgrade_code=code, signed=path != "a.exe"
        )
        for path, name, version, code in files
    ]
    found = catalogue.summary(rows)
    assert list(found.older) == wanted and "b.exe" not in found.unsigned


def test_a_packed_program_says_that_its_texts_cannot_be_searched(samples: Path) -> None:
    account = programs.account(samples / "clam.ea06.exe")
    assert account.switches == () and account.silent.install is None
    assert any("unpacks itself" in spot.why for spot in account.blind_spots)
    assert len(account.candidates) > 5  # common ones can be tried all the same


CHANCE = {
    "/ECP": False,
    "-O30": False,
    "/qg": False,
    "--zh": False,
    "/folder": True,
    "/NORESTART": True,
    "/s": False,
    "--no-prompt": True,
}


@pytest.mark.parametrize(("switch", "worded"), CHANCE.items())
def test_texts_by_chance_are_not_shown_as_switches(tmp_path: Path, switch: str, worded: bool) -> None:
    path = write(tmp_path, "x.exe", specimens.program(sections=[(".rdata", b"\0" + switch.encode() + b"\0")]))
    assert (switch in {entry.switch for entry in programs.account(path).switches}) is worded


DOCS = Path(__file__).parents[1] / "docs"


def test_the_page_of_families_names_each() -> None:
    page = (DOCS / "setups.md").read_text("utf-8")
    for module in families.MODULES:
        assert f"| `{module.FAMILY}` |" in page and f"\n## {module.FAMILY}\n" in page


def test_every_picture_is_shown_and_every_shown_one_is_there() -> None:
    import re

    pages = [DOCS.parent / "README.md", *DOCS.glob("*.md")]
    shown = {name for page in pages for name in re.findall(r"screenshots/([\w-]+\.png)", page.read_text("utf-8"))}
    assert shown == {path.name for path in (DOCS / "screenshots").iterdir()} and len(shown) < 20
