"""Signing bundles and programs of macOS: the same bytes as other makers' tools, judged by openssl and by the reader."""

from __future__ import annotations

import io
import os
import plistlib
import shutil
import struct
import subprocess
from collections.abc import Iterator
from pathlib import Path

import mac_signing
import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.demo import half
from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats import mach_o, mach_o_writer
from yendo.formats.mach_o import INFO, RESOURCES, MachSlice
from yendo.formats.mach_o_writer import CodeWanted
from yendo.mac import bundles, sealing
from yendo.package import code_signing, signing

HOW = "YENDO_MAC_PROGRAMS names a folder with unpacked wheels for macOS, or npm packages"
VENDORS = b"\x06\x0a\x2a\x86\x48\x86\xf7\x63\x64\x06\x01\x0d"


def _foreign() -> Iterator[tuple[Path, bytes, MachSlice]]:
    """Programs of other makers that are signed, one a processor: where, its bytes, what it says."""
    top = os.environ.get("YENDO_MAC_PROGRAMS", "")
    for path in sorted(Path(top).rglob("*")) if top else ():
        if path.is_file() and not path.is_symlink() and bundles.is_program(path):
            with path.open("rb") as file:
                try:
                    slices = mach_o.read(file, path.name)
                except Unreadable:  # an archive of object files begins alike
                    continue
                for one in slices:
                    if one.signature:
                        file.seek(one.offset)
                        yield path, file.read(one.size), one


def _signed_again(data: bytes, wanted: CodeWanted, room: int, monkeypatch: pytest.MonkeyPatch) -> bytes:
    """By ours, with as much room as the other's tool took."""
    out = io.BytesIO()
    monkeypatch.setattr(mach_o_writer, "_size", lambda *_: room)
    mach_o_writer.sign(io.BytesIO(data), out, wanted, None, 0, "it")
    return out.getvalue()


@unix
def test_the_same_bytes_as_other_tools(monkeypatch: pytest.MonkeyPatch) -> None:
    """Programs that others signed by nobody come out the same; of one that its vendor signed the list of pages does."""
    same = vendors = 0
    for path, data, one in _foreign():
        held = one.signature
        assert held is not None
        whole = MachSlice(one.processor, one.sort, one.oldest, 0, one.size, None)
        room = mach_o_writer.room_of(io.BytesIO(data), whole)
        beside = {}
        if INFO in held.special and path.parent.name == "MacOS":
            top = path.parent.parent
            beside = {INFO: (top / "Info.plist").read_bytes(), RESOURCES: (top / sealing.SEAL).read_bytes()}
        if held.flags == mach_o.AD_HOC and not held.cms:
            made = _signed_again(data, CodeWanted(held.identifier, beside=beside), room, monkeypatch)
            end = data.rindex(b"\xfa\xde\x0c\xc0")
            end += struct.unpack_from(">I", data, end + 4)[0]
            assert (made[:end], len(made)) == (data[:end], len(data)), path
            same += 1
        elif held.cms and held.team:
            needed = mach_o_writer.by_vendor(held.identifier, held.team)
            wanted = CodeWanted(held.identifier, held.team, held.flags, beside, needed)
            made = _signed_again(data, wanted, room, monkeypatch)
            (again,) = mach_o.read(io.BytesIO(made))
            assert again.signature is not None and again.signature.directory == held.directory, path
            vendors += 1
    if not vendors:
        missing("signed programs for macOS", HOW)
    assert same >= (250 if os.environ.get("YENDO_THOROUGH") else 0)


@unix
def test_the_same_seal_as_apples_tool() -> None:
    top = os.environ.get("YENDO_MAC_PROGRAMS", "")
    seals = sorted(Path(top).rglob("CodeResources")) if top else []
    if not seals:
        pytest.skip("no sealed bundle in YENDO_MAC_PROGRAMS")
    for path in seals:
        assert sealing.seal(sealing.found(path.parent.parent.parent), {}) == path.read_bytes(), path


