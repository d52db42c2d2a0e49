"""Signing a built package and judging its signature.

The two scripts get a signature block as Windows takes it; a listing of every file's hash gets a detached message beside
it, so that the whole package stands behind one signature. Source: RFC 5652 (messages), RFC 3161 (time stamps), "Windows
Authenticode Portable Executable Signature Format" (the indirect data), and for scripts: the digest is over the text in
UTF-16 without its mark and its block.
"""

from __future__ import annotations

import base64
import hashlib
import os
import re
import shutil
import subprocess
import urllib.error
import urllib.request
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec
from asn1crypto import algos, cms, core, tsp
from asn1crypto import x509 as asn1_x509

from yendo import atomic, digest
from yendo.errors import NotCovered, Unreadable, Usage, YendoError
from yendo.installers.judging import STAMP, Verified, imprint, judged_message, stamp_info
from yendo.package import manifest as form
from yendo.package.scripts import SIGNED

LISTING, MESSAGE = "files.sha256", "files.sha256.p7s"
SCRIPTS = ("apply.ps1", "detect.ps1")
Over = Literal["sha256", "sha1"]
LIST = "1.3.6.1.4.1.311.10.1"  # of digests, as catalogues are
INDIRECT, SIP_INFO = "1.3.6.1.4.1.311.2.1.4", "1.3.6.1.4.1.311.2.1.30"
_SCRIPT_READER = bytes.fromhex(
    "1fcc3b60594b084eb724d2c6297ef351"
)  # the part of PowerShell that reads script signatures
_END = "# SIG # End signature block"
COMMAND_LIMIT = 120.0  # seconds in which a command gives a signature: a card may ask for a touch
MAX_ANSWER = 1 << 20


class _Digest(core.Sequence):
    _fields = [("algorithm", algos.DigestAlgorithm), ("digest", core.OctetString)]


class SipInfo(core.Sequence):
    """Which part of Windows reads the signature."""

    _fields = [
        ("version", core.Integer),
        ("reader", core.OctetString),
        *((f"reserved_{number}", core.Integer) for number in range(5)),
    ]


class _Data(core.Sequence):
    _fields = [("type", core.ObjectIdentifier), ("value", core.Any)]


class Indirect(core.Sequence):
    """What is signed in place of a file: its kind and its digest."""

    _fields = [("data", _Data), ("message_digest", _Digest)]


# so that the library writes and reads the content with its explicit tag
cms.ContentType._map[INDIRECT] = "indirect_data"
cms.ContentInfo._oid_specs["indirect_data"] = Indirect
cms.EncapsulatedContentInfo._oid_specs["indirect_data"] = Indirect
cms.ContentType._map[LIST] = "trust_list"
cms.EncapsulatedContentInfo._oid_specs["trust_list"] = core.Sequence


class SigningCommand(msgspec.Struct, frozen=True):
    """A program that has the key, on a card, in a module or with a service: it gets the bytes to sign (SHA-256) on its
    input, and gives the signature on its output, as it is or in base 64.
    """

    words: tuple[str, ...]


class SigningElsewhere(msgspec.Struct, frozen=True):
    """A folder through which signatures are asked for and taken: what is to be signed is written as ``NAME.tosign`` and
    its digest as ``NAME.sha256``, and the signature is awaited as ``NAME.signature``, as it is or in base 64.
    """

    folder: Path


class BlankKey(msgspec.Struct, frozen=True):
    """Signs with nothing: so many zeros, to know how long a message will be."""

    size: int


class SignaturesWanted(YendoError):
    """What has to be signed lies in the folder now; nothing was changed. ``names`` are those without a signature."""

    def __init__(self, names: Sequence[str], folder: Path) -> None:
        super().__init__(f"{folder} waits for the signature of {' and '.join(names)}")
        self.names, self.folder = tuple(names), folder


