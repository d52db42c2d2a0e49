"""What all stand-ins share: the machine's state, what is noted of a call, how one is refused, owners, lists."""

from __future__ import annotations

import os
import sys
import time


class _Later:
    """A module that is loaded when something of it is asked for: each program starts anew, hundreds of times."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> object:
        return getattr(__import__(self._name), name)


TYPE_CHECKING = False
if TYPE_CHECKING:
    import json as json
    import re as re
    from typing import Any
else:
    json, re = _Later("json"), _Later("re")

HOST = "/.yendo/host"  # the programs of the computer that the sandbox runs on
STATE = "/.yendo/own/state.json"


class NotTaken(Exception):
    """What a real program says of a call that it does not take, and its exit code."""

    def __init__(self, said: str, code: int = 1) -> None:
        super().__init__(said)
        self.code = code


def out(*words: object, end: str = "\n") -> None:
    sys.stdout.write(" ".join(map(str, words)) + end)


def complain(words: object) -> None:
    sys.stderr.write(f"{words}\n")


class MachineState:
    """The machine's state as a file; changes are written when the block ends."""

    def __enter__(self) -> dict[str, Any]:
        while True:  # a file that only one can make: parts of a pipeline run side by side
            try:
                os.close(os.open(STATE + ".lock", os.O_CREAT | os.O_EXCL))
                break
            except FileExistsError:
                time.sleep(0.002)
        with open(STATE, encoding="utf-8") as file:
            found: dict[str, Any] = json.load(file)
        self._found, self._was = found, json.dumps(found, sort_keys=True)
        return found

    def __exit__(self, *_: object) -> None:
        now = json.dumps(self._found, sort_keys=True)
        if now != self._was:
            with open(STATE + ".new", "w", encoding="utf-8") as file:
                file.write(now)
            os.replace(STATE + ".new", STATE)
        os.unlink(STATE + ".lock")


def look() -> dict[str, Any]:
    with MachineState() as state:
        return dict(state)


def note(kind: str, *what: str) -> None:
    """Something that the proof wants to know of."""
    with MachineState() as state:
        state["notes"].append([kind, *what])


def me() -> str:
    return os.environ.get("YENDO_USER", "root")


def home(name: str) -> str:
    return str(look()["people"].get(name, {}).get("home", "/var/root"))


def host(name: str, arguments: list[str]) -> None:
    """Ends as the program of this computer ends."""
    for one in {"awk": ("mawk", "gawk", "original-awk")}.get(name, (name,)):  # the name itself leads out of here
        if os.path.exists(f"{HOST}/bin/{one}"):
            os.execv(f"{HOST}/bin/{one}", [name, *arguments])
    raise NotTaken(f"{name}: no stand-in can carry this out", 127)


def below(path: str) -> str:
    """A path as owners are written down for it."""
    whole = os.path.abspath(path)
    for short in ("/var", "/tmp", "/etc"):
        if whole == short or whole.startswith(short + "/"):
            return "/private" + whole
    return whole


def own(path: str, user: int | None = None, group: int | None = None) -> None:
    with MachineState() as state:
        was = state["owners"].get(below(path), [0, 0])
        state["owners"][below(path)] = [was[0] if user is None else user, was[1] if group is None else group]


def owner_of(path: str) -> list[int]:
    whole = below(path)
    state = look()
    if whole in state["owners"]:
        user, group = state["owners"][whole]
        return [user, group]
    for person in state["people"].values():  # what is in a person's folder is the person's
        if whole.startswith(person["home"] + "/"):
            return [person["number"], 20]
    return [0, 0]


USERS = {"root": 0, "daemon": 1, "nobody": -2}
GROUPS = {"wheel": 0, "daemon": 1, "staff": 20, "admin": 80, "everyone": 12}


def number(name: str, known: dict[str, int], what: str) -> int:
    if re.fullmatch(r"-?\d+", name):
        return int(name)
    people = {who: each["number"] for who, each in look()["people"].items()} if what == "user" else {}
    found = {**known, **people}.get(name)
    if found is None:
        raise NotTaken(f"{name}: illegal {what} name")
    return int(found)


def everything(path: str) -> list[str]:
    found = [path]
    for top, folders, files in os.walk(path):
        found += [os.path.join(top, each) for each in [*folders, *files]]
    return found


def split(arguments: list[str], flags: str) -> tuple[set[str], list[str]]:
    """Letters that were given, and the rest; a letter that the program has not is refused."""
    given: set[str] = set()
    rest = list(arguments)
    while rest and rest[0].startswith("-") and len(rest[0]) > 1:
        one = rest.pop(0)
        if one == "--":
            break
        for letter in one[1:]:
            if letter not in flags:
                if one.startswith("--"):
                    note("gnu", os.path.basename(sys.argv[0]), one)
                raise NotTaken(f"{os.path.basename(sys.argv[0])}: illegal option -- {letter}")
            given.add(letter)
    return given, rest


def guard(path: str) -> None:
    """The system's own volume is sealed, also for root."""
    whole = below(path)
    if whole.startswith(("/System/", "/usr/", "/bin/", "/sbin/")) and not whole.startswith("/usr/local"):
        note("sealed", whole)
        raise NotTaken(f"{path}: Operation not permitted")


def load(path: str) -> dict[str, Any]:
    import plistlib  # most calls need none, and each starts anew

    try:
        with open(path, "rb") as file:
            found: dict[str, Any] = plistlib.load(file)
            return found
    except FileNotFoundError:
        return {}
    except Exception:
        raise NotTaken(f"{path}: file is not a property list") from None


def shown(value: object) -> str:
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, dict):
        return "{\n" + "".join(f"    {key} = {shown(each)};\n" for key, each in value.items()) + "}"
    if isinstance(value, list):
        return "(\n" + ",\n".join(f"    {shown(each)}" for each in value) + "\n)"
    return str(value)


def ask(**given: str) -> dict[str, Any]:
    """Asks the machine itself, by a file, and waits for it."""
    # numbers of processes come again: with the next script, and in what a package inside starts
    asked = f"/.yendo/own/ask-{os.urandom(8).hex()}.json"
    with open(asked + ".new", "w", encoding="utf-8") as file:
        json.dump(given, file)
    os.rename(asked + ".new", asked)
    while not os.path.exists(asked + ".answer"):
        time.sleep(0.02)
    with open(asked + ".answer", encoding="utf-8") as file:
        found = dict(json.load(file))
    os.unlink(asked + ".answer")
    return found
