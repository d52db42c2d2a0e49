"""What runs and what is installed: jobs, programs that are open, bundles, receipts, the installer."""

from __future__ import annotations

import os
import sys

from .common import MachineState, NotTaken, ask, load, look, me, note, out, owner_of, re

_IO = "Bootstrap failed: 5: Input/output error"  # what it says of everything that it does not load


def launchctl(_: str, arguments: list[str]) -> None:
    verb, *rest = arguments or [""]
    ways = {
        "asuser": _as_user,
        "bootstrap": _bootstrap,
        **dict.fromkeys(("bootout", "kickstart", "print"), _of_a_job),
        **dict.fromkeys(("enable", "disable"), lambda verb, rest: None),
        **dict.fromkeys(("load", "unload"), _load),
        "list": _list_jobs,
    }
    if verb not in ways:
        raise NotTaken(f"launchctl: no stand-in for {verb}", 127)
    ways[verb](verb, rest)


def _as_user(_: str, rest: list[str]) -> None:
    who = next((name for name, each in look()["people"].items() if str(each["number"]) == rest[0]), "")
    if not who or look()["person"] != who:
        raise NotTaken("Could not switch to audit session: no such user is logged on", 125)
    os.execvp(rest[1], rest[1:])


def _bootstrap(_: str, rest: list[str]) -> None:
    domain, path = rest[0], rest[1]
    label = load(path).get("Label", "")
    if not os.path.exists(path):
        raise NotTaken(_IO, 5)
    if (owner_of(path)[0] != 0 and domain == "system") or os.stat(path).st_mode & 0o022:
        note("launchd", path, "its owner or mode")
        raise NotTaken(_IO, 5)
    with MachineState() as state:
        if f"{domain}/{label}" in state["jobs"]:
            raise NotTaken(_IO, 5)
        state["jobs"][f"{domain}/{label}"] = path


def _of_a_job(verb: str, rest: list[str]) -> None:
    name = [one for one in rest if not one.startswith("-")][-1]
    with MachineState() as state:
        jobs = state["jobs"]
        if name.endswith(".plist"):
            name = next((one for one, path in jobs.items() if path == name), name)
        if name not in jobs and verb == "bootout":
            raise NotTaken("Boot-out failed: 3: No such process", 3)
        if name not in jobs:
            raise NotTaken(f'Could not find service "{name}"', 113)
        if verb == "bootout":
            del jobs[name]
        elif verb == "print":
            out(f"{name} = {{\n\tpath = {jobs[name]}\n}}")


def _load(verb: str, rest: list[str]) -> None:
    path = [one for one in rest if not one.startswith("-")][-1]
    label = load(path).get("Label", "")
    domain = "system" if "/LaunchDaemons/" in path else f"gui/{look()['people'].get(me(), {}).get('number', 0)}"
    with MachineState() as state:
        if verb == "load":
            state["jobs"][f"{domain}/{label}"] = path
        else:
            state["jobs"].pop(f"{domain}/{label}", None)


def _list_jobs(_: str, rest: list[str]) -> None:
    jobs = [one.partition("/")[2] for one in look()["jobs"]]
    if rest and not any(one.endswith(rest[0]) for one in jobs):
        raise NotTaken(f'Could not find service "{rest[0]}" in domain for port', 113)
    out("\n".join(jobs))


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


