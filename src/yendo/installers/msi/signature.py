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
    whole, note = None, ""
    if verify:
        try:
            whole = holds(database, message)
        except ValueError:
            note = f"digest algorithm {message.algorithm} is not known here"
    return Signature(True, message.signer, message.issuer, whole, note, message.chain, message.timestamp)


def holds(database: Database, message: signatures.Message) -> bool:
    """Whether a database is what was signed. In the extended form a stream states the digest over names, sizes and
    times, and the signature is over that too. Raises ValueError for an unknown algorithm.
    """
    extended = database.streams.get(EXTENDED)
    before = extended.read() if extended is not None else b""
    if extended is not None and before != extended_digest(database.container, message.algorithm):
        return False
    return digest(database.container, message.algorithm, before) == message.expected


def extended_digest(container: CompoundFile, algorithm: str) -> bytes:
    """The digest over what the directory says of all entries but the signature's own. Raises ValueError."""
    state = hashlib.new(algorithm)

    def storage(entries: list[StorageEntry], told: bytes) -> None:
        state.update(told)
        for entry in sorted(entries, key=lambda entry: entry.name.encode("utf-16-le")):
            if entry.name in (STREAM, EXTENDED):
                continue
            if entry.is_storage:
                storage(container.entries(entry), entry.told())
            else:
                state.update(entry.told())

    storage(container.entries(), class_bytes(container.root.clsid) + container.root_state())
    return state.digest()


def digest(container: CompoundFile, algorithm: str, before: bytes = b"") -> bytes:
    """The digest over all streams but the signature's own. ``before`` is what stands before them in the extended form.
    Raises ValueError for an unknown algorithm.
    """
    state = hashlib.new(algorithm, before)

    def storage(entries: list[StorageEntry], class_id: str) -> None:
        for entry in sorted(entries, key=lambda entry: entry.name.encode("utf-16-le")):
            if entry.name in (STREAM, EXTENDED):
                continue
            if entry.is_storage:
                storage(container.entries(entry), entry.class_id)
            elif entry.size:
                with entry.open() as file:
                    while piece := file.read(1 << 20):
                        state.update(piece)
        state.update(class_bytes(class_id))

    storage(container.entries(), container.root.clsid)
    return state.digest()


def class_bytes(text: str) -> bytes:
    """A class identifier as its bytes; zeros for an empty one."""
    import uuid

    return uuid.UUID(text).bytes_le if text else bytes(16)
