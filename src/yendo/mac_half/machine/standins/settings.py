"""Property lists and the service of settings."""

from __future__ import annotations

import os
import plistlib
import sys

from .common import TYPE_CHECKING, NotTaken, guard, home, json, load, me, note, out, own, re, shown

if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import Any


def list_path(domain: str) -> str:
    if domain in ("-g", "NSGlobalDomain", "-globalDomain"):
        domain = ".GlobalPreferences"
    if domain.startswith("/"):
        return domain if domain.endswith(".plist") else domain + ".plist"
    if domain.startswith("~"):
        return home(me()) + domain[1:] + ("" if domain.endswith(".plist") else ".plist")
    return f"{home(me())}/Library/Preferences/{domain}.plist"


def save(path: str, value: dict[str, Any]) -> None:
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
        if verb.lower() == "print":
            _print(found, key)
            continue
        if verb.lower() not in _CHANGES:
            raise NotTaken(f"PlistBuddy: no stand-in for {verb}", 127)
        if "/Contents/" in path:
            note("seal", path)
        at, last = _within(found, key)
        if isinstance(at, list):
            _in_array(at, last, verb.lower(), value, key)
        else:
            if not isinstance(at, dict) or (last in at) == (verb.lower() == "add"):
                there = "Entry Already Exists" if verb.lower() == "add" else "Does Not Exist"
                raise NotTaken(f'{verb}: Entry, "{key}", {there}')
            _CHANGES[verb.lower()](at, last, value)
        save(path, found)


def _in_array(at: list[Any], last: str, verb: str, value: str, key: str) -> None:
    """An entry of an array by its number; added before the one that has it, or at the end."""
    number = int(last) if last.isdigit() else len(at)
    if verb == "add":
        held: dict[str, Any] = {}
        _add(held, "", value)
        at.insert(number, held[""])
    elif number >= len(at):
        raise NotTaken(f'{verb.title()}: Entry, "{key}", Does Not Exist')
    elif verb == "delete":
        del at[number]
    else:
        held = {"": at[number]}
        _set(held, "", value)
        at[number] = held[""]


def _within(found: dict[str, Any], key: str) -> tuple[object, str]:
    """What an entry lies in, and its own name."""
    parts = [one for one in key.split(":") if one]
    if key.endswith(":") and len(key) > 1:
        parts.append("")  # behind the last of an array
    at: object = found
    for part in parts[:-1]:
        at = at[int(part)] if isinstance(at, list) else at.get(part, {}) if isinstance(at, dict) else {}
    return at, parts[-1] if parts else ""


def _print(found: dict[str, Any], key: str) -> None:
    at, last = _within(found, key)
    if not last:
        out(shown(found))
        return
    if isinstance(at, list) and last.isdigit() and int(last) < len(at):
        at = {last: at[int(last)]}
    if not isinstance(at, dict) or last not in at:
        raise NotTaken(f'Print: Entry, "{key}", Does Not Exist')
    out({True: "true", False: "false"}[at[last]] if isinstance(at[last], bool) else shown(at[last]))


def _delete(at: dict[str, Any], last: str, _: str) -> None:
    del at[last]


def _add(at: dict[str, Any], last: str, value: str) -> None:
    kind, _, text = value.partition(" ")
    number = int(text) if text.lstrip("-").isdigit() else 0
    at[last] = {"bool": _is_true(text), "integer": number, "dict": {}, "array": []}.get(kind, text)


def _set(at: dict[str, Any], last: str, value: str) -> None:
    at[last] = _is_true(value) if isinstance(at[last], bool) else type(at[last])(value)


def _is_true(text: str) -> bool:
    return text.lower() in ("true", "yes", "1")


_CHANGES: dict[str, Callable[[dict[str, Any], str, str], None]] = {"delete": _delete, "add": _add, "set": _set}


def _target(rest: list[str]) -> tuple[str | None, list[str]]:
    """What stands behind ``-o``, and the other words."""
    if "-o" not in rest:
        return None, rest
    at = rest.index("-o")
    return rest[at + 1], rest[:at] + rest[at + 2 :]


def _at_path(found: object, path: str, file: str) -> object:
    """A value by its path of keys, a point in one behind a backslash; numbers lead into arrays."""
    for part in re.split(r"(?<!\\)\.", path):
        name = part.replace("\\.", ".")
        if isinstance(found, dict) and name in found:
            found = found[name]
        elif isinstance(found, list) and name.isdigit() and int(name) < len(found):
            found = found[int(name)]
        else:
            why = f"No value at that key path or invalid key path: {path}"
            raise NotTaken(f"{file}: Could not extract value, error: {why}")
    return found


def _written(value: Any, form: str, path: str) -> None:
    """A value in a form of plutil's, into a file or to standard output (``-``)."""
    if form == "json":
        data = json.dumps(value, separators=(",", ":"), ensure_ascii=False).encode()
    elif form in ("xml1", "binary1"):
        data = plistlib.dumps(value, fmt=plistlib.FMT_XML if form == "xml1" else plistlib.FMT_BINARY)
    else:
        raise NotTaken(f"plutil: no stand-in for the form {form}", 127)
    if path == "-":
        sys.stdout.buffer.write(data)
        return
    guard(path)
    if "/Contents/" in path:
        note("seal", path)
    with open(path, "wb") as file:
        file.write(data)


def plutil(_: str, arguments: list[str]) -> None:
    rest = list(arguments)
    verb = rest.pop(0) if rest else ""
    path = rest[-1] if rest else ""
    if verb == "-lint":
        load(path)
        out(f"{path}: OK")
    elif verb == "-convert":
        target, rest = _target(rest)
        path = rest[-1]
        _written(load(path), rest[0], path if target is None else target)
    elif verb == "-extract":
        target, rest = _target(rest)
        path = rest[-1]
        value = _at_path(load(path), rest[0], path)
        if rest[1] == "raw":
            out(shown(value))
        else:
            _written(value, rest[1], path if target is None else target)
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
