"""Modern app packages: read, drafted, judged. The packages are made here: the registries have no real one, and the layer
installs none, so what is held against others is the archive (the library's and 7-Zip's) and the signature (OpenSSL's).
"""

from __future__ import annotations

import base64
import hashlib
import json
import shutil
import struct
import subprocess
import zipfile
from pathlib import Path

import pytest
from conftest import Yendo
from hypothesis import given
from hypothesis import strategies as some
from signing import _message as signed_message

from yendo.errors import Unreadable
from yendo.formats import app_manifest
from yendo.installers import modern_app, recognise

PUBLISHER = "CN=Tidewell"
MANIFEST = """<?xml version="1.0" encoding="utf-8"?>
<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"
  xmlns:uap="http://schemas.microsoft.com/appx/manifest/uap/windows10"
  xmlns:desktop="http://schemas.microsoft.com/appx/manifest/desktop/windows10"
  xmlns:rescap="http://schemas.microsoft.com/appx/manifest/foundation/windows10/restrictedcapabilities">
  <Identity Name="Tidewell.Tide" Version="1.2.3.0" Publisher="{publisher}" ProcessorArchitecture="x64"/>
  <Properties><DisplayName>Tide tables</DisplayName><PublisherDisplayName>Tidewell</PublisherDisplayName><Logo>logo.png</Logo></Properties>
  <Resources><Resource Language="en-gb"/></Resources>
  <Dependencies>
    <TargetDeviceFamily Name="Windows.Desktop" MinVersion="10.0.19041.0" MaxVersionTested="10.0.22621.0"/>
    <PackageDependency Name="Tidewell.Runtime" MinVersion="3.1.0.0" Publisher="CN=Tidewell"/>
  </Dependencies>
  <Applications><Application Id="Tide" Executable="tide\\tide.exe" EntryPoint="Windows.FullTrustApplication">
    <uap:VisualElements DisplayName="Tide tables" Description="Tides" BackgroundColor="transparent" Square150x150Logo="logo.png" Square44x44Logo="logo.png"/>
    <Extensions>
      <uap:Extension Category="windows.protocol"><uap:Protocol Name="tide"/></uap:Extension>
      <uap:Extension Category="windows.fileTypeAssociation"><uap:FileTypeAssociation Name="tables">
        <uap:SupportedFileTypes><uap:FileType>.tide</uap:FileType></uap:SupportedFileTypes>
      </uap:FileTypeAssociation></uap:Extension>
      <desktop:Extension Category="windows.startupTask"><desktop:StartupTask TaskId="TideStart"/></desktop:Extension>
    </Extensions>
  </Application></Applications>
  <Capabilities><rescap:Capability Name="runFullTrust"/></Capabilities>
</Package>"""
FILES = {"logo.png": b"\x89PNG", "tide/tide.exe": b"MZ" + bytes(70000), "tide/tables%20of%20quay.dat": b"3\r\n" * 50}


def block_map(files: dict[str, bytes]) -> bytes:
    entries = []
    for name, data in files.items():
        blocks = "".join(
            f'<Block Hash="{base64.b64encode(hashlib.sha256(data[at : at + 65536]).digest()).decode()}"/>'
            for at in range(0, len(data), 65536)
        )
        shown = name.replace("%20", " ").replace("/", "\\")
        entries.append(f'<File Name="{shown}" Size="{len(data)}" LfhSize="30">{blocks}</File>')
    head = '<BlockMap xmlns="http://schemas.microsoft.com/appx/2010/blockmap" HashMethod="http://www.w3.org/2001/04/xmlenc#sha256">'
    return f"{head}{''.join(entries)}</BlockMap>".encode()


