"""Reading a plan: TOML into types, and every mistake with its line and the nearest known word."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path as FilePath
from typing import Any, TypeVar

import msgspec

from yendo.errors import YendoError
from yendo.plan import house, mark, model, places
from yendo.plan.mistakes import PlanProblem, explain, toml, unknown, where
from yendo.terms import settings
from yendo.terms.rules import Rule

KindT = TypeVar("KindT")
MAX_PLAN = 16 << 20  # 50,000 files, each with its hash, are 6 MB


class PlanError(YendoError):
    """A plan that cannot be used; ``problems`` in the order found."""

    def __init__(self, path: str, problems: list[PlanProblem]) -> None:
        super().__init__("\n".join(f"{path}:{problem.line}: {problem.message}" for problem in problems))
        self.path, self.problems = path, problems


def read(path: FilePath) -> tuple[model.Plan, dict[places.Path, int]]:
    """The plan of a file, and the lines of its values. Raises PlanError."""
    text = text_of(path, "there is no plan here; start one with `yendo draft FOLDER INSTALLER`")
    return read_text(text, str(path), path.parent)


def read_once(path: FilePath) -> tuple[model.Plan, dict[places.Path, int]]:
    """The same, where one command asks for one plan several times: it may name tens of thousands of files.

    It is read again once it or its house file has changed. Neither part of the answer may be changed.
    """
    office = house.find(path.parent)
    return _read_so(path, *(_written(one) for one in (path, office) if one))


@lru_cache(maxsize=1)
def _read_so(path: FilePath, *written: object) -> tuple[model.Plan, dict[places.Path, int]]:
    return read(path)


def _written(path: FilePath) -> tuple[FilePath, int, int] | None:
    try:
        known = path.stat()
    except OSError:
        return None
    return path.resolve(), known.st_mtime_ns, known.st_size


def parsed(text: str, name: str) -> dict[str, Any]:
    """A file that people write, as TOML. Raises PlanError with the line of what is none."""
    try:
        return tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        match = re.search(r"at line (\d+)", str(error))
        raise PlanError(name, [PlanProblem(int(match[1]) if match else 1, f"not TOML: {toml(error)}")]) from error


def text_of(path: FilePath, missing: str, most: int = MAX_PLAN) -> str:
    """The text of a file that people write; ``missing`` is what to do where it is not there, ``most`` its bytes.

    Raises PlanError.
    """
    try:
        if path.stat().st_size > most:
            raise PlanError(str(path), [PlanProblem(1, f"larger than {most} bytes, so not a plan")])
        return path.read_text("utf-8")
    except FileNotFoundError as error:
        raise PlanError(str(path), [PlanProblem(1, missing)]) from error
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(str(path), [PlanProblem(1, f"cannot be read as UTF-8 text: {error}")]) from error


def read_as(
    text: str, name: str, kind: type[KindT], of: Mapping[str | int, tuple[str, Any]] = {}
) -> tuple[KindT, dict[places.Path, int]]:
    """A text that people write as a type of its own, and the lines of its values; ``of`` are the unions in it, by their
    keys, as ``mistakes.explain`` takes them. Raises PlanError.
    """
    raw = parsed(text, name)
    found = places.lines(text)
    problems = list(unknown(raw, kind, (), found))
    if not problems:
        try:
            return msgspec.convert(raw, kind), found
        except msgspec.ValidationError as error:
            problems = [explain(error, raw, found, of)]
    raise PlanError(name, problems)


def read_text(
    text: str, name: str = "plan.toml", folder: FilePath | None = None
) -> tuple[model.Plan, dict[places.Path, int]]:
    """The same for text that is at hand.

    ``folder`` is where the house is looked for; without it there is none. Raises PlanError, HouseError.
    """
    raw = parsed(text, name)
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
                plan = msgspec.structs.replace(plan, furnished=furnished)
                return msgspec.structs.replace(plan, detect=_detected(plan)), found
    raise PlanError(name, problems)


def _detected(plan: model.Plan) -> tuple[Rule, ...]:
    """The plan's rules, and that of its mark where it has one."""
    return (*plan.detect, mark.rule(plan)) if plan.mark else plan.detect


def _furnished(
    raw: dict[str, Any], found: dict[places.Path, int], name: str, folder: FilePath | None
) -> house.HouseGiven | None:
    """Takes over from the house what the plan does not say."""
    named = raw.get("house")
    if folder is None or named == "":
        return None
    path = house.find(folder) if named is None else folder / named
    if path is None:
        return None
    if not path.is_file():
        raise PlanError(name, [PlanProblem(places.nearest(found, ("house",)), f"the house file {named} is not there")])
    office, lines = house.read(path)
    return house.HouseGiven(path, office, house.furnish(raw, office, lines, found, path.name))


def _wrong_sites(plan: model.Plan, found: dict[places.Path, int]) -> Iterator[PlanProblem]:
    for site, values in plan.site.items():
        wrong = list(settings.texts_of(plan.settings, values))
        secret = [
            (name, "it is secret, so its value does not belong into a plan")
            for name in values
            if name in plan.settings and plan.settings[name].secret
        ]
        for name, problem in wrong + secret:
            yield PlanProblem(
                places.nearest(found, ("site", site, name)),
                f"[site.{site}]: {problem if name in problem else f'{name}: {problem}'}",
            )


def _unsettled(raw: Any, plan: model.Plan, path: places.Path, found: dict[places.Path, int]) -> Iterator[PlanProblem]:
    """Every place of a setting that the plan does not have, and every value that no such setting can have."""
    if isinstance(raw, dict):
        for key, value in raw.items():
            if path and path[-1] == "setting" and key in plan.settings and not isinstance(value, dict):
                for wanted in value if isinstance(value, list) else [value]:
                    try:
                        plan.settings[key].text_of(wanted)
                    except ValueError as error:
                        yield PlanProblem(
                            places.nearest(found, (*path, key)), f"{where(path)}: {key} can never be so: {error}"
                        )
            names = settings.names_in(key) | ({key} if path and path[-1] == "setting" else set())
            yield from _no_such(names, plan, (*path, key), found)
            yield from _unsettled(value, plan, (*path, key), found)
    elif isinstance(raw, list):
        for at, item in enumerate(raw):
            yield from _unsettled(item, plan, (*path, at), found)
    else:
        yield from _no_such(settings.names_in(raw), plan, path, found)


def _no_such(
    names: set[str], plan: model.Plan, path: places.Path, found: dict[places.Path, int]
) -> Iterator[PlanProblem]:
    for name in sorted(names - set(plan.settings)):
        near = difflib.get_close_matches(name, plan.settings, 1)
        hint = f"; did you mean {near[0]!r}?" if near else f"; declare it: [settings.{name}]"
        yield PlanProblem(places.nearest(found, path), f"{where(path)}: there is no setting {name!r}{hint}")
