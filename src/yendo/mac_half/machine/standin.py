"""One program that stands in for those of macOS, inside the sandbox of a simulated machine: by the name it is called.

It refuses what the real ones refuse by their manual pages, GNU's options first of all, and does what packages ask of
them to the machine's tree and to ``/.yendo/own/state.json``. It imports nothing of Yendo, as it runs by itself there.

Source: the manual pages of macOS for each program, from memory; no Mac was at hand.
"""

from __future__ import annotations

import itertools
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
    import json
    import re
    from typing import Any
else:
    json, re = _Later("json"), _Later("re")

HOST = "/.yendo/host"  # the programs of the computer that the sandbox runs on
STATE = "/.yendo/own/state.json"
PEOPLE = 501  # the first number of a person

# What of POSIX is carried out by the programs of this computer, once its options are those of the real one.
PLAIN = {
    "awk", "basename", "cat", "chflags", "cmp", "comm", "cp", "cut", "dirname", "du", "echo", "env", "expr", "false",
    "find", "grep", "egrep", "fgrep", "head", "ln", "ls", "mkdir", "mktemp", "mv", "paste", "printf", "pwd", "rm",
    "rmdir", "sed", "seq", "sort", "split", "tail", "tee", "test", "[", "touch", "tr", "true", "uniq", "wc", "xargs",
    "df", "date",
    "readlink", "base64", "gzip", "gunzip", "zip", "unzip", "tar", "diff", "od", "yes",
}  # fmt: skip
# Those of them that take long options on macOS too.
LONG = {"grep", "egrep", "fgrep", "sort", "tar", "diff", "gzip", "gunzip", "zip", "unzip", "cmp", "split", "awk"}


class NotTaken(Exception):
    """What a real program says of a call that it does not take, and its exit code."""

    def __init__(self, said: str, code: int = 1) -> None:
        super().__init__(said)
        self.code = code


def out(*words: object, end: str = "\n") -> None:
    sys.stdout.write(" ".join(map(str, words)) + end)


def complain(words: object) -> None:
    sys.stderr.write(f"{words}\n")


# --- the machine


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


def real(path: str) -> str:
    """As the tree has it: links at the root, and the names of folders without regard to case."""
    return os.path.realpath(path)


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


# --- programs of POSIX with options that are not GNU's


def plain(name: str, arguments: list[str]) -> None:
    if name not in LONG:
        for one in arguments:
            if one == "--":
                break
            if one.startswith("--"):
                note("gnu", name, one)
                raise NotTaken(f"{name}: illegal option -- -", 64 if name in ("cp", "mv", "rm") else 1)
    for names, pattern, said in _OTHERS:
        if name in names and any(re.fullmatch(pattern, one) for one in arguments):
            note("gnu", name, next(one for one in arguments if re.fullmatch(pattern, one)))
            raise NotTaken(said.format(name=name))
    if name == "head" and any(
        one in ("-n", "-c") and two.startswith("-") for one, two in itertools.pairwise(arguments)
    ):
        note("gnu", name, *arguments[:2])
        raise NotTaken(f"head: illegal line count -- {arguments[1]}")
    if name == "sed":
        arguments = in_place(arguments)
    if name == "date":
        arguments = dated(arguments)
    if name == "cp":
        arguments = [one for one in arguments if one not in ("-X", "-c")]
    if name == "df":
        free = look()["free"]
        sys.stdout.write(
            f"Filesystem 1024-blocks Used Available Capacity Mounted on\n/dev/disk1 {2 * free} {free} {free} 50% /\n"
        )
        return
    host(
        {"egrep": "grep", "fgrep": "grep"}.get(name, name),
        (["-E"] if name == "egrep" else ["-F"] if name == "fgrep" else []) + arguments,
    )


_OTHERS = (
    (("grep", "egrep", "fgrep"), r"-[a-zA-Z]*P[a-zA-Z]*|--perl-regexp", "{name}: invalid option -- P"),
    (("xargs",), r"-d.*", "{name}: illegal option -- d"),
    (("date",), r"-d.*|-[a-z]*I.+", "{name}: illegal option -- d"),
    (("cp", "mv", "ln"), r"-[a-zA-Z]*[Tt].*", "{name}: illegal option -- T"),
    (("ln",), r"-[a-z]*r.*", "{name}: illegal option -- r"),
    (("head",), r"-[nc]-\d+", "{name}: illegal line count"),
    (("base64",), r"-w.*", "{name}: invalid argument -w"),
    (("touch",), r"-d.*GMT.*", "{name}: out of range or illegal time specification"),
    (("find",), r"-printf|-regextype", "{name}: -printf: unknown primary or operator"),
    (("du",), r"-[a-z]*b.*", "{name}: illegal option -- b"),
    (("echo",), r"\0", ""),
)