class SignerIdentity(msgspec.Struct, frozen=True):
    """Who signs: a private key, or a command or a folder for one who has it, and the certificates from the signer's
    upwards.
    """

    key: Any
    certificates: tuple[Any, ...]


def identity(path: Path, passphrase: bytes | None = None) -> SignerIdentity:
    """Reads key and certificates from a .p12 or .pfx, or from one PEM file.

    Raises Usage, NotCovered without the library.
    """
    try:
        from cryptography import x509
        from cryptography.hazmat.primitives.serialization import load_pem_private_key, pkcs12
    except ImportError as error:
        raise NotCovered("signing needs the library cryptography: pip install 'yendo[sign]'") from error
    try:
        data = path.read_bytes()
        if path.suffix.lower() in (".p12", ".pfx"):
            found = pkcs12.load_pkcs12(data, passphrase)
            if found.key is None or found.cert is None:
                raise Usage(f"{path} holds no key with its certificate")
            return SignerIdentity(
                found.key, (found.cert.certificate, *(more.certificate for more in found.additional_certs))
            )
        return SignerIdentity(load_pem_private_key(data, passphrase), tuple(x509.load_pem_x509_certificates(data)))
    except (OSError, ValueError, TypeError) as error:
        raise Usage(
            f"{path}: {error}; a PEM file with key and certificates or a .p12 is wanted, its passphrase in "
            "YENDO_PASSPHRASE"
        ) from error


def by_command(words: tuple[str, ...], path: Path) -> SignerIdentity:
    """Who signs by a command; the certificates are from a PEM or DER file, the signer's first.

    Raises Usage, NotCovered without the library.
    """
    if not words:
        raise Usage("the command that signs is empty")
    return SignerIdentity(SigningCommand(words), certificates(path))


def elsewhere(folder: Path, path: Path) -> SignerIdentity:
    """Who signs somewhere else; the certificates are from a PEM or DER file, the signer's first.

    Raises Usage, NotCovered without the library.
    """
    folder.mkdir(parents=True, exist_ok=True)
    return SignerIdentity(SigningElsewhere(folder), certificates(path))


def _in_file(path: Path) -> tuple[Any, ...]:
    """The certificates of a PEM file, or the one of a DER file. Raises OSError, ValueError."""
    from cryptography import x509

    data = path.read_bytes()
    if b"-----BEGIN" in data:
        return tuple(x509.load_pem_x509_certificates(data))
    return (x509.load_der_x509_certificate(data),)


def certificates(path: Path) -> tuple[Any, ...]:
    """The certificates of a PEM or DER file, the signer's first. Raises Usage, NotCovered without the library."""
    try:
        return _in_file(path)
    except ImportError as error:
        raise NotCovered("signing needs the library cryptography: pip install 'yendo[sign]'") from error
    except (OSError, ValueError) as error:
        raise Usage(f"{path}: {error}; the signer's certificate is wanted, as PEM or DER") from error


def loaded(certificate: Any) -> Any:
    """The certificate as the other library has it."""
    from cryptography.hazmat.primitives.serialization import Encoding

    return asn1_x509.Certificate.load(certificate.public_bytes(Encoding.DER))


def thumbprint(who: SignerIdentity) -> str:
    """The SHA-256 of the signer's certificate, in capitals."""
    return hashlib.sha256(loaded(who.certificates[0]).dump()).hexdigest().upper()


def raw_signature(who: SignerIdentity, data: bytes, what: str, over: Over) -> bytes:
    """A signature by itself, over data by a digest of this kind. Raises Usage, SignaturesWanted."""
    return _signature(who, data, what, over)[1]


