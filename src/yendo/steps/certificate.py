"""Steps that put a certificate into a store of the machine."""

from __future__ import annotations

import base64
import hashlib
import re
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from asn1crypto import x509

from yendo.errors import Unreadable, Usage
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step, below
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

STORES = r"Software\Microsoft\SystemCertificates"
_HASH, _CERTIFICATE = 3, 32


class CertificateStep(Step, tag="certificate", frozen=True, rename={"source": "from"}, kw_only=True):
    """Puts a certificate from ``extras/`` (.cer, DER or PEM) into a store of the machine."""

    source: Text
    store: Literal["Root", "CA", "TrustedPublisher", "TrustedPeople", "Disallowed"] = "TrustedPublisher"


def certificate(path: Path) -> bytes:
    """The certificate of a file, as DER. Raises Unreadable."""
    data = path.read_bytes()
    match = re.search(rb"-----BEGIN CERTIFICATE-----(.*?)-----END CERTIFICATE-----", data, re.S)
    try:
        der = base64.b64decode(match[1]) if match else data
        x509.Certificate.load(der).subject.native  # noqa: B018
    except ValueError as error:
        raise Unreadable(f"{path.name} is no certificate: {error}") from error
    return der


def stored(der: bytes) -> str:
    """A certificate as its store keeps it, hexadecimal: properties with number, 1, length, data. Source:
    CERT_SHA1_HASH_PROP_ID, CERT_CERT_PROP_ID; the tests let the real store read it."""
    parts = ((_HASH, hashlib.sha1(der).digest()), (_CERTIFICATE, der))
    return b"".join(struct.pack("<III", number, 1, len(data)) + data for number, data in parts).hex()


class CertificateData(ActionData, frozen=True):
    """``blob`` in small hex, as the registry keeps it; ``name`` its SHA-1 in capitals."""

    key: str
    blob: str
    name: str


class CertificateKind(Kind[CertificateStep]):
    step = CertificateStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: CertificateStep, at: At) -> Action:
        der = certificate(below(at.base, step.source, "extras"))
        name = hashlib.sha1(der).hexdigest().upper()
        data = CertificateData(rf"{STORES}\{step.store}\Certificates\{name}", stored(der), name).plain()
        return Action("certificate", f"certificate {step.source} into {step.store}", data=data)

    def perform(self, action: Action, host: Host) -> Result:
        own = CertificateData.of(action)
        changed = host.set_value("HKLM", "64", own.key, "Blob", ("binary", own.blob))
        host.tell(events.CertificateChanged(own.name, "added" if changed else "there already"))
        return DONE

    def mistakes(self, step: CertificateStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            found = x509.Certificate.load(certificate(below(at.base, step.source, "extras")))
        except (Unreadable, Usage) as error:
            yield "from", str(error), "put the certificate below extras/"
            return
        if step.store == "Root" and found.self_signed == "no":
            yield "store", "it is not self-signed, so no root", 'write store = "CA"'
