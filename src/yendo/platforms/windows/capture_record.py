"""What was captured: everything that somebody's work changed on a machine, by parts, with what tells one machine from
another.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from yendo.effects.effect import Effect
from yendo.effects.things import (
    AccessRights,
    Data,
    Environment,
    File,
    Folder,
    IniValue,
    RegistryValue,
    Shortcut,
    Thing,
    label,
)
from yendo.errors import Unreadable

SCHEMA = "yendo.capture/1"
RECORD = "capture/capture.json"
CONTENTS = "extras/captured"
PROMISE = "captured.json"  # in a package
HELD = "capture/promise.json"  # in the workspace of another form
MAX_RECORD = 1 << 30
# Places that differ between machines or that a plan names better than by their path. The longest path is tried first.
PLACES = (
    "ProgramFiles",
    "ProgramFiles(x86)",
    "ProgramData",
    "PUBLIC",
    "APPDATA",
    "LOCALAPPDATA",
    "TEMP",
    "USERPROFILE",
    "SystemRoot",
)
_OWN = ("%APPDATA%", "%LOCALAPPDATA%", "%TEMP%", "%USERPROFILE%")


class LeftEntry(msgspec.Struct, frozen=True):
    """A pattern of what a capture leaves out, and why. ``identity`` has ``*`` for anything within one part of it and
    ``**`` for anything.
    """

    kind: str
    identity: str
    why: str


class WorkRun(msgspec.Struct, frozen=True, omit_defaults=True):
    """A command line of the work: how it ended, after how many seconds, and whether the machine was started anew then.

    ``windows`` are the titles of what it showed, ``still`` the programs that ran on.
    """

    command: str
    exit_code: int
    seconds: float
    restarted: bool = False
    windows: tuple[str, ...] = ()
    still: tuple[str, ...] = ()


class WorkPart(msgspec.Struct, frozen=True):
    """One part of the work, by its name."""

    name: str
    runs: tuple[WorkRun, ...]


class Bound(msgspec.Struct, frozen=True, omit_defaults=True):
    """Why a thing is one machine's own, and not the program's.

    ``guessed`` from one machine, else seen on two. ``data`` is a registry value's with the variables that name what
    differs; None where no variable does.
    """

    why: str
    guessed: bool = False
    data: Data = None


class Caught(msgspec.Struct, frozen=True, omit_defaults=True):
    """One effect. ``was`` is the thing before it was changed, ``content`` its file below the workspace.

    ``left`` says why it is left out unless somebody keeps it. ``again``: it lay there before the work, which wrote it
    again as it was.
    """

    effect: Effect
    part: str
    was: Thing | None = None
    content: str = ""
    left: str = ""
    bound: Bound | None = None
    again: bool = False

    @property
    def names(self) -> tuple[str, str]:
        """What a decision's pattern is held against: the words that people read, and the identity."""
        return label(self.effect.thing).lower(), self.effect.thing.identity


class WorkMachines(msgspec.Struct, frozen=True, omit_defaults=True):
    """On which machine it was done, as whom, and when (UTC); ``second`` where it was done again, which differed in
    ``differed``.
    """

    first: str
    account: str
    date: str
    second: str = ""
    differed: tuple[str, ...] = ()


class Capture(msgspec.Struct, frozen=True, kw_only=True):
    """``setup`` is the vendor's file and ``sha256`` its hash, where there was one. ``environment`` is the machine's
    own. ``there`` are things that the setup brings and that lay on the machine already, unchanged; ``although`` why
    that did not matter.
    """

    schema: str = SCHEMA
    setup: str = ""
    sha256: str = ""
    machines: WorkMachines
    environment: dict[str, str]
    parts: tuple[WorkPart, ...]
    caught: tuple[Caught, ...]
    there: tuple[str, ...] = ()
    although: str = ""


class Promise(msgspec.Struct, frozen=True, kw_only=True):
    """What a package brings of a capture, and what not: it is held against that wherever it is proved.

    ``within`` is what the programs of an app package are to see, and no other program of the machine.
    """

    schema: str = "yendo.promise/1"
    kept: tuple[Effect, ...] = ()
    left: tuple[Effect, ...] = ()
    within: tuple[Effect, ...] = ()


# Made once: several threads that each let the library build the same types end the process.
_PROMISES = msgspec.json.Decoder(Promise)


def promise_of(package: Path) -> Promise | None:
    """What a built package promises; None where it brings nothing captured. Raises Unreadable."""
    try:
        return _PROMISES.decode((package / PROMISE).read_bytes())
    except FileNotFoundError:
        return None
    except (OSError, msgspec.MsgspecError) as error:
        raise Unreadable(f"{package / PROMISE}: {error}") from error


