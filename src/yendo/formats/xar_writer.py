"""Writes the archive of flat packages, signed or not.

Source: the published description of the format; read by libarchive and 7-Zip in the tests. The checksum of the table is
SHA-1, the one that every reader of the format knows; what is signed beside it is SHA-256 where CMS is used.
"""

from __future__ import annotations

import base64
import hashlib
import struct
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO
from xml.etree import ElementTree as etree

import msgspec

from yendo.formats import xar

DATE = "2001-01-01T00:00:00"  # the same for every package: a date of building would make each build another file
_PIECE = 1 << 20


class XarMember(msgspec.Struct, frozen=True):
    """One file of an archive: ``path`` with slashes, its bytes or the file that holds them; packed where ``pack``."""

    path: str
    content: bytes | Path
    pack: bool = False


class XarSigner(msgspec.Struct, frozen=True):
    """Who signs: certificates (DER), the signer's first; ``size`` of a signature in bytes; ``sign`` takes the table's
    checksum and gives the signature.
    """

    certificates: tuple[bytes, ...]
    size: int
    sign: Callable[[bytes], bytes]


class _Placed(msgspec.Struct, frozen=True):
    member: XarMember
    packed: bytes | Path
    length: int
    size: int
    checksums: tuple[str, str]


def write(file: BinaryIO, members: Sequence[XarMember], signer: XarSigner | None = None) -> None:
    """Writes an archive of these, in their order."""
    placed = [_placed(member) for member in members]
    reserved = 20 + (signer.size if signer else 0)
    table = zlib.compress(etree.tostring(_table(placed, reserved, signer), "utf-8", xml_declaration=True), 9)
    unpacked = len(zlib.decompress(table))
    checksum = hashlib.sha1(table, usedforsecurity=False).digest()
    file.write(xar.MAGIC + struct.pack(">HHQQI", 28, 1, len(table), unpacked, 1) + table + checksum)
    if signer:
        made = signer.sign(checksum)
        if len(made) != signer.size:
            raise ValueError(f"a signature of {len(made)} bytes, where {signer.size} were said")
        file.write(made)
    for one in placed:
        if isinstance(one.packed, bytes):
            file.write(one.packed)
            continue
        with one.packed.open("rb") as source:
            while piece := source.read(_PIECE):
                file.write(piece)


def _placed(member: XarMember) -> _Placed:
    if isinstance(member.content, bytes):
        packed = zlib.compress(member.content, 9) if member.pack else member.content
        sums = (_sha1(packed), _sha1(member.content))
        return _Placed(member, packed, len(packed), len(member.content), sums)
    state = hashlib.sha1(usedforsecurity=False)
    size = 0
    with member.content.open("rb") as source:
        while piece := source.read(_PIECE):
            state.update(piece)
            size += len(piece)
    return _Placed(member, member.content, size, size, (state.hexdigest(), state.hexdigest()))


def _sha1(data: bytes) -> str:
    return hashlib.sha1(data, usedforsecurity=False).hexdigest()


def _table(placed: Sequence[_Placed], reserved: int, signer: XarSigner | None) -> etree.Element:
    root = etree.Element("xar")
    toc = etree.SubElement(root, "toc")
    _text(toc, "creation-time", DATE)
    checksum = etree.SubElement(toc, "checksum", style="sha1")
    _text(checksum, "offset", "0")
    _text(checksum, "size", "20")
    if signer:
        signature = etree.SubElement(toc, "signature", style="RSA")
        _text(signature, "offset", "20")
        _text(signature, "size", str(signer.size))
        info = etree.SubElement(signature, "KeyInfo", xmlns="http://www.w3.org/2000/09/xmldsig#")
        data = etree.SubElement(info, "X509Data")
        for certificate in signer.certificates:
            _text(data, "X509Certificate", base64.b64encode(certificate).decode())
    offset = reserved
    folders: dict[str, etree.Element] = {"": toc}
    for number, one in enumerate(placed, 1):
        above, _, name = one.member.path.rpartition("/")
        entry = _entry(_folder(folders, above), name, "file", number)
        data = etree.SubElement(entry, "data")
        _text(data, "length", str(one.length))
        _text(data, "offset", str(offset))
        _text(data, "size", str(one.size))
        style = "application/x-gzip" if one.member.pack else "application/octet-stream"
        etree.SubElement(data, "encoding", style=style)
        for tag, value in zip(("archived-checksum", "extracted-checksum"), one.checksums, strict=True):
            etree.SubElement(data, tag, style="sha1").text = value
        offset += one.length
    return root


def _folder(folders: dict[str, etree.Element], path: str) -> etree.Element:
    if path not in folders:
        above, _, name = path.rpartition("/")
        folders[path] = _entry(_folder(folders, above), name, "directory", 1_000_000 + len(folders))
    return folders[path]


def _entry(parent: etree.Element, name: str, kind: str, number: int) -> etree.Element:
    entry = etree.SubElement(parent, "file", id=str(number))
    if not name.isascii():
        etree.SubElement(entry, "name", enctype="base64").text = base64.b64encode(name.encode()).decode()
    else:
        _text(entry, "name", name)
    for tag, value in (("type", kind), ("mode", "0755" if kind == "directory" else "0644"), ("uid", "0"), ("gid", "0")):
        _text(entry, tag, value)
    return entry


def _text(parent: etree.Element, tag: str, value: str) -> None:
    etree.SubElement(parent, tag).text = value
