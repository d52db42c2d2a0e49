"""The suite file as types, and reading it with every mistake at its line."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from msgspec import Meta

from yendo.plan import places
from yendo.plan.reading import read_as, text_of
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
    missing = (
        "there is no suite here; write one: [suite] with id, name and version, and a [[product]] for each workspace"
    )
    return read_as(text_of(path, missing), str(path), SuitePlan)
