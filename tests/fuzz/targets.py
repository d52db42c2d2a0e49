"""What is fuzzed: every reader of a format, every language that people write, every record that is read again.

A target takes bytes and must return, or raise one of the errors it promises. Anything else is a defect: another exception, more
than ``SECONDS`` for one input, or a crash of the interpreter. Seeds are real samples where the system has some, else our own.
"""

from __future__ import annotations

import atexit
import io
import json
import os
import shutil
import struct
import tempfile
import zlib
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from yendo.errors import YendoError

SECONDS = 5.0
MAX_INPUT = 1 << 20
Target = Callable[[bytes], object]
REAL = (
    Path("/usr/share/clamav-testfiles"),
    Path("/usr/libexec/installed-tests/libgcab-1.0"),
    Path("/usr/share/installed-tests/fwupd"),
)


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


@cache
def _samples() -> dict[str, bytes]:
    """Small specimens by what they are; those of the tests, and real ones."""
    import family_specimens
    import script_specimens
    from specimens import Specimen

    from yendo.demo.vendor import lantern, lantern_patch
    from yendo.formats import cab

    found: dict[str, bytes] = {}
    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        share = Path(folder)
        lantern(share), lantern(share, "6.2.3"), lantern_patch(share)
        found["msi"] = (share / "lantern-6.2.1.msi").read_bytes()
        found["msp"] = (share / "lantern-6.2.3.msp").read_bytes()
        found["small.msi"] = Specimen("fuzz").with_file().ours(share).read_bytes()
    found["cab"] = cab.build([("a.txt", b"content\r\n" * 20), ("b", b"")])
    found["compiled"] = family_specimens.compiled_script_exe()
    found["carrier"] = family_specimens.carrier_exe({"a0": b"x"}, "<Manifest/>")
    if script_specimens.SAMPLE.exists():
        for form in (
            script_specimens.Form(),
            script_specimens.Form("deflate", True),
            script_specimens.Form("bzip2"),
            script_specimens.Form("none", text="wide", bits=64),
        ):
            token = script_specimens.FORM.set(form)
            found[f"script {form.method}"] = script_specimens.CASES["uninstaller"]().build()
            script_specimens.FORM.reset(token)
    for folder_ in REAL:
        for path in sorted(folder_.rglob("*")) if folder_.is_dir() else ():
            if (
                path.is_file()
                and path.suffix in (".cab", ".exe", ".7z", ".zip", ".rar", ".msi")
                and path.stat().st_size < MAX_INPUT
            ):
                found[path.name] = path.read_bytes()
    return found


def _like(*marks: bytes) -> list[bytes]:
    return [data for data in _samples().values() if data.startswith(marks)]


def _whole(file: Any) -> None:
    for entry in file.entries():
        entry.read() if entry.size < MAX_INPUT else None


def compound_file(data: bytes) -> None:
    from yendo.formats import cfb

    with cfb.CompoundFile(io.BytesIO(data)) as container:
        for entry in container.entries():
            if entry.size < MAX_INPUT:
                entry.read()


def database(data: bytes) -> None:
    from yendo.formats.msi import Database

    with Database(io.BytesIO(data)) as found:
        for name in list(found.tables)[:64]:
            for row in found[name]:
                list(row)


def installer_database(data: bytes) -> None:
    """A database to its whole account: interpreted, predicted, validated."""
    from yendo.installers.msi import describe

    with tempfile.NamedTemporaryFile(suffix=".msi") as file:
        file.write(data)
        file.flush()
        describe.account(Path(file.name))


def patch(data: bytes) -> None:
    from yendo.formats.msi.patch import Patch

    with Patch(io.BytesIO(data)) as found:
        list(found.targets)
        for family in found.families:
            str(family)


def transform(data: bytes) -> None:
    """A transform, laid over a database that it was made for."""
    from yendo.formats.msi import Database
    from yendo.formats.msi import transform as form

    with Database(io.BytesIO(_samples()["small.msi"])) as base, tempfile.NamedTemporaryFile(suffix=".mst") as file:
        file.write(data)
        file.flush()
        found = form.read(Path(file.name), base)
        for stream in found.streams.values():
            if stream.size < MAX_INPUT:
                stream.read()
        len(found)


def _transforms() -> list[bytes]:
    from yendo.formats.msi import Database
    from yendo.formats.msi import transform as form
    from yendo.installers.msi import intent
    from yendo.terms.changes import PropertyChange

    with Database(io.BytesIO(_samples()["small.msi"])) as base:
        out = io.BytesIO()
        form.write(intent.transform_for(base, [PropertyChange(name="TIDE", value="low")], Path), out)
    return [out.getvalue()]


