"""Mistakes in a file that is read into types: each with its line and the nearest known word."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator
from functools import cache
from typing import Any, get_args, get_origin

import msgspec

from yendo.plan import model, places
from yendo.steps import AnyStep
from yendo.terms import settings
from yendo.terms.changes import Change
from yendo.terms.rules import Rule


class Problem(msgspec.Struct, frozen=True):
    """One mistake: its line, and what to do."""

    line: int
    message: str


def unknown(raw: Any, kind: Any, path: places.Path, found: dict[places.Path, int]) -> Iterator[Problem]:
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
                yield Problem(places.nearest(found, (*path, key)), f"unknown key {key!r} in {where(path)}{hint}")
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
    "change": ("change", Change),
}


def _culprit(path: list[str | int], raw: Any) -> list[str | int]:
    """Which setting it is that cannot be read: the library does not tell the name of an entry."""
    for name, value in raw.get("settings", {}).items() if path == ["settings"] else ():
        try:
            msgspec.convert(value, settings.Setting)
        except msgspec.ValidationError:
            return [name]
    return []


def explain(error: msgspec.ValidationError, raw: Any, found: dict[places.Path, int]) -> Problem:
    """A mistake of the library's words as a person's, with its line."""
    message, _, at_place = str(error).partition(" - at `")
    path: list[str | int] = []
    for name, index, _key in re.findall(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|\[(\.\.\.)\]", at_place.rstrip("`")):
        path += [int(index)] if index else [name] if name else _culprit(path, raw)
    if match := re.match(r"Invalid value '(.+)'$", message):
        noun, union = next((_KINDS[part] for part in reversed(path) if part in _KINDS), ("step", AnyStep))
        kinds = [struct.__struct_config__.tag for struct in _structs(union)]
        near = difflib.get_close_matches(match[1], kinds, 1)
        message = f"{match[1]!r} is no kind of {noun} that this version carries out; known: {', '.join(kinds)}" + (
            f"; did you mean {near[0]!r}?" if near else ""
        )
    elif match := re.match(r"Object missing required field `(.+)`", message):
        message = f"{match[1]!r} is missing in {where(tuple(path))}"
    else:
        message = f"{where(tuple(path))}: {message[0].lower()}{message[1:]}"
    return Problem(places.nearest(found, tuple(path)), message)