@pytest.fixture
def identity(tmp_path: Path) -> Path:
    """Key, certificate to give programs out, and the root above it; made by openssl."""
    if not shutil.which("openssl"):
        missing("openssl", "apt-get install openssl")
    folder = tmp_path / "keys"
    folder.mkdir()
    (folder / "ext").write_text(
        "extendedKeyUsage=critical,codeSigning\nkeyUsage=critical,digitalSignature\n1.2.840.113635.100.6.1.13=DER:0500\n"
    )
    new = ["-newkey", "rsa:2048", "-nodes"]
    subject = "/CN=Developer ID Application: Marrowby/OU=MARROWBY01"
    for line in (
        ["req", "-x509", *new, "-keyout", "root.key", "-out", "root.pem", "-subj", "/CN=Marrowby Root", "-days", "900"],
        ["req", *new, "-keyout", "own.key", "-out", "own.csr", "-subj", subject],
        ["x509", "-req", "-in", "own.csr", "-CA", "root.pem", "-CAkey", "root.key", "-CAcreateserial", "-out", "own.pem", "-days", "800", "-extfile", "ext"],
    ):  # fmt: skip
        subprocess.run(["openssl", *line], cwd=folder, check=True, capture_output=True)
    names = ("own.key", "own.pem", "root.pem")
    (folder / "id.pem").write_bytes(b"".join((folder / name).read_bytes() for name in names))
    return folder


@pytest.fixture
def app(tmp_path: Path) -> Path:
    """A bundle with a framework, a helper that is a bundle itself, a tool, a plug-in's data, and links."""
    made = half.app(tmp_path / "Lantern.app")
    top = made / "Contents"
    program = (top / "MacOS" / plistlib.loads((top / "Info.plist").read_bytes())["CFBundleExecutable"]).read_bytes()
    framework = top / "Frameworks" / "Tide.framework"
    inner = framework / "Versions" / "A"
    (inner / "Resources" / "en.lproj").mkdir(parents=True)
    (inner / "Tide").write_bytes(program)
    (inner / "Resources" / "en.lproj" / "words.strings").write_bytes(b'"tide" = "tide";')
    given = {"CFBundleIdentifier": "example.tidewell.tide", "CFBundleExecutable": "Tide"}
    (inner / "Resources" / "Info.plist").write_bytes(plistlib.dumps(given))
    (framework / "Versions" / "Current").symlink_to("A")
    (framework / "Tide").symlink_to("Versions/Current/Tide")
    helper = half.app(top / "Helpers" / "Gauge.app")
    assert helper.is_dir()
    (top / "MacOS" / "gauge-tool").write_bytes(program)
    (top / "Resources" / "link").symlink_to("tides.dat")
    (top / "CodeResources").write_bytes(b"the notary's ticket for the signature that was")
    return made


def _code(app: Path) -> dict[str, str]:
    return {one.path: one.held for one in bundles.read(app).code}


@unix
def test_inside_out(app: Path, identity: Path, tmp_path: Path, yendo: Yendo) -> None:
    done = yendo("sign", app, "--identity", identity / "id.pem", "--trust", identity / "own.pem", "--json")
    assert parsed(done)["holds"] is True
    found = bundles.read(app)
    assert (found.sealed, found.differing, found.ticket) == ("whole", (), False)
    assert set(_code(app).values()) == {"holds"} and len(found.code) == 4
    assert {one.team for one in found.code} == {"MARROWBY01"} and all(one.hardened for one in found.code)
    helper = app / "Contents" / "Helpers" / "Gauge.app"
    assert bundles.read(helper).sealed == "whole"
    listed = plistlib.loads((app / "Contents" / sealing.SEAL).read_bytes())["files2"]
    assert listed["Resources/link"] == {"symlink": "tides.dat"}
    assert "Helpers/Gauge.app" in listed and "Helpers/Gauge.app/Contents/Info.plist" not in listed
    needed = 'identifier "example.tidewell.tide" and anchor apple generic'
    assert listed["Frameworks/Tide.framework"]["requirement"].startswith(needed)
    # the message by another judge, over what ours says is signed
    program = app / "Contents" / found.code[0].path
    with program.open("rb") as file:
        (one, *_) = mach_o.read(file)
    assert one.signature is not None
    (tmp_path / "cms").write_bytes(one.signature.cms)
    (tmp_path / "directory").write_bytes(one.signature.directory)
    line = ["openssl", "cms", "-verify", "-inform", "DER", "-in", "cms", "-content", "directory", "-binary", "-CAfile", identity / "root.pem", "-purpose", "any"]  # fmt: skip
    subprocess.run(line, cwd=tmp_path, check=True, capture_output=True)
    # what it must be, as its vendor's certificate says
    assert VENDORS in program.read_bytes()
    # signed once more it is the same bytes, and what is edited inside afterwards is noticed
    once = {path: path.read_bytes() for path in sorted(app.rglob("*")) if path.is_file() and not path.is_symlink()}
    yendo("sign", app, "--identity", identity / "id.pem")
    assert once == {path: path.read_bytes() for path in once}
    inner = app / "Contents" / "Frameworks" / "Tide.framework" / "Versions" / "A" / "Tide"
    data = bytearray(inner.read_bytes())
    data[-9000] ^= 1
    inner.write_bytes(data)
    assert "does not hold" in yendo("sign", app, "--verify", expect=1).stdout


