"""Programs and bundles of macOS: those of other makers are whole, one byte is noticed, and what was edited is named."""

from __future__ import annotations

import os
import plistlib
import random
import shutil
import struct
from collections.abc import Callable, Iterator
from pathlib import Path

import mac_signing
import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.errors import Unreadable
from yendo.formats import mach_o
from yendo.mac import bundles

HOW = "YENDO_MAC_PROGRAMS names a folder with unpacked wheels for macOS, or npm packages"


def _foreign() -> list[Path]:
    top = os.environ.get("YENDO_MAC_PROGRAMS", "")
    if not top:
        missing("programs for macOS of other makers", HOW)
    found = [path for path in sorted(Path(top).rglob("*")) if not path.is_symlink() and bundles.is_program(path)]
    return [path for path in found if path.suffix != ".a"]


def _signed(path: Path) -> list[mach_o.MachSlice]:
    with path.open("rb") as file:
        return [one for one in mach_o.read(file) if one.signature]


@unix
def test_foreign_programs_are_whole_and_one_byte_is_noticed(tmp_path: Path) -> None:
    programs = [path for path in _foreign() if _signed(path)]
    whole = noticed = 0
    for path in programs:
        assert all(one.signature and not one.signature.problem for one in _signed(path)), path
        whole += 1
    chance, copy = random.Random(1), tmp_path / "copy"
    for number in range(200):
        path = programs[number % len(programs)]
        one = chance.choice(_signed(path))
        data = bytearray(path.read_bytes())
        assert one.signature is not None
        end = data.index(one.signature.directory, one.offset)
        at = chance.randrange(one.offset + 4096, one.offset + end - one.offset - 64)
        data[at] ^= 1 << chance.randrange(8)
        copy.write_bytes(data)
        noticed += any(found.signature and found.signature.problem for found in _signed(copy))
    assert noticed == 200 and whole == len(programs)
    if os.environ.get("YENDO_THOROUGH"):
        assert whole >= 100, whole


@unix
def test_signed_by_a_vendor(tmp_path: Path) -> None:
    """By Apple's root, at the end of a chain that is in it; one byte of the list of pages, and it does not hold."""
    pytest.importorskip("cryptography")
    path = next(
        (path for path in _foreign() if any(one.signature and one.signature.cms for one in _signed(path))), None
    )
    if path is None:
        missing("a program for macOS that a vendor signed", HOW)
        return
    (found,) = bundles.program(path).code
    assert found.held == "holds" and found.apple and found.chain[0].startswith("Developer ID Application: ")
    assert found.team and found.hardened
    one = next(one for one in _signed(path) if one.signature and one.signature.cms)
    assert one.signature is not None
    data = bytearray(path.read_bytes())
    at = data.index(one.signature.directory) + one.signature.directory.index(one.signature.identifier.encode())
    data[at] ^= 1
    (tmp_path / "copy").write_bytes(data)
    (altered,) = bundles.program(tmp_path / "copy").code
    assert altered.held == "broken" and "other content" in altered.problem


FILES = {
    "Resources/lantern.icns": b"icns",
    "Resources/en.lproj/text.strings": b"one",
    "Resources/deep/tides.dat": bytes(9000),
    "PkgInfo": b"APPL????",
}


def _change(name: str) -> Callable[[Path], None]:
    return lambda top: (top / name).write_bytes((top / name).read_bytes() + b"x") and None


def _edit_the_list(top: Path) -> None:
    path = top / "Info.plist"
    path.write_bytes(plistlib.dumps({**plistlib.loads(path.read_bytes()), "LSUIElement": True}))


def _link(top: Path) -> None:
    (top / "Resources" / "lantern.icns").unlink()
    (top / "Resources" / "lantern.icns").symlink_to("deep/tides.dat")


EDITS: list[tuple[str, Callable[[Path], object], str]] = [
    ("a file changed", _change("Resources/deep/tides.dat"), "Resources/deep/tides.dat"),
    ("a file gone", lambda top: (top / "Resources" / "lantern.icns").unlink(), "Resources/lantern.icns"),
    ("a file that came", lambda top: (top / "Resources" / "own.dat").write_bytes(b"x"), "Resources/own.dat"),
    ("the property list edited", _edit_the_list, "Info.plist"),
    ("the seal edited", _change("_CodeSignature/CodeResources"), "_CodeSignature/CodeResources"),
    ("a link in its place", _link, "Resources/lantern.icns"),
    ("a program that came", lambda top: (top / "MacOS" / "helper").write_bytes(mac_signing.program()), "MacOS/helper"),
]  # fmt: skip


@unix
@pytest.mark.parametrize(("what", "edit", "named"), EDITS, ids=[one[0] for one in EDITS])
def test_a_bundle_that_was_edited(tmp_path: Path, what: str, edit: Callable[[Path], object], named: str) -> None:
    app = mac_signing.bundle(tmp_path / "Lantern.app", FILES)
    whole = bundles.read(app)
    assert (whole.sealed, whole.differing) == ("whole", ()) and whole.code[0].held == "ad hoc"
    (app / "Contents" / ".DS_Store").write_bytes(b"what the Finder writes")
    (app / "Contents" / "Resources" / "en.lproj" / "text.strings").unlink()  # a language that somebody took out
    assert bundles.read(app).sealed == "whole"
    edit(app / "Contents")
    found = bundles.read(app)
    assert found.sealed == "broken" and {name for name, _ in found.differing} == {named}, found.differing
    assert "seal" in [finding.id for finding in found.findings]


