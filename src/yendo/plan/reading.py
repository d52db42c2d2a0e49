"""Reading a plan: TOML into types, and every mistake with its line and the nearest known word."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path as FilePath
from typing import Any, get_args, get_origin

import msgspec

from yendo.errors import YendoError
from yendo.plan import house, model, places
from yendo.steps import AnyStep
from yendo.terms import settings
from yendo.terms.changes import Change
from yendo.terms.rules import Rule

MAX_PLAN = 4 << 20


class Problem(msgspec.Struct, frozen=True):
    """One mistake: its line, and what to do."""

    line: int
    message: str


class PlanError(YendoError):
    """A plan that cannot be used; ``problems`` in the order found."""

    def __init__(self, path: str, problems: list[Problem]) -> None:
        super().__init__("\n".join(f"{path}:{problem.line}: {problem.message}" for problem in problems))
        self.path, self.problems = path, problems


def read(path: FilePath) -> tuple[model.Plan, dict[places.Path, int]]:
    """The plan of a file, and the lines of its values. Raises PlanError."""
    try:
        if path.stat().st_size > MAX_PLAN:
            raise PlanError(str(path), [Problem(1, f"larger than {MAX_PLAN} bytes, so not a plan")])
        text = path.read_text("utf-8")
    except FileNotFoundError as error:
        raise PlanError(str(path), [Problem(1, "there is no plan here; start one with `yendo draft FOLDER INSTALLER`")]) from error
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(str(path), [Problem(1, f"cannot be read as UTF-8 text: {error}")]) from error
    return read_text(text, str(path), path.parent)


def read_text(text: str, name: str = "plan.toml", folder: FilePath | None = None) -> tuple[model.Plan, dict[places.Path, int]]:
    """The same for text that is at hand. ``folder`` is where the house is looked for; without it there is none. Raises PlanError, HouseError."""
    try:
        raw = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        match = re.search(r"at line (\d+)", str(error))
        raise PlanError(name, [Problem(int(match[1]) if match else 1, f"not TOML: {error}")]) from error
    found = places.lines(text)
    problems = list(unknown(raw, model.Plan, (), found))
    if not problems:
        furnished = _furnished(raw, found, name, folder)
        try:
            plan = msgspec.convert(raw, model.Plan)
        except msgspec.ValidationError as error:
            problems = [explain(error, raw, found)]
        else:
            problems = [*_wrong_sites(plan, found), *_unsettled(raw, plan, (), found)]
            if not problems:
                return msgspec.structs.replace(plan, furnished=furnished), found
    raise PlanError(name, problems)


def _furnished(raw: dict[str, Any], found: dict[places.Path, int], name: str, folder: FilePath | None) -> house.Furnished | None:
    """Takes over from the house what the plan does not say."""
    named = raw.get("house")
    if folder is None or named == "":
        return None
    path = house.find(folder) if named is None else folder / named
    if path is None:
        return None
    if not path.is_file():
        raise PlanError(name, [Problem(places.nearest(found, ("house",)), f"the house file {named} is not there")])
    office, lines = house.read(path)
    return house.Furnished(path, office, house.furnish(raw, office, lines, found, path.name))


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
        tag = struct.__struct_config__.tag_field
        fields = {field.encode_name: field.type for field in msgspec.structs.fields(struct) if field.name not in model.NOT_WRITTEN}
        known = set(fields) | ({tag} if tag else set())
        for key, value in raw.items():
            if key not in known:
                near = difflib.get_close_matches(key, known, 1)
                hint = f"; did you mean {near[0]!r}?" if near else f"; known here: {', '.join(sorted(known))}"
                yield Problem(places.nearest(found, (*path, key)), f"unknown key {key!r} in {_where(path)}{hint}")
            elif key in fields:
                yield from unknown(value, fields[key], (*path, key), found)


def _wrong_sites(plan: model.Plan, found: dict[places.Path, int]) -> Iterator[Problem]:
    for site, values in plan.site.items():
        wrong = list(settings.texts_of(plan.settings, values))
        secret = [
            (name, "it is secret, so its value does not belong into a plan")
            for name in values
            if name in plan.settings and plan.settings[name].secret
        ]
        for name, problem in wrong + secret:
            yield Problem(places.nearest(found, ("site", site, name)), f"[site.{site}]: {problem if name in problem else f'{name}: {problem}'}")


def _unsettled(raw: Any, plan: model.Plan, path: places.Path, found: dict[places.Path, int]) -> Iterator[Problem]:
    """Every place of a setting that the plan does not have, and every value that no such setting can have."""
    if isinstance(raw, dict):
        for key, value in raw.items():
            if path and path[-1] == "setting" and key in plan.settings and not isinstance(value, dict):
                for wanted in value if isinstance(value, list) else [value]:
                    try:
                        plan.settings[key].text_of(wanted)
                    except ValueError as error:
                        yield Problem(places.nearest(found, (*path, key)), f"{_where(path)}: {key} can never be so: {error}")
            names = settings.names_in(key) | ({key} if path and path[-1] == "setting" else set())
            yield from _no_such(names, plan, (*path, key), found)
            yield from _unsettled(value, plan, (*path, key), found)
    elif isinstance(raw, list):
        for at, item in enumerate(raw):
            yield from _unsettled(item, plan, (*path, at), found)
    else:
        yield from _no_such(settings.names_in(raw), plan, path, found)


def _no_such(names: set[str], plan: model.Plan, path: places.Path, found: dict[places.Path, int]) -> Iterator[Problem]:
    for name in sorted(names - set(plan.settings)):
        near = difflib.get_close_matches(name, plan.settings, 1)
        hint = f"; did you mean {near[0]!r}?" if near else f"; declare it: [settings.{name}]"
        yield Problem(places.nearest(found, path), f"{_where(path)}: there is no setting {name!r}{hint}")


def _named(kind: Any) -> Any:
    """What the values of a table with names of the packager's own are; None where its keys are known."""
    return get_args(kind)[1] if get_origin(kind) is dict else None


