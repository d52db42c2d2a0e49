"""App packages made of what was captured: read by others (7-Zip, libhivex, osslsigncode), their rules broken one by one."""

from __future__ import annotations

import datetime
import io
import random
import re
import shutil
import subprocess
import zipfile
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pytest
from conftest import Yendo, missing, unix
from test_capture import ALL, PROGRAM, caught, workspace
from test_forms import CONTENTS, LEFT, SERVICE

from yendo import forms
from yendo.effects import Environment, File, IniValue, RegistryValue, Service, Shortcut
from yendo.errors import Unreadable, Usage
from yendo.formats import app_manifest, app_writer
from yendo.formats.app_writer import AppMember
from yendo.installers import app_contents, app_rules, modern_app
from yendo.package import file_signing
from yendo.package.signing import identity
from yendo.plan import Plan, read

CLASSES = "Software\\Classes\\"
MENU = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs"
CLSID = r"CLSID\{7B1C2E0A-1111-4222-8333-ABCDEF012345}"
VERIFIER = shutil.which("osslsigncode")
TAKES_APPS = VERIFIER and re.search(
    r"osslsigncode (2\.[6-9]|2\.\d\d|[3-9])",
    subprocess.run([VERIFIER, "--version"], capture_output=True, text=True).stdout,
)


def of_classes(key: str, data: str, name: str = "") -> Any:
    return caught(RegistryValue("HKLM", CLASSES + key, name, "sz", data))


DECLARED = (
    of_classes(".snd", "Tidewell.Sounding"), of_classes(r"Tidewell.Sounding\shell\open\command", f'"{PROGRAM}" --open "%1"'),
    of_classes(".depth", "Tidewell.Depth"), of_classes(r"Tidewell.Depth\shell\open\command", f'"{PROGRAM}" "%1"'),
    of_classes("sounder", "", "URL Protocol"), of_classes(r"sounder\shell\open\command", f'"{PROGRAM}" --link "%1"'),
    of_classes(CLSID, "Depth reader"), of_classes(CLSID + r"\LocalServer32", f'"{PROGRAM}" -server'),
    of_classes(".txt", "Other.Text"), of_classes(r"Other.Text\shell\open\command", r"C:\Windows\notepad.exe %1"),
    caught(RegistryValue("HKLM", r"Software\Microsoft\Windows\CurrentVersion\Run", "SounderTray", "sz", PROGRAM)),
    caught(RegistryValue("HKLM", r"Software\Microsoft\Windows\CurrentVersion\App Paths\sounder.exe", "", "sz", PROGRAM)),
    caught(Shortcut(MENU + r"\Tidewell\Sounder log.lnk", PROGRAM, '--log "a b"')),
    caught(RegistryValue("HKLM", r"Software\Tidewell\Narrow", "Depth", "qword", 7, "32")),
)  # fmt: skip
OTHERS = tuple(one for one in ALL if not isinstance(one.effect.thing, Service | Environment))


def office(folder: Path, *more: Any, plan: str = "") -> tuple[Path, Plan]:
    workspace(folder, *OTHERS, *more, contents=CONTENTS)
    path = folder / "plan.toml"
    path.write_text(path.read_text("utf-8").replace("\n[[detect]]", LEFT + "\n[[detect]]", 1) + plan, "utf-8")
    return folder, read(path)[0]