def app(
    path: Path, *, publisher: str = PUBLISHER, signer: str | None = None, change: dict[str, bytes] | None = None
) -> Path:
    """A package; signed by a certificate of a name, and then changed, where that is asked for."""
    members = {"AppxManifest.xml": MANIFEST.format(publisher=publisher).encode(), **FILES}
    plan = block_map(members)
    types = b'<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"/>'
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in (members | (change or {})).items():
            archive.writestr(name, data)
        archive.writestr(app_manifest.BLOCK_MAP, plan)
        archive.writestr(app_manifest.TYPES, types)
    if signer:
        whole = path.read_bytes()
        (start,) = struct.unpack_from("<I", whole, len(whole) - 6)
        parts = {"AXPC": whole[:start], "AXCD": whole[start:], "AXCT": types, "AXBM": plan}
        digest = b"APPX" + b"".join(mark.encode() + hashlib.sha256(data).digest() for mark, data in parts.items())
        with zipfile.ZipFile(path, "a") as archive:
            archive.writestr(app_manifest.SIGNATURE, b"PKCX" + signed_message(digest, signer))
    return path


def test_what_it_says(tmp_path: Path, yendo: Yendo) -> None:
    path = app(tmp_path / "tide.msix")
    account = recognise.read(path)
    assert (account.family, account.identity.name, account.identity.version) == ("msix", "Tide tables", "1.2.3.0")
    assert (
        account.identity.architecture == "x64" and account.least_build == 19041 and account.processes == ("tide.exe",)
    )
    rows = [(one.name, one.value) for one in account.behaviour]
    assert ("full name", "Tidewell.Tide_1.2.3.0_x64__" + app_manifest.read(path).identity.publisher_id) in rows
    assert {value for name, value in rows if name == "adds"} == {
        "protocol: tide",
        "fileTypeAssociation: tables, .tide",
        "startupTask: TideStart",
    }
    assert ("may, if granted", "runFullTrust") in rows and account.needs[0].startswith("Tidewell.Runtime 3.1.0.0")
    told = yendo("read", path).stdout
    assert "Tide tables" in told and "not signed" in told and "yendo try" not in told
    keys = json.loads(yendo("read", path, "--json").stdout)
    assert keys["silent"]["install"]["command"].startswith("dism.exe /online") and keys["family"] == "msix"


def test_drafted_and_proved(tmp_path: Path, yendo: Yendo) -> None:
    yendo("draft", "w", app(tmp_path / "tide.msix"))
    plan = (tmp_path / "w" / "plan.toml").read_text("utf-8")
    assert 'kind = "msix"' in plan and 'kind = "app"' in plan and "Tidewell.Runtime" in plan and "10.0.19041" in plan
    told = " ".join(yendo("check", "w", expect=1).stdout.split())
    assert "it is not signed" in told and "Tidewell.Runtime" in told
    yendo("draft", "v", app(tmp_path / "signed.msix", signer="Tidewell"))
    path = tmp_path / "v" / "plan.toml"
    runtime = tmp_path / "v" / "media" / "runtime.msix"
    with zipfile.ZipFile(app(runtime, signer="Tidewell")) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    named = members["AppxManifest.xml"].replace(b'Name="Tidewell.Tide"', b'Name="Tidewell.Runtime"')
    named = named.replace(b'Version="1.2.3.0"', b'Version="3.1.2.0"', 1)
    with zipfile.ZipFile(runtime, "w") as archive:
        for name, data in (members | {"AppxManifest.xml": named}).items():
            archive.writestr(name, data)
    yendo("add", "media", runtime, "--into", "v")
    path.write_text(path.read_text("utf-8").replace("needs = []", 'needs = ["runtime.msix"]'), "utf-8")
    assert "error" not in yendo("check", "v", expect=None).stdout
    yendo("build", "v")
    assert "Proved on the simulated machine" in " ".join(yendo("prove", "v").stdout.split())


def test_a_bundle(tmp_path: Path, yendo: Yendo) -> None:
    body = (
        '<Bundle xmlns="http://schemas.microsoft.com/appx/2013/bundle"><Identity Name="Tidewell.Tide" Version="2.0.0.0" '
        'Publisher="CN=Tidewell"/><Packages><Package Type="application" Version="2.0.0.0" Architecture="x64" FileName="a.msix" '
        'Size="100"/><Package Type="resource" Version="2.0.0.0" FileName="de.msix" Size="7"/></Packages></Bundle>'
    )
    with zipfile.ZipFile(tmp_path / "tide.msixbundle", "w") as archive:
        archive.writestr("AppxMetadata/AppxBundleManifest.xml", body)
    account = recognise.read(tmp_path / "tide.msixbundle")
    assert account.identity.architecture == "x64" and [one.name for one in account.contents] == ["a.msix", "de.msix"]
    assert "a bundle" in (account.says_of_itself or "")


