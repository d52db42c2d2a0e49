"""Signs flat packages of macOS: over the checksum of the table of contents, in both styles that the system knows.

Source: the published description of the archive; RFC 5652 for the message. The archive is kept byte for byte, only its
table is written anew. The first style is over SHA-1, since the checksum of the table is that; the message beside it is
over SHA-256, and carries the time stamp that a notary asks for. No Mac judged one here.
"""

from __future__ import annotations

import base64
import hashlib
import shutil
import struct
import tempfile
import zlib
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as etree

from yendo import host_os
from yendo.errors import Unreadable, Usage
from yendo.formats import plain_xml, xar
from yendo.formats.xar import Xar
from yendo.installers.judging import CMS_STAMP, Verified, judged_message
from yendo.package.signing import (
    BlankKey,
    SignaturesWanted,
    SignerIdentity,
    loaded,
    message,
    raw_signature,
    thumbprint,
    vouched_for,
)

_CHECKSUM, _TRIES = 20, 4
_KEY_INFO = "http://www.w3.org/2000/09/xmldsig#"


def sign_flat(path: Path, who: SignerIdentity, stamp: str | None = None) -> Verified:
    """Signs a package in place, whole or not at all. Raises Usage, Unreadable, SignaturesWanted."""
    from cryptography.hazmat.primitives.asymmetric import rsa

    public = who.certificates[0].public_key()
    if not isinstance(public, rsa.RSAPublicKey):
        raise Usage("packages for macOS are signed by RSA; this certificate's key is of another kind")
    with path.open("rb") as file, tempfile.TemporaryDirectory(prefix=".yendo-sign-", dir=path.parent) as place:
        archive = Xar(file, path.name)
        if archive.problem or archive.algorithm != "sha1":
            raise Unreadable(f"{path.name}: {archive.problem or 'its checksum is not SHA-1; build it again'}")
        new = Path(place) / path.name
        _signed(archive, new, who, public.key_size // 8, stamp, path.name)
        host_os.replace(new, path)
    return verify_flat(path, frozenset({thumbprint(who)}))


def _signed(archive: Xar, new: Path, who: SignerIdentity, size: int, stamp: str | None, name: str) -> None:
    """The size of the message stands in what it is over: it is made once with an empty signature to know it."""
    blank = SignerIdentity(BlankKey(size), who.certificates)
    length = len(message(blank, bytes(_CHECKSUM), stamp=stamp, stamp_as=CMS_STAMP, what=""))
    for _ in range(_TRIES):
        table, skipped = _table(archive, who, size, length)
        checksum = hashlib.sha1(table, usedforsecurity=False).digest()
        plain, made = _both(who, table, checksum, stamp, name)
        if len(made) == length:
            break
        length = len(made)  # time stamps are not all of one length
    else:
        raise Usage("the time stamps come in ever other lengths; try again, or without one")
    with new.open("wb") as out:
        unpacked = len(zlib.decompress(table))
        out.write(xar.MAGIC + struct.pack(">HHQQI", 28, 1, len(table), unpacked, 1) + table + checksum + plain + made)
        archive.file.seek(archive.heap + _CHECKSUM + skipped)
        shutil.copyfileobj(archive.file, out, 1 << 20)


def _both(who: SignerIdentity, table: bytes, checksum: bytes, stamp: str | None, name: str) -> tuple[bytes, bytes]:
    """The signature over the table and the message; one who signs elsewhere is asked for both at once."""
    wanted: list[SignaturesWanted] = []
    plain = made = b""
    try:
        plain = raw_signature(who, table, f"{name}.table", "sha1")
    except SignaturesWanted as asked:
        wanted.append(asked)
    try:
        made = message(who, checksum, stamp=stamp, stamp_as=CMS_STAMP, what=f"{name}.message")
    except SignaturesWanted as asked:
        wanted.append(asked)
    if wanted:
        raise SignaturesWanted([one for asked in wanted for one in asked.names], wanted[0].folder)
    return plain, made


def _table(archive: Xar, who: SignerIdentity, size: int, length: int) -> tuple[bytes, int]:
    """The table with the new signatures, and how much of the heap the old ones took."""
    root = plain_xml.parsed(zlib.decompress(archive.table), archive.name)
    toc = root.find("toc")
    assert toc is not None  # the reader saw it
    old = [one for name in ("signature", "x-signature") for one in toc.findall(name)]
    skipped = sum(int(one.findtext("size") or 0) for one in old)
    begins = min(
        (int(one.findtext("offset") or 0) for one in toc.iter("data") if one.find("offset") is not None), default=None
    )
    if begins is not None and begins < _CHECKSUM + skipped:
        raise Unreadable(f"{archive.name}: its signatures do not stand before its files")
    for one in old:
        toc.remove(one)
    moved = size + length - skipped
    for data in toc.iter("data"):
        place = data.find("offset")
        if place is not None:
            place.text = str(int(place.text or 0) + moved)
    offset = _CHECKSUM
    for tag, style, own in (("signature", "RSA", size), ("x-signature", "CMS", length)):
        signature = etree.Element(tag, style=style)
        etree.SubElement(signature, "offset").text = str(offset)
        etree.SubElement(signature, "size").text = str(own)
        data = etree.SubElement(etree.SubElement(signature, "KeyInfo", xmlns=_KEY_INFO), "X509Data")
        for certificate in who.certificates:
            raw = loaded(certificate).dump()
            etree.SubElement(data, "X509Certificate").text = base64.b64encode(raw).decode()
        toc.insert(1 + (tag == "x-signature"), signature)
        offset += own
    return zlib.compress(etree.tostring(root, "utf-8", xml_declaration=True), 9), skipped


def verify_flat(path: Path, trusted: frozenset[str] = frozenset()) -> Verified:
    """Judges the signatures of a package: by the certificate's key, over this table, by one that is stated.

    Raises Usage where it has none, Unreadable.
    """
    from yendo.mac.reading import signed

    with path.open("rb") as file:
        archive = Xar(file, path.name)
        first = signed(archive)
        if first.state == "none":
            raise Usage(f"{path.name} is not signed")
        problems = [archive.problem] if archive.problem else []
        if first.state == "broken":
            problems.append(first.problem or "the signature over the table is not by the certificate that stands there")
        elif first.state == "not judged":
            problems.append(first.problem)
        found = _message(archive, path.name)
        if found is None:
            raise Usage(
                f"{path.name} is signed in the older style alone, which carries no digest of today: sign it again"
            )
        problems += found.problems
        if found.thumbprint != hashlib.sha256(_first(archive)).hexdigest().upper():
            problems.append("its two signatures are by different certificates")
        for entry in archive.entries:
            if entry.kind == "file" and (wrong := _changed(archive, entry)):
                problems.append(wrong)
    return vouched_for(found, problems, trusted)


def _message(archive: Xar, name: str) -> Verified | None:
    value = next((one.value for one in archive.signatures if one.style == "CMS"), None)
    return judged_message(value, archive.digest, name) if value is not None else None


def _first(archive: Xar) -> bytes:
    return next((one.certificates[0] for one in archive.signatures if one.style == "RSA" and one.certificates), b"")


def _changed(archive: Xar, entry: xar.XarEntry) -> str:
    """What is wrong with a member, by the checksum that the signed table has of it."""
    algorithm, stated = entry.checksum
    if algorithm not in hashlib.algorithms_available:
        return f"{entry.path} has no checksum in the table"
    state: Any = hashlib.new(algorithm)
    source = archive.packed(entry)
    while piece := source.read(1 << 20):
        state.update(piece)
    return "" if state.hexdigest() == stated.lower() else f"{entry.path} is not what was signed"