@unix
def test_bundles_of_other_makers(tmp_path: Path) -> None:
    """Whole as they came; each edit of fifty is named."""
    top = os.environ.get("YENDO_MAC_PROGRAMS", "")
    apps = [path for path in sorted(Path(top).rglob("*.app")) if top and (path / "Contents" / "Info.plist").is_file()]
    sealed = [path for path in apps if bundles.read(path).sealed != "none"]
    if not sealed:
        pytest.skip("no sealed bundle in YENDO_MAC_PROGRAMS")
    assert all(bundles.read(path).sealed == "whole" for path in sealed)
    chance, named = random.Random(3), 0
    for number in range(50):
        shutil.rmtree(tmp_path / "Copy.app", ignore_errors=True)
        shutil.copytree(sealed[number % len(sealed)], tmp_path / "Copy.app", symlinks=True)
        inner = tmp_path / "Copy.app" / "Contents"
        files = [path for path in sorted(inner.rglob("*")) if path.is_file() and not path.is_symlink()]
        chosen = chance.choice(files)
        if number % 3 == 0:
            chosen = inner / "Resources" / f"{number}.dat"
            chosen.write_bytes(b"x")
        else:
            data = bytearray(chosen.read_bytes())
            # the head of a file for several processors is signed by nobody, here and on a Mac
            first = _signed(chosen)[0].offset + 4096 if bundles.is_program(chosen) else 0
            data[first + chance.randrange(min(len(data), 4000))] ^= 1
            chosen.write_bytes(data)
        try:
            found = bundles.read(tmp_path / "Copy.app")
        except Unreadable:  # a property list that is none any more
            named += 1
            continue
        broken = {name for name, _ in found.differing} | {one.path for one in found.code if one.held == "broken"}
        assert chosen.relative_to(inner).as_posix() in broken, (chosen, found.differing)
        named += 1
    assert named == 50


def test_what_is_found(tmp_path: Path, yendo: Yendo) -> None:
    asked = {"NSCameraUsageDescription": "to read gauges", "LSMinimumSystemVersion": "12.0", "CFBundleName": "Lantern"}
    helper = mac_signing.signed(
        mac_signing.program(0x01000007), "helper", entitlements={"com.apple.security.get-task-allow": True}
    )
    app = mac_signing.bundle(
        tmp_path / "Lantern.app", {**FILES, "MacOS/helper": helper, "Library/LaunchAgents/a.plist": b"x"}, info=asked
    )
    said = parsed(yendo("read", app, "--json"))
    assert (said["schema"], said["identifier"], said["oldest"]) == (
        "yendo.mac-app/1",
        "example.tidewell.lantern",
        "12.0",
    )
    assert [(one["path"], list(one["processors"])) for one in said["code"]] == [
        ("MacOS/lantern", ["arm64"]), ("MacOS/helper", ["x86_64"]),
    ]  # fmt: skip
    assert [what for what, _ in said["asks"]] == ["the camera", "a background item, a.plist"]
    assert {one["id"] for one in said["findings"]} == {"ad-hoc", "no-version", "debuggable", "arm-only"}
    text = yendo("read", app).stdout
    assert "every file is as it was sealed" in text and "What has to be allowed" in text
    (tmp_path / "plain").write_bytes(mac_signing.program())
    assert "its signature lies outside it" in yendo("read", tmp_path / "plain").stdout


def test_several_processors(tmp_path: Path) -> None:
    thin = [mac_signing.signed(mac_signing.program(one), "x") for one in (0x01000007, 0x0100000C)]
    head, at = struct.pack(">II", 0xCAFEBABE, 2), 4096
    body = b""
    for number, data in enumerate(thin):
        head += struct.pack(">IIIII", (0x01000007, 0x0100000C)[number], 0, at + len(body), len(data), 12)
        body += data
    path = tmp_path / "both"
    path.write_bytes(head.ljust(at, b"\0") + body)
    (code,) = bundles.program(path).code
    assert (list(code.processors), code.held) == (["x86_64", "arm64"], "ad hoc")
    path.write_bytes(head.ljust(at, b"\0") + body[:-9000])
    with path.open("rb") as file, pytest.raises(Unreadable, match="lies outside"):
        mach_o.read(file)


def _lists() -> Iterator[bytes]:
    yield b"\xca\xfe\xba\xbe\x00\x00\x00\x34" + bytes(40)  # a Java class, which begins the same
    yield b"\xcf\xfa\xed\xfe"
    yield mac_signing.program()[:40]


@pytest.mark.parametrize("data", list(_lists()))
def test_what_is_none(tmp_path: Path, data: bytes) -> None:
    (tmp_path / "x").write_bytes(data)
    with (tmp_path / "x").open("rb") as file, pytest.raises(Unreadable):
        mach_o.read(file)


@unix
def test_links_in_a_bundle_are_not_followed(tmp_path: Path) -> None:
    for name in ("Info.plist", "_CodeSignature/CodeResources", "MacOS/lantern"):
        app = mac_signing.bundle(tmp_path / name.replace("/", "-") / "Lantern.app", FILES)
        path = app / "Contents" / name
        shutil.move(path, tmp_path / "elsewhere")
        path.symlink_to(tmp_path / "elsewhere")
        if name == "MacOS/lantern":
            assert bundles.read(app).code == ()
        else:
            with pytest.raises(Unreadable, match="is a link"):
                bundles.read(app)


def test_a_property_list_that_is_none(tmp_path: Path, yendo: Yendo) -> None:
    app = mac_signing.bundle(tmp_path / "Lantern.app", FILES)
    for data in (
        b"",
        b"<plist><array/></plist>",
        b"bplist00" + bytes(40),
        b"<?xml version='1.0'?><!DOCTYPE x [<!ENTITY a 'b'>]><plist>",
    ):
        (app / "Contents" / "Info.plist").write_bytes(data)
        assert "property list" in yendo("read", app, expect=3).stderr