def in_place(arguments: list[str]) -> list[str]:
    """``-i`` takes the ending of a copy as its own argument, an empty one too."""
    found: list[str] = []
    rest = list(arguments)
    while rest:
        one = rest.pop(0)
        if one in ("-i", "-I"):
            if not rest:
                raise NotTaken("sed: option requires an argument -- i")
            ending = rest.pop(0)
            if re.match(r"-e$|[sy]([^\w\s]).*\1|\d*[dpq]$|/.*/[dp]?$", ending):
                note("gnu", "sed", "-i without an ending")
                said = rest[-1] if rest else ending
                raise NotTaken(f'sed: 1: "{said}": invalid command code {said[:1]}')
            found.append(f"-i{ending}")
        elif one == "-r":
            found.append("-E")
        else:
            found.append(one)
    return found


def dated(arguments: list[str]) -> list[str]:
    rest = [one for one in arguments if one not in ("-j", "-u", "-n")]
    if rest[:1] == ["-r"] and len(rest) > 1:
        return ["-d", f"@{rest[1]}", *rest[2:]]
    if rest[:1] == ["-f"] and len(rest) > 2:
        moment = time.mktime(time.strptime(rest[2], rest[1].lstrip("+")))
        return ["-d", f"@{int(moment)}", *rest[3:]]
    return rest


# --- owners and modes


def chown(name: str, arguments: list[str]) -> None:
    options, rest = split(arguments, "fhvRHLPn")
    if len(rest) < 2:
        raise NotTaken(f"usage: {name} [-fhnvx] [-R [-H | -L | -P]] owner[:group] file ...")
    user, group = None, None
    if name == "chgrp":
        group = number(rest[0], GROUPS, "group")
    else:
        first, mark, second = (
            rest[0].replace(".", ":", 1).partition(":") if ":" not in rest[0] else rest[0].partition(":")
        )
        user = number(first, USERS, "user") if first else None
        group = number(second, GROUPS, "group") if mark and second else None
    for path in rest[1:]:
        if not os.path.lexists(path):
            raise NotTaken(f"{name}: {path}: No such file or directory")
        guard(path)
        for one in everything(path) if "R" in options else [path]:
            own(one, user, group)


def chmod(name: str, arguments: list[str]) -> None:
    rest = [one for one in arguments if one not in ("-h", "-R", "-f", "-v", "-H", "-L", "-P", "-RH", "-hR")]
    if any(one.startswith("--") for one in rest):
        note("gnu", name, next(one for one in rest if one.startswith("--")))
        raise NotTaken(f"{name}: illegal option -- -")
    if rest[:1] == ["-N"] or (rest[:1] and re.match(r"[+-]a", rest[0])):
        return  # access lists are not kept here
    for path in rest[1:]:
        guard(path)
    host("chmod", [one for one in arguments if one != "-h"])


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


def stat(_: str, arguments: list[str]) -> None:
    options, rest = [], list(arguments)
    form = ""
    while rest and rest[0].startswith("-"):
        one = rest.pop(0)
        if one.startswith("--") or "c" in one[1:].partition("f")[0]:
            note("gnu", "stat", one)
            raise NotTaken("stat: illegal option -- " + ("-" if one.startswith("--") else "c"))
        options.append(one)
        if one.endswith("f"):
            form = rest.pop(0) if rest else ""
    asked = form
    for path in rest:
        if path == "/dev/console":
            who = look()["person"] or "root"
            user, mode, size, at = (look()["people"].get(who, {}).get("number", 0), 0o20600, 0, 0)
            group = 0
        else:
            try:
                found = os.stat(path) if "-L" in options else os.lstat(path)
            except OSError:
                raise NotTaken(f"stat: {path}: stat: No such file or directory") from None
            mode, size, at = found.st_mode, found.st_size, int(found.st_mtime)
            user, group = owner_of(path)
        names = {each["number"]: name for name, each in look()["people"].items()} | {0: "root"}
        groups = {value: name for name, value in GROUPS.items()}
        words = {
            "%Su": names.get(user, str(user)), "%u": str(user), "%Sg": groups.get(group, str(group)), "%g": str(group),
            "%Lp": f"{mode & 0o777:o}", "%OLp": f"{mode & 0o777:o}", "%p": f"{mode:o}", "%Op": f"{mode:o}",
            "%A": f"{mode & 0o7777:o}",
            "%z": str(size), "%m": str(at), "%N": path, "%HT": "Directory" if mode & 0o040000 else "Regular File",
        }  # fmt: skip
        if not form:
            form = "%Op %Su %Sg %z %N"
        for name in sorted(words, key=len, reverse=True):  # %Su before %S
            form = form.replace(name, words[name])
        out(form, end="" if "-n" in options else "\n")
        form = asked