@pytest.fixture(scope="module")
def signer(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Key and certificate of the office, for signing programs."""
    return certificate(tmp_path_factory.mktemp("signer") / "office.pem", "Marrowby, Harbour")


def certificate(path: Path, organisation: str, *, for_programs: bool = True) -> Path:
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import rsa
    from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

    key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    fields = ((NameOID.COUNTRY_NAME, "GB"), (NameOID.ORGANIZATION_NAME, organisation), (NameOID.COMMON_NAME, "Office"))
    name = x509.Name([x509.NameAttribute(*field) for field in fields])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(4712).not_valid_before(now).not_valid_after(now + datetime.timedelta(days=3))
    )  # fmt: skip
    if for_programs:
        made = made.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CODE_SIGNING]), critical=False)
    raw = serialization.Encoding.PEM
    secret = key.private_bytes(raw, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    path.write_bytes(secret + made.sign(key, hashes.SHA256()).public_bytes(raw))
    return path


# --- the package ------------------------------------------------------------------------------------------------------


def test_what_its_programs_see(tmp_path: Path, signer: Path) -> None:
    folder, plan = office(tmp_path / "w", caught(SERVICE), *DECLARED)
    publisher = forms.publisher_of(signer)
    assert publisher == 'CN=Office, O="Marrowby, Harbour", C=GB'
    built = forms.build_app(folder, plan, publisher)
    assert app_rules.broken(built.main) == [] and app_manifest.differing(built.main) == []
    state = app_contents.seen(built.main)
    for wanted in (
        File(r"%ProgramFiles%\Tidewell\Sounder\sounder.exe"), RegistryValue("HKCU", r"Software\Tidewell\Sounder", "Colour"),
        RegistryValue("HKLM", r"Software\Tidewell\Narrow", "Depth", view="32"), Service("TideGauge"),
        RegistryValue("HKLM", r"Software\Microsoft\Windows\CurrentVersion\Run", "SounderTray"),
    ):  # fmt: skip
        assert state.has(wanted), wanted
    multi = state.get("registry", RegistryValue("HKLM", r"Software\Tidewell\Sounder", "Paths").identity)
    assert isinstance(multi, RegistryValue) and multi.data == ("a", "b")
    found = app_manifest.read(built.main)
    assert [one.title for one in found.applications] == ["Sounder", "Sounder log"]
    added = set(found.applications[0].extensions)
    assert {"protocol: sounder", "fileTypeAssociation: snd, .snd", "service: TideGauge, RpcSs"} <= added
    assert not any(".txt" in one for one in added)
    assert {"runFullTrust", "packagedServices", "localSystemServices"} == set(found.restricted)
    assert modern_app.account(built.main).least_build == 19041  # services, and a start with arguments
    told = " ".join(built.notes)
    assert ".txt is not declared" in told and "no icon on the desktop" in told and "Depths is not in it" in told
    assert forms.build_app(folder, plan, publisher).digest == built.digest


def needed(program: str, package: str) -> None:
    if not shutil.which(program):
        missing(program, f"apt-get install {package}")


@unix  # programs of this system read it
def test_by_other_readers(tmp_path: Path, signer: Path) -> None:
    needed("7z", "p7zip-full")
    needed("hivexml", "libhivex-bin")
    folder, plan = office(tmp_path / "w", *DECLARED)
    built = forms.build_app(folder, plan, forms.publisher_of(signer))
    done = subprocess.run(["7z", "x", f"-o{tmp_path / 'out'}", "-tzip", built.main], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout
    program = tmp_path / "out" / "VFS" / "ProgramFilesX64" / "Tidewell" / "Sounder" / "sounder.exe"
    assert program.read_bytes() == CONTENTS[r"%ProgramFiles%\Tidewell\Sounder\sounder.exe"]
    told = subprocess.run(["hivexml", tmp_path / "out" / "Registry.dat"], capture_output=True, text=True, check=True)
    assert 'key="Site" value="Marrowby"' in told.stdout and "WOW6432Node" in told.stdout
    assert (
        told.stdout.index('name="REGISTRY"')
        < told.stdout.index('name="MACHINE"')
        < told.stdout.index('name="SOFTWARE"')
    )
    pictures = sorted((tmp_path / "out" / "Assets").glob("*.png"))
    from PIL import Image

    for path in pictures:
        with Image.open(path) as picture:
            picture.verify()
            assert f"{picture.width}x{picture.height}" in path.name


def test_pictures_from_a_program_of_others() -> None:
    """Debian's own specimen of a setup has an icon: it is in the middle, never enlarged; a program without one is told."""
    from PIL import Image
    from samples import SAMPLES

    from yendo.forms.app_logos import logos

    program = SAMPLES / "clam-nsis.exe"
    if not program.is_file():
        missing("Debian's clamav-testfiles", "apt-get install clamav-testfiles")
    made, own = logos(program, [(310, 150), (44, 44)])
    assert own
    with Image.open(io.BytesIO(made[310, 150])) as wide:
        assert wide.size == (310, 150) and wide.getpixel((0, 0)) == (0, 0, 0, 0)
        assert wide.crop((80, 0, 230, 150)).getcolors(1 << 16)[1:]  # type: ignore[index]
    assert logos(b"", [(44, 44)])[1] is False


def test_the_values_of_the_plan(tmp_path: Path, signer: Path) -> None:
    """A value that is set otherwise, and an entry of a file that comes along."""
    more = (
        '\n[[install.change]]\nthing = "HKLM\\\\*\\\\Updates"\nto = 0\n'
        '\n[[install.change]]\nthing = "*sounder.ini*Ask"\nkind = "ini"\nto = "0"\n'
    )
    folder, _ = office(tmp_path / "w")
    path = folder / "plan.toml"
    path.write_text(path.read_text("utf-8").replace("\n[[detect]]", more + "\n[[detect]]", 1), "utf-8")
    built = forms.build_app(folder, read(path)[0], forms.publisher_of(signer))
    state = app_contents.seen(built.main)
    updates = state.get("registry", RegistryValue("HKLM", r"Software\Tidewell\Sounder", "Updates").identity)
    assert isinstance(updates, RegistryValue) and updates.data == 0
    with zipfile.ZipFile(built.main) as archive:
        assert b"Ask=0" in archive.read("VFS/Common%20AppData/Tidewell/sounder.ini")


@pytest.mark.parametrize(
    ("thing", "change", "why"),
    [
        (Environment("TIDEDIR", r"C:\Tide"), "add", "nothing in a manifest"),
        (RegistryValue("HKLM", r"Software\Policies\Tidewell", "x", "sz", "1"), "add", "the system would not see it"),
        (RegistryValue("HKLM", r"System\Tidewell", "x", "sz", "1"), "add", "below Software only"),
        (RegistryValue("HKLM", r"Software\Microsoft\Windows\CurrentVersion\Run", "T", "sz", f'"{PROGRAM}" -t'), "add", "no arguments"),
        (Service("Tide", "Tide", r"C:\Windows\tide.exe", "auto", "LocalSystem", ()), "add", "none of the files"),
        (Service("Tide", "Tide", PROGRAM, "auto", r".\mara", ()), "add", "does not run as"),
        (Shortcut(MENU + r"\Tide help.lnk", r"C:\Windows\hh.exe"), "add", "none of the files"),
        (File(r"C:\Users\Public\Documents\tide.txt"), "add", "no folder of an app package"),
        (RegistryValue("HKLM", r"Software\Tidewell\Sounder", "Gone", "sz", "x"), "remove", "takes nothing away"),
        (IniValue(r"C:\Windows\win.ini", "Tide", "x", "1"), "add", "was there before"),
    ],
)  # fmt: skip
def test_what_has_no_place(tmp_path: Path, signer: Path, thing: Any, change: str, why: str) -> None:
    folder, plan = office(tmp_path / "w", caught(thing, change))
    with pytest.raises(forms.Impossible, match=why) as error:
        forms.build_app(folder, plan, forms.publisher_of(signer))
    assert len(error.value.things) == 1 and not (folder / "forms").exists()


def test_versions_and_names(tmp_path: Path, signer: Path) -> None:
    folder, _ = office(tmp_path / "w")
    path = folder / "plan.toml"
    text = path.read_text("utf-8")
    for version, revision, found in (
        ("4.1", 1, "4.1.0.0"), ("4.1", 3, "4.1.0.2"), ("2026.11.3.7", 1, "2026.11.3.7"),
        ("4.1.2.3", 2, "raise the package's version"), ("4.1b", 1, "up to four numbers"), ("70000", 1, "65535"),
    ):  # fmt: skip
        path.write_text(
            text.replace('version = "4.1"\nrevision = 1', f'version = "{version}"\nrevision = {revision}'), "utf-8"
        )
        plan = read(path)[0]
        if found[0].isdigit() and "." in found:
            built = forms.build_app(folder, plan, forms.publisher_of(signer))
            assert app_manifest.read(built.main).identity.version == found
        else:
            with pytest.raises(Usage, match=found):
                forms.build_app(folder, plan, forms.publisher_of(signer))


def test_larger_files_and_many(tmp_path: Path) -> None:
    """Blocks of 64 KB, empty files, names of every sort, stored and packed."""
    chance = random.Random(5)
    members = [
        AppMember(f"VFS/ProgramFilesX64/Größe {n} [x]/{n}{ending}", chance.randbytes(size) + b"tide" * size)
        for n, (size, ending) in enumerate(((0, ""), (1, ".txt"), (65536, ".exe"), (65537, ".png"), (700_000, ".dat")))
    ]
    out = io.BytesIO()
    app_writer.write(out, members)
    with zipfile.ZipFile(out) as archive:
        assert archive.testzip() is None
        for member in members:
            assert archive.read(app_writer.part_name(member.name)) == member.content
    path = tmp_path / "x.msix"
    path.write_bytes(out.getvalue())
    assert app_manifest.differing(path) == []
    with pytest.raises(ValueError, match="twice"):
        app_writer.write(io.BytesIO(), [AppMember("a.txt", b""), AppMember("A.TXT", b"")])


# --- its signature ----------------------------------------------------------------------------------------------------


@pytest.mark.skipif(not TAKES_APPS, reason="an osslsigncode that takes app packages (2.6 or later) is not here")
def test_signed_for_another_reader_and_by_one(tmp_path: Path, signer: Path) -> None:
    folder, plan = office(tmp_path / "w")
    main = forms.build_app(folder, plan, forms.publisher_of(signer)).main
    unsigned = tmp_path / "unsigned.msix"
    shutil.copyfile(main, unsigned)
    assert file_signing.sign_file(main, identity(signer)).problems == ()
    once = main.stat().st_size
    file_signing.sign_file(main, identity(signer))  # again: in its place
    assert abs(main.stat().st_size - once) < 64
    judged = subprocess.run([VERIFIER, "verify", "-CAfile", signer, "-in", main], capture_output=True, text=True)
    assert judged.returncode == 0 and "Signature verification: ok" in judged.stdout, judged.stdout
    theirs = tmp_path / "theirs.msix"
    subprocess.run(
        [VERIFIER, "sign", "-certs", signer, "-key", signer, "-in", unsigned, "-out", theirs],
        check=True,
        capture_output=True,
    )
    assert file_signing.verify_file(theirs).problems == ()
    # by both: a byte changed anywhere is seen
    whole = theirs.read_bytes()
    chance = random.Random(2)
    spoilt = tmp_path / "spoilt.msix"
    for _ in range(25):
        data = bytearray(whole)
        data[chance.randrange(len(data) - 22)] ^= 1 << chance.randrange(8)
        spoilt.write_bytes(data)
        try:
            found = file_signing.verify_file(spoilt).problems
        except (Unreadable, Usage):
            continue
        other = subprocess.run([VERIFIER, "verify", "-CAfile", signer, "-in", spoilt], capture_output=True, text=True)
        assert found or other.returncode == 0, "the other reader sees what we do not"


def test_signed_from_the_command_line(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    office(tmp_path / "w", *DECLARED)
    assert "go together" in yendo("build", "w", "--as", "msix", expect=2).stderr
    told = yendo("build", "w", "--as", "msix", "--certificate", signer).stdout
    main = next((tmp_path / "w" / "forms" / "msix" / "media").glob("*.msix"))
    assert "next: yendo sign" in told
    assert "it is not signed" in " ".join(yendo("check", "w/forms/msix", expect=1).stdout.split())
    stranger = certificate(tmp_path / "stranger.pem", "Somebody")
    assert "Windows would refuse it" in yendo("sign", main, "--identity", stranger, expect=2).stderr
    plain = certificate(tmp_path / "plain.pem", "Marrowby, Harbour", for_programs=False)
    assert "not for signing programs" in yendo("sign", main, "--identity", plain, expect=2).stderr
    assert "TrustedPeople" in yendo("sign", main, "--identity", signer).stdout
    assert "nobody vouched for" in yendo("sign", main, "--verify", expect=1).stdout
    yendo("check", "w/forms/msix")
    yendo("build", "w/forms/msix")
    proved = yendo("prove", "w/forms/msix", "--json").stdout
    assert "kept for its own programs, by reading the package" in proved
    seen = " ".join(yendo("read", main).stdout.split())
    assert r"its programs see %ProgramFiles%\Tidewell\Sounder: 1 file" in seen and "signed by Office" in seen


@unix
def test_signed_elsewhere(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    needed("openssl", "openssl")
    office(tmp_path / "w")
    yendo("build", "w", "--as", "msix", "--certificate", signer)
    main = next((tmp_path / "w" / "forms" / "msix" / "media").glob("*.msix"))
    before = main.read_bytes()
    asked = ("sign", main, "--request", "out", "--certificate", signer)
    assert "waits for 1 signature" in yendo(*asked, expect=1).stdout and main.read_bytes() == before
    (wanted,) = (tmp_path / "out").glob("*.tosign")
    answer = wanted.with_suffix(".signature")
    subprocess.run(["openssl", "dgst", "-sha256", "-sign", signer, "-out", answer, wanted], check=True)
    assert "the signature holds" in yendo(*asked).stdout


def test_a_proof_sees_a_package_that_lost_something(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    """Another package of the same name and version in its place: the promise is not what it brings."""
    folder, plan = office(tmp_path / "w")
    built = forms.build_app(folder, plan, forms.publisher_of(signer))
    found = {name: data for name, data in members(built.main).items() if "sounder.ini" not in name}
    remade(built.main, found)
    file_signing.sign_file(built.main, identity(signer))
    path = built.folder / "plan.toml"
    import hashlib

    digest, size = hashlib.sha256(built.main.read_bytes()).hexdigest(), built.main.stat().st_size
    text = re.sub(r'sha256 = "[0-9a-f]+"\nsize = \d+', f'sha256 = "{digest}"\nsize = {size}', path.read_text("utf-8"))
    path.write_text(text, "utf-8")
    yendo("build", built.folder)
    told = yendo("prove", built.folder, "--json", expect=1).stdout
    assert "kept, and not there: file" in told and "sounder.ini" in told


def remade(path: Path, files: dict[str, bytes]) -> Path:
    """A package of these files, in place of what is there."""
    with path.open("w+b") as file:
        app_writer.write(file, [AppMember(*one) for one in files.items()])
    return path


def members(path: Path) -> dict[str, bytes]:
    """The files of a package but its own."""
    own = (app_manifest.BLOCK_MAP, app_manifest.TYPES, app_manifest.SIGNATURE)
    with zipfile.ZipFile(path) as archive:
        return {unquote(name): archive.read(name) for name in archive.namelist() if name not in own}


# --- the rules of the manifest ----------------------------------------------------------------------------------------

BROKEN = [
    ("app-name", 'Name="tidewell-sounder"', 'Name="ti"'), ("app-name", 'Name="tidewell-sounder"', 'Name="con.tide"'),
    ("app-name", 'Name="tidewell-sounder"', 'Name="tide_well"'), ("app-version", 'Version="4.1.0.0"', 'Version="4.1.0"'),
    ("app-version", 'Version="4.1.0.0"', 'Version="4.01.0.0"'), ("app-version", 'Version="4.1.0.0"', 'Version="4.1.0.70000"'),
    ("app-publisher", "CN=Office, O=", "Office, O="), ("app-architecture", 'Architecture="x64"', 'Architecture="amd64"'),
    ("app-resource", "<Identity ", '<Identity ResourceId="a b" '),
    ("app-title", "<DisplayName>Tidewell Sounder</DisplayName>", "<DisplayName></DisplayName>"),
    ("app-maker", "<PublisherDisplayName>Tidewell</PublisherDisplayName>", "<PublisherDisplayName/>"),
    ("app-description", 'Description="Sounder"', 'Description=""'), ("app-logo", "<Logo>Assets\\logo-50x50.png", "<Logo>Assets\\no.png"),
    ("app-logo", "<Logo>Assets\\logo-50x50.png", "<Logo>Assets\\logo.bmp"), ("app-language", 'Language="en-us"', 'Language="english!"'),
    ("app-language", '<Resource Language="en-us"/>', ""), ("app-family", 'MinVersion="10.0.19041.0"', 'MinVersion="10.0.99999.0"'),
    ("app-family", 'MinVersion="10.0.19041.0"', 'MinVersion="10"'), ("app-too-old", 'MinVersion="10.0.19041.0"', 'MinVersion="10.0.14393.0"'),
    ("app-need", "</Dependencies>", '<PackageDependency Name="Tidewell.Run" MinVersion="1"/></Dependencies>'),
    ("app-id", 'Id="AppSounder"', 'Id="1Sounder"'), ("app-id-twice", 'Id="AppSounderlog"', 'Id="AppSounder"'),
    ("app-executable", 'sounder.exe" EntryPoint', 'other.exe" EntryPoint'), ("app-executable", 'sounder.exe" EntryPoint', 'sounder.cmd" EntryPoint'),
    ("app-full-trust", '<rescap:Capability Name="runFullTrust"/>', ""), ("app-colour", 'BackgroundColor="transparent"', 'BackgroundColor="#12"'),
    ("app-file-type", ">.snd<", ">snd<"), ("app-file-type", ">.snd<", ">.SND<"), ("app-claimed-type", ">.snd<", ">.exe<"),
    ("app-type-name", 'Association Name="snd"', 'Association Name="Snd"'), ("app-type-twice", 'Association Name="snd"', 'Association Name="depth"'),
    ("app-protocol", 'Protocol Name="sounder"', 'Protocol Name="S"'), ("app-task", 'TaskId="SounderTray"', 'TaskId=""'),
    ("app-alias", 'Alias="sounder.exe"', 'Alias="bin\\sounder.exe"'), ("app-alias", 'Alias="sounder.exe"', 'Alias="sounder"'),
    ("app-server", 'Class Id="7b1c2e0a', 'Class Id="{7b1c2e0a'), ("app-service", '<rescap:Capability Name="packagedServices"/>', ""),
    ("app-service", '<rescap:Capability Name="localSystemServices"/>', ""),
    ("app-capability-order", "<Capabilities>", '<Capabilities><DeviceCapability Name="webcam"/>'),
    ("app-capability-twice", "<Capabilities>", '<Capabilities><rescap:Capability Name="runFullTrust"/>'),
    ("app-namespace", 'IgnorableNamespaces="com', 'IgnorableNamespaces="tide com'),
]  # fmt: skip


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory, signer: Path) -> dict[str, bytes]:
    folder, plan = office(tmp_path_factory.mktemp("sound") / "w", caught(SERVICE), *DECLARED)
    return members(forms.build_app(folder, plan, forms.publisher_of(signer)).main)


@pytest.mark.parametrize(("rule", "old", "new"), BROKEN, ids=[f"{one[0]}-{n}" for n, one in enumerate(BROKEN)])
def test_each_rule_broken(tmp_path: Path, sound: dict[str, bytes], rule: str, old: str, new: str) -> None:
    text = sound["AppxManifest.xml"].decode()
    assert old in text
    path = remade(tmp_path / "x.msix", {**sound, "AppxManifest.xml": text.replace(old, new, 1).encode()})
    found = app_rules.broken(path)
    assert [one.rule for one in found] and {one.rule for one in found} == {rule}, found
    assert all(one.source for one in found)


def test_the_other_rules(tmp_path: Path, sound: dict[str, bytes]) -> None:
    """Too many applications; two files whose names differ in letters only."""
    text = sound["AppxManifest.xml"].decode()
    begin, end = text.index("<Application "), text.index("</Application>") + len("</Application>")
    one = text[begin:end].partition("<Extensions>")[0] + "</Application>"
    many = "".join(
        one.replace('Id="AppSounder"', f'Id="More{n}"'.replace("More", "More" + "ab"[n % 2])) for n in range(101)
    )
    changed = text[:end] + many + text[end:]
    path = remade(tmp_path / "x.msix", {**sound, "AppxManifest.xml": changed.encode()})
    assert {one.rule for one in app_rules.broken(path)} == {"app-too-many"}
    with zipfile.ZipFile(path, "a") as archive:
        archive.writestr("assets/LOGO-50x50.png", b"")
    assert {one.rule for one in app_rules.broken(path)} == {"app-too-many", "app-file-twice"}
    assert {one[0] for one in BROKEN} | {"app-too-many", "app-file-twice"} == set(app_rules.SOURCES)


def test_a_hive_that_is_damaged_is_said(tmp_path: Path, sound: dict[str, bytes]) -> None:
    path = remade(tmp_path / "x.msix", {**sound, "User.dat": b"regf" + bytes(9000)})
    assert any("User.dat cannot be read" in words for words in app_contents.summary(path))