def _struct_for(kind: Any, raw: Any) -> Any:
    """The struct type that a value is meant to be, seen through unions, tuples and annotations."""
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        return kind
    options = [struct for struct in (_struct_for(argument, raw) for argument in get_args(kind)) if struct is not None]
    if len(options) > 1 and isinstance(raw, dict):
        return next((struct for struct in _flat(kind) if struct.__struct_config__.tag == raw.get("kind")), None)
    return options[0] if options else None


def _flat(kind: Any) -> list[Any]:
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        return [kind]
    return [struct for argument in get_args(kind) for struct in _flat(argument)]


def _where(path: places.Path) -> str:
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
    message, _, where = str(error).partition(" - at `")
    path: list[str | int] = []
    for name, index, _key in re.findall(r"\.([A-Za-z_][A-Za-z0-9_]*)|\[(\d+)\]|\[(\.\.\.)\]", where.rstrip("`")):
        path += [int(index)] if index else [name] if name else _culprit(path, raw)
    if match := re.match(r"Invalid value '(.+)'$", message):
        noun, union = next((_KINDS[part] for part in reversed(path) if part in _KINDS), ("step", AnyStep))
        kinds = [struct.__struct_config__.tag for struct in _flat(union)]
        near = difflib.get_close_matches(match[1], kinds, 1)
        message = f"{match[1]!r} is no kind of {noun} that this version carries out; known: {', '.join(kinds)}" + (
            f"; did you mean {near[0]!r}?" if near else ""
        )
    elif match := re.match(r"Object missing required field `(.+)`", message):
        message = f"{match[1]!r} is missing in {_where(tuple(path))}"
    else:
        message = f"{_where(tuple(path))}: {message[0].lower()}{message[1:]}"
    return Problem(places.nearest(found, tuple(path)), message)
