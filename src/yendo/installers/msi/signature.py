"""The signature of an installer database: who signed it, and whether its digest holds.

The signature is a PKCS#7 message in a stream of its own; its digest covers every other stream, in
the order of their names as stored, and the class identifier after each storage's contents.
Source: [MS-OSHARED] 2.3.2.4 names the stream; the order was checked with files signed in the tests.
"""

from __future__ import annotations

import hashlib

from yendo.formats.cfb import CompoundFile, StorageEntry
from yendo.formats.msi import Database
from yendo.installers import signatures
from yendo.installers.account import Signature

STREAM, EXTENDED = "\x05DigitalSignature", "\x05MsiDigitalSignatureEx"


def of(database: Database, *, verify: bool = False) -> Signature:
    """Whether and by whom a database is signed. ``verify`` reads every stream and judges the digest."""
    entry = database.streams.get(STREAM)
    if entry is None:
        return Signature(False)
    try:
        message = signatures.parse(entry.read())
    except signatures.Unclear as error:
        return Signature(True, note=str(error))
    holds, note = None, ""
    if verify and EXTENDED in database.streams:
        note = "the extended form of the digest is not judged by this version"
    elif verify:
        try:
            holds = digest(database.container, message.algorithm) == message.expected
        except ValueError:
            note = f"digest algorithm {message.algorithm} is not known here"
    return Signature(True, message.signer, message.issuer, holds, note, message.chain, message.timestamp)


def digest(container: CompoundFile, algorithm: str) -> bytes:
    """The digest over all streams but the signature's own. Raises ValueError for an unknown algorithm."""
    state = hashlib.new(algorithm)

    def storage(entries: list[StorageEntry], class_id: str) -> None:
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
