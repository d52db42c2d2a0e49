"""The house file: what an office says once for all its plans.

``house.toml`` is found upwards from the workspace, or named by the plan. A plan's own words win; what it does not say,
the house says, and every such value is known with its line. Nothing in it is executed when it is read.
"""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path as FilePath
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from yendo import texts
from yendo.errors import YendoError
from yendo.plan import model, places
from yendo.plan.mistakes import PlanProblem, explain, unknown
from yendo.platforms.windows.capture_record import LeftEntry
from yendo.steps import AnyStep, Step, kind_of
from yendo.terms.amounts import Identifier, Text, Written

NAME = "house.toml"
MAX_HOUSE, MAX_LOGO = 1 << 20, 2 << 20
# What of a plan is an office's to say; the rest belongs to one program.
MAY_SAY = ("package", "when", "in_the_way", "log", "proof", "keep", "exclusive", "settings", "site")
MAY_SAY_OF_PACKAGE = ("publisher", "language", "category", "contact", "notes", "folder", "scope")
RuleSeverity = Literal["error", "warning", "note", "off"]


class HouseError(YendoError):
    """A house file that cannot be used; each line with its place."""


class HouseLine(int):
    """The number of a line of the house file, among those of a plan."""

    file: str

    def __new__(cls, number: int, file: str) -> HouseLine:
        line = super().__new__(cls, number)
        line.file = file
        return line


class Must(Written, frozen=True, rename={"not_": "not"}, kw_only=True):
    """What has to hold of a plan. ``of`` is a place: ``package.contact``, ``install.*.timeout``; all its values are
    asked.

    ``matches`` is a regular expression for the whole value; ``at_least`` and ``at_most`` are numbers, times or amounts
    of disk. A value that is not there satisfies everything but ``present = true``.
    """

    of: str | None = None
    present: bool | None = None
    matches: str | None = None
    one_of: tuple[str | int | bool, ...] = ()
    at_least: str | int | None = None
    at_most: str | int | None = None
    all: tuple[Must, ...] = ()
    any: tuple[Must, ...] = ()
    not_: Must | None = None

    def __post_init__(self) -> None:
        if self.matches is not None:
            try:
                re.compile(self.matches)
            except re.error as error:
                raise ValueError(f"matches is no regular expression: {error}") from error
        asks = (
            self.present is not None
            or self.matches is not None
            or self.one_of
            or self.at_least is not None
            or self.at_most is not None
        )
        if bool(asks) != bool(self.of):
            raise ValueError("of goes with present, matches, one_of, at_least or at_most, and those with it")


class OwnRule(Written, frozen=True, kw_only=True):
    """A check rule of the office's own. ``only`` limits it to plans of which that holds."""

    id: Identifier
    severity: Literal["error", "warning", "note"] = "warning"
    must: Must
    only: Must | None = None
    message: Text
    why: str = "the office has decided so"
    do: Text


class Naming(Written, frozen=True, kw_only=True):
    """Patterns for names. ``id`` may hold {publisher} and {name}, each as it stands in ids."""

    id: str = "{publisher}-{name}"

    def __post_init__(self) -> None:
        unknown = set(re.findall(r"\{([^{}]*)\}", self.id)) - {"publisher", "name"}
        if unknown or "{name}" not in self.id:
            raise ValueError(
                f"id holds {{name}}, and may hold {{publisher}}{f'; not {{{unknown.pop()}}}' if unknown else ''}"
            )


class Templates(Written, frozen=True, kw_only=True):
    """The office's own jinja2 templates, beside the house file: for a new plan, for notes, for the text that is
    handed over, and for the hand-over sheet.
    """

    plan: str | None = None
    notes: str | None = None
    handover: str | None = None
    sheet: str | None = None


class Standing(Written, frozen=True, kw_only=True):
    """Steps that every package gets, by verb."""

    install: tuple[AnyStep, ...] = ()
    uninstall: tuple[AnyStep, ...] = ()
    repair: tuple[AnyStep, ...] = ()

    def steps(self, verb: str) -> tuple[Step, ...]:
        return tuple(getattr(self, verb))


class House(Written, frozen=True, kw_only=True):
    """An office.

    ``plan`` says what plans of its workspaces do not say themselves; ``store`` is its media store, a folder; ``left``
    what captures leave out here, beside what they always do.
    """

    name: Text
    logo: str | None = None
    store: str | None = None
    naming: Naming = Naming()
    templates: Templates = Templates()
    signers: tuple[
        Annotated[str, Meta(pattern=r"^[0-9A-Fa-f: ]{64,127}$")], ...
    ] = ()  # certificates that may sign, by SHA-256 thumbprint
    severity: dict[str, RuleSeverity] = {}
    rule: tuple[OwnRule, ...] = ()
    before: Standing = Standing()
    after: Standing = Standing()
    plan: dict[str, Any] = {}
    left: tuple[LeftEntry, ...] = ()

    def standing(self) -> Iterator[tuple[str, str, int, Step]]:
        """Every standing step: ``before`` or ``after``, the verb, its number from 0 on, the step."""
        for where, standing in (("before", self.before), ("after", self.after)):
            for verb in model.VERBS:
                for at, step in enumerate(standing.steps(verb)):
                    yield where, verb, at, step


