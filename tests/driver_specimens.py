"""Drivers made for tests: a folder with its ``.inf``, files, and a catalogue signed by whom the test wants."""

from __future__ import annotations

import datetime
import io
import random
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from yendo.demo.vendor import PROGRAMS
from yendo.drivers import trust
from yendo.formats import security_catalogue
from yendo.package.signing import SignerIdentity, list_message

NOW = datetime.datetime.now(datetime.UTC)
PROGRAM = (PROGRAMS / "lanternd-6.2.1.exe").read_bytes()
INF = """[Version]
Signature = "$Windows NT$"
Class = {setup_class}
ClassGuid = {class_id}
Provider = "Tidewell"
DriverVer = {date},{version}
{catalogue}
[Manufacturer]
"Tidewell" = Models,{decoration}
[Models.{decoration}]
"Gauge" = Install,{devices}
[DestinationDirs]
DefaultDestDir = {folder}
[SourceDisksNames]
1 = "disk"
[SourceDisksFiles]
{listed}
[Install.NT]
CopyFiles = Copied
{more}
[Copied]
{copied}
[Install.NT.Services]
AddService = Gauge,2,Service
[Service]
ServiceType = {service}
StartType = 3
ErrorControl = 1
ServiceBinary = %{folder}%\\gauge.sys
"""


def certificate(
    name: str,
    *,
    issuer: tuple[x509.Certificate, Any] | None = None,
    ended: bool = False,
    uses: tuple[str, ...] = (),
    key: Any = None,
) -> tuple[x509.Certificate, Any]:
    """A certificate and its key, a new one on a curve where none is given."""
    key = key or ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    day = datetime.timedelta(days=1)
    builder = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(issuer[0].subject if issuer else subject)
        .public_key(key.public_key()).serial_number(x509.random_serial_number())
        .not_valid_before(NOW - 400 * day).not_valid_after(NOW - 30 * day if ended else NOW + 400 * day)
    )  # fmt: skip
    wanted = [x509.ObjectIdentifier(use) for use in uses] or [ExtendedKeyUsageOID.CODE_SIGNING]
    builder = builder.add_extension(x509.ExtendedKeyUsage(wanted), critical=False)
    builder = builder.add_extension(x509.BasicConstraints(ca=issuer is None, path_length=None), critical=True)
    return builder.sign(issuer[1] if issuer else key, hashes.SHA256()), key


def signer(name: str = "Tidewell", **more: Any) -> SignerIdentity:
    """A certificate below one of an authority's, with its key."""
    authority = certificate("Tidewell Authority")
    own, key = certificate(name, issuer=authority, **more)
    return SignerIdentity(key, (own, authority[0]))


def folder(
    target: Path, files: Mapping[str, bytes | Path], *, who: SignerIdentity | None = None, stamp: str | None = None,
    decoration: str = "NTamd64", devices: str = r"USB\VID_FFFE&PID_0021", version: str = "2.1.0.0", date: str = "03/14/2026",
    setup_class: str = "Ports", class_id: str = "{4d36e978-e325-11ce-bfc1-08002be10318}", more: str = "", to: int = 13, service: int = 1,
) -> Path:  # fmt: skip
    """Writes a driver that brings ``files``, a path as a link to it; returns its ``.inf``. Signed where ``who`` is given."""
    target.mkdir(parents=True)
    for name, data in files.items():
        if isinstance(data, Path):
            (target / name).hardlink_to(data)
        else:
            (target / name).write_bytes(data)
    text = INF.format(
        setup_class=setup_class, class_id=class_id, date=date, version=version, decoration=decoration, devices=devices, folder=to,
        catalogue="CatalogFile = gauge.cat" if who else "", listed="\n".join(f"{name} = 1" for name in files), copied="\n".join(files),
        more=more, service=service,
    )  # fmt: skip
    inf = target / "gauge.inf"
    inf.write_bytes(text.replace("\n", "\r\n").encode())
    if who:
        (target / "gauge.cat").write_bytes(catalogue([inf, *(target / name for name in files)], who, stamp))
    return inf


def catalogue(files: list[Path], who: SignerIdentity, stamp: str | None = None) -> bytes:
    members = []
    for path in files:
        found = trust.digests_of(io.BytesIO(path.read_bytes()), ("sha1", "sha256"))
        head = "program-" if "program-sha256" in found else ""
        members += [
            security_catalogue.CatalogueMember(name, found[head + name], bool(head), path.name, "2:10.0")
            for name in ("sha1", "sha256")
        ]
    return list_message(who, security_catalogue.build(members, {"OS": "_v100_X64"}, NOW), stamp, "gauge")


def contents(chance: random.Random) -> dict[str, bytes]:
    """A program and some other files."""
    found = {"gauge.sys": PROGRAM[:-8] + chance.randbytes(8)}
    for number in range(chance.randrange(1, 4)):
        found[f"table{number}.tab"] = chance.randbytes(chance.randrange(1, 3000))
    return found