def install(_: str, arguments: list[str]) -> None:
    rest, user, group, mode, folder = list(arguments), None, None, 0o755, False
    names: list[str] = []
    while rest:
        one = rest.pop(0)
        if one.startswith("--") or one in ("-D", "-t"):
            note("gnu", "install", one)
            raise NotTaken(f"install: illegal option -- {one[1]}")
        if one == "-o":
            user = number(rest.pop(0), USERS, "user")
        elif one == "-g":
            group = number(rest.pop(0), GROUPS, "group")
        elif one == "-m":
            mode = int(rest.pop(0), 8)
        elif one == "-d":
            folder = True
        elif not one.startswith("-"):
            names.append(one)
    targets = (
        names
        if folder
        else [
            os.path.join(names[-1], os.path.basename(one)) if os.path.isdir(names[-1]) else names[-1]
            for one in names[:-1]
        ]
    )
    for at, target in enumerate(targets):
        guard(target)
        if folder:
            os.makedirs(target, exist_ok=True)
        else:
            with open(names[at], "rb") as source, open(target, "wb") as out:
                out.write(source.read())
        os.chmod(target, mode)
        own(target, user, group)


def ditto(_: str, arguments: list[str]) -> None:
    rest = [one for one in arguments if not one.startswith("-")]
    if len(rest) != 2:
        raise NotTaken("Usage: ditto [ <options> ] src [ ... src ] dst")
    guard(rest[1])
    os.makedirs(os.path.dirname(os.path.abspath(rest[1])), exist_ok=True)
    host("cp", ["-a", "-T", rest[0], rest[1]])


# --- who and what the machine is


def identity(_: str, arguments: list[str]) -> None:
    options, rest = split(arguments, "unGgrFPp")
    who = rest[0] if rest else me()
    people = look()["people"]
    if who != "root" and who not in people:
        raise NotTaken(f"id: {who}: no such user")
    found = people.get(who, {}).get("number", 0)
    out(who if "n" in options else found if "u" in options else f"uid={found}({who})")


def whoami(_: str, __: list[str]) -> None:
    out(me())


def uname(_: str, arguments: list[str]) -> None:
    if any(one.startswith("--") or one in ("-o", "-i") for one in arguments):
        note("gnu", "uname", arguments[0])
        raise NotTaken(f"uname: illegal option -- {arguments[0][1:2]}")
    machine = look()
    letters = {
        "-m": machine["processor"],
        "-s": "Darwin",
        "-r": machine["kernel"],
        "-p": "arm" if machine["processor"] == "arm64" else "i386",
    }
    out(letters.get((arguments or ["-s"])[0], f"Darwin {machine['kernel']} {machine['processor']}"))


def arch(_: str, arguments: list[str]) -> None:
    out("arm64" if look()["processor"] == "arm64" else "i386") if not arguments else os.execvp(
        arguments[-1], arguments[-1:]
    )


def sw_vers(_: str, arguments: list[str]) -> None:
    machine = look()
    words = {"ProductName": "macOS", "ProductVersion": machine["system"], "BuildVersion": machine["build"]}
    by_option = {f"-{name[0].lower()}{name[1:]}": value for name, value in words.items()}
    by_option |= {f"-{option}": value for option, value in by_option.items()}
    if arguments:
        if arguments[0] not in by_option:
            raise NotTaken(f"sw_vers: illegal option {arguments[0]}")
        out(by_option[arguments[0]])
    else:
        for name, value in words.items():
            out(f"{name}:\t\t{value}")


