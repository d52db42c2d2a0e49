"""Steps that install a font."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import TYPE_CHECKING

from yendo.errors import Unreadable
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step, below, in_package
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

FONTS = r"Software\Microsoft\Windows NT\CurrentVersion\Fonts"
_FULL_NAME, _ENGLISH = 4, 1033


class FontStep(Step, tag="font", frozen=True, rename={"source": "from"}, kw_only=True):
    """Installs a font (.ttf, .otf) from ``extras/`` for everybody; its name is read from the font itself."""

    source: Text


def full_name(data: bytes) -> str:
    """A font's full name. Source: OpenType, table directory and table ``name``. Raises Unreadable."""
    try:
        kind, count = struct.unpack_from(">IH", data)
        if kind not in (0x00010000, 0x4F54544F, 0x74727565):
            raise Unreadable("not a font: it begins with other bytes")
        tables = {data[at : at + 4]: struct.unpack_from(">II", data, at + 8) for at in range(12, 12 + 16 * count, 16)}
        start, size = tables[b"name"]
        names = data[start : start + size]
        _, number, storage = struct.unpack_from(">HHH", names)
        for at in range(6, 6 + 12 * number, 12):
            platform, _, language, name, length, offset = struct.unpack_from(">6H", names, at)
            if (platform, language, name) == (3, _ENGLISH, _FULL_NAME):
                text = names[storage + offset : storage + offset + length].decode("utf-16-be")
                if text and not any(ord(character) < 32 for character in text):
                    return text
    except (struct.error, KeyError, UnicodeDecodeError) as error:
        raise Unreadable(f"not a whole font: {error}") from error
    raise Unreadable("the font says no full name for Windows")


class FontData(ActionData, frozen=True):
    """``label`` is the name in the list of fonts."""

    source: str
    sha256: str
    file: str
    label: str


class FontKind(Kind[FontStep]):
    step = FontStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: FontStep, at: At) -> Action:
        path = below(at.base, step.source, "extras")
        outlines = "OpenType" if path.suffix.lower() == ".otf" else "TrueType"
        try:
            title = f"{full_name(path.read_bytes())} ({outlines})"
        except Unreadable as error:
            raise Unreadable(f"{step.source}: {error}") from error
        data = FontData(in_package(at.base, path), at.digest(path), path.name, title)
        return Action("font", f"font {title}", data=data.plain())

    def sources(self, step: FontStep, base: Path) -> list[Path]:
        return [below(base, step.source, "extras")]

    def perform(self, action: Action, host: Host) -> Result:
        own = FontData.of(action)
        host.put(host.expand(rf"%SystemRoot%\Fonts\{own.file}"), host.content(own.source))
        host.set_value("HKLM", "64", FONTS, own.label, ("sz", own.file))
        host.tell(events.FontAdded(own.label))
        return DONE