def mac_program(data: bytes) -> None:
    """A program for macOS, its signature and its pages."""
    from yendo.formats import mach_o, mach_o_writer
    from yendo.installers.judging import judged_message

    for one in mach_o.read(io.BytesIO(data)):
        if one.signature and one.signature.cms:
            judged_message(one.signature.cms, one.signature.directory, "x")
    mach_o_writer.sign(io.BytesIO(data), io.BytesIO(), mach_o_writer.CodeWanted("tide"), None, 0, "x")


def _mac_programs() -> list[bytes]:
    import mac_signing

    thin = mac_signing.signed(mac_signing.program(size=4500), "tide", {1: b"x", 3: b"y"}, entitlements={"a": True})
    head = struct.pack(">II5I", 0xCAFEBABE, 1, 0x0100000C, 0, 64, len(thin), 6).ljust(64, b"\0")
    # one with a part for what the linker leaves behind, so that it can be signed
    segment = struct.pack("<II16sQQQQIIII", 0x19, 72, b"__LINKEDIT", 0, 0x4000, 1024, 1024, 1, 1, 0, 0)
    bare = struct.pack("<8I", 0xFEEDFACF, 0x0100000C, 0, 2, 1, len(segment), 0, 0) + segment
    return [thin, head + thin, bare.ljust(2048, b"x")]


def mac_bundle(path: Path) -> None:
    """A bundle's property lists: what it says of itself, and what its seal lists."""
    import mac_signing

    from yendo.mac import bundles

    data, known = path.read_bytes(), Path(tempfile.gettempdir()) / f"yendo-fuzz-{os.getpid()}.app"
    if not known.is_dir():  # made once: it takes longer than what is tried
        mac_signing.bundle(known, {"Resources/a.dat": b"a"})
        atexit.register(shutil.rmtree, known, ignore_errors=True)
    place = known / "Contents" / ("Info.plist" if data[:1] == b"I" else "_CodeSignature/CodeResources")
    before = place.read_bytes()
    place.write_bytes(data[1:])
    try:
        bundles.read(known)
    finally:
        place.write_bytes(before)


def _mac_lists() -> list[bytes]:
    import plistlib

    sealed = {
        "files2": {"Resources/a.dat": {"hash2": bytes(32), "optional": True}, "b": {"symlink": "c"}},
        "rules2": {"^.*": True, "^a$": {"omit": True, "weight": 9.0}},
    }
    known = {"CFBundleExecutable": "lantern", "CFBundleIdentifier": "x", "NSCameraUsageDescription": "y"}
    return [
        mark + plistlib.dumps(given, fmt=form)
        for mark, given in ((b"I", known), (b"S", sealed))
        for form in (plistlib.FMT_XML, plistlib.FMT_BINARY)
    ]


def mac_image(data: bytes) -> None:
    """A disk image for macOS: its list of pieces, its volume, a few of its files."""
    from yendo.formats import hfs_plus, udif

    file: Any = io.BytesIO(data)
    start = 0
    if udif.is_image(file):
        file = udif.DiskImage(file)
        file.read(1 << 20)
        start = next((one.start for one in file.partitions), 0)
    volume = hfs_plus.HfsPlus(file, start)
    for item in volume.items()[:20]:
        if item.kind != "folder" and item.size < 1 << 20:
            volume.open(item).read()


def _mac_images() -> list[bytes]:
    import mac_images

    found = [mac_images.image(bytes(4096))]
    if shutil.which("xorriso"):
        with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
            top = Path(folder, "x")
            (top / "a").mkdir(parents=True)
            (top / "a" / "tide.txt").write_bytes(b"tide" * 100)
            volume = mac_images.volume(top, Path(folder, "x.iso"))
        found += [volume[:MAX_INPUT], mac_images.image(volume), mac_images.image(volume, "raw")[-MAX_INPUT:]]
    return found


def apfs_volume(data: bytes) -> None:
    """A volume of APFS whose checksums always hold, so that what lies behind them is reached."""
    from yendo.formats import apfs, packed_content

    real, apfs.checksum = apfs.checksum, lambda block: int.from_bytes(block[:8], "little")
    try:
        volume = apfs.Apfs(io.BytesIO(data))
        for item in volume.items()[:20]:
            if item.kind != "folder" and item.size < 1 << 20:
                volume.open(item).read()
    finally:
        apfs.checksum = real
    packed_content.opened(data[:64], io.BytesIO(data[64:])).read(1 << 18)


