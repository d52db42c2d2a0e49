"""Packages that are signed: read back, changed, stamped by a stand-in of a time stamp authority."""

from __future__ import annotations

import datetime
import hashlib
import json
import shutil
import subprocess
import threading
import zipfile
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest
from asn1crypto import cms, core, tsp
from conftest import Yendo, missing, parsed
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import pkcs12

from yendo.errors import Unreadable, Usage
from yendo.package import build, signing
from yendo.plan import read

NAME = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Marrowby harbour survey office")])


def certificate(key: Any) -> Any:
    now = datetime.datetime.now(datetime.UTC)
    builder = (
        x509.CertificateBuilder().subject_name(NAME).issuer_name(NAME).public_key(key.public_key()).serial_number(4712)
    )
    return (
        builder.not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .sign(key, hashes.SHA256())
    )


@pytest.fixture(scope="module")
def office(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A key and its certificate, made on the spot."""
    key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    path = tmp_path_factory.mktemp("office") / "office.p12"
    path.write_bytes(
        pkcs12.serialize_key_and_certificates(
            b"office", key, certificate(key), None, serialization.BestAvailableEncryption(b"tide")
        )
    )
    return path


class Authority(BaseHTTPRequestHandler):
    """Stamps what it is asked to; its own signature is nobody's."""

    answers = "granted"

    def do_POST(self) -> None:
        asked = tsp.TimeStampReq.load(self.rfile.read(int(self.headers["Content-Length"])))
        imprint = asked["message_imprint"]
        if self.answers == "other":
            imprint = tsp.MessageImprint(
                {"hash_algorithm": {"algorithm": "sha256"}, "hashed_message": hashlib.sha256(b"other").digest()}
            )
        info = tsp.TSTInfo(
            {
                "version": "v1",
                "policy": "1.2.3",
                "message_imprint": imprint,
                "serial_number": 1,
                "gen_time": datetime.datetime.now(datetime.UTC).replace(microsecond=0),
                "nonce": asked["nonce"],
            }
        )
        signed = cms.SignedData(
            {
                "version": "v3",
                "digest_algorithms": [],
                "encap_content_info": {"content_type": "tst_info", "content": core.ParsableOctetString(info.dump())},
                "signer_infos": [],
            }
        )
        token = cms.ContentInfo({"content_type": "signed_data", "content": signed})
        granted = self.answers != "refused"
        raw = tsp.TimeStampResp(
            {"status": {"status": "granted" if granted else "rejection"}, "time_stamp_token": token}
        ).dump()
        self.send_response(200)
        self.end_headers()
        self.wfile.write(raw if self.answers != "nonsense" else b"<html>")

    def log_message(self, *arguments: Any) -> None:
        return


@pytest.fixture
def authority() -> Iterator[str]:
    server = HTTPServer(("127.0.0.1", 0), Authority)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}/"
    server.shutdown()
    thread.join()
    server.server_close()
    Authority.answers = "granted"


@pytest.fixture
def package(drafted: Path, tmp_path: Path) -> Path:
    return build.build(drafted, read(drafted / "plan.toml")[0], output=tmp_path / "out").folder


def test_signed_stamped_and_judged(package: Path, office: Path, authority: str, yendo: Yendo) -> None:
    before = (package / "apply.ps1").read_bytes()
    assert "not signed" in yendo("sign", package, "--verify", expect=2).stderr
    told = parsed(
        yendo(
            "sign",
            package,
            "--identity",
            office,
            "--timestamp",
            authority,
            "--json",
            environment={"YENDO_PASSPHRASE": "tide"},
        )
    )
    assert (
        told["holds"]
        and told["signer"] == "CN=Marrowby harbour survey office"
        and told["seen"].startswith(str(datetime.datetime.now(datetime.UTC).year))
    )
    script = (package / "apply.ps1").read_bytes()
    assert script.startswith(before.rstrip()) and script.rstrip().endswith(b"# SIG # End signature block")
    done = yendo("sign", package, "--verify", expect=1).stdout
    assert "a certificate that nobody vouched for" in done and "--trust" in done and told["thumbprint"] in done
    assert "the signature holds" in yendo("sign", package, "--verify", "--trust", told["thumbprint"]).stdout
    again = signing.sign(package, signing.identity(office, b"tide"))  # a second signature takes the place of the first
    assert again.problems == () and (package / "apply.ps1").read_bytes().count(b"Begin signature block") == 1
    yendo("prove", package)