def sysctl(_: str, arguments: list[str]) -> None:
    machine = look()
    arm = machine["processor"] == "arm64"
    known = {
        "hw.machine": machine["processor"], "kern.osproductversion": machine["system"], "hw.memsize": str(16 << 30),
        "machdep.cpu.brand_string": "Apple M2" if arm else "Intel(R) Core(TM) i5",
        "hw.model": "Mac14,2" if arm else "MacBookPro15,1",
        **({"hw.optional.arm64": "1"} if arm else {}),
    }  # fmt: skip
    names = [one for one in arguments if not one.startswith("-")]
    for name in names:
        if name not in known:
            raise NotTaken(f"sysctl: unknown oid '{name}'")
        out(known[name] if "-n" in arguments else f"{name}: {known[name]}")


def pmset(_: str, arguments: list[str]) -> None:
    if arguments[:2] == ["-g", "batt"]:
        out(f"Now drawing from '{'AC' if look()['mains'] else 'Battery'} Power'")


def scutil(_: str, arguments: list[str]) -> None:
    if arguments[:1] == ["--get"]:
        out("marrowby")
        return
    asked = sys.stdin.read()
    if "ConsoleUser" in asked:
        who = look()["person"]
        out("<dictionary> {\n" + (f"  Name : {who}\n  UID : {look()['people'][who]['number']}\n" if who else "") + "}")


def dscl(_: str, arguments: list[str]) -> None:
    rest = [one for one in arguments if one not in ("-q", "-plist")]
    if len(rest) < 3:
        raise NotTaken("dscl: invalid parameters", 5)
    verb, path = rest[1].lstrip("-"), rest[2]
    people = look()["people"]
    everybody = {"root": {"number": 0, "home": "/var/root"}, "daemon": {"number": 1, "home": "/var/root"}, **people}
    if verb in ("list", "ls") and path == "/Users":
        for name, each in everybody.items():
            key = rest[3] if len(rest) > 3 else ""
            value = {"UniqueID": each["number"], "NFSHomeDirectory": each["home"]}.get(key, "")
            out(f"{name:<24}{value}" if key else name)
    elif verb == "read" and path.startswith("/Users/"):
        name = path.rpartition("/")[2]
        if name not in everybody:
            raise NotTaken("<dscl_cmd> DS Error: -14136 (eDSRecordNotFound)", 56)
        for key in rest[3:]:
            value = {
                "UniqueID": everybody[name]["number"],
                "NFSHomeDirectory": everybody[name]["home"],
                "UserShell": "/bin/zsh",
            }
            out(f"{key}: {value.get(key, '')}")
    else:
        raise NotTaken(f"dscl: no stand-in for {verb} {path}", 127)


def sudo(_: str, arguments: list[str]) -> None:
    rest, who = list(arguments), "root"
    while rest and rest[0].startswith("-"):
        one = rest.pop(0)
        if one == "--":
            break
        if one in ("-u", "-g"):
            who = rest.pop(0)
    people = look()["people"]
    if who.startswith("#"):
        who = next((name for name, each in people.items() if each["number"] == int(who[1:])), who)
    if who != "root" and who not in people:
        raise NotTaken(f"sudo: unknown user: {who}")
    os.environ["YENDO_USER"] = who
    os.environ["HOME"] = people.get(who, {}).get("home", "/var/root")
    os.environ["USER"] = who
    if rest:
        os.execvp(rest[0], rest)


# --- settings


def list_path(domain: str) -> str:
    if domain in ("-g", "NSGlobalDomain", "-globalDomain"):
        domain = ".GlobalPreferences"
    if domain.startswith("/"):
        return domain if domain.endswith(".plist") else domain + ".plist"
    if domain.startswith("~"):
        return home(me()) + domain[1:] + ("" if domain.endswith(".plist") else ".plist")
    return f"{home(me())}/Library/Preferences/{domain}.plist"


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


def save(path: str, value: dict[str, Any]) -> None:
    import plistlib

    guard(path)
    if "/Library/Managed Preferences/" in path:
        note("managed", path)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as file:
        plistlib.dump(value, file, fmt=plistlib.FMT_BINARY)
    os.chmod(path, 0o600)
    if me() == "root":
        own(path, 0, 0)