def codesign(_: str, arguments: list[str]) -> None:
    """Verifies only; the machine itself reads the program, its pages and the seal."""
    wanted, rest, verify = "", [], False
    for one in arguments:
        if one in ("-v", "--verify", "--strict", "--deep", "--quiet") or one.startswith("-v"):
            verify |= one.startswith(("-v", "--verify"))
        elif one.startswith(("-R=", "--test-requirement==")):
            wanted = one.partition("=")[2].lstrip("=")
        elif one.startswith("-"):
            raise NotTaken(f"codesign: no stand-in for {one}", 127)
        else:
            rest.append(one)
    if not verify or len(rest) != 1:
        raise NotTaken(f"codesign: no stand-in for {' '.join(arguments)[:80]}", 127)
    if not os.path.exists(rest[0]):
        raise NotTaken(f"{rest[0]}: No such file or directory", 1)
    answer = ask(what="verify", package=os.path.abspath(rest[0]))
    if answer["code"]:
        raise NotTaken(f"{rest[0]}: {answer['why']}", 1)
    team, apple = answer["said"]
    asked = re.fullmatch(r'anchor apple generic and certificate leaf\[subject\.OU\] = "?([A-Z0-9]+)"?', wanted)
    if wanted and not asked:
        raise NotTaken(f"codesign: no stand-in for the requirement {wanted[:60]}", 127)
    if asked and (asked[1] != team or not apple):
        raise NotTaken(f"{rest[0]}: code failed to satisfy specified code requirement(s)", 3)


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
    asked = _Asked(arguments)
    place = f"{asked.volume.rstrip('/')}/private/var/db/receipts"
    known = sorted(one[:-6] for one in os.listdir(place) if one.endswith(".plist")) if os.path.isdir(place) else []
    if asked.verb == "--pkgs":
        found = [one for one in known if not asked.pattern or re.fullmatch(asked.pattern, one)]
        if not found and asked.pattern:
            raise NotTaken("", 1)
        if found:
            out("\n".join(found))
    elif asked.verb == "--file-info":
        _owners(asked, place, known)
    elif asked.wanted not in known:
        raise NotTaken(f"No receipt for '{asked.wanted}' found at '{asked.volume}'.")
    else:
        _receipt(asked, f"{place}/{asked.wanted}")


class _Asked:
    """What ``pkgutil`` is asked."""

    def __init__(self, arguments: list[str]) -> None:
        rest, self.volume, self.verb, self.wanted, self.kind, self.pattern = list(arguments), "/", "", "", "", ""
        while rest:
            one = rest.pop(0)
            if one == "--volume":
                self.volume = rest.pop(0)
            elif one in ("--only-files", "--only-dirs"):
                self.kind = one
            elif one == "--pkgs" or one.startswith("--pkgs="):
                self.verb, self.pattern = "--pkgs", one.partition("=")[2]
            elif one in ("--pkg-info", "--files", "--forget", "--file-info"):
                self.verb, self.wanted = one, rest.pop(0) if rest else ""
            elif one not in ("-f", "--force", "-v", "--verbose"):
                raise NotTaken(f"pkgutil: no stand-in for {one}", 127)


def _owners(asked: _Asked, place: str, known: list[str]) -> None:
    path = asked.wanted.lstrip("/")
    out(f"volume: {asked.volume}\npath: {path}\n")
    for one in known:
        info = load(f"{place}/{one}.plist")
        prefix = info["InstallPrefixPath"].strip("/")
        if path in [os.path.join(prefix, each[1]) for each in info["YendoPaths"]]:
            out(f"pkgid: {one}\npkg-version: {info['PackageVersion']}")


def _receipt(asked: _Asked, place: str) -> None:
    info = load(f"{place}.plist")
    if asked.verb == "--pkg-info":
        out(f"package-id: {asked.wanted}\nversion: {info['PackageVersion']}\nvolume: {asked.volume}")
        out(f"location: {info['InstallPrefixPath'].strip('/')}\ninstall-time: 1000000000")
    elif asked.verb == "--files":
        for what, path in info["YendoPaths"]:
            if path and (not asked.kind or (asked.kind == "--only-dirs") == (what == "folder")):
                out(path)
    elif asked.verb == "--forget":
        os.unlink(f"{place}.plist")
        if os.path.exists(f"{place}.bom"):
            os.unlink(f"{place}.bom")
        out(f"Forgot package '{asked.wanted}' on '{asked.volume}'.")


def installer(_: str, arguments: list[str]) -> None:
    """The machine itself carries it out; it is asked by a file, and waited for."""
    given = dict(zip(arguments[::2], arguments[1::2], strict=False))
    if "-pkg" not in given or "-target" not in given:
        raise NotTaken("installer: usage: installer -pkg <pathToPackage> -target <DomainTarget|volume>", 1)
    package = os.path.abspath(given["-pkg"])
    answer = ask(package=package, target=given["-target"], choices=given.get("-applyChoiceChangesXML", ""))
    out("\n".join(answer["said"]))
    sys.stdout.flush()
    if answer["code"]:
        raise NotTaken(f"installer: The install failed ({answer['why']}).", answer["code"])
