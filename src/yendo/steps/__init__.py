"""Kinds of steps, one module each; found by name, so that adding one is adding a module and its script fragment."""

from __future__ import annotations

import importlib
import pkgutil
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any, Union

from yendo.steps.base import Action, At, Kind, Result, Step

_ROOMS = ("base", "host", "ledger", "transforms", "texts", "json_text")


def _found() -> dict[str, Kind]:
    kinds: dict[str, Kind] = {}
    for module in pkgutil.iter_modules(__path__):
        if module.name not in _ROOMS:
            kind: Kind = importlib.import_module(f"yendo.steps.{module.name}").KIND
            kinds[kind.name] = kind
    return kinds


KINDS: dict[str, Kind] = _found()
AnyStep: Any = Step if TYPE_CHECKING else Union[tuple(kind.step for kind in KINDS.values())]  # noqa: UP007


def kind_of(step: Step) -> Kind:
    """The kind of a step."""
    return KINDS[str(step.__struct_config__.tag)]


@cache
def fragment(name: str) -> str:
    """The part of the runner that carries a kind out: a function ``Step-NAME``, as text."""
    return files("yendo.steps").joinpath(f"{name.replace('-', '_')}.ps1").read_text("utf-8")


__all__ = ["KINDS", "Action", "AnyStep", "At", "Kind", "Result", "Step", "fragment", "kind_of"]
