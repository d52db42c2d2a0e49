"""Mistakes in a file that is read into types: each with its line and the nearest known word."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Mapping
from functools import cache
from typing import Any, Literal, get_args, get_origin

import msgspec

from yendo.plan import model, places
from yendo.steps import AnyStep
from yendo.terms import settings
from yendo.terms.changes import PlannedChange
from yendo.terms.rules import Rule


class PlanProblem(msgspec.Struct, frozen=True):
    """One mistake: its line, and what to do."""

    line: int
    message: str


def unknown(raw: Any, kind: Any, path: places.Path, found: dict[places.Path, int]) -> Iterator[PlanProblem]:
    """Every key that its table does not know, with the nearest that it does."""
    named = _named(kind)
    struct = None if named is not None else _struct_for(kind, raw)
    if isinstance(raw, dict) and named is not None:
        for key, value in raw.items():
            yield from unknown(value, named, (*path, key), found)
    elif isinstance(raw, list):
        for at, item in enumerate(raw):
            yield from unknown(item, kind, (*path, at), found)
    elif struct is not None and isinstance(raw, dict):
        fields, known = _keys(struct)
        for key, value in raw.items():
            if key not in known:
                near = difflib.get_close_matches(key, known, 1)
                hint = f"; did you mean {near[0]!r}?" if near else f"; known here: {', '.join(sorted(known))}"
                yield PlanProblem(places.nearest(found, (*path, key)), f"unknown key {key!r} in {where(path)}{hint}")
            elif key in fields:
                yield from unknown(value, fields[key], (*path, key), found)


@cache
def _keys(struct: Any) -> tuple[dict[str, Any], set[str]]:
    """The keys of a table with their types, and all that it knows."""
    tag = struct.__struct_config__.tag_field
    fields = {
        field.encode_name: field.type for field in msgspec.structs.fields(struct) if field.name not in model.NOT_WRITTEN
    }
    return fields, set(fields) | ({tag} if tag else set())


def _named(kind: Any) -> Any:
    """What the values of a table with names of the packager's own are; None where its keys are known."""
    return get_args(kind)[1] if get_origin(kind) is dict else None


def _struct_for(kind: Any, raw: Any) -> Any:
    """The struct type that a value is meant to be, seen through unions, tuples and annotations."""
    options = _structs(kind)
    if len(options) > 1 and isinstance(raw, dict):
        return next((struct for struct in options if struct.__struct_config__.tag == raw.get("kind")), None)
    return options[0] if options else None


@cache
def _structs(kind: Any) -> tuple[Any, ...]:
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        return (kind,)
    return tuple(struct for argument in get_args(kind) for struct in _structs(argument))


def where(path: places.Path) -> str:
    """A place as a person writes it: ``[install 2.timeout]``."""
    out = ""
    for part in path:
        out += f" {part + 1}" if isinstance(part, int) else ("." if out else "") + part
    return f"[{out}]" if out else "the plan"


_KINDS: dict[str | int, tuple[str, Any]] = {
    **dict.fromkeys(("detect", "unless", "probe", "holds", "rules"), ("rule", Rule)),
    "change": ("change", PlannedChange),
}


def _culprit(path: list[str | int], raw: Any) -> list[str | int]:
    """Which setting it is that cannot be read: the library does not tell the name of an entry."""
    for name, value in raw.get("settings", {}).items() if path == ["settings"] else ():
        try:
            msgspec.convert(value, settings.Setting)
        except msgspec.ValidationError:
            return [name]
    return []