def typed(rest: list[str]) -> object:
    kind = rest.pop(0) if rest and rest[0].startswith("-") and not re.fullmatch(r"-?\d+(\.\d+)?", rest[0]) else ""
    if kind in ("-array", "-array-add"):
        return list(rest)
    if kind in ("-dict", "-dict-add"):
        found, pairs = {}, list(rest)
        while pairs:
            key = pairs.pop(0)
            if not pairs:
                raise NotTaken("Key/value pairs do not match up")
            if pairs[0] in ("-bool", "-boolean", "-int", "-integer", "-float", "-string"):
                found[key] = typed([pairs.pop(0), pairs.pop(0)])
            else:
                found[key] = pairs.pop(0)
        return found
    if not rest:
        raise NotTaken("defaults: one value is wanted")
    text = rest[0]
    if kind in ("-bool", "-boolean"):
        if text.lower() not in ("true", "false", "yes", "no", "1", "0"):
            raise NotTaken(f"defaults: {text} is neither true nor false")
        return text.lower() in ("true", "yes", "1")
    if kind in ("-int", "-integer"):
        return int(text)
    if kind == "-float":
        return float(text)
    if kind in ("-string", ""):
        return text
    raise NotTaken(f"defaults: {kind} is no type that a stand-in knows", 127)


def shown(value: object) -> str:
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, dict):
        return "{\n" + "".join(f"    {key} = {shown(each)};\n" for key, each in value.items()) + "}"
    if isinstance(value, list):
        return "(\n" + ",\n".join(f"    {shown(each)}" for each in value) + "\n)"
    return str(value)


def defaults(_: str, arguments: list[str]) -> None:
    rest = [one for one in arguments if one not in ("-currentHost", "-host")]
    if len(rest) < 2:
        raise NotTaken("Command line interface to a user's defaults.", 255)
    verb, domain, *rest = rest
    path = list_path(domain)
    found = load(path)
    if verb == "write":
        if len(rest) < 2:
            raise NotTaken("defaults: a key and a value are wanted", 255)
        if "/Contents/" in path:
            note("seal", path)
        save(path, {**found, rest[0]: typed(rest[1:])})
    elif verb == "read":
        if not os.path.exists(path):
            raise NotTaken(f"The domain/default pair of ({domain}, {rest[0] if rest else ''}) does not exist")
        if not rest:
            out(shown(found))
        elif rest[0] not in found:
            raise NotTaken(f"The domain/default pair of ({domain}, {rest[0]}) does not exist")
        else:
            out(shown(found[rest[0]]))
    elif verb == "delete":
        if not os.path.exists(path) or (rest and rest[0] not in found):
            raise NotTaken(f"Domain ({domain}) not found.\nDefaults have not been changed.")
        if not rest:
            os.unlink(path)
        else:
            del found[rest[0]]
            if found:
                save(path, found)
            else:
                os.unlink(path)
    else:
        raise NotTaken(f"defaults: no stand-in for {verb}", 127)


def buddy(_: str, arguments: list[str]) -> None:
    """PlistBuddy with ``-c``."""
    commands, rest = [], list(arguments)
    while rest and rest[0].startswith("-"):
        if rest.pop(0) == "-c":
            commands.append(rest.pop(0))
    if not rest:
        raise NotTaken("Usage: PlistBuddy [-cxh] <file.plist>")
    path = rest[0]
    found = load(path)
    if not os.path.exists(path) and not any(one.lower().startswith("add") for one in commands):
        raise NotTaken(f"File Doesn't Exist, Will Create: {path}")
    for command in commands:
        verb, _, words = command.partition(" ")
        key, _, value = words.partition(" ")
        parts = [one for one in key.split(":") if one]
        at: object = found
        for part in parts[:-1]:
            at = at[int(part)] if isinstance(at, list) else at.get(part, {}) if isinstance(at, dict) else {}
        last = parts[-1] if parts else ""
        if verb.lower() == "print":
            if not parts:
                out(shown(found))
                continue
            if not isinstance(at, dict) or last not in at:
                raise NotTaken(f'Print: Entry, "{key}", Does Not Exist')
            out("true" if at[last] is True else "false" if at[last] is False else shown(at[last]))
            continue
        if "/Contents/" in path:
            note("seal", path)
        assert isinstance(at, dict)
        if verb.lower() == "delete":
            if last not in at:
                raise NotTaken(f'Delete: Entry, "{key}", Does Not Exist')
            del at[last]
        elif verb.lower() == "add":
            if last in at:
                raise NotTaken(f'Add: "{key}" Entry Already Exists')
            kind, _, text = value.partition(" ")
            at[last] = {
                "bool": text.lower() in ("true", "yes", "1"),
                "integer": int(text) if text.lstrip("-").isdigit() else 0,
                "dict": {},
                "array": [],
            }.get(kind, text)
        elif verb.lower() == "set":
            if last not in at:
                raise NotTaken(f'Set: Entry, "{key}", Does Not Exist')
            at[last] = (
                type(at[last])(value) if not isinstance(at[last], bool) else value.lower() in ("true", "yes", "1")
            )
        save(path, found)


