"""Summary information: a property set of one section.

Source: [MS-OLEPS] 2.21 (PropertySetStream), 2.20 (PropertySet), 2.15 (TypedPropertyValue); the
meaning of each property in an installer database is documented with the Windows Installer.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime, timedelta

import msgspec

from yendo.errors import Unreadable
from yendo.formats.msi.strings import codec_of, known_codec

_FORMAT_ID = bytes.fromhex("e0859ff2f94f6810ab9108002b27b3d9")
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_FIELDS = {
    1: "code_page",
    2: "title",
    3: "subject",
    4: "author",
    5: "keywords",
    6: "comments",
    7: "template",
    8: "last_saved_by",
    9: "revision",
    11: "printed",
    12: "created",
    13: "saved",
    14: "pages",
    15: "words",
    16: "characters",
    18: "application",
    19: "security",
}
_NUMBERS = {"pages", "words", "characters", "security"}
_DATES = {"printed", "created", "saved"}
MAX_PROPERTIES = 256


def _kind(name: str) -> type:
    """What a field holds; a value of another kind is passed over, as the real code does."""
    return int if name in _NUMBERS or name == "code_page" else datetime if name in _DATES else str


class Summary(msgspec.Struct, frozen=True):
    """The fields an installer database uses; None where it has none.

    ``template`` is "platform;language,language", ``revision`` the package code (in a transform the
    codes and versions it is for), ``words`` the flags of the source (2 compressed, 4 administrative,
    8 no elevation), ``pages`` the lowest installer version times 100, ``characters`` a transform's
    validation and error flags. Dates are UTC.
    """

    code_page: int = 1252
    title: str | None = None
    subject: str | None = None
    author: str | None = None
    keywords: str | None = None
    comments: str | None = None
    template: str | None = None
    last_saved_by: str | None = None
    revision: str | None = None
    printed: datetime | None = None
    created: datetime | None = None
    saved: datetime | None = None
    pages: int | None = None
    words: int | None = None
    characters: int | None = None
    application: str | None = None
    security: int | None = None

    @classmethod
    def decode(cls, data: bytes) -> Summary:
        """Reads the stream. Raises Unreadable when an offset leads outside it."""
        try:
            (offset,) = struct.unpack_from("<I", data, 44)
            _, count = struct.unpack_from("<II", data, offset)
            if count > MAX_PROPERTIES:
                raise Unreadable(f"summary information claims {count} properties")
            found: dict[str, object] = {}
            raw: dict[int, bytes] = {}
            for at in range(count):
                number, where = struct.unpack_from("<II", data, offset + 8 + at * 8)
                (kind,) = struct.unpack_from("<I", data, offset + where)
                value = offset + where + 4
                if kind == 2:
                    (found[_FIELDS.get(number, "")],) = struct.unpack_from("<h" if number != 1 else "<H", data, value)
                elif kind == 3:
                    (found[_FIELDS.get(number, "")],) = struct.unpack_from("<i", data, value)
                elif kind == 30:
                    (length,) = struct.unpack_from("<I", data, value)
                    if value + 4 + length > len(data):
                        raise Unreadable(f"summary property {number} ends outside its stream")
                    raw[number] = data[value + 4 : value + 4 + length].split(b"\0")[0]
                elif kind == 64:
                    (ticks,) = struct.unpack_from("<Q", data, value)
                    if 0 < ticks < 2650467743990000000:
                        found[_FIELDS.get(number, "")] = _EPOCH + timedelta(microseconds=ticks // 10)
        except struct.error as error:
            raise Unreadable(f"summary information is cut short: {error}") from error
        page = found.get("code_page", 1252)
        codec = known_codec(page if isinstance(page, int) else 1252)
        found |= {_FIELDS[number]: text.decode(codec, "replace") for number, text in raw.items() if number in _FIELDS}
        return cls(**{name: value for name, value in found.items() if name and isinstance(value, _kind(name))})  # type: ignore[arg-type]

    def encode(self) -> bytes:
        """The stream, without any field that is None."""
        codec = codec_of(self.code_page)
        values: list[tuple[int, bytes]] = []
        for number, name in _FIELDS.items():
            value = getattr(self, name)
            if value is None:
                continue
            if name == "code_page":
                blob = struct.pack("<IHH", 2, value, 0)
            elif name in _NUMBERS:
                blob = struct.pack("<Ii", 3, value)
            elif name in _DATES:
                blob = struct.pack("<IQ", 64, int((value - _EPOCH).total_seconds() * 10_000_000))
            else:
                text = value.encode(codec, "replace") + b"\0"
                blob = struct.pack("<II", 30, len(text)) + text + bytes(-len(text) % 4)
            values.append((number, blob))
        index, body, at = b"", b"", 8 + 8 * len(values)
        for number, blob in values:
            index += struct.pack("<II", number, at + len(body))
            body += blob
        section = struct.pack("<II", at + len(body), len(values)) + index + body
        return struct.pack("<HHI16sI16sI", 0xFFFE, 0, 0x00020006, bytes(16), 1, _FORMAT_ID, 48) + section
