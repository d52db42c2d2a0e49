"""Security catalogues (``.cat``): a signed list of the digests of files, with what is said of each.

Source: [MS-OSHARED] and the documentation of certificate trust lists; the second version by catalogues of other people
that are read in ``tests/test_drivers.py``: entries are named by the digest itself, there in SHA-1 or SHA-256.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime

import msgspec
from asn1crypto import cms, core

from yendo.errors import Unreadable
from yendo.remembered import remembered

MAX_SIZE = 64 << 20
_LIST = "1.3.6.1.4.1.311.10.1"
_SUBJECT_PROGRAM = "{C689AAB8-8E78-11D0-8C47-00C04FC295EE}"
_SEQUENCE, _EXTENSIONS, _UTC_TIME, _GENERALISED_TIME = 0x30, 0xA0, 0x17, 0x18
_BY_LENGTH = {20: "sha1", 32: "sha256", 48: "sha384", 64: "sha512"}


def _oid(dotted: str) -> bytes:
    return bytes(core.ObjectIdentifier(dotted).dump())


_NAMED, _INDIRECT = _oid("1.3.6.1.4.1.311.12.2.1"), _oid("1.3.6.1.4.1.311.2.1.4")
_MEMBER, _MEMBER_2, _MEMBERS_2 = (_oid(f"1.3.6.1.4.1.311.12.{end}") for end in ("2.2", "2.3", "1.3"))
_PROGRAM = _oid("1.3.6.1.4.1.311.2.1.15")


class CatalogueMember(msgspec.Struct, frozen=True):
    """A digest that the list holds. ``program``: over a program without its own signature, else over the whole file.

    ``file`` is the name that it was listed by, and ``systems`` what it says of systems, both as they stand there; they
    may be empty.
    """

    algorithm: str
    digest: bytes
    program: bool
    file: str = ""
    systems: str = ""


class SecurityCatalogue(msgspec.Struct, frozen=True):
    """``made`` is UTC; ``attributes`` are said of the whole list, ``OS`` and hardware identifiers among them."""

    made: str
    version: int
    members: tuple[CatalogueMember, ...]
    attributes: dict[str, str]


def parse(raw: bytes) -> SecurityCatalogue:
    """What a catalogue lists; whether its signature holds is another question. Raises Unreadable."""
    if len(raw) > MAX_SIZE:
        raise Unreadable(f"a catalogue of {len(raw)} bytes is larger than any ({MAX_SIZE})")
    try:
        inside = cms.ContentInfo.load(raw)["content"]["encap_content_info"]
        if inside["content_type"].dotted != _LIST:
            raise Unreadable(f"it is a signed message, but no list ({inside['content_type'].dotted})")
        fields = list(_fields(inside["content"].contents))
        place = next(at for at, (tag, _, _) in enumerate(fields) if tag in (_UTC_TIME, _GENERALISED_TIME))
        kind = _first(fields[place + 1][2])
        after = {tag: content for tag, _, content in fields[place + 2 :]}
        return SecurityCatalogue(
            core.load(fields[place][1]).native.isoformat(),
            2 if kind == _MEMBERS_2 else 1,
            tuple(_member(content) for _, _, content in _fields(after.get(_SEQUENCE, b""))),
            dict(_said(after.get(_EXTENSIONS, b""))),
        )
    except Unreadable:
        raise
    except (ValueError, KeyError, TypeError, IndexError, StopIteration, AttributeError, OverflowError) as error:
        raise Unreadable(f"the catalogue cannot be read: {error}") from error


def _fields(data: bytes) -> list[tuple[int, bytes, bytes]]:
    """The parts of a sequence or a set: the first byte, the whole part, and what is in it. Raises ValueError."""
    found = []
    at, size = 0, len(data)
    while at < size:
        begin, length = at + 2, data[at + 1]
        if length & 0x80:
            begin += length & 0x7F
            if not 3 <= begin - at <= 6:
                raise ValueError("a length of a form that is not read")
            length = int.from_bytes(data[at + 2 : begin], "big")
        end = begin + length
        if end > size:
            raise ValueError("it is cut off")
        found.append((data[at], data[at:end], data[begin:end]))
        at = end
    return found


def _first(data: bytes) -> bytes:
    """The first part of a sequence. Raises ValueError where it is empty."""
    for _, whole, _ in _fields(data):
        return whole
    raise ValueError("a part of it is empty")


@remembered(256, most=256)  # a list says the same few short names of every file
def _wide(whole: bytes) -> str:
    """A text of two bytes a letter. Raises ValueError where there is none."""
    for _, _, content in _fields(whole):
        return content.decode("utf-16-be", "replace")
    raise ValueError("a name of it is empty")


def _member(data: bytes) -> CatalogueMember:
    (_, _, named), *attributes = _fields(data)
    file = systems = ""
    program: bool | None = None
    stated: bytes | None = None
    for _, _, attribute in _fields(attributes[0][2] if attributes else b""):
        (_, kind, _), (_, _, values) = _fields(attribute)
        for tag, whole, content in _fields(values):
            if kind == _NAMED:  # a name and what it stands for
                name, text = _named(content)
                file = text if name.lower() == "file" else file
                systems = text if name.lower() == "osattr" else systems
            elif kind == _INDIRECT:  # the digest, and what it is over
                (_, _, about), (_, _, digest) = _fields(content)
                program = _first(about) == _PROGRAM
                stated = list(_fields(digest))[1][2]
            elif kind == _MEMBER and program is None:
                program = _wide(_first(content)).upper() == _SUBJECT_PROGRAM
            elif kind == _MEMBER_2 and program is None:  # the same as a choice; 0 is a program
                program = bool(whole) and tag & 0x1F == 0
    if stated is None:  # then its name is the digest: itself, or in letters
        stated = named if len(named) in _BY_LENGTH else bytes.fromhex(_text(named))
    return CatalogueMember(_BY_LENGTH[len(stated)], stated, bool(program), file, systems)


def _named(content: bytes) -> tuple[str, str]:
    """A name and its text, as they stand."""
    (_, name, _), _, (_, _, value) = _fields(content)
    return _wide(name), _text(value)


def _said(extensions: bytes) -> Iterator[tuple[str, str]]:
    for _, _, entries in _fields(extensions):
        for _, _, entry in _fields(entries):
            (_, kind, _), *_, (_, _, value) = _fields(entry)
            if kind == _NAMED:
                for _, _, content in _fields(value):
                    yield _named(content)


def _text(value: bytes) -> str:
    return value.decode("utf-16-le", "replace").rstrip("\0")


def build(members: Iterable[CatalogueMember], attributes: Mapping[str, str], made: datetime) -> bytes:
    """The list itself, of the second version, which a signed message then carries; ``made`` is UTC.

    Its members are sorted by their digests, so the same ones give the same bytes.
    """
    entries = sorted(members, key=lambda member: member.digest)
    number = hashlib.sha256(b"".join(member.digest for member in entries)).digest()[:16]
    said = b"".join(_put(0x30, _NAMED + _put(0x04, _named_value(name, text))) for name, text in attributes.items())
    return _put(
        _SEQUENCE,
        _put(_SEQUENCE, _oid("1.3.6.1.4.1.311.12.1.1"))
        + _put(0x04, number)
        + bytes(core.UTCTime(made).dump())
        + _put(_SEQUENCE, _MEMBERS_2 + b"\x05\0")
        + _put(_SEQUENCE, b"".join(map(_subject, entries)))
        + (_put(_EXTENSIONS, _put(_SEQUENCE, said)) if said else b""),
    )


def _subject(member: CatalogueMember) -> bytes:
    kind = b"\x80\0" if member.program else b"\x82\0"
    attributes = [_put(0x30, _MEMBER_2 + _put(0x31, kind))]
    for name, text in (("OSAttr", member.systems), ("File", member.file)):
        if text:
            attributes.append(_put(0x30, _NAMED + _put(0x31, _named_value(name, text))))
    if member.algorithm == "sha256":
        link = _put(0xA2, b"\x80\0")
        about = (
            _put(0x30, _PROGRAM + _put(0x30, b"\x03\x02\x05\xa0" + _put(0xA0, link)))
            if member.program
            else _put(0x30, _oid("1.3.6.1.4.1.311.2.1.25") + link)
        )
        algorithm = _put(0x30, _oid("2.16.840.1.101.3.4.2.1") + b"\x05\0")
        indirect = _put(0x30, about + _put(0x30, algorithm + _put(0x04, member.digest)))
        attributes.append(_put(0x30, _INDIRECT + _put(0x31, indirect)))
    return _put(0x30, _put(0x04, member.digest) + _put(0x31, b"".join(sorted(attributes))))


def _named_value(name: str, text: str) -> bytes:
    value = (text + "\0").encode("utf-16-le")
    return _put(0x30, bytes(core.BMPString(name).dump()) + b"\x02\x04\x10\x01\0\x01" + _put(0x04, value))


def _put(tag: int, content: bytes) -> bytes:
    size = len(content)
    if size < 0x80:
        return bytes((tag, size)) + content
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes((tag, 0x80 | len(length))) + length + content
