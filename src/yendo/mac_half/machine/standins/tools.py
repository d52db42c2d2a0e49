"""Programs of POSIX: carried out by this computer's own, once their options are the real ones'; owners and modes."""

from __future__ import annotations

import itertools
import os
import sys
import time

from .common import (
    GROUPS,
    USERS,
    NotTaken,
    everything,
    guard,
    host,
    look,
    note,
    number,
    out,
    own,
    owner_of,
    re,
    split,
)  # fmt: skip

# Those that take long options on macOS too.
LONG = {"grep", "egrep", "fgrep", "sort", "tar", "diff", "gzip", "gunzip", "zip", "unzip", "cmp", "split", "awk"}


def plain(name: str, arguments: list[str]) -> None:
    _not_gnus(name, arguments)
    if name == "sed":
        arguments = in_place(arguments)
    elif name == "date":
        arguments = dated(arguments)
    elif name == "cp":
        arguments = [one for one in arguments if one not in ("-X", "-c")]
    elif name == "df":
        free = look()["free"]
        out("Filesystem 1024-blocks Used Available Capacity Mounted on")
        out(f"/dev/disk1 {2 * free} {free} {free} 50% /")
        return
    own, more = {"egrep": ("grep", ["-E"]), "fgrep": ("grep", ["-F"])}.get(name, (name, []))
    host(own, more + arguments)


def _not_gnus(name: str, arguments: list[str]) -> None:
    """Options that only GNU's tools know are refused as the real ones do, and noted."""
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
    counts = itertools.pairwise(arguments)
    if name == "head" and any(one in ("-n", "-c") and two.startswith("-") for one, two in counts):
        note("gnu", name, *arguments[:2])
        raise NotTaken(f"head: illegal line count -- {arguments[1]}")


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


def _console() -> tuple[int, int, int, int, int]:
    """Mode, size, time, owner and group of the screen's device: it belongs to whoever sits there."""
    who = look()["person"] or "root"
    user = 248 if who == "_mbsetupuser" else look()["people"].get(who, {}).get("number", 0)
    return 0o20600, 0, 0, user, 0


def _of_file(path: str, follow: bool) -> tuple[int, int, int, int, int]:
    try:
        found = os.stat(path) if follow else os.lstat(path)
    except OSError:
        raise NotTaken(f"stat: {path}: stat: No such file or directory") from None
    user, group = owner_of(path)
    return found.st_mode, found.st_size, int(found.st_mtime), user, group


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
        mode, size, at, user, group = _console() if path == "/dev/console" else _of_file(path, "-L" in options)
        names = {each["number"]: name for name, each in look()["people"].items()} | {0: "root", 248: "_mbsetupuser"}
        groups = {value: name for name, value in GROUPS.items()}
        words = {
            "%Su": names.get(user, str(user)), "%u": str(user), "%Sg": groups.get(group, str(group)), "%g": str(group),
            "%Lp": f"{mode & 0o777:o}", "%OLp": f"{mode & 0o777:o}", "%p": f"{mode:o}", "%Op": f"{mode:o}",
            "%A": f"{mode & 0o7777:o}",
            "%Y": os.readlink(path) if os.path.islink(path) else "",
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


def shasum(_: str, arguments: list[str]) -> None:
    import hashlib

    kind, rest = "1", list(arguments)
    if rest[:1] == ["-a"]:
        kind, rest = rest[1], rest[2:]
    failed = False
    for path in rest or ["-"]:
        try:
            with sys.stdin.buffer if path == "-" else open(path, "rb") as file:
                out(f"{hashlib.new('sha' + kind, file.read()).hexdigest()}  {path}")
        except OSError as error:
            failed = True
            sys.stderr.write(f"shasum: {path}: {error.strerror}\n")
    if failed:
        raise NotTaken("", 1)


def md5(_: str, arguments: list[str]) -> None:
    import hashlib

    for path in [one for one in arguments if not one.startswith("-")]:
        with open(path, "rb") as file:
            out(
                hashlib.md5(file.read()).hexdigest()
                if "-q" in arguments
                else f"MD5 ({path}) = {hashlib.md5(open(path, 'rb').read()).hexdigest()}"
            )


def rest_a_while(_: str, arguments: list[str]) -> None:
    """The machine's time goes by fifty times as quickly."""
    time.sleep(float(arguments[0]) / 50)


def quiet(*_: object) -> None:
    """Does nothing that a proof could see."""
