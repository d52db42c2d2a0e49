"""The signature of an installer database: who signed it, and whether its digest holds.

The signature is a PKCS#7 message in a stream of its own; its digest covers every other stream, in
the order of their names as stored, and the class identifier after each storage's contents.
Source: [MS-OSHARED] 2.3.2.4 names the stream; the order was checked with files signed in the tests.
"""

from __future__ import annotations

import hashlib
from typing import Any

from yendo.formats.cfb import CompoundFile, Entry
from yendo.formats.msi import Database
from yendo.installers.account import Signature

STREAM, EXTENDED = "\x05DigitalSignature", "\x05MsiDigitalSignatureEx"


def of(database: Database, *, verify: bool = False) -> Signature:
    """Whether and by whom a database is signed. ``verify`` reads every stream and judges the digest."""
    entry = database.streams.get(STREAM)
    if entry is None:
        return Signature(False)
    from asn1crypto import cms

    try:
        signed = cms.ContentInfo.load(entry.read())["content"]
        info = signed["signer_infos"][0]
        serial = info["sid"].chosen["serial_number"].native
        certificate = next(choice.chosen for choice in signed["certificates"] if choice.chosen.serial_number == serial)
        signer, issuer = _name(certificate.subject), _name(certificate.issuer)
        algorithm, expected = _expected(signed)
    except (ValueError, KeyError, TypeError, IndexError, StopIteration, AttributeError) as error:
        return Signature(True, note=f"the signature cannot be read: {error}")
    if not verify:
        return Signature(True, signer, issuer)
    if EXTENDED in database.streams:
        return Signature(True, signer, issuer, None, "the extended form of the digest is not judged by this version")
    try:
        holds = digest(database.container, algorithm) == expected
    except ValueError:
        return Signature(True, signer, issuer, None, f"digest algorithm {algorithm} is not known here")
    return Signature(True, signer, issuer, holds)


def _name(name: Any) -> str:
    native = name.native
    value = native.get("common_name") or native.get("organization_name") or name.human_friendly
    return value if isinstance(value, str) else ", ".join(value)


def _expected(signed: Any) -> tuple[str, bytes]:
    """Algorithm and digest from the SpcIndirectDataContent: SEQUENCE { data, DigestInfo }."""
    from asn1crypto import core, parser

    content = signed["encap_content_info"]["content"]
    encoded = content.dump()
    kind, _, _, _, inside, _ = parser.parse(encoded)
    outer = core.Sequence.load(inside if kind == 2 else encoded)  # PKCS#7 puts a context tag round it, and no octet string
    digest_info = core.Sequence.load(outer[1].dump())
    algorithm = core.Sequence.load(digest_info[0].dump())[0].native
    names = {"2.16.840.1.101.3.4.2.1": "sha256", "1.3.14.3.2.26": "sha1", "2.16.840.1.101.3.4.2.2": "sha384", "2.16.840.1.101.3.4.2.3": "sha512"}
    return names.get(algorithm, algorithm), digest_info[1].native


def digest(container: CompoundFile, algorithm: str) -> bytes:
    """The digest over all streams but the signature's own. Raises ValueError for an unknown algorithm."""
    state = hashlib.new(algorithm)

    def storage(entries: list[Entry], class_id: str) -> None:
        for entry in sorted(entries, key=lambda entry: entry.name.encode("utf-16-le")):
            if entry.name in (STREAM, EXTENDED):
                continue
            if entry.is_storage:
                storage(container.entries(entry), entry._raw.clsid)
            elif entry.size:
                with entry.open() as file:
                    while piece := file.read(1 << 20):
                        state.update(piece)
        state.update(_class_bytes(class_id))

    storage(container.entries(), container.root.clsid)
    return state.digest()


def _class_bytes(text: str) -> bytes:
    import uuid

    return uuid.UUID(text).bytes_le if text else bytes(16)
