"""Setup programs with a compiled script: where its streams lie, and the records in them.

A resource holds the table of offsets; at one of them lies a text that names the version of the
streams, then blocks: a checksum, a size, and LZMA data in pieces of 4096 bytes, each with its
checksum. The first block holds a header (texts, counts, fixed fields) and after it every record.

Source: the published declarations of the records, for streams of 5.5 to 6.2; no real file was at hand
to hold them against. A record version that is declared here is therefore believed only where the
records fill the block to its last byte; else the texts of the header, which do not hang on it, are
all that is told.
"""

from __future__ import annotations

import lzma
import re
import struct
import zlib
from collections.abc import Callable
from typing import Any, BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats.pe import RT_RCDATA, Image
from yendo.formats.slices import at

TABLE_RESOURCE = 11111
TABLE_MARK = bytes.fromhex("72446c507453cde6d77b0b2a")
TITLE = bytes.fromhex("496e6e6f20536574757020536574757020446174612028")
PIECE, MAX_BLOCK, MAX_TEXT, MAX_COUNT = 4096, 64 << 20, 16 << 20, 1 << 20
ScriptVersion = tuple[int, ...]


class Offsets(msgspec.Struct, frozen=True):
    """Where the stub of the installed program, the header block and the data lie in the file."""

    table: int
    program: int
    header: int
    data: int


class Streams(msgspec.Struct, frozen=True):
    """``title`` is the stream's own text; ``unicode`` says how its texts are kept."""

    offsets: Offsets
    title: str
    version: ScriptVersion
    unicode: bool


def find(file: BinaryIO, image: Image) -> Streams | None:
    """The streams, or None where no resource is such a table. Raises Unreadable where it leads nowhere."""
    entry = image.resource(RT_RCDATA, TABLE_RESOURCE)
    if entry is None:
        return None
    raw = image.read(entry, 128)
    if raw[:12] != TABLE_MARK or len(raw) < 44:
        return None
    form = struct.unpack_from("<I", raw, 12)[0]
    if form == 1:
        _, program, _, _, header, data = struct.unpack_from("<6I", raw, 16)
    elif form == 2 and len(raw) >= 64:
        program, header, data = struct.unpack_from("<8xQ8xQQ", raw, 16)
    else:
        raise NotCovered(f"the table of offsets at {entry.offset} is of form {form}, which this version does not know")
    title = at(file, header, 64)
    if not title.startswith(TITLE):
        raise Unreadable(f"the table of offsets at {entry.offset} leads to {header}, where no stream's title is")
    text = title.rstrip(b"\0").decode("latin-1")
    match = re.search(r"\((\d+)\.(\d+)\.(\d+)(?:\.(\d+))?[a-z]?\)", text)
    if not match:
        raise Unreadable(f"the stream's title at offset {header} names no version: {text!r}")
    version = tuple(int(part) for part in match.groups() if part)
    return Streams(Offsets(entry.offset, program, header, data), text, version, "(u)" in text or version >= (6,))


def block(file: BinaryIO, offset: int) -> tuple[bytes, int]:
    """A block unpacked, and the offset behind it. Raises Unreadable with the place where a checksum fails."""
    head = at(file, offset, 9)
    if len(head) < 9:
        raise Unreadable(f"a block at offset {offset} is cut short")
    checksum, stored, packed = struct.unpack("<IIB", head)
    if zlib.crc32(head[4:]) != checksum:
        raise Unreadable(f"the checksum of the block at offset {offset} is wrong")
    if stored > MAX_BLOCK:
        raise Unreadable(f"the block at offset {offset} states {stored} bytes")
    raw, place, end = bytearray(), offset + 9, offset + 9 + stored
    while place < end:
        piece = at(file, place, min(PIECE + 4, end - place))
        if len(piece) < 5 or zlib.crc32(piece[4:]) != struct.unpack_from("<I", piece)[0]:
            raise Unreadable(f"the checksum of the piece at offset {place} is wrong")
        raw += piece[4:]
        place += len(piece)
    if not packed:
        return bytes(raw), end
    try:
        properties, dictionary = raw[0], struct.unpack_from("<I", raw, 1)[0]
        if properties >= 225 or dictionary > 1 << 28:
            raise Unreadable(f"the block at offset {offset} asks for a dictionary of more than 256 MB")
        filters = [
            {
                "id": lzma.FILTER_LZMA1,
                "lc": properties % 9,
                "lp": properties // 9 % 5,
                "pb": properties // 45,
                "dict_size": max(dictionary, 4096),
            }
        ]
        out = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters).decompress(bytes(raw[5:]), MAX_BLOCK)
    except (lzma.LZMAError, struct.error, IndexError, EOFError) as error:
        raise Unreadable(f"the block at offset {offset} is damaged: {error}") from error
    return out, end


