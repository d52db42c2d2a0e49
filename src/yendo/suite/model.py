"""The suite file as types, and reading it with every mistake at its line."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.plan import PlanError, PlanProblem, places
from yendo.plan.mistakes import explain, unknown
from yendo.plan.reading import parsed
from yendo.terms.amounts import Identifier, Text, Written
from yendo.terms.settings import Name, SettingValue
from yendo.terms.when import Condition

NAME = "suite.toml"


class Suite(Written, frozen=True, kw_only=True):
    """What it is as a whole. ``packages``: one for all, or one each with their order. ``languages`` chooses among
    products that have one; with ``updates_only`` a product goes only where it is already."""

    id: Identifier
    name: Text
    version: Text
    revision: Annotated[int, Meta(ge=1)] = 1
    publisher: str = ""
    contact: str = ""
    packages: Literal["one", "each"] = "one"
    languages: tuple[Text, ...] = ()
    updates_only: bool = False


class SuiteProduct(Written, frozen=True, kw_only=True):
    """One product, by its workspace. ``choose = false`` leaves it out. ``after`` names ids that come before it.

    ``site`` and ``settings`` are given to it, ``when`` is asked on the machine.
    """

    workspace: Text
    choose: bool = True
    after: tuple[Identifier, ...] = ()
    updates_only: bool | None = None
    site: Identifier | None = None
    settings: dict[Name, SettingValue] = {}
    when: Condition | None = None
    note: str = ""


class SuitePlan(Written, frozen=True, kw_only=True):
    """A whole suite."""

    suite: Suite
    product: Annotated[tuple[SuiteProduct, ...], Meta(min_length=1)]


def read(path: Path) -> tuple[SuitePlan, dict[places.Path, int]]:
    """A suite file and the lines of its values. Raises PlanError."""
    try:
        text = path.read_text("utf-8")
    except FileNotFoundError as error:
        raise PlanError(
            str(path),
            [
                PlanProblem(
                    1,
                    "there is no suite here; write one: [suite] with id, name and version, and a [[product]] for "
                    "each workspace",
                )
            ],
        ) from error
    except (OSError, UnicodeDecodeError) as error:
        raise PlanError(str(path), [PlanProblem(1, f"cannot be read as UTF-8 text: {error}")]) from error
    raw = parsed(text, str(path))
    found = places.lines(text)
    problems = list(unknown(raw, SuitePlan, (), found))
    if not problems:
        try:
            return msgspec.convert(raw, SuitePlan), found
        except msgspec.ValidationError as error:
            problems = [explain(error, raw, found)]
    raise PlanError(str(path), problems)