CHANGES = {
    "a script": (lambda folder: folder / "apply.ps1", b"Set-Record", b"Sett-Recor", "apply.ps1 has changed since"),
    "a medium": (
        lambda folder: folder / "media" / "lantern-6.2.1.msi",
        b"Lantern",
        b"Latnern",
        "lantern-6.2.1.msi has changed",
    ),
    "the listing": (lambda folder: folder / "files.sha256", b"apply.cmd", b"apply.cmx", "is over other content"),
    "the message": (
        lambda folder: folder / "files.sha256.p7s",
        b"Marrowby",
        b"Nowhere!",
        "not by the certificate's key",
    ),
}


@pytest.mark.parametrize("change", CHANGES)
def test_what_was_changed_since_is_named(package: Path, office: Path, change: str) -> None:
    assert signing.sign(package, signing.identity(office, b"tide")).problems == ()
    where, old, new, words = CHANGES[change]
    path = where(package)
    data = path.read_bytes()
    assert old in data
    changed = data.replace(old, new) if change != "the message" else data[:-20] + bytes(20)
    path.unlink()
    path.write_bytes(changed)
    assert words in " ".join(signing.verify(package).problems)


def test_a_stranger_of_the_same_name(package: Path, office: Path, yendo: Yendo, tmp_path: Path) -> None:
    """A payload that is swapped and signed anew by somebody whose certificate says the same name."""
    signing.sign(package, signing.identity(office, b"tide"))
    ours = signing.verify(package).thumbprint
    key = ec.generate_private_key(ec.SECP256R1())
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (tmp_path / "stranger.pem").write_bytes(pem + certificate(key).public_bytes(serialization.Encoding.PEM))
    (tmp_path / "office.cer").write_bytes(
        signing.identity(office, b"tide").certificates[0].public_bytes(serialization.Encoding.DER)
    )
    medium = package / "media" / "lantern-6.2.1.msi"
    data = medium.read_bytes()
    medium.unlink()
    medium.write_bytes(data + b"swapped")
    signing.sign(package, signing.identity(tmp_path / "stranger.pem"))
    assert signing.verify(package).problems == () and not signing.verify(package).vouched
    done = yendo("sign", package, "--verify", "--trust", tmp_path / "office.cer", expect=1).stdout
    assert "does not hold" in done and "nobody vouched for: CN=Marrowby harbour survey office" in " ".join(done.split())
    (package.parent / "house.toml").write_text(f'name = "Marrowby"\nsigners = ["{ours}"]\n')
    assert yendo("sign", package, "--verify", expect=1).returncode == 1
    (package.parent / "house.toml").write_text(
        f'name = "Marrowby"\nsigners = ["{signing.verify(package).thumbprint}"]\n'
    )
    yendo("sign", package, "--verify")
    assert "neither the SHA-256 thumbprint" in yendo("sign", package, "--verify", "--trust", "office", expect=2).stderr


@pytest.mark.wine
def test_the_runner_asks_whose_package_it_is(tmp_path: Path, office: Path, shell_wine: Any) -> None:
    """Where something outside the package states signers: an argument, or a value that only administrators write."""
    import test_steps

    (tmp_path / "extras").mkdir()
    (tmp_path / "extras" / "a.txt").write_text("a")
    plan = '[package]\nid = "everything"\nname = "x"\nversion = "1"\n[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\Tide\\\'\n'
    (tmp_path / "plan.toml").write_text(plan)
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    with shell_wine.fresh() as real:

        def run(verb: str) -> Any:
            return real.run(test_steps.started(verb), timeout=60)

        real.bring(made, test_steps.FOLDER)
        ours = signing.sign(made, signing.identity(office, b"tide")).thumbprint
        assert (
            run(f"install -Signer {ours}").exit_code == 36 and "is not signed" in run(f"install -Signer {ours}").output
        )
        real.take_away(test_steps.FOLDER)
        real.bring(made, test_steps.FOLDER)
        assert run(f"install -Signer {'0' * 64}").exit_code == 36 and real.read(r"C:\Tide\a.txt") is None
        assert run(f"install -Signer {'0' * 64},{ours.lower()}").exit_code == 0 and real.read(r"C:\Tide\a.txt") == b"a"
        key = r"HKLM\Software\Policies\Yendo"
        assert real.run(f"reg add {key} /v Signers /t REG_MULTI_SZ /d {'0' * 64} /reg:64 /f", timeout=60).exit_code == 0
        assert run("uninstall").exit_code == 36 and "nobody vouched for here" in run("uninstall").output
        assert real.run(f"reg add {key} /v Signers /t REG_MULTI_SZ /d {ours} /reg:64 /f", timeout=60).exit_code == 0
        listed = real.host(test_steps.FOLDER) / "files.sha256"
        data = listed.read_bytes()
        listed.write_bytes(data.replace(b"apply.cmd", b"apply.cmx"))
        assert "does not hold" in run("uninstall").output
        listed.write_bytes(data)
        script = real.host(test_steps.FOLDER) / "apply.ps1"
        script.write_bytes(script.read_bytes() + b"# more\r\n")
        assert "another one than was signed" in run("uninstall").output
        script.write_bytes(script.read_bytes()[: -len(b"# more\r\n")])
        assert run("uninstall").exit_code == 0 and real.read(r"C:\Tide\a.txt") is None