def read(path: Path) -> Capture:
    """Raises Unreadable."""
    try:
        if path.stat().st_size > MAX_RECORD:
            raise Unreadable(f"{path} is larger than {MAX_RECORD >> 30} GB, so not a capture of ours")
        found = msgspec.json.decode(path.read_bytes(), type=Capture)
    except FileNotFoundError as error:
        raise Unreadable(f"{path} is not there; yendo capture makes it") from error
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Unreadable(f"{path} is no capture: {error}") from error
    if found.schema != SCHEMA:
        raise Unreadable(f"{path} is {found.schema}, and this Yendo reads {SCHEMA}; capture it again")
    return found


def encode(capture: Capture) -> bytes:
    return msgspec.json.format(msgspec.json.encode(capture), indent=1) + b"\n"


def placing(environment: Mapping[str, str]) -> Callable[[str], str]:
    """Gives paths the names of their places: ``C:\\Program Files\\X`` becomes ``%ProgramFiles%\\X``."""
    given = {name.lower(): value.rstrip("\\") for name, value in environment.items()}
    places = sorted(
        ((given[name.lower()], name) for name in PLACES if given.get(name.lower())), key=lambda pair: -len(pair[0])
    )
    ways = "|".join(f"({re.escape(path)})" for path, _ in places)
    pattern = re.compile(rf"(?:{ways})(?=\\|$|[\"; ])", re.I)

    def place(text: str) -> str:
        return pattern.sub(lambda found: f"%{places[(found.lastindex or 1) - 1][1]}%", text)

    return place


def placed(thing: Thing, place: Callable[[str], str]) -> Thing:
    """A thing whose own paths are named by their places. What values hold stays as it is."""
    replace = msgspec.structs.replace
    match thing:
        case File() | Folder() | IniValue():
            return replace(thing, path=place(thing.path))
        case Shortcut():
            target, folder = (place(text) if text else text for text in (thing.target, thing.working_folder))
            return replace(thing, path=place(thing.path), target=target, working_folder=folder)
        case AccessRights():
            return replace(thing, target=place(thing.target))
    return thing


# The same on every 64-bit Windows that nobody has rebuilt, in small letters.
_USUAL = (
    (r"c:\program files (x86)", "%programfiles(x86)%"),
    (r"c:\program files", "%programfiles%"),
    (r"c:\programdata", "%programdata%"),
    (r"c:\users\public", "%public%"),
    (r"c:\windows", "%systemroot%"),
)


def usual(path: str) -> str:
    """A path or pattern in small letters, as a person writes it who looks at one Windows, by its place."""
    for head, place in _USUAL:
        if path == head or path.startswith((head + "\\", head + "*")):
            return place + path[len(head) :]
    return path


def added_to(one: Caught) -> list[str]:
    """The entries that a variable which is a list of them gained; none of any other."""
    thing, was = one.effect.thing, one.was
    if not isinstance(thing, Environment) or not isinstance(was, Environment) or ";" not in (thing.value or ""):
        return []
    old = {entry.lower() for entry in (was.value or "").split(";")}
    return [entry for entry in (thing.value or "").split(";") if entry and entry.lower() not in old]


# Where everybody's menu and desktop lie on a machine that has them in the person's profile.
_MENUS = (
    (r"%APPDATA%\Microsoft\Windows\Start Menu", r"%ProgramData%\Microsoft\Windows\Start Menu"),
    (r"%USERPROFILE%\Desktop", r"%PUBLIC%\Desktop"),
)


def everybodys(path: str) -> str:
    """A placed path of a person's menu or desktop as the one of everybody's; any other as it is."""
    for own, all_ in _MENUS:
        if path.startswith(own):
            return all_ + path[len(own) :]
    return path


def persons(path: str) -> str:
    """The other way round."""
    for own, all_ in _MENUS:
        if path.startswith(all_):
            return own + path[len(all_) :]
    return path


def is_own(thing: Thing) -> bool:
    """Whether it belongs to the person who did the work: a file of the profile, or a value of the own hive."""
    if isinstance(thing, File | Folder | Shortcut | IniValue):
        return thing.path.startswith(_OWN)
    return getattr(thing, "hive", "") == "HKCU" or getattr(thing, "scope", "") == "user"


def content_name(path: str) -> str:
    """Where a file's content lies below the workspace, by its placed path."""
    head, _, rest = path.partition("\\")
    return "/".join([CONTENTS, re.sub(r"[^A-Za-z0-9]", "", head), *rest.split("\\")])


def value_of(thing: Thing) -> Data:
    """What a decision can set otherwise: a value's data; None of every other thing."""
    return thing.data if isinstance(thing, RegistryValue) else getattr(thing, "value", None)
