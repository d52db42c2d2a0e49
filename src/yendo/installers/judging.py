"""A signature judged: whether it is the certificate's, over which content, and when a third party saw it.

Source: RFC 5652 and RFC 3161. Whether the system that loads the file trusts the end of the chain is not known here.
"""

from __future__ import annotations

import hashlib
from typing import Any

import msgspec
from asn1crypto import cms, tsp

from yendo.installers import signatures
from yendo.remembered import remembered

# What holds a time stamp: of Windows, and of RFC 3161, as macOS has it.
STAMP, CMS_STAMP = "1.3.6.1.4.1.311.3.3.1", "1.2.840.113549.1.9.16.2.14"
_MAX_KEPT = 1 << 16  # bytes of certificates that are worth remembering


class Verified(msgspec.Struct, frozen=True):
    """What became of judging a signature; ``problems`` is empty where it holds. ``seen`` is a third party's time, in
    UTC.

    ``thumbprint`` is the SHA-256 of the signer's certificate in capitals: the name alone is nobody's own. ``vouched``:
    whether it is one of those that were stated as the office's. ``ends`` is the last moment of the certificate, in UTC;
    ``own`` whether it vouches for itself; ``uses`` are the identifiers of what it may be used for. ``above`` are the
    SHA-256 of the certificates above it that are in the message, each of which signed the one below it, and
    ``certificate`` is the signer's own (DER).
    """

    signer: str
    chain: tuple[str, ...]
    seen: str | None
    problems: tuple[str, ...]
    thumbprint: str = ""
    vouched: bool = False
    ends: str = ""
    own: bool = False
    uses: tuple[str, ...] = ()
    above: tuple[str, ...] = ()
    certificate: bytes = b""


def judged_message(raw: bytes, content: bytes | None, what: str) -> Verified:
    """One signature over its content, or over what it has inside; who vouches for the signer is not asked here.

    The time stamp is held against the signature it is of; the authority's own signature is not judged. Needs
    ``cryptography``: ImportError where it is not installed.
    """
    from cryptography import x509
    from cryptography.exceptions import UnsupportedAlgorithm

    theirs = (UnsupportedAlgorithm, x509.InvalidVersion, x509.DuplicateExtension, x509.UnsupportedGeneralNameType)
    try:
        return _judged(raw, content, what)
    except (
        ValueError,
        TypeError,
        KeyError,
        IndexError,
        StopIteration,
        AttributeError,
        OverflowError,
        *theirs,
    ) as error:
        return Verified("", (), None, (f"{what}: the signature cannot be read: {error}",))


def _judged(raw: bytes, content: bytes | None, what: str) -> Verified:
    signed = cms.ContentInfo.load(raw)["content"]
    content = signed["encap_content_info"]["content"].contents if content is None else content
    info = signed["signer_infos"][0]
    algorithm = info["digest_algorithm"]["algorithm"].native
    chosen, *others = sorted(
        (choice.chosen for choice in signed["certificates"]), key=lambda one: not signatures.is_signer(info, one)
    )
    if not signatures.is_signer(info, chosen):
        raise ValueError("the signer's certificate is not in it")
    ders = tuple(one.dump() for one in (chosen, *others))
    told = _read(ders)
    own = told.own
    stated = next(item["values"][0].native for item in info["signed_attrs"] if item["type"].native == "message_digest")
    value, attributes = info["signature"].native, b"\x31" + info["signed_attrs"].dump()[1:]
    problems = []
    if not by_its_key(own, value, attributes, algorithm):
        problems.append(f"{what}: the signature is not by the certificate's key")
    if stated != hashlib.new(algorithm, content).digest():
        problems.append(f"{what}: it is over other content")
    beside = info["unsigned_attrs"] or ()
    token = next((item["values"][0] for item in beside if item["type"].dotted in (STAMP, CMS_STAMP)), None)
    seen = None
    if token is not None:
        stamp = stamp_info(cms.ContentInfo.load(token.dump()))
        seen = stamp["gen_time"].native.isoformat()
        stamping = stamp["message_imprint"]["hash_algorithm"]["algorithm"].native
        if imprint(stamp) != hashlib.new(stamping, value).digest():
            problems.append(f"{what}: the time stamp is of another signature")
        elif not own.not_valid_before_utc <= stamp["gen_time"].native <= own.not_valid_after_utc:
            problems.append(f"{what}: the certificate was not valid when it was signed")
    return Verified(
        told.names[0],
        told.names,
        seen,
        tuple(problems),
        fingerprint(ders[0]),
        ends=own.not_valid_after_utc.isoformat(),
        own=own.subject == own.issuer,
        uses=told.uses,
        certificate=ders[0],
        above=told.above,
    )


class _Certificates(msgspec.Struct, frozen=True):
    """What the certificates of a message say, the signer's own first."""

    own: Any
    names: tuple[str, ...]
    uses: tuple[str, ...]
    above: tuple[str, ...]


# a folder full of drivers is signed by few
@remembered(32, most=_MAX_KEPT)
def _read(ders: tuple[bytes, ...]) -> _Certificates:
    from cryptography import x509

    certificates = [x509.load_der_x509_certificate(der) for der in ders]
    own = certificates[0]
    try:
        uses = tuple(one.dotted_string for one in own.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value)
    except (x509.ExtensionNotFound, ValueError):
        uses = ()
    places = {id(one): der for one, der in zip(certificates, ders, strict=True)}
    return _Certificates(
        own,
        tuple(one.subject.rfc4514_string() for one in certificates),
        uses,
        tuple(fingerprint(places[id(one)]) for one in _above(own, certificates)),
    )


def by_its_key(certificate: Any, value: bytes, signed: bytes, algorithm: str) -> bool:
    """Whether a signature is by a certificate's key. Raises KeyError for a digest that is not taken, ValueError."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec, padding

    known: dict[str, hashes.HashAlgorithm] = {
        "sha1": hashes.SHA1(),
        "sha256": hashes.SHA256(),
        "sha384": hashes.SHA384(),
        "sha512": hashes.SHA512(),
    }
    public: Any = certificate.public_key()
    try:
        if isinstance(public, ec.EllipticCurvePublicKey):
            public.verify(value, signed, ec.ECDSA(known[algorithm]))
        else:
            public.verify(value, signed, padding.PKCS1v15(), known[algorithm])
    except InvalidSignature:
        return False
    return True


def fingerprint(der: bytes) -> str:
    """The SHA-256 of a certificate, in capitals."""
    return hashlib.sha256(der).hexdigest().upper()


def _above(own: Any, certificates: list[Any]) -> list[Any]:
    """The certificates that vouch for one, upwards, as far as they are at hand and their keys did it."""
    from cryptography.exceptions import InvalidSignature

    found: list[Any] = []
    below = own
    while len(found) < 8:
        for other in certificates:
            if other is below or other in found or other.subject != below.issuer:
                continue
            try:
                below.verify_directly_issued_by(other)
            except (InvalidSignature, ValueError, TypeError):
                continue
            found.append(other)
            below = other
            break
        else:
            break
    return found


def stamp_info(token: Any) -> Any:
    content = token["content"]["encap_content_info"]["content"]
    return tsp.TSTInfo.load(content.parsed.dump() if hasattr(content, "parsed") else content.native)


def imprint(info: Any) -> bytes:
    return bytes(info["message_imprint"]["hashed_message"].native)
