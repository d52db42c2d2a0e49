"""Who and what the machine is: people, processor, system, power; what runs in a person's name."""

from __future__ import annotations

import os
import sys

from .common import MachineState, NotTaken, ask, below, look, me, note, out, split


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


def profiles(_: str, arguments: list[str]) -> None:
    if arguments[:3] == ["status", "-type", "enrollment"]:
        out("Enrolled via DEP: No\nMDM enrollment: No")
        return
    if arguments[:1] not in (["list"], ["-L"], ["-P"]):
        raise NotTaken(f"profiles: no stand-in for {' '.join(arguments[:2])}", 127)
    for one in look()["profiles"]:
        out(f"_computerlevel[1] attribute: profileIdentifier: {one}")
    if not look()["profiles"]:
        out("There are no configuration profiles installed")


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


def xattr(_: str, arguments: list[str]) -> None:
    """Lists, prints, writes, deletes and clears what a file has beside its content."""
    letters = "".join(one[1:] for one in arguments if one.startswith("-") and one != "-")
    rest = [one for one in arguments if not one.startswith("-")]
    if set(letters) - set("pwdcrvls"):
        raise NotTaken(f"xattr: no stand-in for -{letters}", 127)
    name = rest.pop(0) if set(letters) & set("pwd") and rest else ""
    value = rest.pop(0) if "w" in letters and rest else ""
    if not rest:
        raise NotTaken("usage: xattr [-l] [-r] [-s] [-v] [-x] file [file ...]", 64)
    for path in _below(rest, "r" in letters):
        if not os.path.lexists(path):
            raise NotTaken(f"xattr: No such file: {path}")
        _attribute(letters, below(path), path, name, value)


def _below(paths: list[str], all_of_it: bool) -> list[str]:
    found = []
    for path in paths:
        found.append(path)
        for top, folders, files in os.walk(path) if all_of_it else ():
            found += [f"{top}/{one}" for one in folders + files]
    return found


def _attribute(letters: str, key: str, path: str, name: str, value: str) -> None:
    with MachineState() as state:
        held = state["marks"].setdefault(key, {})
        if "w" in letters:
            held[name] = value
        elif "c" in letters or "d" in letters:
            if "c" in letters or name == "com.apple.quarantine":
                note("quarantine", path)
            if "d" in letters and name not in held and "r" not in letters:
                raise NotTaken(f"xattr: {path}: No such xattr: {name}")
            for one in list(held) if "c" in letters else [name]:
                held.pop(one, None)
        elif "p" in letters:
            if name not in held:
                raise NotTaken(f"xattr: {path}: No such xattr: {name}")
            out(held[name])
        else:
            for one in sorted(held):
                out(f"{one}: {held[one]}" if "l" in letters else one)


def spctl(_: str, arguments: list[str]) -> None:
    """Assesses what nobody signed under Apple's root; of the rest only the notary knows."""
    if {"--master-disable", "--global-disable", "--disable", "--remove"} & set(arguments):
        note("gatekeeper", *arguments)
    elif "--status" in arguments:
        out("assessments enabled")
    elif "--assess" in arguments or "-a" in arguments:
        path = next((one for one in reversed(arguments) if one.startswith("/")), "")
        answer = ask(what="verify", package=path)
        if answer["code"] or not answer["said"][1]:
            raise NotTaken(f"{path}: rejected", 3)
        raise NotTaken("spctl: no stand-in for what the notary knows", 127)
    else:
        raise NotTaken(f"spctl: no stand-in for {' '.join(arguments[:2])}", 127)