def test_who_signed_it(tmp_path: Path, yendo: Yendo) -> None:
    good = recognise.read(app(tmp_path / "good.msix", signer="Tidewell"), verify=True).signature
    assert good and good.signer == "Tidewell" and good.digest_holds and "ends on" in good.note
    other = recognise.read(app(tmp_path / "other.msix", signer="Kettle"), verify=True)
    assert any("its publisher is CN=Tidewell, and it is signed by Kettle" in spot.what for spot in other.blind_spots)
    change = {"tide/tide.exe": b"MZ" + b"\x01" * 70000}
    changed = recognise.read(app(tmp_path / "changed.msix", signer="Tidewell", change=change), verify=True)
    assert changed.signature and changed.signature.digest_holds is False
    assert any("tide/tide.exe is not what was signed" in spot.what for spot in changed.blind_spots)


def test_the_signature_by_openssl(tmp_path: Path) -> None:
    """Another reader takes the message apart, and finds the same certificate."""
    if not shutil.which("openssl"):
        pytest.skip("openssl is not here")
    raw = app_manifest.signature(app(tmp_path / "a.msix", signer="Tidewell"))
    assert raw
    (tmp_path / "a.p7").write_bytes(raw)
    told = subprocess.run(
        ["openssl", "pkcs7", "-inform", "DER", "-in", str(tmp_path / "a.p7"), "-print_certs", "-noout"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.returncode == 0 and "CN = Tidewell" in told.stdout.replace("CN=", "CN = ")


@pytest.mark.parametrize(
    ("publisher", "subject", "same"),
    [
        ("CN=Tidewell", {"common_name": "Tidewell"}, True),
        (
            'CN="Tide, well", O=T\\, Ltd., C=GB',
            {"common_name": "Tide, well", "organization_name": "T, Ltd.", "country_name": "GB"},
            True,
        ),
        ("CN=Tidewell, O=Other", {"common_name": "Tidewell"}, False),
        ("CN=Tidewell", {"common_name": "Tidewell", "organization_name": "Other"}, False),
        ("CN=Tidewell, OID.2.5.4.99=x", {"common_name": "Tidewell", "2.5.4.99": "x"}, True),
    ],
)
def test_names(publisher: str, subject: dict[str, str], same: bool) -> None:
    assert modern_app.same_name(publisher, subject) == same


def test_damaged_ones(tmp_path: Path) -> None:
    path = app(tmp_path / "a.msix", signer="Tidewell")
    good = path.read_bytes()
    with zipfile.ZipFile(tmp_path / "b.msix", "w") as archive:
        archive.writestr("AppxManifest.xml", MANIFEST.format(publisher=PUBLISHER))
        archive.writestr(app_manifest.SIGNATURE, b"none")
    with pytest.raises(Unreadable, match="does not begin with PKCX"):
        recognise.read(tmp_path / "b.msix")
    for cut in range(40, len(good), max(1, len(good) // 25)):
        path.write_bytes(good[:cut])
        with pytest.raises(Unreadable):
            modern_app.account(path)


@given(
    some.dictionaries(
        some.text("abcdef/", min_size=1, max_size=8).filter(
            lambda name: not name.startswith("/") and not name.endswith("/") and "//" not in name
        ),
        some.binary(max_size=200),
        max_size=5,
    )
)
def test_block_maps(files: dict[str, bytes]) -> None:
    """What the map says of files is found to hold, and any byte that is another is found."""
    import tempfile

    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "a.msix"
        with zipfile.ZipFile(path, "w") as archive:
            for name, data in files.items():
                archive.writestr(name, data)
            archive.writestr(app_manifest.BLOCK_MAP, block_map(files))
        assert app_manifest.differing(path) == []
        if files:
            changed = sorted(files)[0]
            with zipfile.ZipFile(path, "w") as archive:
                for name, data in files.items():
                    archive.writestr(name, data + b"x" if name == changed else data)
                archive.writestr(app_manifest.BLOCK_MAP, block_map(files))
            assert app_manifest.differing(path) == [changed]
