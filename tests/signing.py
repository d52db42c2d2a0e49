"""Signs an installer database with a certificate made on the spot, for tests."""

from __future__ import annotations

import datetime
import hashlib
from pathlib import Path

from asn1crypto import cms, core
from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from cryptography.x509.oid import NameOID

from yendo.formats import cfb
from yendo.formats.msi import Database
from yendo.formats.msi.writer import CLASS_IDS
from yendo.installers.msi import signature
from yendo.package.signing import Indirect


def sign(source: Path, target: Path, name: str) -> Path:
    """Copies ``source`` to ``target`` with a signature stream added."""
    with Database(source) as database:
        digest = signature.digest(database.container, "sha256")
        streams = {entry.name: entry.read() for entry in database.container.entries()}
    streams[signature.STREAM] = _message(digest, name)
    with target.open("wb") as file:
        cfb.write(file, cfb.Storage(streams, bytes.fromhex(CLASS_IDS["database"])))
    return target


def _message(digest: bytes, name: str, seen: datetime.datetime | None = None) -> bytes:
    """The PKCS#7 message over a digest, signed by a certificate of that name."""
    key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.datetime.now(datetime.UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(4711)
        .not_valid_before(now)
        .not_valid_after(now + datetime.timedelta(days=1))
        .sign(key, hashes.SHA256())
    )
    content = Indirect(
        {
            "data": {"type": "1.3.6.1.4.1.311.2.1.30", "value": core.OctetString(b"")},
            "message_digest": {"algorithm": {"algorithm": "sha256"}, "digest": digest},
        }
    )
    attributes = cms.CMSAttributes(
        [
            cms.CMSAttribute({"type": "content_type", "values": ["indirect_data"]}),
            cms.CMSAttribute({"type": "message_digest", "values": [hashlib.sha256(content.contents).digest()]}),
        ]
    )
    loaded = asn1_x509.Certificate.load(certificate.public_bytes(serialization.Encoding.DER))
    signed = cms.SignedData(
        {
            "version": "v1",
            "digest_algorithms": [{"algorithm": "sha256"}],
            "encap_content_info": {"content_type": "indirect_data", "content": content},
            "certificates": [loaded],
            "signer_infos": [
                {
                    "version": "v1",
                    "sid": cms.SignerIdentifier(
                        {"issuer_and_serial_number": {"issuer": loaded.issuer, "serial_number": 4711}}
                    ),
                    "digest_algorithm": {"algorithm": "sha256"},
                    "signed_attrs": attributes,
                    "signature_algorithm": {"algorithm": "rsassa_pkcs1v15"},
                    "signature": key.sign(attributes.dump(), padding.PKCS1v15(), hashes.SHA256()),
                }
            ],
        }
    )
    if seen:
        signer = signed["signer_infos"][0]
        counter = cms.SignerInfo(
            {
                "version": "v1",
                "sid": signer["sid"],
                "digest_algorithm": {"algorithm": "sha256"},
                "signed_attrs": [{"type": "signing_time", "values": [cms.Time({"utc_time": seen})]}],
                "signature_algorithm": {"algorithm": "rsassa_pkcs1v15"},
                "signature": b"a third party's",
            }
        )
        signer["unsigned_attrs"] = cms.CMSAttributes(
            [cms.CMSAttribute({"type": "counter_signature", "values": [counter]})]
        )
    return bytes(cms.ContentInfo({"content_type": "signed_data", "content": signed}).dump())


def sign_program(program: bytes, name: str, seen: datetime.datetime | None = None) -> bytes:
    """A program with a certificate table at its end, as signing tools leave it; ``seen`` by a countersignature at that time."""
    import io
    import struct

    from yendo.formats.pe import Image
    from yendo.installers.signatures import program_digest

    padded = bytearray(program + b"\0" * (-len(program) % 8))
    image = Image(io.BytesIO(bytes(padded)))
    entry = image.header_offset + 24 + (144 if image.bits == 64 else 128)
    message = _message(program_digest(io.BytesIO(bytes(padded)), image, "sha256"), name, seen)
    table = struct.pack("<IHH", 8 + len(message), 0x200, 2) + message
    table += b"\0" * (-len(table) % 8)
    struct.pack_into("<II", padded, entry, len(padded), len(table))
    return bytes(padded) + table
