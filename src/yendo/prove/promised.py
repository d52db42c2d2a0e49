"""A package that brings what was captured, held against the capture: what was kept is there, what was left is not."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

import msgspec

from yendo.effects import Effect, Environment, Folder, IniValue, Shortcut, State
from yendo.effects.things import Thing, key_of, label, same
from yendo.machines.contents import ini_values
from yendo.platforms.windows.capture_record import Promise, is_own, persons
from yendo.platforms.windows.surroundings import Surroundings, expand

_PATHS = ("path", "target", "working_folder")


class Held(msgspec.Struct, frozen=True):
    """How a machine agrees with a capture. ``own`` are things of people's own, which were not looked at there."""

    kept: int
    left: int
    own: int
    wrong: tuple[str, ...]
    within: int = 0
    """Of what only an app package's programs see, by reading the package."""


def held(
    promise: Promise,
    before: State,
    after: State,
    surroundings: Surroundings,
    *,
    person: bool,
    read: Callable[[str], bytes | None] = lambda path: None,
    inside: State | None = None,
) -> Held:
    """``before`` is the machine without the package. ``person``: what is a person's own is looked at, in the session of
    the account that ran the package; ``read`` gives a file of the machine; ``inside`` is what the programs of an app
    package see of it.
    """
    wrong: list[str] = []
    looked = own = 0
    for effect in promise.kept:
        if is_own(effect.thing) and not person:
            own += 1
            continue
        looked += 1
        thing = _there(effect.thing, surroundings)
        if surroundings.per_user_menu and isinstance(effect.thing, Folder | Shortcut) and not after.has(thing):
            moved = msgspec.structs.replace(effect.thing, path=persons(effect.thing.path))
            thing = _there(moved, surroundings)  # the layer's own installer puts them there
        if isinstance(thing, IniValue) and not after.has(thing):  # an entry of a file that no state takes apart
            entries = ini_values(thing.path, read(thing.path) or b"")
            wrong += _missed(effect, thing, State(entries), surroundings)
        else:
            wrong += _missed(effect, thing, after, surroundings)
    left = 0
    for effect in promise.left:
        thing = _there(effect.thing, surroundings)
        left += 1
        if after.has(thing) and not before.has(thing):
            wrong.append(f"left out, and there all the same: {effect.kind} {label(thing)}")
    if promise.within and inside is not None:
        for effect in promise.within:
            wrong += _missed(effect, effect.thing, inside, surroundings)
    return Held(looked, left, own, tuple(wrong), len(promise.within))


def _missed(effect: Effect, thing: Thing, after: State, surroundings: Surroundings) -> Iterator[str]:
    found = after.get(*key_of(thing))
    if effect.change == "remove":
        if found is not None:
            yield f"removed in the capture, and still there: {effect.kind} {label(thing)}"
    elif found is None:
        yield f"kept, and not there: {effect.kind} {label(thing)}"
    elif isinstance(thing, Environment) and isinstance(found, Environment) and ";" in (thing.value or ""):
        wanted = {entry.lower() for entry in (thing.value or "").split(";") if entry}
        if not wanted <= {entry.lower() for entry in (found.value or "").split(";")}:
            yield f"kept, and not whole: {effect.kind} {label(thing)}"
    elif not same(thing, found) and not same(_filled(thing, surroundings), found):
        yield f"kept, and another one there: {effect.kind} {label(thing)}"


def _there(thing: Thing, surroundings: Surroundings, fields: tuple[str, ...] = _PATHS) -> Thing:
    """A thing as it is called on a machine."""
    known = {**surroundings.environment, "COMPUTERNAME": surroundings.computer}
    changes = {
        field: expand(text, known)
        for field in fields
        if isinstance(text := getattr(thing, field, None), str) and re.search("%[^%]+%", text)
    }
    return msgspec.structs.replace(thing, **changes) if changes else thing


def _filled(thing: Thing, surroundings: Surroundings) -> Thing:
    """The same where a value holds the name of what the machine is called."""
    return _there(thing, surroundings, ("data", "value"))
