"""Looks at computers over SSH: what each is, its programs and devices, as one JSON text a computer. Nothing there is
changed; what was brought for it is taken away again.
"""

from __future__ import annotations

import asyncio
import functools
import re
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from yendo import atomic
from yendo.errors import NoMachine, Unreadable, Usage
from yendo.fleet.reach import SshReach
from yendo.machines.live.ssh import NotLetIn, SshLine, library, started
from yendo.package import scripts
from yendo.platforms.windows import folders, paths

NAME = "inventory.ps1"
THERE = paths.join(folders.PROGRAMS, "Yendo look")
ANSWER = paths.join(THERE, "answer.json")
MOST = 16 << 20  # bytes of an answer
_COMPUTER = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")


class LookedAt(msgspec.Struct, frozen=True):
    """What became of one computer: told, missed, refused, and why."""

    computer: str
    became: str
    words: str = ""


class _Told(msgspec.Struct):
    computer: str
    facts: dict[str, str]
    programs: list[dict[str, object]]
    devices: list[dict[str, object]]


def script() -> bytes:
    """The script that looks. It only reads, and may be started by anything else as well."""
    return scripts.assembled("yendo.fleet", NAME, {})


def look(
    computers: Sequence[str], reach: SshReach, to: Path, heard: Callable[[str, str], object] = lambda name, text: None
) -> list[LookedAt]:
    """Looks at each, so many at once, and writes ``NAME.json`` into a folder. Raises Usage, NoMachine where the library
    is missing.
    """
    for name in computers:
        if not _COMPUTER.fullmatch(name):
            raise Usage(f"{name!r} is no computer's name: letters, digits, and . _ - between them")
    library()
    to.mkdir(parents=True, exist_ok=True)
    return asyncio.run(_all(computers, reach, to, heard))


async def _all(
    computers: Sequence[str], reach: SshReach, to: Path, heard: Callable[[str, str], object]
) -> list[LookedAt]:
    room = asyncio.Semaphore(reach.at_once)

    async def one(name: str) -> LookedAt:
        async with room:
            if not await reach.answers(name):
                return LookedAt(name, "missed", "its port does not answer")
            line = reach.line(name, functools.partial(heard, name))
            try:
                return await _one(name, line, to)
            except (NotLetIn, Usage, Unreadable) as error:
                return LookedAt(name, "refused", str(error))
            except NoMachine as error:
                return LookedAt(name, "missed", str(error))
            finally:
                line.lose()

    return list(await asyncio.gather(*(one(name) for name in dict.fromkeys(computers))))


async def _one(name: str, line: SshLine, to: Path) -> LookedAt:
    await line.patiently(functools.partial(line.folder, THERE))
    try:
        await line.patiently(functools.partial(line.replace, paths.join(THERE, NAME), script()))
        command = started(paths.join(THERE, NAME), f'-To "{ANSWER}"')
        await line.patiently(functools.partial(line.begin, command))
        data = await line.patiently(functools.partial(line.read, ANSWER, MOST))
    finally:
        await line.take_away(THERE)
    try:
        told = msgspec.json.decode(data or b"", type=_Told)
    except msgspec.MsgspecError as error:
        raise Unreadable(f"{name} answers something else than was asked: {error}") from error
    await asyncio.to_thread(atomic.write, to / f"{name}.json", data or b"")
    own = "" if told.computer.lower() == name.lower() else f"calls itself {told.computer}; "
    return LookedAt(name, "told", f"{own}{len(told.programs)} programs, {len(told.devices)} devices")
