"""The Windows Installer's command line: written with the right quotes, and read back.

Source: the documented command line options, and the quoting the real program was seen to accept
(tests/test_commandline.py holds both against it).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Literal

import msgspec

PRODUCT_CODE = re.compile(r"\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}")
PUBLIC_NAME = re.compile(r"[A-Z_][A-Z0-9_.]*")


def assign(name: str, value: str) -> str:
    """``NAME=value``: empty and spaced values in quotes, quotes inside doubled; so is what another text will stand in
    for.

    The Windows Installer reads quotes its own way: a backslash before the closing quote is plain.
    """
    if value and not re.search(r'[\s"%{]', value):
        return f"{name}={value}"
    return f'{name}="' + value.replace('"', '""') + '"'


def install(
    package: str,
    *,
    properties: Mapping[str, str | int] = {},
    features: Iterable[str] = (),
    transforms: Iterable[str] = (),
    log: str | None = None,
    suppress_restart: bool = True,
    arguments: str = "",
    advertise: bool = False,
) -> str:
    """The command line of a silent installation, or of offering the product to every user without installing it."""
    words = ["msiexec", "/jm" if advertise else "/i", f'"{package}"', *_common(log, suppress_restart, arguments)]
    words += [assign(name, str(value)) for name, value in properties.items()]
    if chosen := ",".join(features):
        words.append(assign("ADDLOCAL", chosen))
    if applied := ";".join(transforms):
        words.append(assign("TRANSFORMS", applied))
    return " ".join(words)


def patch(
    file: str,
    *,
    properties: Mapping[str, str | int] = {},
    transforms: Iterable[str] = (),
    log: str | None = None,
    suppress_restart: bool = True,
    arguments: str = "",
) -> str:
    """The command line that applies a patch to the product it is for: everything that it changes again, and the new
    database kept.
    """
    words = [
        "msiexec",
        "/p",
        f'"{file}"',
        *_common(log, suppress_restart, arguments),
        "REINSTALL=ALL",
        "REINSTALLMODE=omus",
    ]
    words += [assign(name, str(value)) for name, value in properties.items()]
    if applied := ";".join(transforms):
        words.append(assign("TRANSFORMS", applied))
    return " ".join(words)


def uninstall(product: str, *, log: str | None = None, suppress_restart: bool = True, arguments: str = "") -> str:
    """The command line of a silent removal, by product code or package."""
    return " ".join(
        [
            "msiexec",
            "/x",
            product if PRODUCT_CODE.fullmatch(product) else f'"{product}"',
            *_common(log, suppress_restart, arguments),
        ]
    )


def repair(product: str, *, log: str | None = None, suppress_restart: bool = True, arguments: str = "") -> str:
    """The command line of a silent repair: everything again, files older or missing."""
    return " ".join(
        [
            "msiexec",
            "/i",
            product if PRODUCT_CODE.fullmatch(product) else f'"{product}"',
            *_common(log, suppress_restart, arguments),
            "REINSTALL=ALL",
            "REINSTALLMODE=omus",
        ]
    )


def _common(log: str | None, suppress_restart: bool, arguments: str) -> list[str]:
    words = ["/qn"]
    if suppress_restart:
        words.append("/norestart")
    if log:
        words += ["/l*v", f'"{log}"']
    if arguments:
        words.append(arguments)
    return words


class MsiCommand(msgspec.Struct, frozen=True):
    """A command line as the Windows Installer understands it. ``mode`` are the letters of a repair.

    Source: the documentation of the command line: without letters a repair is ``omus``.
    """

    action: Literal["install", "uninstall", "repair", "patch"]
    package: str
    properties: dict[str, str]
    log: str | None
    quiet: bool
    restart_suppressed: bool
    stray: tuple[str, ...] = ()
    mode: str = ""

    @property
    def is_code(self) -> bool:
        return bool(PRODUCT_CODE.fullmatch(self.package))


class CommandError(ValueError):
    """The Windows Installer would refuse this with 1639; ``part`` is what it trips over."""

    def __init__(self, message: str, part: str) -> None:
        super().__init__(message)
        self.part = part


class OtherProgram(CommandError):
    """The command line starts another program."""


def words(line: str) -> list[str]:
    """Splits at spaces outside quotes; quotes stay. Raises CommandError on an open quote."""
    out, word, quoted = [], "", False
    for character in line:
        if character == '"':
            quoted = not quoted
            word += character
        elif character.isspace() and not quoted:
            if word:
                out.append(word)
            word = ""
        else:
            word += character
    if quoted:
        raise CommandError("a quote is opened and not closed", word)
    return [*out, word] if word else out


def _bare(text: str) -> str:
    if len(text) >= 2 and text[0] == text[-1] == '"':
        return text[1:-1].replace('""', '"')
    return text.replace('"', "")


# options for the level of user interface, and whether each shows nothing
_SHOWS = {
    "/qn": True,
    "/q": True,
    "/quiet": True,
    "/qn+": False,
    "/qb": False,
    "/qb!": False,
    "/qb-": False,
    "/qr": False,
    "/passive": False,
    "/qf": False,
}


def parse(line: str) -> MsiCommand:
    """Reads ``msiexec ...``. Raises CommandError where the installer would refuse it."""
    parts = words(line)
    if not parts or not re.fullmatch(r'"?(?:.*\\)?msiexec(?:\.exe)?"?', parts[0], re.I):
        raise OtherProgram("the command does not start msiexec", parts[0] if parts else "")
    action, package, log, quiet, no_restart = None, "", None, False, False
    properties: dict[str, str] = {}
    stray: list[str] = []
    mode = ""
    rest = parts[1:]
    at = 0

    def following(option: str) -> str:
        nonlocal at
        at += 1
        if at >= len(rest):
            raise CommandError(f"{option} needs something after it", option)
        return _bare(rest[at])

    while at < len(rest):
        word = rest[at]
        lowered = word.lower().replace("-", "/", 1) if word.startswith("-") else word.lower()
        if lowered in _SHOWS:
            quiet = quiet or _SHOWS[lowered]
        elif match := re.fullmatch(r"/(i|package|x|uninstall|p|update)(.*)", lowered):
            kind = match[1]
            action = {"i": "install", "package": "install", "x": "uninstall", "uninstall": "uninstall"}.get(
                kind, "patch"
            )
            inline = word[1 + len(kind) :]
            package = _bare(inline) if inline else following(word)
        elif match := re.fullmatch(r"/f([pecmsoduav]*)(.*)", lowered):
            action, mode = "repair", match[1] or "omus"
            package = _bare(word[2 + len(match[1]) :]) or following(word)
        elif lowered == "/norestart":
            no_restart = True
        elif lowered in ("/forcerestart", "/promptrestart"):
            no_restart = False
        elif re.fullmatch(r"/l[iwearucmopvx+!*]*", lowered) or lowered == "/log":
            log = following(word)
        elif "=" in word and not word.startswith("/"):
            name, _, value = word.partition("=")
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_.]*", name):
                raise CommandError(f"{name!r} is no property name", word)
            properties[name] = _bare(value)
        else:
            stray.append(word)
        at += 1
    if action is None or not package:
        raise CommandError("no package is named", line)
    if properties.get("REBOOT", "").upper().startswith("R"):
        no_restart = True
    return MsiCommand(action, package, properties, log, quiet, no_restart, tuple(stray), mode)  # type: ignore[arg-type]