class RecordMisfit(Exception):
    """The records do not lie as they are declared here."""


class ScriptReader:
    """Reads texts and numbers in order. Raises Misfit past the end."""

    def __init__(self, data: bytes, unicode: bool) -> None:
        self.data, self.unicode, self.at = data, unicode, 0

    def take(self, size: int) -> bytes:
        if size < 0 or self.at + size > len(self.data):
            raise RecordMisfit(f"{size} bytes at {self.at} of {len(self.data)}")
        piece = self.data[self.at : self.at + size]
        self.at += size
        return piece

    def number(self, form: str = "I") -> int:
        return int(struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))[0])

    def raw(self) -> bytes:
        size = self.number()
        if size > MAX_TEXT:
            raise RecordMisfit(f"a text of {size} bytes at {self.at}")
        return self.take(size)

    def text(self) -> str:
        raw = self.raw()
        if self.unicode and len(raw) % 2:
            raise RecordMisfit(f"a wide text of {len(raw)} bytes at {self.at}")
        return raw.decode("utf-16-le" if self.unicode else "cp1252", "replace")


_HEADER: tuple[tuple[str, ScriptVersion], ...] = (
    ("name", (0,)), ("full_name", (0,)), ("id", (0,)), ("copyright", (0,)), ("publisher", (0,)),
    ("publisher_url", (0,)), ("support_phone", (5, 1, 13)),
    ("support_url", (0,)), ("updates_url", (0,)), ("version", (0,)), ("folder", (0,)), ("group", (0,)),
    ("base_name", (0,)), ("uninstall_folder", (0,)),
    ("uninstall_name", (0,)), ("uninstall_icon", (0,)), ("mutex", (0,)), ("user_name", (0,)),
    ("user_organisation", (0,)), ("serial", (0,)), ("readme", (0,)),
    ("contact", (0,)), ("comments", (0,)), ("modify_path", (0,)), ("uninstall_key", (5, 3, 8)),
    ("uninstallable", (5, 3, 10)),
    ("closes", (5, 5, 0)), ("setup_mutex", (5, 5, 6)), ("changes_environment", (5, 6, 1)),
    ("changes_associations", (5, 6, 1)),
    ("architectures", (6, 3, 0)), ("architectures_64", (6, 3, 0)),
)  # fmt: skip
_RAW = ("licence", "before", "after", "code")
COUNTED = (
    "language", "message", "permission", "kind", "part", "job", "folder", "file", "data", "icon", "ini", "registry",
    "delete", "uninstall_delete", "run", "uninstall_run",
)  # fmt: skip


class Header(msgspec.Struct, frozen=True):
    """``texts`` by our names; ``counts`` of each kind of record; ``rest`` is where the fixed fields begin."""

    texts: dict[str, str]
    counts: dict[str, int]
    rest: int


class Script(msgspec.Struct, frozen=True):
    """``records`` by kind, each a mapping of field to text or number; None where their version is not known."""

    streams: Streams
    header: Header
    records: dict[str, list[dict[str, Any]]] | None
    reason: str = ""


def header_of(data: bytes, streams: Streams) -> Header:
    """Raises Unreadable."""
    reader = ScriptReader(data, streams.unicode)
    try:
        texts = {name: reader.text() for name, since in _HEADER if streams.version >= since}
        for name in _RAW:
            texts[name] = reader.raw().decode("cp1252", "replace") if name != "code" else f"{len(reader.raw())} bytes"
        if not streams.unicode:
            reader.take(32)
        counts = {name: reader.number() for name in COUNTED}
    except RecordMisfit as error:
        raise Unreadable(f"the header of the streams is not as its version has it: {error}") from error
    if any(count > MAX_COUNT for count in counts.values()):
        raise Unreadable(f"the header of the streams states {max(counts.values())} records of one kind")
    return Header(texts, counts, reader.at)