def plutil(_: str, arguments: list[str]) -> None:
    import plistlib

    rest = list(arguments)
    verb = rest.pop(0) if rest else ""
    path = rest[-1] if rest else ""
    if verb == "-lint":
        load(path)
        out(f"{path}: OK")
    elif verb == "-convert":
        found = load(path)
        with open(path, "wb") as file:
            plistlib.dump(found, file, fmt=plistlib.FMT_XML if rest[0] == "xml1" else plistlib.FMT_BINARY)
    elif verb == "-extract":
        value: object = load(rest[2] if len(rest) > 2 and not rest[2].startswith("-") else path)
        for part in rest[0].split("."):
            if not isinstance(value, dict) or part not in value:
                raise NotTaken(
                    f"{path}: Could not extract value, error: No value at that key path or invalid key path: {rest[0]}"
                )
            value = value[part]
        out(shown(value))
    elif verb in ("-replace", "-insert"):
        found = load(path)
        if "/Contents/" in path:
            note("seal", path)
        found[rest[0]] = typed([rest[1], rest[2]])
        save(path, found)
    elif verb == "-remove":
        found = load(path)
        found.pop(rest[0], None)
        save(path, found)
    else:
        raise NotTaken(f"plutil: no stand-in for {verb}", 127)


# --- jobs, programs, receipts


def launchctl(_: str, arguments: list[str]) -> None:
    verb, *rest = arguments or [""]
    if verb == "asuser":
        who = next((name for name, each in look()["people"].items() if str(each["number"]) == rest[0]), "")
        if not who or look()["person"] != who:
            raise NotTaken("Could not switch to audit session: no such user is logged on", 125)
        os.execvp(rest[1], rest[1:])
    if verb == "bootstrap":
        domain, path = rest[0], rest[1]
        job = load(path)
        if not os.path.exists(path):
            raise NotTaken("Bootstrap failed: 5: Input/output error", 5)
        user = owner_of(path)[0]
        if (user != 0 and domain == "system") or os.stat(path).st_mode & 0o022:
            note("launchd", path, "its owner or mode")
            raise NotTaken("Bootstrap failed: 5: Input/output error", 5)
        label = job.get("Label", "")
        with MachineState() as state:
            if f"{domain}/{label}" in state["jobs"]:
                raise NotTaken("Bootstrap failed: 5: Input/output error", 5)
            state["jobs"][f"{domain}/{label}"] = path
    elif verb in ("bootout", "kickstart", "print", "enable", "disable"):
        name = [one for one in rest if not one.startswith("-")][-1]
        with MachineState() as state:
            jobs = state["jobs"]
            if name.endswith(".plist"):
                name = next((one for one, path in jobs.items() if path == name), name)
            if verb in ("enable", "disable"):
                return
            if name not in jobs:
                raise NotTaken(
                    "Boot-out failed: 3: No such process" if verb == "bootout" else f'Could not find service "{name}"',
                    3 if verb == "bootout" else 113,
                )
            if verb == "bootout":
                del jobs[name]
            elif verb == "print":
                out(f"{name} = {{\n\tpath = {jobs[name]}\n}}")
    elif verb in ("load", "unload"):
        path = [one for one in rest if not one.startswith("-")][-1]
        label = load(path).get("Label", "")
        domain = "system" if "/LaunchDaemons/" in path else f"gui/{look()['people'].get(me(), {}).get('number', 0)}"
        with MachineState() as state:
            if verb == "load":
                state["jobs"][f"{domain}/{label}"] = path
            else:
                state["jobs"].pop(f"{domain}/{label}", None)
    elif verb == "list":
        jobs = [one.partition("/")[2] for one in look()["jobs"]]
        if rest and not any(one.endswith(rest[0]) for one in jobs):
            raise NotTaken(f'Could not find service "{rest[0]}" in domain for port', 113)
        out("\n".join(jobs))
    else:
        raise NotTaken(f"launchctl: no stand-in for {verb}", 127)