def explain(
    error: msgspec.ValidationError,
    raw: Any,
    found: dict[places.Path, int],
    of: Mapping[str | int, tuple[str, Any]] = {},
) -> PlanProblem:
    """A mistake of the library's words as a person's, with its line.

    ``of``: for a file of other kinds of steps and rules than the plan's, what a table's things are called and are.
    """
    message, _, at_place = str(error).partition(" - at `")
    path: list[str | int] = []
    for name, index, _key in re.findall(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|\[(\.\.\.)\]", at_place.rstrip("`")):
        path += [int(index)] if index else [name] if name else _culprit(path, raw)
    if match := re.match(r"Invalid value '(.+)'$", message):
        known = of or _KINDS
        noun, union = next((known[part] for part in reversed(path) if part in known), ("step", AnyStep))
        kinds = [struct.__struct_config__.tag for struct in _structs(union)]
        near = difflib.get_close_matches(match[1], kinds, 1)
        message = f"{match[1]!r} is no kind of {noun} that this version carries out; known: {', '.join(kinds)}" + (
            f"; did you mean {near[0]!r}?" if near else ""
        )
    elif match := re.match(r"Object missing required field `(.+)`", message):
        message = f"{match[1]!r} is missing in {where(tuple(path))}"
    else:
        message = f"{where(tuple(path))}: {_plainly(message, path, raw)}"
    return PlanProblem(places.nearest(found, tuple(path)), message)


# What a kind of value is called, and what it looks like.
_WORDS = {
    "int": ("a whole number", "3"),
    "float": ("a number", "2.5"),
    "str": ("a text in quotes", '"..."'),
    "bool": ("true or false, without quotes", "true"),
    "array": ("a list in brackets", '["..."]'),
    "object": ("a table", "{ ... }"),
}
_EXAMPLES = {
    **dict.fromkeys(("timeout", "wait", "retry_wait", "time", "notice", "exclusive", "postpone_for"), '"30 min"'),
    "version": '"6.2.1"',
    "os": '">=10.0.17763"',
    "memory": '"4 GB"',
    "disk": '"1.5 GB"',
}
# What a text has to look like, by the head of the expression that says so.
_FORMS = {
    "^[0-9a-f]{32}": "32 digits from 0 to f",
    "^([0-9a-f]{64})": "64 digits from 0 to f, or nothing",
    "^[0-9a-f]{64}": "64 digits from 0 to 9 and a to f, as `yendo check` tells them",
    "^[0-9A-Fa-f: ]{64": "the SHA-256 thumbprint of a certificate, 64 digits from 0 to 9 and A to F",
    "^[0-9A-Fa-f]{40}": "the SHA-1 thumbprint of a certificate, 40 digits from 0 to 9 and A to F",
    r"^\{[0-9A-Fa-f]{8}": "a code in braces, as {4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}",
    "^[a-z0-9]": 'small letters, digits and hyphens, as "tidewell-lantern"',
    "^[a-z][a-z0-9_]": "small letters, digits and underscores, beginning with a letter",
    "^[A-Za-z0-9._-]+~": 'a capability as the system calls it, as "Tide.Gauge~~~~0.0.1.0"',
    "^[A-Za-z_]": "letters, digits, underscores and points, as a property is called",
    r"^(\d{4}-": 'a date, as "2026-02-01"',
    "^[A-Za-z0-9-]+(": 'names with points between them, as "example.marrowby.lantern"',
    r"^/[^": 'a path from the root of a volume, as "/Library/Tidewell"',
    "^[0-7]": 'a mode in octal digits, as "0644"',
    r"^([01]\d|2[0-3]):[0-5]\d-": 'two times of a day, as "20:00-06:00"',
    r"^\d{1,3}(\.\d+)? %": 'a share, as "5 %"',
    r"^(\d{1,3}(\.\d+)? %|": 'a share, a number of machines or what is left, as "10 %", "200" or "rest"',
    r"^\d{1,3}(\.": 'a version of macOS, as "13.0"',
    r"^\d+(\.": 'a version of numbers and points, as "6.2.1"',
    "^(https?": 'an address, as "https://tidewell.example/help"',
    "^(HKLM|": r"a key with its hive, as 'HKLM\Software\Tidewell'",
    "^(%": r"a folder below a drive or a folder of the system, as '%ProgramFiles%\Tidewell'",
    r"^\[": r"a path that begins with a folder of the database, as '[INSTALLDIR]charts\local.lst'",
    "^(start|": '"start", "logon" or a time, as "daily 07:30"',
    r"([01]\d|": 'hours, as "18:00-06:00"',
    r"^(\d{1,5}": 'port numbers, as "80,8000-8080"',
    r'^([A-Za-z]:\\|%[^%"]': r"a folder or file from its drive or a variable on, as '%ProgramData%\Tidewell'",
    "^(users|": 'one of users, signed-in and everyone, or a security identifier, as "S-1-5-32-545"',
    "^([A-Z0-9]{10}": 'the ten letters and digits of a team, as a signature has them: "TIDE123456"',
}


def _plainly(message: str, path: list[str | int], raw: Any) -> str:
    """The library's words as those of a person: what belongs there, with an example."""
    name = next((part for part in reversed(path) if isinstance(part, str)), "it")
    if match := re.match(r"Expected `([^`]+)`, got `(\w+)`", message):
        wanted = [_WORDS[kind] for kind in match[1].split(" | ") if kind in _WORDS]
        if wanted:
            there = _WORDS.get(match[2], ("something else", ""))[0]
            what = " or ".join(words for words, _ in wanted)
            value = raw
            for part in path:
                value = _inner(value, part)
            if isinstance(value, dict) and "object" not in match[1]:
                return f"each value in it is {what}; one is {there}"  # the library does not tell which
            example = _EXAMPLES.get(name, wanted[0][1]) if wanted[0][1].startswith('"') else wanted[0][1]
            return f"{what} belongs here, as {name} = {example}; this is {there}"
    if match := re.match(r"Invalid enum value (.+)$", message):
        given, known = match[1].strip("'\""), _choices(path, raw)
        near = difflib.get_close_matches(given, known, 1)
        return f"{given} is none of {', '.join(known)}" + (f"; did you mean {near[0]!r}?" if near else "")
    if match := re.match(r"Expected `str` matching regex '(.+)'", message):
        form = next((words for head, words in _FORMS.items() if match[1].replace("\\\\", "\\").startswith(head)), "")
        return f"it has to be {form}" if form else "it does not have the form that is needed here"
    if match := re.match(r"Expected `(\w+)` (>=|<=|>|<) (-?[\d.]+)", message):
        return f"a number {'of at least' if '>' in match[2] else 'of at most'} {match[3]} belongs here"
    if match := re.match(r"Expected `(\w+)` of length (>=|<=) (\d+)", message):
        noun = "character" if match[1] == "str" else "entry"
        most = "at least" if match[2] == ">=" else "at most"
        return f"{most} {match[3]} {noun if match[3] == '1' else noun.replace('entry', 'entrie') + 's'} belong here"
    return f"{message[0].lower()}{message[1:]}"


def _choices(path: list[str | int], raw: Any) -> list[str]:
    """The words that may stand at a place."""
    kind: Any = model.Plan
    for part in path:
        struct = _struct_for(kind, raw)
        raw = _inner(raw, part)
        if isinstance(part, str):
            kind = _keys(struct)[0].get(part) if struct is not None else _named(kind)
    return [str(word) for word in _literals(kind)]


def _inner(raw: Any, part: str | int) -> Any:
    if isinstance(raw, dict):
        return raw.get(part)
    return raw[part] if isinstance(raw, list) and isinstance(part, int) and part < len(raw) else None


def _literals(kind: Any) -> list[Any]:
    if get_origin(kind) is Literal:
        return list(get_args(kind))
    return [word for inner in get_args(kind) for word in _literals(inner)]


# What a TOML library says, and what a person has done.
_TOML = (
    (r"hex value|Unescaped|escape", r"a backslash means something in double quotes; paths in single ones: 'C:\Tide'"),
    (r"immutable namespace|overwrite|twice", "this stands twice, once as a value and once as a table; keep one"),
    (r"Unterminated|Illegal character '\\n'", "a text has no closing quote"),
    (r"after a key|Invalid statement|Expected '='", "a line is KEY = VALUE, [table] or # a remark"),
    (r"Invalid value", "a value is a text in quotes, a number, true, false, or a list in brackets"),
    (r"newline or end", "something stands behind the value; a remark begins with #"),
)


def toml(error: Exception) -> str:
    """What is wrong with a file that is no TOML, for a person."""
    said = str(error)
    return next((words for expression, words in _TOML if re.search(expression, said)), said)
