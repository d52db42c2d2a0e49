"""What a run was seen to do, kept so that it can be replayed on another machine.

A recording holds no path of the machine it was made on: its profile, its folders for programs and
data stand as ``%NAMES%``, and are filled in from the machine it is replayed on.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping

import msgspec

from yendo.effects.effect import Effect
from yendo.effects.state import State
from yendo.effects.things import File, Folder, IniValue, RegistryValue, Thing
from yendo.platforms.windows.surroundings import expand

SCHEMA = "yendo.observed/1"
# Longest places first, so that a profile below another folder is found as the profile.
_PLACES = ("TEMP", "APPDATA", "LOCALAPPDATA", "USERPROFILE")


def is_temporary(thing: Thing, environment: Mapping[str, str]) -> bool:
    """Whether a thing lies among temporary files, or is the note that such files go at the next start."""
    own = (environment["TEMP"].lower(), environment["USERPROFILE"].lower() + "\\temp", r"c:\windows\temp")
    # where the system account's own lie below the system folder, 32-bit programs have others
    heads = (*own, *(head.replace("\\system32\\", "\\syswow64\\") for head in own))
    if isinstance(thing, RegistryValue) and thing.identity.endswith("!pendingfilerenameoperations"):
        paths = thing.data if isinstance(thing.data, tuple) else ("?",)
        return all(any(head in path.lower() for head in heads) for path in paths if path)
    return isinstance(thing, File | Folder | IniValue) and thing.identity.startswith(
        tuple(head + "\\" for head in heads)
    )


class Recording(msgspec.Struct, frozen=True, kw_only=True):
    """``media`` is the SHA-256 of the program that ran, ``command`` its line with ``{package}`` for its folder.

    ``seconds`` until its last process had ended; ``date`` in UTC; ``machine`` in words.
    """

    schema: str = SCHEMA
    media: str
    command: str
    exit_code: int
    seconds: float
    restart: bool
    machine: str
    date: str
    account: str
    effects: tuple[Effect, ...]

    @property
    def label(self) -> str:
        return f"replayed from a run of {self.date[:10]} on {self.machine}"


def _mapped(effects: Iterable[Effect], change: Callable[[str], str]) -> tuple[Effect, ...]:
    def walk(value: object) -> object:
        if isinstance(value, str):
            return change(value)
        if isinstance(value, dict):
            return {
                key: item if key in ("kind", "change", "origin", "sha256", "source") else walk(item)
                for key, item in value.items()
            }
        return [walk(item) for item in value] if isinstance(value, list | tuple) else value

    return tuple(msgspec.convert(walk(msgspec.to_builtins(effect)), Effect) for effect in effects)


def portable(effects: Iterable[Effect], environment: Mapping[str, str]) -> tuple[Effect, ...]:
    """Effects without the places of one machine."""
    places = sorted(
        ((environment[name], name) for name in _PLACES if name in environment), key=lambda pair: -len(pair[0])
    )
    patterns = [(re.compile(re.escape(path) + r"(?=\\|$|[\"; ])", re.I), f"%{name}%") for path, name in places]

    def change(text: str) -> str:
        for pattern, name in patterns:
            text = pattern.sub(name.replace("\\", "\\\\"), text)
        return text

    return _mapped(effects, change)


def settled(effects: Iterable[Effect], environment: Mapping[str, str]) -> tuple[Effect, ...]:
    """A recording's effects with the places of another machine."""
    known = {name: environment[name] for name in _PLACES if name in environment}
    return _mapped(effects, lambda text: expand(text, known))


def replay(recording: Recording, state: State, environment: Mapping[str, str]) -> list[Effect]:
    """Puts a recording's effects onto a state; returns those that changed anything."""
    before, done = state.copy(), []
    for effect in settled(recording.effects, environment):
        thing = effect.thing
        if effect.change == "remove":
            changed = before.has(thing)
            state.remove(effect.kind, thing.identity)
        else:
            if effect.kind in ("file", "shortcut"):
                state.add_folders(str(getattr(thing, "path", "")).rpartition("\\")[0])
            changed = before.get(effect.kind, thing.identity) != thing
            state.add(thing)
        if changed:
            done.append(effect)
    return done