@unix
def test_by_nobody_and_what_it_may(app: Path, tmp_path: Path, yendo: Yendo) -> None:
    """After an edit it is whole again; what a program was allowed stays with it."""
    may = tmp_path / "may.plist"
    may.write_bytes(plistlib.dumps({"com.apple.security.device.usb": True}))
    yendo("sign", app, "--ad-hoc", "--entitlements", may)
    assert bundles.read(app).code[0].entitlements == ("com.apple.security.device.usb",)
    info = app / "Contents" / "Info.plist"
    info.write_bytes(plistlib.dumps({**plistlib.loads(info.read_bytes()), "SUEnableAutomaticChecks": False}))
    assert bundles.read(app).sealed == "broken"
    assert "signed by nobody" in yendo("sign", app, "--ad-hoc").stdout
    again = bundles.read(app)
    assert (again.sealed, again.code[0].entitlements) == ("whole", ("com.apple.security.device.usb",))
    may.write_bytes(b"no list")
    assert "no property list" in yendo("sign", app, "--ad-hoc", "--entitlements", may, expect=2).stderr
    assert "for bundles and programs" in yendo("sign", tmp_path, "--ad-hoc", expect=2).stderr


@unix
def test_a_key_that_is_somewhere_else(app: Path, identity: Path, tmp_path: Path, yendo: Yendo) -> None:
    """What has to be signed lies in the folder; nothing changes before all of it is there."""
    before = (app / "Contents" / "Info.plist").stat().st_ino
    line = ["sign", app, "--request", "asked", "--certificate", identity / "own.pem"]
    for _ in range(4):
        done = yendo(*line, expect=None)
        if done.returncode == 0:
            break
        assert "waits for" in done.stdout and (app / "Contents" / "Info.plist").stat().st_ino == before
        for place in (tmp_path / "asked").glob("*.tosign"):
            out = place.with_suffix(".signature")
            subprocess.run(
                ["openssl", "dgst", "-sha256", "-sign", identity / "own.key", "-out", out, place], check=True
            )
    assert done.returncode == 0 and set(_code(app).values()) == {"holds"}


@unix
def test_what_is_not_signed(app: Path, identity: Path, tmp_path: Path) -> None:
    who = signing.identity(identity / "id.pem")
    (app / "Contents" / "MacOS" / "start.sh").write_text("#!/bin/sh\n")
    before = _code(app)
    with pytest.raises(NotCovered, match=r"MacOS/start.sh lies where only code may"):
        code_signing.sign_code(app, who)
    assert _code(app) == before and not list(tmp_path.glob(".yendo-sign*"))
    other = tmp_path / "root-id.pem"  # the root is for no programs
    other.write_bytes((identity / "root.key").read_bytes() + (identity / "root.pem").read_bytes())
    with pytest.raises(Usage, match="not for signing programs"):
        code_signing.sign_code(app, signing.identity(other))
    bare = tmp_path / "bare"
    bare.write_bytes(mac_signing.signed(mac_signing.program(), "bare"))
    with pytest.raises(NotCovered, match="cannot be signed"):
        code_signing.sign_code(bare, who)
