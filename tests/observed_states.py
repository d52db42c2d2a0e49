"""Two ways of looking at one machine: the observer (``observe.ps1``), which runs on it, and reading the layer's files from
outside. After each of many installations both say what has changed; what only one of them says is listed.

``python tests/observed_states.py [COUNT [FIRST]]``. In CI a few of them.
"""

from __future__ import annotations

import sys
import tempfile
from importlib.resources import files
from pathlib import Path
from typing import Any

import first_drafts

from yendo.effects import Effect, State, difference
from yendo.effects.things import File, key_of, kind_of
from yendo.machines.recorded import observed as recorded
from yendo.machines.recorded.picture import PictureReader
from yendo.package import scripts

LOOK = r"C:\look"
# Why one of the two says something that the other does not.
REASONS = {
    "in memory only": "keys of the layer that it never writes to its files",
    "the observer's own": "what looking leaves itself: the shell's caches",
}
_MEMORY = ("hardware profiles", "deviceclasses", "\\control\\video\\", "temporary system parameters", "servicecurrent")
_OWN = (
    "\\powershell\\",
    "\\microsoft\\clr",
    "\\.net\\",
    "startupprofiledata",
    "moduleanalysiscache",
    "c:\\look",
    "c:\\hand over",
)


def script() -> bytes:
    """The observer by itself: it looks once, into a file."""
    here = files("yendo.machines.recorded")
    people = scripts.part("people")
    text = "param([string]$To, [string]$First = '')\n" + people + here.joinpath("observe.ps1").read_text("utf-8")
    text += f"if ($First -ne '') {{ Read-Known $First }}\nWrite-Picture $To @('{LOOK}', 'C:\\Hand over')\n"
    return scripts.script(text)


def look(session: Any, reader: PictureReader, number: int) -> State:
    first = rf" -First {LOOK}\0.txt" if number else ""
    line = rf"powershell -NoProfile -ExecutionPolicy Bypass -File {LOOK}\observe.ps1 -To {LOOK}\{number}.txt{first}"
    assert session.run(line, timeout=300).exit_code == 0
    text = (session.read(rf"{LOOK}\{number}.txt") or b"").decode("utf-8")
    state = reader.read(text.rstrip("\n").split("\n")).state
    return State(thing for thing in state if not recorded.is_noise(thing, layer=True))


def named(effects: list[Effect]) -> dict[tuple[str, str, str], Effect]:
    return {(effect.change, *key_of(effect.thing)): effect for effect in effects}


def reason(effect: Effect) -> str:
    """Why only one of the two says it; empty where there is none."""
    at = effect.thing.identity
    if any(one in at for one in _MEMORY):
        return "in memory only"
    return "the observer's own" if any(one in at for one in _OWN) else ""


def compared(ours: list[Effect], theirs: list[Effect]) -> list[str]:
    """What differs without a reason: said by one only, or with another size, hash, version or data."""
    mine, other = named(ours), named(theirs)
    wrong = [f"only the observer: {effect}" for key, effect in mine.items() if key not in other and not reason(effect)]
    wrong += [f"only the files: {effect}" for key, effect in other.items() if key not in mine and not reason(effect)]
    for key in mine.keys() & other.keys():
        one, two = mine[key].thing, other[key].thing
        if kind_of(one) == "file" and isinstance(one, File) and isinstance(two, File):
            same = (one.size, one.sha256, one.version, one.architecture) == (
                two.size,
                two.sha256 if one.sha256 else None,
                two.version,
                two.architecture,
            )
        else:
            same = one == two
        if not same:
            wrong.append(f"differ: {one} / {two}")
    return wrong


def main(count: int, first: int, wine: Any) -> list[str]:
    names = [name for name in first_drafts.names() if not name.startswith("script: ")][first : first + count]
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as place, wine.fresh() as session:
        session.make_folder(LOOK)
        session._brought.append(LOOK.lower())  # ours, and no part of what the machine is
        session.write(rf"{LOOK}\observe.ps1", script())
        reader = PictureReader()
        before, baseline = look(session, reader, 0), session.state()
        for number, name in enumerate(names, 1):
            folder = Path(place) / name
            try:
                installer = first_drafts.made(name, folder)
            except Exception as error:
                print(f"{name}: {error}")
                continue
            session.bring(installer.parent, rf"C:\Hand over\{name}")
            ran = session.run(rf'msiexec /i "C:\Hand over\{name}\{installer.name}" /qn', timeout=300)
            after, state = look(session, reader, number), session.state()
            ours, theirs = difference(before, after), difference(baseline, state)
            found = compared(ours, theirs)
            print(
                f"{name:28} exit {ran.exit_code}, {len(ours)} and {len(theirs)} effects, {len(found)} differ",
                flush=True,
            )
            for line in found[:12]:
                print("   ", line, flush=True)
            wrong += [f"{name}: {line}" for line in found]
            before, baseline = after, state
    return wrong


if __name__ == "__main__":
    from yendo.cli import machines
    from yendo.machines.wine.machine import WineMachine, powershell_source

    given = [int(word) for word in sys.argv[1:]]
    found = main(*(given + [60, 0][len(given) :]), WineMachine(machines.cache(), powershell_source(None)))
    print(f"{len(found)} differ")
    sys.exit(1 if found else 0)