def _signature(who: SignerIdentity, data: bytes, what: str, over: Over = "sha256") -> tuple[str, bytes]:
    from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa

    if isinstance(who.key, BlankKey):
        return "rsassa_pkcs1v15", bytes(who.key.size)
    if isinstance(who.key, SigningCommand):
        return _by_command(who, who.key, data, over)
    if isinstance(who.key, SigningElsewhere):
        return _taken(who, who.key.folder, data, what, over)
    if isinstance(who.key, rsa.RSAPrivateKey):
        return "rsassa_pkcs1v15", who.key.sign(data, padding.PKCS1v15(), _hash(over))
    if isinstance(who.key, ec.EllipticCurvePrivateKey):
        return "sha256_ecdsa", who.key.sign(data, ec.ECDSA(_hash(over)))
    raise Usage("the key is neither RSA nor of an elliptic curve")


def _hash(over: Over) -> Any:
    from cryptography.hazmat.primitives import hashes

    # the older kind only where a format states it, beside a signature over the newer
    return hashes.SHA256() if over == "sha256" else hashes.SHA1()


def _by_command(who: SignerIdentity, command: SigningCommand, data: bytes, over: Over) -> tuple[str, bytes]:
    """What the command gives, once it is seen to be a signature by the certificate's key. Raises Usage."""
    name = command.words[0]
    told = {**os.environ, "YENDO_DIGEST": over}
    try:
        done = subprocess.run(
            command.words, input=data, capture_output=True, timeout=COMMAND_LIMIT, check=False, env=told
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise Usage(f"{name} does not sign: {error}") from error
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip()[-300:]
        raise Usage(f"{name} ended with {done.returncode}: {said or 'it said nothing'}")
    if found := _held(who, done.stdout, data, over):
        return found
    hint = "" if over == "sha256" else "; which digest is wanted stands in YENDO_DIGEST"
    raise Usage(f"what {name} gives is no signature over {_named(over)} by the key of the certificate{hint}")


def _named(over: Over) -> str:
    return {"sha256": "SHA-256", "sha1": "SHA-1"}[over]


def _taken(who: SignerIdentity, folder: Path, data: bytes, what: str, over: Over) -> tuple[str, bytes]:
    """The signature that lies in the folder; else what is to be signed is put there. Raises SignaturesWanted, Usage."""
    place = folder / f"{what}.signature"
    if not place.is_file():
        atomic.write(folder / f"{what}.tosign", data)
        atomic.write(folder / f"{what}.{over}", hashlib.new(over, data).hexdigest().encode() + b"\n")
        raise SignaturesWanted([what], folder)
    if place.stat().st_size > MAX_ANSWER:
        raise Usage(f"{place} is too large for a signature")
    if found := _held(who, place.read_bytes(), data, over):
        return found
    raise Usage(
        f"{place} is no signature over {_named(over)} of what is to be signed now, by the key of the certificate; "
        "where the package was built again since: delete it, and ask again"
    )


def _held(who: SignerIdentity, answer: bytes, data: bytes, over: Over) -> tuple[str, bytes] | None:
    """The algorithm and the signature, if an answer is one by the signer's key, as it is or in base 64."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa

    public = who.certificates[0].public_key()
    for value in (answer, _decoded(answer)):
        try:
            if isinstance(public, rsa.RSAPublicKey):
                public.verify(value, data, padding.PKCS1v15(), _hash(over))
                return "rsassa_pkcs1v15", value
            if isinstance(public, ec.EllipticCurvePublicKey):
                public.verify(value, data, ec.ECDSA(_hash(over)))
                return "sha256_ecdsa", value
        except InvalidSignature:
            continue
    return None


def _decoded(text: bytes) -> bytes:
    try:
        return base64.b64decode(b"".join(text.split()), validate=True)
    except ValueError:
        return b""


def message(
    who: SignerIdentity,
    content: bytes,
    *,
    kind: str = "data",
    indirect: core.Sequence | None = None,
    stamp: str | None = None,
    stamp_as: str = STAMP,
    more: Sequence[tuple[str, Any]] = (),
    what: str = "",
) -> bytes:
    """A signed message over ``content``: detached, or with the indirect data of a script or a list inside. ``what`` is
    its name for one who signs elsewhere, ``more`` are further attributes that are signed, ``stamp_as`` the attribute
    that holds the time stamp: Windows has one of its own.

    Raises Usage, Unreadable, SignaturesWanted.
    """
    inside: dict[str, Any] = {"content_type": kind}
    attributes = cms.CMSAttributes(
        [
            cms.CMSAttribute({"type": "content_type", "values": [kind]}),
            cms.CMSAttribute({"type": "message_digest", "values": [hashlib.sha256(content).digest()]}),
            *(cms.CMSAttribute({"type": name, "values": [core.Any(value)]}) for name, value in more),
        ]
    )
    certificates = [loaded(certificate) for certificate in who.certificates]
    own = certificates[0]
    algorithm, value = _signature(who, attributes.dump(), what)
    signer: dict[str, Any] = {
        "version": "v1",
        "sid": cms.SignerIdentifier(
            {"issuer_and_serial_number": {"issuer": own.issuer, "serial_number": own.serial_number}}
        ),
        "digest_algorithm": {"algorithm": "sha256"},
        "signed_attrs": attributes,
        "signature_algorithm": {"algorithm": algorithm},
        "signature": value,
    }
    if stamp:
        token = _stamp_of(who, what, stamp, value)
        signer["unsigned_attrs"] = cms.CMSAttributes([cms.CMSAttribute({"type": stamp_as, "values": [token]})])
    if indirect is not None:
        inside["content"] = indirect
    signed = cms.SignedData(
        {
            "version": "v1",
            "digest_algorithms": [{"algorithm": "sha256"}],
            "encap_content_info": inside,
            "certificates": certificates,
            "signer_infos": [signer],
        }
    )
    return bytes(cms.ContentInfo({"content_type": "signed_data", "content": signed}).dump())


def _stamp_of(who: SignerIdentity, what: str, url: str, value: bytes) -> Any:
    """A token over a signature. Of one that is signed elsewhere it is kept beside it: a script with another token would
    be another script, and its listing would have to be signed again.
    """
    if not isinstance(who.key, SigningElsewhere):
        return stamped(url, value)
    place = who.key.folder / f"{what}.stamp"
    if place.is_file():
        try:
            token = cms.ContentInfo.load(place.read_bytes())
            if imprint(stamp_info(token)) == hashlib.sha256(value).digest():
                return token
        except (ValueError, TypeError, KeyError):
            pass  # it is asked for again
    token = stamped(url, value)
    atomic.write(place, token.dump())
    return token


def stamped(url: str, value: bytes) -> Any:
    """Asks a time stamp authority for a token over a signature. Raises Unreadable."""
    wanted = tsp.TimeStampReq(
        {
            "version": "v1",
            "message_imprint": {
                "hash_algorithm": {"algorithm": "sha256"},
                "hashed_message": hashlib.sha256(value).digest(),
            },
            "nonce": int.from_bytes(os.urandom(8), "big"),
            "cert_req": True,
        }
    )
    request = urllib.request.Request(url, wanted.dump(), {"Content-Type": "application/timestamp-query"})
    if request.type not in ("http", "https"):
        raise Usage(f"{url}: a time stamp authority is asked over http or https")
    try:
        with urllib.request.urlopen(request, timeout=30) as answer:
            raw = answer.read(MAX_ANSWER)
        found = tsp.TimeStampResp.load(raw)
        status = found["status"]["status"].native
        if status not in ("granted", "granted_with_mods"):
            raise Unreadable(f"{url} gives no time stamp: {status}")
        token = found["time_stamp_token"]
        info = stamp_info(token)
    except (OSError, urllib.error.URLError, ValueError, TypeError, KeyError) as error:
        raise Unreadable(f"{url}: no time stamp: {error}") from error
    if info["nonce"].native != wanted["nonce"].native or imprint(info) != hashlib.sha256(value).digest():
        raise Unreadable(f"{url} answers another question than it was asked")
    return token


# --- scripts ---------------------------------------------------------------------------------------------------------


def bare(text: str) -> str:
    """A script without its signature block."""
    at = text.find(f"\r\n{SIGNED}\r\n")
    return text if at < 0 else text[:at]


def script_digest(data: bytes) -> bytes:
    """What a script's signature is over."""
    return hashlib.sha256(bare(data.decode("utf-8-sig")).encode("utf-16-le")).digest()


def indirect_message(
    who: SignerIdentity, reader: tuple[int, bytes], stated: bytes, stamp: str | None, name: str
) -> bytes:
    """A signed message that states a digest in place of a file. ``reader``: the part of Windows that reads such
    signatures, as the version that it expects and its identifier. Raises as ``message``.
    """
    version, part = reader
    info = SipInfo({"version": version, "reader": part, **{f"reserved_{number}": 0 for number in range(5)}})
    content = Indirect(
        {
            "data": {"type": SIP_INFO, "value": info},
            "message_digest": {"algorithm": {"algorithm": "sha256"}, "digest": stated},
        }
    )
    return message(who, content.contents, kind="indirect_data", indirect=content, stamp=stamp, what=name)


def list_message(who: SignerIdentity, listed: bytes, stamp: str | None, name: str) -> bytes:
    """A catalogue: a list of digests inside the message that signs it. Raises as ``message``."""
    content = core.Sequence.load(listed).retag({"explicit": 0})
    return message(who, content.contents, kind="trust_list", indirect=content, stamp=stamp, what=name)


def signed_script(data: bytes, who: SignerIdentity, stamp: str | None, name: str = "") -> bytes:
    """A script with its signature block."""
    raw = indirect_message(who, (0x10000, _SCRIPT_READER), script_digest(data), stamp, name)
    encoded = base64.b64encode(raw).decode()
    lines = [f"# {encoded[at : at + 64]}" for at in range(0, len(encoded), 64)]
    text = bare(data.decode("utf-8-sig")) + "\r\n" + "\r\n".join([SIGNED, *lines, _END]) + "\r\n"
    return b"\xef\xbb\xbf" + text.encode()


def _block(data: bytes) -> bytes | None:
    match = re.search(rf"\r\n{SIGNED}\r\n(.*?)\r\n{_END}", data.decode("utf-8-sig"), re.S)
    return base64.b64decode("".join(line[2:] for line in match[1].split("\r\n"))) if match else None


# --- packages
# -----------------------------------------------------------------------------------------------------------


def _files(package: Path) -> list[Path]:
    return [path for path in sorted(package.rglob("*")) if path.is_file() and path.name not in (LISTING, MESSAGE)]


def listing(package: Path) -> bytes:
    """Every file of a package with its hash, a line each."""
    return "".join(
        f"{digest.of_file(path)}  {path.relative_to(package).as_posix()}\n" for path in _files(package)
    ).encode()


def sign(package: Path, who: SignerIdentity, stamp: str | None = None) -> Verified:
    """Signs a built package in place: it is signed whole or not at all. Raises Usage, Unreadable, NotCovered, and
    SignaturesWanted where one who signs elsewhere has not done so yet: first both scripts, then the listing, which
    has their hashes.
    """
    manifest = form.read(package)
    with atomic.folder(package) as new:
        for path in _files(package):
            target = new / path.relative_to(package)
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                os.link(path, target)  # media is never written to, and may be large
            except OSError:
                shutil.copyfile(path, target)
        changed: dict[str, form.PackedFile] = {}
        wanted: list[str] = []
        for name in SCRIPTS:
            try:
                data = signed_script((new / name).read_bytes(), who, stamp, name)
            except SignaturesWanted as waiting:
                wanted += waiting.names
                continue
            (new / name).unlink()
            (new / name).write_bytes(data)
            changed[name] = form.PackedFile(name, len(data), hashlib.sha256(data).hexdigest())
        if wanted and isinstance(who.key, SigningElsewhere):
            raise SignaturesWanted(wanted, who.key.folder)
        files = tuple(changed.get(file.path, file) for file in manifest.files)
        (new / "manifest.json").unlink()
        (new / "manifest.json").write_bytes(form.encode(msgspec.structs.replace(manifest, files=files)))
        listed = listing(new)
        (new / LISTING).write_bytes(listed)
        (new / MESSAGE).write_bytes(message(who, listed, stamp=stamp, what=LISTING))
    return verify(package, frozenset({thumbprint(who)}))


def signers(given: Iterable[str]) -> frozenset[str]:
    """Stated signers as thumbprints (SHA-256, in capitals): each given as one, or as the file of a certificate.

    Raises Usage.
    """
    from cryptography.hazmat.primitives.serialization import Encoding

    found = set()
    for one in given:
        plain = re.sub(r"[\s:]", "", one).upper()
        if re.fullmatch(r"[0-9A-F]{64}", plain):
            found.add(plain)
            continue
        path = Path(one)
        if not path.is_file():
            raise Usage(f"{one} is neither the SHA-256 thumbprint of a certificate (64 digits) nor the file of one")
        try:
            known = _in_file(path)
        except ValueError as error:
            raise Usage(f"{one} is no certificate: {error}") from error
        found.add(hashlib.sha256(known[0].public_bytes(Encoding.DER)).hexdigest().upper())
    return frozenset(found)


def verify(package: Path, trusted: frozenset[str] = frozenset()) -> Verified:
    """Judges the signature of a package: message, listing, every file, both scripts, and the signer against the stated
    ones.

    Raises Usage where it is not signed.
    """
    if not (package / MESSAGE).is_file():
        raise Usage(f"{package} is not signed: it has no {MESSAGE}")
    listed = (package / LISTING).read_bytes() if (package / LISTING).is_file() else b""
    message = judged_message((package / MESSAGE).read_bytes(), listed, MESSAGE)
    problems = list(message.problems)
    lines = [line.partition("  ") for line in listed.decode("utf-8", "replace").splitlines()]
    wanted = {name: value for value, _, name in lines}
    there = {path.relative_to(package).as_posix(): path for path in _files(package)}
    problems += [f"{name} is missing" for name in sorted(wanted.keys() - there.keys())]
    problems += [f"{name} is not in the listing" for name in sorted(there.keys() - wanted.keys())]
    problems += [
        f"{name} has changed since"
        for name in sorted(wanted.keys() & there.keys())
        if digest.of_file(there[name]) != wanted[name]
    ]
    for name in SCRIPTS:
        data = (package / name).read_bytes() if (package / name).is_file() else b""
        try:
            raw = _block(data)
            content = cms.ContentInfo.load(raw)["content"]["encap_content_info"]["content"] if raw else None
            stated = content["message_digest"]["digest"].native if content is not None else None
        except (ValueError, TypeError, KeyError, UnicodeDecodeError) as error:
            problems.append(f"{name}: its signature cannot be read: {error}")
            continue
        if raw is None or content is None:
            problems.append(f"{name} has no signature block")
            continue
        judged = judged_message(raw, content.contents, name)
        problems += judged.problems
        if judged.thumbprint != message.thumbprint:
            problems.append(f"{name} is signed by another certificate than the listing")
        if stated != script_digest(data):
            problems.append(f"{name} has changed since it was signed")
    return vouched_for(message, problems, trusted)


def vouched_for(found: Verified, problems: Iterable[str], trusted: frozenset[str]) -> Verified:
    """A judged signature with all of its problems, and whether one of the stated signers made it."""
    vouched = found.thumbprint in trusted
    whole = tuple(problems)
    if trusted and not vouched:
        who = f"{found.signer or 'nobody'}, {found.thumbprint or 'no certificate'}"
        whole += (f"it is signed by a certificate that nobody vouched for: {who}",)
    return msgspec.structs.replace(found, problems=whole, vouched=vouched)