def osascript(_: str, arguments: list[str]) -> None:
    said = " ".join(arguments[at + 1] for at, one in enumerate(arguments) if one == "-e" and at + 1 < len(arguments))
    machine = look()
    who = me()
    if not machine["person"]:
        raise NotTaken("execution error: An error of type -10810 has occurred. (-10810)")
    if who == "root":
        note("as-root", "osascript", said)
    if found := re.search(r'application id "([^"]+)" is running', said):
        out("true" if found[1] in machine["open"] else "false")
    elif found := re.search(r'tell application id "([^"]+)" to quit', said):
        with MachineState() as state:
            if found[1] in state["open"]:
                state["asked"].append(found[1])
                if state["open"][found[1]] != "stays":
                    del state["open"][found[1]]
    elif "display notification" in said:
        note("told", machine["person"], said)
    elif re.search(r"display (dialog|alert)|choose ", said):
        note("waits", said)
        raise NotTaken("execution error: User canceled. (-128)")
    else:
        raise NotTaken(f"osascript: no stand-in for {said[:80]}", 127)


def killall(_: str, arguments: list[str]) -> None:
    names = [one for one in arguments if not one.startswith("-")]
    note("ended", *names)
    raise NotTaken("No matching processes belonging to you were found")


def pgrep(_: str, __: list[str]) -> None:
    raise NotTaken("", 1)


def mdfind(_: str, arguments: list[str]) -> None:
    found = re.search(r"kMDItemCFBundleIdentifier\s*==\s*[\"']([^\"']+)[\"']", " ".join(arguments))
    if not found:
        return
    for top in ("/Applications", "/Users", "/Library", "/opt"):
        for folder, folders, _files in os.walk(top):
            folders[:] = [one for one in folders if not one.startswith(".")]  # the bin is not searched
            if os.path.isfile(f"{folder}/Contents/Info.plist"):
                folders.clear()
                if load(f"{folder}/Contents/Info.plist").get("CFBundleIdentifier") == found[1]:
                    out(folder)


def pkgutil(_: str, arguments: list[str]) -> None:
    rest, volume, verb, wanted, kind, pattern = list(arguments), "/", "", "", "", ""
    while rest:
        one = rest.pop(0)
        if one == "--volume":
            volume = rest.pop(0)
        elif one in ("--only-files", "--only-dirs"):
            kind = one
        elif one == "--pkgs" or one.startswith("--pkgs="):
            verb, pattern = "--pkgs", one.partition("=")[2]
        elif one in ("--pkg-info", "--files", "--forget", "--file-info", "--pkg-info-plist", "--lsbom"):
            verb, wanted = one, rest.pop(0) if rest else ""
        elif one in ("-f", "--force", "-v", "--verbose"):
            continue
        else:
            raise NotTaken(f"pkgutil: no stand-in for {one}", 127)
    place = f"{volume.rstrip('/')}/private/var/db/receipts"
    known = sorted(one[:-6] for one in os.listdir(place) if one.endswith(".plist")) if os.path.isdir(place) else []
    if verb == "--pkgs":
        found = [one for one in known if not pattern or re.fullmatch(pattern, one)]
        out("\n".join(found)) if found else None
        if not found and pattern:
            raise NotTaken("", 1)
        return
    if verb == "--file-info":
        out(f"volume: {volume}\npath: {wanted.lstrip('/')}\n")
        for one in known:
            info = load(f"{place}/{one}.plist")
            if wanted.lstrip("/") in [
                os.path.join(info["InstallPrefixPath"].strip("/"), each[1]) for each in info["YendoPaths"]
            ]:
                out(f"pkgid: {one}\npkg-version: {info['PackageVersion']}")
        return
    if wanted not in known:
        raise NotTaken(f"No receipt for '{wanted}' found at '{volume}'.")
    info = load(f"{place}/{wanted}.plist")
    if verb == "--pkg-info":
        out(f"package-id: {wanted}\nversion: {info['PackageVersion']}\nvolume: {volume}")
        out(f"location: {info['InstallPrefixPath'].strip('/')}\ninstall-time: 1000000000")
    elif verb == "--files":
        for what, path in info["YendoPaths"]:
            if path and (not kind or (kind == "--only-dirs") == (what == "folder")):
                out(path)
    elif verb == "--forget":
        os.unlink(f"{place}/{wanted}.plist")
        if os.path.exists(f"{place}/{wanted}.bom"):
            os.unlink(f"{place}/{wanted}.bom")
        out(f"Forgot package '{wanted}' on '{volume}'.")


