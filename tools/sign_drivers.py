"""Makes the catalogues of the demo's drivers: ``sign_drivers.py``. Needs ``cryptography``.

A root and a certificate of the invented vendor are made, sign each catalogue, and the keys are thrown away. To be run
again only where the text of a driver changes.
"""

from __future__ import annotations

import datetime
import io
from pathlib import Path

from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from yendo.demo import drivers
from yendo.drivers import trust
from yendo.formats import security_catalogue
from yendo.package.signing import SignerIdentity, list_message

TARGET = Path(drivers.__file__).parent / "catalogues"
BEGINS, ENDS = datetime.datetime(2022, 1, 1, tzinfo=datetime.UTC), datetime.datetime(2049, 12, 31, tzinfo=datetime.UTC)


def certificate(name: str, by: str, key: rsa.RSAPrivateKey, signing: rsa.RSAPrivateKey) -> x509.Certificate:
    def named(text: str) -> x509.Name:
        return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])

    builder = x509.CertificateBuilder().subject_name(named(name)).issuer_name(named(by)).public_key(key.public_key())
    builder = builder.serial_number(x509.random_serial_number()).not_valid_before(BEGINS).not_valid_after(ENDS)
    builder = builder.add_extension(x509.BasicConstraints(ca=name == by, path_length=None), critical=True)
    if name != by:
        builder = builder.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CODE_SIGNING]), critical=False)
    return builder.sign(signing, hashes.SHA256())


def main() -> None:
    root, own = (rsa.generate_private_key(public_exponent=65537, key_size=2048) for _ in range(2))
    chain = [
        certificate("Tidewell", "Tidewell Root", own, root),
        certificate("Tidewell Root", "Tidewell Root", root, root),
    ]
    raw = [one.public_bytes(serialization.Encoding.DER) for one in chain]
    who = SignerIdentity(own, tuple(chain))
    (TARGET / "tidewell.cer").write_bytes(raw[0])
    assert asn1_x509.Certificate.load(raw[0]).subject.native["common_name"] == "Tidewell"
    for driver in drivers.SHARE:
        if not driver.catalogue:
            continue
        members = []
        for name, data in driver.files.items():
            digests = trust.digests_of(io.BytesIO(data), ("sha1", "sha256"))
            members += [
                security_catalogue.CatalogueMember(algorithm, digests[algorithm], False, name, "2:10.0")
                for algorithm in ("sha1", "sha256")
            ]
        systems = "_v100_X64" if driver.processor == "amd64" else "_v100_ARM64"
        attributes = {"OS": systems, "HWID1": drivers.DEVICE.lower()}
        made = datetime.datetime.strptime(driver.date, "%m/%d/%Y").replace(tzinfo=datetime.UTC)
        listed = security_catalogue.build(members, attributes, made)
        (TARGET / f"{driver.catalogue}.cat").write_bytes(list_message(who, listed, None, driver.catalogue))


if __name__ == "__main__":
    main()