class HouseGiven(msgspec.Struct, frozen=True):
    """What a plan has from its house: the file, the office, and each value and standing step given, ``place -> line``;
    never part of ``plan.toml``.
    """

    file: FilePath
    house: House
    given: dict[str, int] = {}

    def beside(self, name: str) -> FilePath:
        """A file beside the house file. Raises HouseError where it is not there or lies elsewhere."""
        path = (self.file.parent / name).resolve()
        if not path.is_relative_to(self.file.parent.resolve()) or not path.is_file():
            raise HouseError(f"{self.file}: {name} is not a file beside it")
        return path

    def logo(self) -> bytes | None:
        """The office's logo, PNG or JPEG. Raises HouseError."""
        if self.house.logo is None:
            return None
        data = self.beside(self.house.logo).read_bytes()
        if len(data) > MAX_LOGO or not data.startswith((b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff")):
            raise HouseError(f"{self.file}: {self.house.logo} is no PNG or JPEG of at most {MAX_LOGO >> 20} MB")
        return data

    def logo_address(self) -> str:
        """The logo as an address that a page carries in itself; empty without one. Raises HouseError."""
        return texts.carried(self.logo())


def find(folder: FilePath) -> FilePath | None:
    """The nearest house file in a folder or above it. Raises HouseError where somebody else has put it there."""
    for above in (folder.resolve(), *folder.resolve().parents):
        path = above / NAME
        if path.is_file():
            if hasattr(os, "geteuid") and path.stat().st_uid not in (
                0,
                os.geteuid(),
                folder.resolve().stat().st_uid if folder.exists() else 0,
            ):
                raise HouseError(
                    f"{path} belongs to somebody else, so it is not taken by itself; name it in the plan: house = "
                    f'"{path}"'
                )
            return path
    return None


def read(path: FilePath) -> tuple[House, dict[places.Path, int]]:
    """A house file and the lines of its values. Raises HouseError."""
    try:
        if path.stat().st_size > MAX_HOUSE:
            raise HouseError(f"{path}:1: larger than {MAX_HOUSE} bytes, so no house file")
        text = path.read_text("utf-8")
        raw = tomllib.loads(text)
    except (OSError, UnicodeDecodeError) as error:
        raise HouseError(f"{path}: cannot be read as UTF-8 text: {error}") from error
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        match = re.search(r"at line (\d+)", str(error))
        raise HouseError(f"{path}:{match[1] if match else 1}: not TOML: {error}") from error
    found = places.lines(text)
    problems = [*unknown(raw, House, (), found), *_wrong(raw.get("plan", {}), found)]
    if not problems:
        try:
            house = msgspec.convert(raw, House)
        except msgspec.ValidationError as error:
            problems = [explain(error, raw, found)]
        else:
            problems = list(_standing(house, path, found))
            if not problems:
                return house, found
    raise HouseError("\n".join(f"{path}:{problem.line}: {problem.message}" for problem in problems))


def _wrong(raw: Any, found: dict[places.Path, int]) -> Iterator[PlanProblem]:
    """What a house says of plans, and may not."""
    if not isinstance(raw, dict):
        yield PlanProblem(places.nearest(found, ("plan",)), "[plan] is a table")
        return
    for key, value in raw.items():
        if key not in MAY_SAY:
            yield PlanProblem(
                places.nearest(found, ("plan", key)),
                f"[plan.{key}]: a house says nothing about {key}; it may about {', '.join(MAY_SAY)}",
            )
        elif key == "package":
            for name in [name for name in value if name not in MAY_SAY_OF_PACKAGE]:
                line = places.nearest(found, ("plan", key, name))
                yield PlanProblem(
                    line,
                    f"[plan.package]: {name} belongs to one program; a house may say {', '.join(MAY_SAY_OF_PACKAGE)}",
                )
    yield from unknown({key: value for key, value in raw.items() if key in MAY_SAY}, model.Plan, ("plan",), found)


def _standing(house: House, path: FilePath, found: dict[places.Path, int]) -> Iterator[PlanProblem]:
    """Standing steps that bring files, which would have to lie in every workspace."""
    for where, verb, at, step in house.standing():
        try:
            brings = bool(kind_of(step).sources(step, path.parent)) or getattr(step, "media", None)
        except YendoError:
            brings = True
        if brings:
            line = places.nearest(found, (where, verb, at))
            yield PlanProblem(
                line,
                f"[[{where}.{verb}]] {at + 1}: a standing step cannot bring files; a package of its own can ([[need]])",
            )


def furnish(
    raw: dict[str, Any], house: House, lines: Mapping[places.Path, int], own: dict[places.Path, int], file: str
) -> dict[str, int]:
    """Adds what the plan does not say; returns each place that was filled, with the line of the house file."""
    given: dict[str, int] = {}

    def fill(target: dict[str, Any], more: Mapping[str, Any], path: places.Path) -> None:
        for key, value in more.items():
            if isinstance(value, dict) and isinstance(target.get(key, {}), dict):
                fill(target.setdefault(key, {}), value, (*path, key))
            elif key not in target or target[key] == "":
                target[key] = value
                line = places.nearest(dict(lines), ("plan", *path, key))
                given[".".join(map(str, (*path, key)))] = line
                own[(*path, key)] = HouseLine(line, file)

    fill(raw, {key: value for key, value in house.plan.items() if key not in ("settings", "site")}, ())
    used = str(raw)
    for key in ("settings", "site"):  # a setting that a plan has no place for would only be asked for in vain
        for name, value in house.plan.get(key, {}).items():
            if key == "settings" and f"{{setting.{name}}}" in used and name not in raw.get("settings", {}):
                fill(raw, {key: {name: value}}, ())
            if key == "site":
                known = {setting: one for setting, one in value.items() if setting in raw.get("settings", {})}
                if known:
                    fill(raw, {key: {name: known}}, ())
    for where, verb, at, _ in house.standing():
        given[f"{where}.{verb}.{at + 1}"] = places.nearest(dict(lines), (where, verb, at))
    return given