def installer(_: str, arguments: list[str]) -> None:
    """The machine itself carries it out; it is asked by a file, and waited for."""
    given = dict(zip(arguments[::2], arguments[1::2], strict=False))
    if "-pkg" not in given or "-target" not in given:
        raise NotTaken("installer: usage: installer -pkg <pathToPackage> -target <DomainTarget|volume>", 1)
    asked = f"/.yendo/own/ask-{os.getpid()}.json"
    package = os.path.abspath(given["-pkg"])
    with open(asked + ".new", "w", encoding="utf-8") as file:
        json.dump(
            {"package": package, "target": given["-target"], "choices": given.get("-applyChoiceChangesXML", "")}, file
        )
    os.rename(asked + ".new", asked)
    while not os.path.exists(asked + ".answer"):
        time.sleep(0.02)
    with open(asked + ".answer", encoding="utf-8") as file:
        answer = json.load(file)
    out("\n".join(answer["said"]))
    sys.stdout.flush()
    if answer["code"]:
        raise NotTaken(f"installer: The install failed ({answer['why']}).", answer["code"])


# --- the rest


def shasum(_: str, arguments: list[str]) -> None:
    import hashlib

    kind, rest = "1", list(arguments)
    if rest[:1] == ["-a"]:
        kind, rest = rest[1], rest[2:]
    for path in rest:
        with open(path, "rb") as file:
            out(f"{hashlib.new('sha' + kind, file.read()).hexdigest()}  {path}")


def md5(_: str, arguments: list[str]) -> None:
    import hashlib

    for path in [one for one in arguments if not one.startswith("-")]:
        with open(path, "rb") as file:
            out(
                hashlib.md5(file.read()).hexdigest()
                if "-q" in arguments
                else f"MD5 ({path}) = {hashlib.md5(open(path, 'rb').read()).hexdigest()}"
            )


def xattr(_: str, arguments: list[str]) -> None:
    if "com.apple.quarantine" in arguments:
        note("quarantine", *arguments)


def rest_a_while(_: str, arguments: list[str]) -> None:
    """The machine's time goes by fifty times as quickly."""
    time.sleep(float(arguments[0]) / 50)


def quiet(*_: object) -> None:
    """Does nothing that a proof could see."""


def spctl(_: str, arguments: list[str]) -> None:
    note("gatekeeper", *arguments)


WAYS = {
    **dict.fromkeys(PLAIN, plain),
    "chown": chown, "chgrp": chown, "chmod": chmod, "stat": stat, "install": install, "ditto": ditto, "id": identity,
    "whoami": whoami, "uname": uname, "arch": arch, "sw_vers": sw_vers, "sysctl": sysctl, "pmset": pmset,
    "scutil": scutil,
    "dscl": dscl, "sudo": sudo, "defaults": defaults, "PlistBuddy": buddy, "plutil": plutil, "launchctl": launchctl,
    "osascript": osascript, "killall": killall, "pkill": killall, "pgrep": pgrep, "mdfind": mdfind, "pkgutil": pkgutil,
    "sleep": rest_a_while, "installer": installer, "shasum": shasum, "md5": md5, "xattr": xattr, "spctl": spctl,
    **dict.fromkeys(("logger", "sync", "mdimport", "touch_bar", "lsregister", "say", "afplay", "caffeinate"), quiet),
}  # fmt: skip
WRITES = ("rm", "rmdir", "mv", "cp", "ln", "mkdir", "touch", "tee")


def main() -> int:
    name, arguments = os.path.basename(sys.argv[0]), sys.argv[1:]
    try:
        if name in WRITES:
            for path in arguments[-1:] if name in ("cp", "ln", "tee") else arguments:
                if path.startswith("/"):
                    guard(path)
        WAYS[name](name, arguments)
        return 0
    except NotTaken as refused:
        if str(refused):
            complain(refused)
        if refused.code == 127:
            note("no-stand-in", name, *arguments[:2])
        return refused.code
    except OSError as error:
        complain(f"{name}: {error.filename}: {error.strerror}")
        return 1


if __name__ == "__main__":
    raise SystemExit(main())
