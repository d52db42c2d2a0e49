"""Signatures as PKCS#7 messages: who signed, the chain, the time a third party saw it, and the digest it states.

Source: [MS-OSHARED] and "Windows Authenticode Portable Executable Signature Format".
"""

from __future__ import annotations

import hashlib
import struct
from typing import Any, BinaryIO

import msgspec

from yendo.formats.pe import Image
from yendo.formats.slices import at
from yendo.installers.account import Signature

MAX_MESSAGE = 4 << 20
_ALGORITHMS = {
    "2.16.840.1.101.3.4.2.1": "sha256",
    "1.3.14.3.2.26": "sha1",
    "2.16.840.1.101.3.4.2.2": "sha384",
    "2.16.840.1.101.3.4.2.3": "sha512",
}


class Unclear(ValueError):
    """A message that cannot be read, with the reason."""


class Message(msgspec.Struct, frozen=True):
    """``algorithm`` is a name of hashlib or an identifier it does not know; ``chain`` begins with the signer.

    ``subject`` are the fields of the signer's name, ``ends`` the last moment of its certificate (UTC).
    """

    signer: str
    issuer: str
    chain: tuple[str, ...]
    timestamp: str | None
    algorithm: str
    expected: bytes
    subject: dict[str, str] = {}
    ends: str = ""


def parse(raw: bytes) -> Message:
    """Raises Unclear."""
    from asn1crypto import cms

    try:
        signed = cms.ContentInfo.load(raw)["content"]
        info = signed["signer_infos"][0]
        certificates = [choice.chosen for choice in signed["certificates"]]
        own = next(certificate for certificate in certificates if is_signer(info, certificate))
        algorithm, expected = _expected(signed)
        return Message(
            _name(own.subject),
            _name(own.issuer),
            _chain(own, certificates),
            _timestamp(info),
            algorithm,
            expected,
            {name: value for name, value in own.subject.native.items() if isinstance(value, str)},
            own["tbs_certificate"]["validity"]["not_after"].native.isoformat(),
        )
    except (ValueError, KeyError, TypeError, IndexError, StopIteration, AttributeError) as error:
        raise Unclear(f"the signature cannot be read: {error}") from error


def signer_of(raw: bytes) -> str:
    """Whose name a message carries as its signer's, whatever it is about and whether it holds. Raises Unclear."""
    from asn1crypto import cms

    try:
        signed = cms.ContentInfo.load(raw)["content"]
        info = signed["signer_infos"][0]
        return _name(next(one.chosen for one in signed["certificates"] if is_signer(info, one.chosen)).subject)
    except (ValueError, KeyError, TypeError, IndexError, StopIteration, AttributeError) as error:
        raise Unclear(f"the signature cannot be read: {error}") from error


def is_signer(info: Any, certificate: Any) -> bool:
    """Whether a signer's entry of a message names a certificate, by its issuer and its number."""
    named = info["sid"].chosen
    return bool(
        certificate.serial_number == named["serial_number"].native
        and certificate.issuer.dump() == named["issuer"].dump()
    )


def _name(name: Any) -> str:
    native = name.native
    value = native.get("common_name") or native.get("organization_name") or name.human_friendly
    return value if isinstance(value, str) else ", ".join(value)


def _chain(own: Any, certificates: list[Any]) -> tuple[str, ...]:
    chain, at_now = [_name(own.subject)], own
    for _ in range(8):
        if at_now.subject == at_now.issuer:
            break
        above = next((other for other in certificates if other.subject == at_now.issuer), None)
        chain.append(_name(at_now.issuer))
        if above is None or above is at_now:
            break
        at_now = above
    return tuple(chain)


def _timestamp(info: Any) -> str | None:
    """From the countersignature, or from the timestamp token that newer signatures carry."""
    for attribute in info["unsigned_attrs"] or ():
        kind = attribute["type"].native
        for value in attribute["values"]:
            if kind == "counter_signature" or kind == "1.2.840.113549.1.9.6":
                for signed in value["signed_attrs"]:
                    if signed["type"].native == "signing_time":
                        return str(signed["values"][0].native.isoformat())
            if kind in ("1.3.6.1.4.1.311.3.3.1", "microsoft_time_stamp_token", "signature_time_stamp_token"):
                from asn1crypto import cms, tsp

                token = cms.ContentInfo.load(value.dump())["content"]["encap_content_info"]["content"]
                return str(
                    tsp.TSTInfo.load(token.contents if not hasattr(token, "parsed") else token.parsed.dump())[
                        "gen_time"
                    ].native.isoformat()
                )
    return None


def _expected(signed: Any) -> tuple[str, bytes]:
    """Algorithm and digest from the SpcIndirectDataContent: SEQUENCE { data, DigestInfo }."""
    from asn1crypto import core, parser

    content = signed["encap_content_info"]["content"]
    encoded = content.dump()
    kind, _, _, _, inside, _ = parser.parse(encoded)
    outer = core.Sequence.load(
        inside if kind == 2 else encoded
    )  # PKCS#7 puts a context tag round it, and no octet string
    digest_info = core.Sequence.load(outer[1].dump())
    algorithm = core.Sequence.load(digest_info[0].dump())[0].native
    return _ALGORITHMS.get(algorithm, algorithm), digest_info[1].native


def of_program(file: BinaryIO, image: Image, *, verify: bool = False) -> Signature:
    """Whether and by whom a program is signed. ``verify`` reads the whole file and judges the digest."""
    offset, size = image.certificates
    if not size:
        stated = image.directories[4] if len(image.directories) > 4 else (0, 0)
        return Signature(False, note="its certificates lie beyond the end of the file" if stated[1] else "")
    length, _, kind = struct.unpack("<IHH", at(file, offset, 8).ljust(8, b"\0"))
    if kind != 2 or not 8 < length <= min(size, MAX_MESSAGE):
        return Signature(
            True,
            note=f"the certificates at offset {offset} are of a form that is not read (type {kind}, {length} bytes)",
        )
    try:
        message = parse(at(file, offset + 8, length - 8))
    except Unclear as error:
        return Signature(True, note=str(error))
    holds, note = None, ""
    if verify:
        try:
            holds = program_digest(file, image, message.algorithm) == message.expected
        except ValueError:
            note = f"digest algorithm {message.algorithm} is not known here"
    return Signature(True, message.signer, message.issuer, holds, note, message.chain, message.timestamp)


def program_digest(file: BinaryIO, image: Image, algorithm: str) -> bytes:
    """The digest over a program without its checksum, the entry of its certificates, and these. Raises ValueError."""
    state = hashlib.new(algorithm)
    optional = image.header_offset + 24
    entry = optional + (144 if image.bits == 64 else 128)
    offset, _ = image.certificates
    end = offset or image.size
    for begin, stop in ((0, optional + 64), (optional + 68, entry), (entry + 8, end)):
        file.seek(begin)
        left = stop - begin
        while left > 0 and (piece := file.read(min(left, 1 << 20))):
            state.update(piece)
            left -= len(piece)
    return state.digest()