def _apfs_volumes() -> list[bytes]:
    import apfs_images

    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        top = Path(folder, "x")
        (top / "a").mkdir(parents=True)
        for number in range(60):
            (top / "a" / f"tide {number}.txt").write_bytes(b"tide" * (number > 56))
        found = [apfs_images.volume(top, data_at=20)]
    for kind in (3, 9):
        found.append(struct.pack("<4sIQ", b"fpmc", kind, 4) + (zlib.compress(b"tide") if kind == 3 else b"\xcctide"))
    return found


def told_events(data: bytes) -> None:
    from yendo.terms import events

    events.texts(events.read(data))
    events.read_since(data[: len(data) // 2], data)


def answer_file(data: bytes) -> None:
    from yendo.installers import answers_exe

    answers_exe.read_answers(data.decode("utf-8", "replace"))


def reg_file(data: bytes) -> None:
    """A vendor's registry file, as a step imports it."""
    from yendo.steps import registry

    registry.imported(registry.text_of(data))


def machines_file(path: Path) -> None:
    from yendo.machines import addresses

    addresses.read(path)


def inventory(path: Path) -> None:
    """The first byte says what kind of file the rest is."""
    from yendo.fleet import incoming, reports

    data = path.read_bytes()
    kind = data[0] % 5 if data else 0
    given = path.with_name(("m.csv", "m.json", "m.txt", "o.csv", "install.jsonl")[kind])
    given.write_bytes(data[1:])
    if kind < 3:
        incoming.gathered([given]).columns()
    else:
        reports.outcomes_of([given])


def waves_file(path: Path) -> None:
    from yendo.fleet import waves

    waves.read(path)


def disk_volume(data: bytes) -> None:
    """The first 36 sectors are empty anyway, so they are left out."""
    import io

    from yendo.formats import udf

    file = io.BytesIO(b"\0" * (256 * 2048) + data)
    volume = udf.UdfVolume(file)
    for one in volume.files():
        volume.open(one).read(4096)


def update_file(path: Path) -> None:
    from yendo.servicing import reading

    given = path.with_name("a.msu")
    given.write_bytes(path.read_bytes())
    found = reading.read(given)
    if isinstance(found, reading.SystemPackage):
        reading.condition(found)


def setup_logs(data: bytes) -> None:
    """What a setup of the system left: where it went back, and what was in its way."""
    from yendo.servicing import upgrade

    where = upgrade.went_back([data])
    assert where is None or where.phase
    assert all(0 < len(name) <= 200 for name in upgrade.held_by([data]))


def labels_file(path: Path) -> None:
    from yendo.drivers import labels

    given = path.with_name(labels.FILE)
    given.write_bytes(path.read_bytes())
    labels.labelled(labels.read(given.parent), {})


def delivery_index(data: bytes) -> None:
    """The first byte says what the rest is."""
    from yendo.fleet import index

    kind, rest = (data[0] % 2 if data else 0), data[1:]
    (index.read_signers if kind else index.read_index)(rest)


def machine_report(data: bytes) -> None:
    from yendo.fleet import machine_reports

    found = machine_reports.read(data)
    found.by("0" * 64)
    cause, _line = found.report.why()
    found.report.outcome("pier", cause)


def computers_list(path: Path) -> None:
    from yendo.fleet import lists

    given = path.with_name("l.ldif" if path.read_bytes()[:1] == b"d" else "l.csv")
    given.write_bytes(path.read_bytes())
    lists.computers_in(given)


def delivery_seeds() -> list[bytes]:
    """Signed texts as they are written, and one whose signature nobody made."""
    from datetime import UTC, datetime, timedelta

    from yendo.fleet import index

    now = datetime(2026, 11, 30, tzinfo=UTC)
    some = index.StoredContent("0" * 64, 12)
    order = index.Order(
        number=1,
        verb="install",
        package="a",
        version="1",
        revision=1,
        run="f" * 16,
        name="A",
        machines=some,
        files=some,
    )
    text = index.index_text(index.Index(version=1, made=now, expires=now + timedelta(days=7), orders=(order,)))
    return [b"\0" + text + b"signature\tMIIB\n", b"\1yendo-signers\t1\nversion\t1\nsignature\tMIIB\n"]


def image_file(data: bytes) -> None:
    from yendo.formats import wim

    wim.read(io.BytesIO(data))


def serviced_manifest(data: bytes) -> None:
    from yendo.servicing import manifest

    manifest.read(data, "update.mum")


def image_seeds() -> list[bytes]:
    """A header and a description without images' contents."""
    text = "<WIM><IMAGE INDEX='1'><NAME>A</NAME><WINDOWS><ARCH>9</ARCH></WINDOWS></IMAGE></WIM>".encode("utf-16")
    head = bytearray(
        b"MSWIM\0\0\0" + struct.pack("<III", 208, 0x10D00, 0) + b"\0" * 20 + struct.pack("<HHI", 1, 1, 1) + b"\0" * 160
    )
    head[72:96] = len(text).to_bytes(7, "little") + b"\2" + struct.pack("<QQ", 208, len(text))
    return [bytes(head) + text]


def cabinet(data: bytes) -> None:
    from yendo.formats import cab

    for _ in cab.extract(io.BytesIO(data), limit=16 << 20):
        pass


def program(data: bytes) -> None:
    from yendo.formats.pe import Image

    image = Image(io.BytesIO(data))
    for part in ("words", "manifest"):
        getattr(image, part)
    image.icon()


def setup_program(data: bytes) -> None:
    """A setup program of any family to its account."""
    from yendo.installers import programs

    programs.Reading(io.BytesIO(data), "x.exe").tell()


def packing(data: bytes) -> None:
    from yendo.formats.packing import unpack

    methods = ("deflate", "bzip2", "lzma", "filtered lzma")
    unpack(data[1:], methods[data[0] % 4] if data else "deflate", 1 << 20)  # type: ignore[arg-type]


def archive(data: bytes) -> None:
    from yendo.formats import archives

    kind = archives.kind_of(data[:16])
    if kind:
        listed = archives.members(io.BytesIO(data), kind)
        for _, pieces in archives.contents(io.BytesIO(data), kind, {member.name for member in listed[:20]}, 1 << 20):
            for _ in pieces:
                pass


def app(data: bytes) -> None:
    """The whole reading of a modern app package, its block map and signature too."""
    from yendo.installers import app_contents, modern_app

    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        path = Path(folder) / "x.msix"
        path.write_bytes(data)
        modern_app.account(path, verify=True)
        modern_app.wrong(path)
        app_contents.seen(path)


def _apps() -> list[bytes]:
    from test_apps import app as made

    with tempfile.TemporaryDirectory() as folder:
        return [
            made(Path(folder) / "a.msix").read_bytes(),
            made(Path(folder) / "b.msix", signer="Tidewell").read_bytes(),
        ]


def hive(data: bytes) -> None:
    """A hive, and what its values are as things."""
    from yendo.formats import hive as form
    from yendo.installers import app_contents

    for _, key in form.read(io.BytesIO(data)).every():
        for value in key.values:
            app_contents.data_of(value)


def _hives() -> list[bytes]:
    from yendo.formats.hive import HiveKey, HiveValue, write

    values = [
        HiveValue("", 1, b"x\0\0\0"),
        HiveValue("n", 4, b"1234"),
        HiveValue("Größe", 3, bytes(20000)),
        HiveValue("m", 7, b"a\0\0\0"),
    ]
    root = HiveKey("ROOT", values, [HiveKey("REGISTRY", [], [HiveKey(f"k{n}") for n in range(600)])])
    out = io.BytesIO()
    write(out, root)
    return [out.getvalue()]


def capture(data: bytes) -> None:
    """A record of a capture, and what a plan makes of it."""
    from yendo.platforms.windows import capture_record as form
    from yendo.steps.captured import CapturedKind, CapturedStep

    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        path = Path(folder) / form.RECORD
        path.parent.mkdir()
        path.write_bytes(data)
        form.read(path)
        CapturedKind().expand(CapturedStep(), Path(folder), "C:\\kept")


def _captures() -> list[bytes]:
    from test_capture import ALL, done

    from yendo.capture import sorted_out
    from yendo.platforms.windows.capture_record import encode

    return [encode(sorted_out(done(*ALL)))]


def app_package(data: bytes) -> None:
    from yendo.formats import app_package as form

    form.identity(io.BytesIO(data), "x.msix")


def link(data: bytes) -> None:
    from yendo.formats import lnk

    lnk.read(data)


def registrar(data: bytes) -> None:
    from yendo.formats import registrar as form

    form.parse(_text(data))


def registry_text(data: bytes) -> None:
    from yendo.formats import registry_text as form

    for body in form.blocks(_text(data)).values():
        list(form.values(body))


def image(data: bytes) -> None:
    from yendo.installers import images

    with tempfile.NamedTemporaryFile(suffix=".iso") as file:
        file.write(data)
        file.flush()
        if images.is_image(Path(file.name)):
            with images.DiscImage(Path(file.name)) as found:
                found.entries()


def plan(data: bytes) -> None:
    from yendo.plan import read_text

    read_text(_text(data))


def mac_plan(data: bytes) -> None:
    from yendo.mac_half.reading import read_text

    read_text(_text(data))


def bill(data: bytes) -> None:
    from yendo.formats import bom

    bom.read(data)


def _bills() -> list[bytes]:
    from yendo.formats import bom
    from yendo.formats.bom import BillItem

    items = [
        BillItem(".", "folder", 0o755, 0, 0),
        BillItem("./Library", "folder", 0o755, 0, 0),
        BillItem("./Library/tide", "link", 0o755, 0, 0, 3, 9, "../x"),
    ]
    return [
        bom.written(
            [*items, *(BillItem(f"./Library/{number}", "file", 0o644, 501, 20, number, 7) for number in range(count))]
        )
        for count in (1, 300)
    ]


def _file(name: str, read: Callable[[Path], object]) -> Target:
    def target(data: bytes) -> None:
        with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
            path = Path(folder) / name
            path.write_bytes(data)
            read(path)

    return target


def _house(path: Path) -> None:
    from yendo.plan import house

    house.read(path)


def _suite(path: Path) -> None:
    from yendo.suite import model

    model.read(path)


def _manifest(path: Path) -> None:
    from yendo.package import manifest

    manifest.read(path.parent)


def _workspace_records(path: Path) -> None:
    from yendo.shelf import record

    (path.parent / ".yendo").mkdir()
    for name in ("built.json", "claims.json", "checked.json"):
        (path.parent / ".yendo" / name).write_bytes(path.read_bytes())
    record.read(path.parent)


def journal(data: bytes) -> None:
    from yendo.package.carry import read_journal

    read_journal(data)


def ledger(data: bytes) -> None:
    from yendo.steps import ledger as form

    for line in _text(data).split("\r\n"):
        fields = form.fields(line)
        for field in fields[1:]:
            form.value_of(field)


def recording(data: bytes) -> None:
    from yendo.platforms.windows.recording import Recording

    msgspec.json.decode(data, type=Recording)


_RESULT = (
    b"part 000-about\nE\twindows\t10.0.26100.1\nE\tlayer\tFalse\nA\tTEMP\tC:\\Temp\npart 001-look\nD\tC:\\Windows\n"
    b"F\tC:\\a.exe\t9\t638000000000000000\t-\t1.0\t34404\nK\tHKLM\tSoftware\\Tide\t0\nV\tA\tdword=7\nP\ttide\n"
    b"part 002-idle\nM\tidle\t60\npart 003-look\nD\tC:\\Windows\npart 004-verb-0a\nM\tverb\tinstall\tC:\\p\t\nR\t0\t1.5\n"
    b"O\tYQ==\nC\tC:\\log.txt\tYQ==\npart 005-watch\nM\twatch\t60\t\tsetup /S\nR\t0\t1\t2\t-\t0\nP\t7\t1\ttide.exe\t0.1\t1\n"
    b"W\ttide.exe\tTide\t0.1\t1\npart 006-fetch\nM\tfetch\tC:\\a.ini\nyes\nC\t-\tYQ==\npart 007-keep\nM\tkeep\tC:\\x\nyes\n"
    b"S\tC:\\a.exe\t1\n"
)


def result(data: bytes) -> None:
    """What a kit brings back, behind its seal, and a proof's questions to it."""
    from yendo.machines.recorded.machine import RecordedAct, RecordedMachine
    from yendo.prove.kit import _split

    machine = RecordedMachine(list(_split(_text(data).split("\n"))), "system")
    with machine.fresh("system") as session:
        for act in [part for part in machine.parts if isinstance(part, RecordedAct)][:50]:
            if act.name == "watch" and act.fields:
                session.watch(act.fields[-1], timeout=1)
            elif act.name == "verb" and act.fields:
                session.run(f'"x\\apply.cmd" {act.fields[0]}', timeout=1)
            elif act.name == "fetch" and act.fields:
                session.read(act.fields[0])
            session.state()


def languages(data: bytes) -> None:
    """The small ones: versions and ranges, lengths of time, sizes, command lines, conditions of databases."""
    from yendo.facts.conditions import parse
    from yendo.facts.versions import VersionRange
    from yendo.installers.msi import commandline
    from yendo.terms import amounts

    kind, text = (data[0] % 4 if data else 0), _text(data[1:4000])
    if kind == 0:
        VersionRange.parse(text)
    elif kind == 1:
        amounts.seconds(text)
    elif kind == 2:
        commandline.parse(text)
    else:
        parse(text)


def edits(data: bytes) -> None:
    """Files of settings that a step edits."""
    from yendo.steps import json_text, texts

    text, _ = texts.decode(data[1:])
    kind = data[0] % 3 if data else 0
    if kind == 0:
        texts.ini(text, "site", "name", "x")
    elif kind == 1:
        texts.line(text, "port = 9", r"^port\s*=")
    else:
        json_text.set_value(text, ["site", "0", "name"], '"x"')


def _toml() -> list[bytes]:
    return [
        b'[package]\nid = "x"\nname = "x"\nversion = "1"\n[[media]]\nfile = "a.msi"\nsha256 = "'
        + b"0" * 64
        + b'"\n[when]\nos = ">=10"\n[[install]]\nkind = "msi"\nmedia = "a.msi"\n'
        b'properties = { A = "1" }\n[[install.change]]\nkind = "drop"\nwhat = "shortcut"\nname = "x"\n[[detect]]\nkind = "file"\npath = \'C:\\x\'\n[settings.a]\nmeaning = "x"\n',
        b'name = "Marrowby"\n[severity]\nx = "error"\n[[rule]]\nid = "a"\nmessage = "m"\ndo = "d"\n[rule.must]\nof = "package.contact"\npresent = true\n[plan.package]\ncontact = "x"\n',
        b'[suite]\nid = "s"\nname = "S"\nversion = "1"\n[[product]]\nworkspace = "a"\n',
    ]


def _json() -> list[bytes]:
    return [
        json.dumps(
            {
                "schema": "yendo.manifest/2",
                "id": "x",
                "name": "x",
                "version": "1",
                "revision": 1,
                "publisher": "",
                "architecture": "any",
                "scope": "machine",
                "logs": "C:\\x",
                "install": [],
                "uninstall": [],
                "repair": [],
                "detect": [{"kind": "file", "path": "C:\\x"}],
                "files": [],
            }
        ).encode(),
        json.dumps(
            {
                "schema": "yendo.recording/1",
                "command": "x",
                "machine": "wine",
                "date": "2026-01-01",
                "exit_code": 0,
                "effects": [],
                "seconds": 1.0,
            }
        ).encode(),
        b'{"revision": 1, "version": "1", "content": "x", "detect": [], "digest": "y"}',
    ]


def driver(data: bytes) -> object:
    """An ``.inf``, read by each kind of Windows."""
    from yendo.drivers import reading
    from yendo.drivers.target import DriverTarget

    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        path = Path(folder, "x.inf")
        path.write_bytes(data)
        for windows in (DriverTarget(), DriverTarget((6, 1, 7601), "x86", 3)):
            reading.read(path, windows, language=0x407)
    return None


def _drivers() -> list[bytes]:
    from yendo.demo import drivers

    real = Path("/usr/share/doc/qemu-system-data/qemupciserial.inf")
    found = [one.files["tidegauge.inf"] for one in drivers.SHARE]
    return found + ([real.read_bytes()] if real.exists() else [])


def catalogue(data: bytes) -> object:
    from yendo.formats import security_catalogue
    from yendo.installers.judging import judged_message

    judged_message(data, None, "x")
    return security_catalogue.parse(data)


def _catalogues() -> list[bytes]:
    from yendo.demo import drivers

    return [one.all_files["tidegauge.cat"] for one in drivers.SHARE if one.catalogue]


def mac_package(data: bytes) -> object:
    from yendo.mac import reading

    with tempfile.TemporaryDirectory(prefix="yendo-fuzz-") as folder:
        path = Path(folder, "x.pkg")
        path.write_bytes(data)
        return reading.read(path)


def _mac_packages() -> list[bytes]:
    """Made without other programs, so that they are here everywhere: the table, and what it points at."""
    import gzip
    import zlib

    def entry(name: str, data: bytes) -> bytes:
        head = (
            f"070707{1:06o}{2:06o}{0o100755:06o}{0:06o}{0:06o}{1:06o}{0:06o}{0:011o}{len(name) + 1:06o}{len(data):011o}"
        )
        return head.encode() + name.encode() + b"\0" + data

    archive = entry("./postinstall", b"#!/bin/sh\ncurl $3/x\n") + entry("TRAILER!!!", b"")
    parts = {
        "PackageInfo": b'<pkg-info identifier="a" version="1" install-location="/"><bundle path="./A.app" id="a"/></pkg-info>',
        "Payload": gzip.compress(archive, mtime=0),
        "Scripts": archive,
    }
    heap, files = bytes(20), ""
    for name, data in parts.items():
        files += (
            f"<file><name>{name}</name><type>file</type><mode>0644</mode><data><offset>{len(heap)}</offset><length>{len(data)}</length>"
            f'<size>{len(data)}</size><encoding style="application/octet-stream"/></data></file>'
        )
        heap += data
    table = f"<xar><toc><checksum style='sha1'><offset>0</offset><size>20</size></checksum>{files}</toc></xar>".encode()
    packed = zlib.compress(table)
    return [b"xar!" + struct.pack(">HHQQI", 28, 1, len(packed), len(table), 1) + packed + heap]


_MAC_PLAN = b"""[package]
id = "x"
name = "X"
version = "1.0"
identifier = "example.x"
[[media]]
file = "X.app"
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"
[when]
disk = "1 GB"
[[install]]
kind = "app"
source = "X.app"
[[install]]
kind = "settings"
domain = "a.b"
values = { a = true, b = [ "c" ] }
[[install]]
kind = "launchd"
label = "a.b"
program = [ "/bin/ls" ]
[[detect]]
kind = "bundle"
identifier = "a.b"
path = "/Applications/X.app"
"""
TARGETS: dict[str, tuple[Target, Callable[[], list[bytes]]]] = {
    "setup-logs": (
        setup_logs,
        lambda: [
            b"Error MOUPG Result = 0xC1900101, extend = 0x30018",
            b'<Program Name="Tide"><CompatibilityInfo BlockingType="Hard"/></Program>',
        ],
    ),
    "compound-file": (compound_file, lambda: _like(b"\xd0\xcf\x11\xe0")),
    "database": (database, lambda: _like(b"\xd0\xcf\x11\xe0")),
    "installer-database": (installer_database, lambda: [_samples()["small.msi"]]),
    "patch": (patch, lambda: [_samples()["msp"]]),
    "cabinet": (cabinet, lambda: _like(b"MSCF")),
    "program": (program, lambda: _like(b"MZ")),
    "setup-program": (setup_program, lambda: _like(b"MZ")),
    "packing": (packing, lambda: [b"\0" + b"\x03\0", b"\1\x31AY", b"\2" + b"\x5d\0\0\x80\0\0" + bytes(20), b"\3\1\x5d\0\0\x80\0\0" + bytes(20)]),
    "archive": (archive, lambda: _like(b"PK", b"7z", b"Rar!", b"MSCF")),
    "app-package": (app_package, lambda: _like(b"PK") or [b"PK\3\4"]),
    "app": (app, _apps),
    "hive": (hive, _hives),
    "driver": (driver, _drivers),
    "catalogue": (catalogue, _catalogues),
    "mac-package": (mac_package, _mac_packages),
    "capture": (capture, _captures),
    "link": (link, lambda: [struct.pack("<I16sI", 0x4C, bytes.fromhex("0114020000000000c000000000000046"), 0x1FF) + bytes(200)]),
    "registrar": (registrar, lambda: [b"HKCR { Tide.File = s 'Tide' { CLSID = s '{0}' } NoRemove CLSID { ForceRemove {1} = d '7' } }"]),
    "registry-text": (registry_text, lambda: [b'REGEDIT4\n\n[Software\\\\Tide] 123\n@="x"\n"n"=dword:00000001\n"m"=hex(7):61,00,00,00\n#link\n']),
    "image": (image, lambda: [bytes(32768) + b"\x01CD001\x01" + bytes(6000)]),
    "plan": (plan, _toml),
    "house-file": (_file("house.toml", _house), _toml),
    "suite-file": (_file("suite.toml", _suite), _toml),
    "transform": (transform, _transforms),
    "mac-program": (mac_program, _mac_programs),
    "mac-bundle": (_file("x.list", mac_bundle), _mac_lists),
    "mac-image": (mac_image, _mac_images),
    "apfs": (apfs_volume, _apfs_volumes),
    "mac-plan": (mac_plan, lambda: [_MAC_PLAN]),
    "bill": (bill, _bills),
    "events": (told_events, lambda: [b'{"v":1,"time":"2026-01-01T00:00:00Z","verb":"install","step":1,"event":"step-began","data":{"number":1,"title":"x"},"text":"step 1: x"}\n']),
    "answer-file": (answer_file, lambda: [b"[Application]\nName=Tide\nVersion=1.0\nCompany=Tidewell\n[{A-B}-DlgOrder]\nDlg0={A-B}-SdWelcome-0\nCount=1\n[{A-B}-SdWelcome-0]\nResult=1\n[ResponseResult]\nResultCode=0\n"]),
    "reg-file": (reg_file, lambda: [b'Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\Software\\Tide]\r\n@="x"\r\n"n"=dword:00000001\r\n"m"=hex(7):61,00,00,00,\\\r\n  00,00\r\n"gone"=-\r\n[-HKEY_CURRENT_USER\\Software\\Old]\r\n', '\ufeffWindows Registry Editor Version 5.00\r\n[HKEY_CURRENT_USER\\A]\r\n"a"="b"\r\n'.encode("utf-16-le")]),
    "machines-file": (_file("machines.toml", machines_file), lambda: [b'[quay]\nhost = "quay.example"\nuser = "prover"\nkey = "id"\nrevert = ["put", "back"]\n']),
    "inventory": (_file("given", inventory), lambda: [
        b"\0computer,identity,seen,site,memory,disk C\nA,S1,2026-01-01,quay,8000,9\nB,S1,2026-02-01,quay,,x\n", b"\0computer,program,version,code\nA,Lantern,6,{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}\n",
        b"\0computer,hardware,compatible,inf,date,rank\nA,USB\\A;USB\\B,,oem1.inf,2026-01-01,16711680\n",
        b'\1{"computer":"A","facts":{"windows":"10.0.1"},"programs":[{"program":"x"}],"devices":[{"hardware":["USB\\\\A"],"compatible":[],"rank":7}]}',
        b'\1[{"computer":"A","programs":[{"name":"L","version":"1"}],"facts":{"windows":"10.0","domain":""}}]', b"\2windows: 10.0.19045.1\nmulti-session: no\ncomputer: A\n",
        b"\3computer,package,version,code,seconds\nA,p,1,1603,4\n", b'\4{"v":1,"time":"2026-01-01T00:00:00","verb":"install","step":0,"event":"run-ended","data":{"code":0},"text":""}\n',
    ]),
    "delivery-index": (delivery_index, delivery_seeds),
    "machine-report": (machine_report, lambda: [b'{"v":1,"id":"' + b"0" * 32 + b'","sort":"ended","computer":"a","told":"","code":23,"events":"{}"}\n' + b"0" * 64 + b"\n"]),
    "update-file": (_file("update", update_file), lambda: [__import__("servicing_specimens").usual(), __import__("servicing_specimens").cabinet()]),
    "labels-file": (_file("labels", labels_file), lambda: [b'newer = "pass"\n[driver."a/b.inf"]\nwords = ["a"]\nsets = ["b"]\n']),
    "disk-volume": (disk_volume, lambda: [__import__("udf_specimens").volume({"a.txt": b"a", "\u043a": b"b" * 3000})[256 * 2048 :]]),
    "computers-list": (_file("list", computers_list), lambda: [b"computer\nA\n", b"dn: cn=a\nobjectClass: computer\ncn:: QQ==\n\n"]),
    "image-file": (image_file, image_seeds),
    "serviced-manifest": (serviced_manifest, lambda: [b'<assembly xmlns="urn:schemas-microsoft-com:asm.v3"><assemblyIdentity name="a" version="1"/><package restart="possible"><parent><assemblyIdentity name="b" version="10.0.19041.1"/></parent></package></assembly>']),
    "waves-file": (_file("waves.toml", waves_file), lambda: [b"begin = 2026-12-07\n[stop]\nlimit = '5 %'\n[when]\nhours = '20:00-06:00'\n[[wave]]\nname = 'a'\ncover = ['site']\n[[wave]]\nname = 'b'\nsize = 'rest'\n"]),
    "manifest": (_file("manifest.json", _manifest), _json),
    "workspace-records": (_file("x.json", _workspace_records), _json),
    "journal": (journal, lambda: [b"begin\tinstall\tx\r\nstep\t1\r\ndone\t1\tdone\t0\r\nundo\t23\r\nend\t0\r\n"]),
    "ledger": (ledger, lambda: [b"B\r\nF\tab\t-\tC:\\x%09\r\nV\tdword=7\t-\tHKLM\t64\tk\tn\r\nK\tHKLM\t64\tk\r\nU\tcmd\r\n"]),
    "recording": (recording, _json),
    "result": (result, lambda: [_RESULT]),
    "languages": (languages, lambda: [b"\0>=10.0, <11", b"\x0030 min", b'\2msiexec /i "a b.msi" /qn A="b"', b"\3NOT (A=1 AND B>\"x\") OR %PATH~=\"y\""]),
    "edits": (edits, lambda: [b"\0[site]\r\nname=x\r\n", b"\1port = 8\n", b'\2{"site": [{"name": 1}]}']),
}  # fmt: skip

PROMISED: dict[str, tuple[type[BaseException], ...]] = {
    "languages": (ValueError,),
    "edits": (ValueError,),
    "link": (ValueError,),
    "registrar": (ValueError,),
    "reg-file": (ValueError,),
    "ledger": (ValueError,),
    "recording": (msgspec.MsgspecError, UnicodeDecodeError),
}


def promised(name: str) -> tuple[type[BaseException], ...]:
    return (YendoError, *PROMISED.get(name, ()))
