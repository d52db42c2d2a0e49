"""The keys of a farm: one certificate that every computer of it has, and that vouches for itself."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

from yendo.errors import NotCovered, Usage

DAYS = 365


def make(folder: Path) -> None:
    """Writes ``ca.pem``, ``cert.pem`` and ``key.pem`` into a new folder that others cannot read. Raises Usage."""
    try:
        from cryptography import x509
        from cryptography.hazmat.primitives import hashes, serialization
        from cryptography.hazmat.primitives.asymmetric import ec
        from cryptography.x509.oid import NameOID
    except ImportError as error:
        raise NotCovered("making keys needs a library: pip install 'yendo[sign]'") from error
    try:
        folder.mkdir(mode=0o700)
    except FileExistsError as error:
        raise Usage(f"{folder} is there already; keys are made into a new folder") from error
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "a farm of proofs")])
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=DAYS))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    public = certificate.public_bytes(serialization.Encoding.PEM)
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    for file, data in (("ca.pem", public), ("cert.pem", public), ("key.pem", private)):
        handle = os.open(folder / file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as out:
            out.write(data)