def test_files_that_came_and_went(package: Path, office: Path) -> None:
    signing.sign(package, signing.identity(office, b"tide"))
    (package / "extra.dll").write_bytes(b"x")
    (package / "detect.ps1").unlink()
    problems = signing.verify(package).problems
    assert (
        "extra.dll is not in the listing" in problems
        and "detect.ps1 is missing" in problems
        and "detect.ps1 has no signature block" in problems
    )


@pytest.mark.parametrize(
    ("answer", "words"),
    [("refused", "gives no time stamp"), ("other", "answers another question"), ("nonsense", "no time stamp")],
)
def test_an_authority_that_does_not_stamp(package: Path, office: Path, authority: str, answer: str, words: str) -> None:
    Authority.answers = answer
    before = {path: path.read_bytes() for path in package.rglob("*") if path.is_file()}
    with pytest.raises(Unreadable, match=words):
        signing.sign(package, signing.identity(office, b"tide"), authority)
    assert {path: path.read_bytes() for path in package.rglob("*") if path.is_file()} == before


def test_identities(tmp_path: Path, office: Path, package: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (tmp_path / "curve.pem").write_bytes(pem + certificate(key).public_bytes(serialization.Encoding.PEM))
    assert signing.sign(package, signing.identity(tmp_path / "curve.pem")).problems == ()
    (tmp_path / "bad.pem").write_bytes(b"nothing")
    for path, passphrase in ((tmp_path / "bad.pem", None), (office, b"wrong"), (tmp_path / "none.pem", None)):
        with pytest.raises(Usage, match="is wanted"):
            signing.identity(path, passphrase)


def _in(archive: Path) -> dict[str, bytes]:
    with zipfile.ZipFile(archive) as packed:
        return {entry.filename: packed.read(entry) for entry in packed.infolist()}


def _away(folder: Path, name: str, curve: bool) -> None:
    """A key that only OpenSSL has, and its certificate."""
    if not shutil.which("openssl"):
        missing("openssl", "apt-get install openssl")
    key = ec.generate_private_key(ec.SECP256R1()) if curve else rsa.generate_private_key(65537, 2048)
    pem = serialization.Encoding.PEM
    bare = serialization.NoEncryption()
    (folder / f"{name}.key").write_bytes(key.private_bytes(pem, serialization.PrivateFormat.PKCS8, bare))
    (folder / f"{name}.cer").write_bytes(certificate(key).public_bytes(pem))


@pytest.mark.parametrize("curve", [False, True])
def test_a_command_that_has_the_key(tmp_path: Path, package: Path, yendo: Yendo, curve: bool) -> None:
    """Signed by another program, OpenSSL; what is no signature by the certificate's key is refused."""
    _away(tmp_path, "card", curve)
    given = ("--certificate", tmp_path / "card.cer")
    done = yendo("sign", package, "--by", f"openssl dgst -sha256 -sign {tmp_path / 'card.key'}", *given, expect=None)
    assert "the signature holds" in done.stdout, done.stderr
    assert yendo("sign", package, "--verify", "--trust", tmp_path / "card.cer").returncode == 0
    other = rsa.generate_private_key(65537, 2048)
    (tmp_path / "other.key").write_bytes(
        other.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    for command, words in (
        (f"openssl dgst -sha256 -sign {tmp_path / 'other.key'}", "is no signature over SHA-256 by the key"),
        (f"openssl dgst -sha256 -sign {tmp_path / 'none.key'}", "ended with"),
        ("/no/such/program", "does not sign"),
        ("", "say who signs"),
    ):
        assert words in yendo("sign", package, "--by", command, *given, expect=2).stderr
    assert "go together" in yendo("sign", package, "--by", "openssl", expect=2).stderr


@pytest.mark.parametrize(("curve", "stamped"), [(False, False), (True, False), (True, True)])
def test_a_key_that_is_somewhere_else(
    tmp_path: Path, package: Path, authority: str, yendo: Yendo, curve: bool, stamped: bool
) -> None:
    """What is to be signed is given out, and the signatures are taken in: first of the scripts, then of the listing.
    A stamp is taken once, or the listing would never be the one that was signed.
    """
    _away(tmp_path, "far", curve)
    given = ("sign", package, "--request", tmp_path / "out", "--certificate", tmp_path / "far.cer",
             *(("--timestamp", authority) if stamped else ()))  # fmt: skip
    before = {path.name: path.read_bytes() for path in package.iterdir() if path.is_file()}
    told = yendo(*given, expect=1).stdout
    assert "waits for 2 signatures" in " ".join(told.split()) and "openssl dgst" in told
    assert {path.name: path.read_bytes() for path in package.iterdir() if path.is_file()} == before

    def signed(name: str) -> None:
        place = tmp_path / "out" / name
        line = ["openssl", "dgst", "-sha256", "-sign", str(tmp_path / "far.key"), "-out", f"{place}.signature"]
        subprocess.run([*line, f"{place}.tosign"], check=True)
        assert (tmp_path / "out" / f"{name}.sha256").read_text().strip() == hashlib.sha256(
            (tmp_path / "out" / f"{name}.tosign").read_bytes()
        ).hexdigest()

    signed("apply.ps1")
    assert json.loads(yendo(*given, "--json", expect=1).stdout)["wanted"] == ["detect.ps1"]
    (tmp_path / "out" / "detect.ps1.signature").write_bytes(b"no signature")
    assert "delete it, and ask again" in yendo(*given, expect=2).stderr
    signed("detect.ps1")
    assert json.loads(yendo(*given, "--json", expect=1).stdout)["wanted"] == ["files.sha256"]
    signed("files.sha256")
    assert "the signature holds" in yendo(*given, expect=None).stdout
    assert yendo("sign", package, "--verify", "--trust", tmp_path / "far.cer").returncode == 0


def test_an_archive_holds_what_is_signed(drafted: Path, tmp_path: Path, office: Path, yendo: Yendo) -> None:
    """It was made before the signature; signing makes it again, and by itself it is signed in what it holds."""
    built = build.build(drafted, read(drafted / "plan.toml")[0], output=tmp_path / "out", archive=True)
    assert built.archive is not None
    alone = tmp_path / "alone.zip"
    shutil.copyfile(built.archive, alone)
    passphrase = {"YENDO_PASSPHRASE": "tide"}
    assert "not signed" in yendo("sign", built.archive, "--verify", expect=2).stderr
    done = yendo("sign", built.folder, "--identity", office, environment=passphrase)
    assert "made from the signed package" in done.stdout
    assert _in(built.archive) == {
        path.relative_to(built.folder).as_posix(): path.read_bytes()
        for path in built.folder.rglob("*")
        if path.is_file()
    }
    yendo("sign", alone, "--identity", office, environment=passphrase)
    thumbprint = parsed(yendo("sign", alone, "--verify", "--json", expect=1))["thumbprint"]
    yendo("sign", alone, "--verify", "--trust", thumbprint)
    assert set(_in(alone)) == set(_in(built.archive))
    swapped = _in(alone) | {"media/lantern-6.2.1.msi": b"another"}
    with zipfile.ZipFile(alone, "w") as packed:
        for name, data in swapped.items():
            packed.writestr(name, data)
    done = yendo("sign", alone, "--verify", "--trust", thumbprint, expect=1)
    assert "has changed since" in done.stdout


@pytest.mark.parametrize(
    ("names", "said"),
    [(["manifest.json", "../out.txt"], "leads out"), (["manifest.json", "/etc/x"], "leads out"),
     (["manifest.json", "C:/x"], "leads out"), (["a.txt"], "holds no package")],
)  # fmt: skip
def test_archives_that_are_no_package(tmp_path: Path, yendo: Yendo, names: list[str], said: str) -> None:
    archive = tmp_path / "odd.zip"
    with zipfile.ZipFile(archive, "w") as packed:
        for name in names:
            packed.writestr(name, "{}")
    assert said in yendo("sign", archive, "--verify", expect=3).stderr
    assert not (tmp_path / "out.txt").exists()
