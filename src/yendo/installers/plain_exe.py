"""Programs of no family (``plain-exe``): what their own text says about switches, and what must be tried."""

from __future__ import annotations

import re
from typing import BinaryIO

from yendo.evidence import BlindSpot, Evidence
from yendo.formats.pe import Image
from yendo.formats.slices import at
from yendo.installers.account import CommandLine, Silent, Switch
from yendo.installers.family import FoundContent, Told, offset
from yendo.installers.parts import InstallerPart

FAMILY = "plain-exe"
MAX_SEARCHED = 32 << 20
_SWITCH = re.compile(rb"(?<![\w/.:<-])(?:/|--?)[A-Za-z][A-Za-z0-9_-]{1,24}(?![\w/.\\-])")
_WIDE_SWITCH = re.compile(rb"(?<![\w/.:<-]\0)(?:/\0|(?:-\0){1,2})[A-Za-z]\0(?:[A-Za-z0-9_-]\0){1,24}(?![\w/.\\-]\0)")
# What unattended calls are commonly named, best first. Source: conventions of setup programs and of the Windows
# Installer.
_QUIET = (
    "verysilent",
    "silent",
    "quiet",
    "unattended",
    "unattend",
    "noui",
    "no-ui",
    "nogui",
    "no-prompt",
    "noprompt",
    "hidden",
    "qn",
    "batch",
    "auto",
    "s",
    "q",
)
_NOISY = re.compile(r"^(?:/|--?)(?:help|version|debug|verbose|usage|about|unsilent|nosilent|not-quiet)$", re.I)
COMMON = ("/S", "/quiet", "/silent", "/s", "/q", "-s", "-q", "/qn", "--silent", "--quiet", "/verysilent")
_INTERPRETERS = {
    bytes.fromhex("41553321454130"): "a script for an automation interpreter (kept packed, not decoded here)"
}


def find(file: BinaryIO, image: Image) -> FoundContent:
    begin, end = image.appended
    head = at(file, begin, 64)
    for mark, what in _INTERPRETERS.items():
        if (place := head.find(mark)) >= 0:
            return FoundContent(
                FAMILY, offset(begin + place, f"{what} lies behind the program"), generation="carries a script"
            )
    behind = (
        f"{end - begin} bytes lie behind the program, of no known form"
        if end > begin
        else "nothing lies behind the program"
    )
    return FoundContent(FAMILY, offset(begin, f"no family's mark; {behind}"))


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    return []


def texts(file: BinaryIO, image: Image) -> dict[str, int]:
    """Texts inside the program's sections that look like switches, with their offsets, in the order they lie."""
    known: dict[str, int] = {}
    left = MAX_SEARCHED
    for section in image.sections:
        if section.name == ".rsrc" or left <= 0:
            continue
        data = at(file, section.offset, min(section.size, left))
        left -= len(data)
        for pattern, codec in ((_SWITCH, "ascii"), (_WIDE_SWITCH, "utf-16-le")):
            for match in pattern.finditer(data):
                known.setdefault(match[0].decode(codec, "replace"), section.offset + match.start())
                if len(known) > 400:
                    return known
    return known


def rank(switch: str) -> tuple[int, int]:
    """How likely a switch asks for silence: the lower the likelier."""
    word = switch.lstrip("/-").lower()
    for place, name in enumerate(_QUIET):
        if word == name:
            return 0, place
    for place, name in enumerate(_QUIET[:-2]):
        if len(name) > 3 and name in word:
            return 1, place
    return 2, 0


def candidates(name: str, found: dict[str, int]) -> tuple[CommandLine, ...]:
    """Command lines to try, likeliest first: switches in the program's own text, then common ones."""
    own = sorted((switch for switch in found if not _NOISY.match(switch) and rank(switch)[0] < 2), key=rank)
    lines = [
        CommandLine(f'"{name}" {switch}', "to be tried", offset(found[switch], f"the program holds the text {switch}"))
        for switch in own[:8]
    ]
    common = Evidence("rule", "conventions of setup programs", "a switch that many setup programs take")
    taken = {switch.lower() for switch in own[:8]}
    lines += [
        CommandLine(f'"{name}" {switch}', "to be tried", common) for switch in COMMON if switch.lower() not in taken
    ]
    return tuple(lines)


def packed(image: Image) -> bool:
    """Whether the program unpacks itself in memory: its first part has room when loaded and nothing in the file."""
    return bool(image.sections) and image.sections[0].size == 0 and image.sections[0].span > 0


def _worded(switch: str) -> bool:
    """Whether a text reads like a word, and not like chance."""
    word = switch.lstrip("/-")
    return rank(switch)[0] < 2 or (
        re.fullmatch(r"[A-Za-z][a-z-]{2,}|[A-Z-]{4,}", word) is not None
        and re.search(r"[aeiouyAEIOUY]", word) is not None
    )


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    known = {} if packed(image) else {switch: place for switch, place in texts(file, image).items() if _worded(switch)}
    spots = [
        BlindSpot(
            "everything it does",
            "the program is of no family that can be read; run `yendo try` to know",
            found.evidence,
        )
    ]
    if packed(image):
        why = f"section {image.sections[0].name} is empty in the file: the program unpacks itself when it runs"
        spots.append(BlindSpot("texts in the program that look like switches", why, found.evidence))
    tries = candidates(name, known)
    own = tuple(
        Switch(switch, "in the program's own text", "to be tried", offset(place))
        for switch, place in sorted(known.items(), key=lambda item: rank(item[0]))[:20]
    )
    return Told(
        silent=Silent(tries[0]) if tries and known and rank(next(iter(sorted(known, key=rank))))[0] < 2 else Silent(),
        switches=own,
        candidates=tries,
        blind_spots=tuple(spots),
    )