def read(file: BinaryIO, streams: Streams) -> Script:
    """Raises Unreadable where not even the header can be read."""
    data, _ = block(file, streams.offsets.header + 64)
    header = header_of(data, streams)
    if not (5, 5) <= streams.version < (6, 3):
        return Script(
            streams,
            header,
            None,
            f"the records of streams {'.'.join(map(str, streams.version))} are not declared here (5.5 to 6.2 are)",
        )
    # The fixed fields between the header's texts and the first record grew with the versions: the only
    # length that is right is the one with which every record ends where the block ends.
    for length in range(40, 160):
        for tail in (4, 5):
            reader = ScriptReader(data, streams.unicode)
            reader.at = header.rest + length
            try:
                records = {
                    kind: [_RECORDS[kind](reader, streams.version, tail) for _ in range(header.counts[kind])]
                    for kind in COUNTED
                    if kind != "data"
                }
            except RecordMisfit:
                continue
            if reader.at == len(data):
                return Script(streams, header, records)
    return Script(streams, header, None, "the records do not lie as they are declared here for this version")


Fields = dict[str, Any]


def _bounds(reader: ScriptReader) -> None:
    reader.take(20)  # the oldest and the newest Windows a record is for


def _conditions(reader: ScriptReader, fields: Fields) -> None:
    for name in ("parts", "jobs", "languages", "check", "after", "before"):
        fields[name] = reader.text()


def _texts(reader: ScriptReader, *names: str) -> Fields:
    return {name: reader.text() for name in names}


def _language(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "name", "title", "font", "title_font", "welcome_font", "copyright_font")
    for _ in range(4):
        reader.raw()
    fields["number"] = reader.number()
    if not reader.unicode:
        reader.take(4)
    reader.take(17)
    return fields


def _message(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "name")
    fields["text"] = reader.text()
    fields["language"] = reader.number("i")
    return fields


def _permission(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    return {"rights": reader.raw().hex()}


def _kind(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "name", "title", "languages", "check")
    _bounds(reader)
    fields["options"], fields["type"], fields["size"] = reader.number("B"), reader.number("B"), reader.number("Q")
    return fields


def _part(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "name", "title", "kinds", "languages", "check")
    fields["extra"], fields["level"], fields["used"] = reader.number("Q"), reader.number(), reader.number("B")
    _bounds(reader)
    fields["options"], fields["size"] = reader.number("B"), reader.number("Q")
    return fields


def _job(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "name", "title", "group", "parts", "languages", "check")
    fields["level"], fields["used"] = reader.number(), reader.number("B")
    _bounds(reader)
    fields["options"] = reader.number("B")
    return fields


def _folder(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "path")
    _conditions(reader, fields)
    fields["attributes"] = reader.number()
    _bounds(reader)
    fields["permission"], fields["options"] = reader.number("h"), reader.number("B")
    return fields


def _file(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "source", "path", "font", "assembly")
    _conditions(reader, fields)
    _bounds(reader)
    fields["location"], fields["attributes"] = reader.number("i"), reader.number()
    fields["size"], fields["permission"] = reader.number("Q"), reader.number("h")
    fields["options"] = int.from_bytes(reader.take(tail), "little")
    fields["type"] = reader.number("B")
    if fields["type"] > 3:
        raise RecordMisfit("no such type of file")
    return fields


def _icon(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "path", "target", "arguments", "working_folder", "icon", "comment")
    _conditions(reader, fields)
    fields["application"] = reader.text()
    if version >= (6, 1):
        reader.take(16)
    _bounds(reader)
    fields["icon_index"], fields["show"], fields["close"] = reader.number("i"), reader.number(), reader.number("B")
    fields["key"], fields["options"] = reader.number("H"), reader.number("B")
    return fields


def _ini(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "path", "section", "key", "value")
    _conditions(reader, fields)
    _bounds(reader)
    fields["options"] = reader.number("B")
    return fields


def _registry(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "key", "name", "value")
    _conditions(reader, fields)
    _bounds(reader)
    fields["hive"], fields["permission"] = reader.number(), reader.number("h")
    fields["type"], fields["options"] = reader.number("B"), reader.number("H")
    return fields


def _delete(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "path")
    _conditions(reader, fields)
    _bounds(reader)
    fields["type"] = reader.number("B")
    return fields


def _run(reader: ScriptReader, version: ScriptVersion, tail: int) -> Fields:
    fields = _texts(reader, "program", "arguments", "working_folder", "once", "status", "verb", "title")
    _conditions(reader, fields)
    _bounds(reader)
    fields["show"], fields["wait"], fields["options"] = reader.number(), reader.number("B"), reader.number("H")
    return fields


_RECORDS: dict[str, Callable[[ScriptReader, ScriptVersion, int], Fields]] = {
    "language": _language, "message": _message, "permission": _permission, "kind": _kind, "part": _part, "job": _job,
    "folder": _folder, "file": _file,
    "icon": _icon, "ini": _ini, "registry": _registry, "delete": _delete, "uninstall_delete": _delete, "run": _run,
    "uninstall_run": _run,
}  # fmt: skip
