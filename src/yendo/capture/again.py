"""What a program makes again by itself: its data are deleted on the machine where the work was done, its programs are
started once more, and what is there then, the same as before, needs no package.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from yendo.effects.state import ThingKey
from yendo.effects.things import File, RegistryValue, Shortcut, Thing, key_of, same
from yendo.machines.watching import WatchedSession
from yendo.platforms.windows import folders, paths
from yendo.platforms.windows.capture_record import Caught
from yendo.platforms.windows.registry_keys import PERSON
from yendo.platforms.windows.surroundings import expand
from yendo.prove.stage import Progress

MADE_AGAIN = "the program makes it again by itself when it starts"
SECONDS = 20.0  # for a program that is started once more; one that waits at its window is ended earlier
_DATA = tuple(paths.into(folder).lower() for folder in folders.DATA)


def made_again(
    session: WatchedSession, caught: Sequence[Caught], things: Mapping[ThingKey, Thing], progress: Progress
) -> set[ThingKey]:
    """What came back as it was, by the keys of the things as they are called on the machine. ``things`` are these,
    by the keys of what was captured. The machine is of no use afterwards.
    """
    some = {key_of(one.effect.thing): things[key_of(one.effect.thing)] for one in _candidates(caught)}
    for thing in some.values():
        if isinstance(thing, File):
            session.remove(thing.path)
        elif isinstance(thing, RegistryValue):
            name = f'/v "{thing.name}"' if thing.name else "/ve"
            session.run(f'reg.exe delete "{thing.full_key}" {name} /f', timeout=60)
    environment = session.surroundings.environment
    for line in _starts(caught):
        progress(f"started once more: {line}")
        session.watch(expand(line, environment), timeout=SECONDS)
    after = session.state()
    return {
        key for key, thing in some.items() if (found := after.get(*key_of(thing))) is not None and same(thing, found)
    }


def _candidates(caught: Sequence[Caught]) -> Iterator[Caught]:
    """New files in places for data, and values of a person's own; programs and what belongs to them stay."""
    for one in caught:
        thing = one.effect.thing
        if one.effect.change != "add" or one.left:
            continue
        if (isinstance(thing, File) and thing.path.lower().startswith(_DATA) and not thing.architecture) or (
            isinstance(thing, RegistryValue) and thing.hive == PERSON and '"' not in thing.key + thing.name
        ):
            yield one


def _starts(caught: Sequence[Caught]) -> list[str]:
    """The command lines of the captured shortcuts to programs, each once."""
    found = [
        f'"{thing.target}" {thing.arguments or ""}'.strip()
        for one in caught
        if isinstance(thing := one.effect.thing, Shortcut) and one.effect.change == "add"
        if (thing.target or "").lower().endswith(".exe") and not re.search(r"(?i)unins|remove", thing.target or "")
    ]
    return list(dict.fromkeys(found))
