"""Where each value of a plan comes from: a line of it, a line of the house, or what is usual."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from yendo.facts import secrets
from yendo.plan import places
from yendo.plan.house import HouseLine
from yendo.plan.model import Plan

USUAL = "usual"


class ValueOrigin(msgspec.Struct, frozen=True):
    """One value: its place as a person writes it, the value as text, where it is from, and the evidence that a draft
    had for it.
    """

    place: str
    value: str
    source: str
    why: str = ""


def origins(plan: Plan, lines: Mapping[places.Path, int], why: Mapping[str, Any] = {}) -> list[ValueOrigin]:
    """Every value of a plan. ``why`` are the reasons of a draft, by their names in an account: ``identity.version``."""
    data = msgspec.to_builtins(msgspec.structs.replace(plan, furnished=None))
    usual = {
        field.encode_name: field.default
        for field in msgspec.structs.fields(Plan)
        if field.default is not msgspec.NODEFAULT
    }
    for name, default in usual.items():
        if name not in data and isinstance(default, str):
            data[name] = default
    found = []
    for path, value in _leaves(data, ()):
        line = lines.get(
            path,
            next(
                (
                    lines[path[:end]]
                    for end in range(len(path) - 1, 1, -1)
                    if path[:end] in lines and isinstance(value, list)
                ),
                None,
            ),
        )
        source = (
            USUAL
            if line is None
            else f"{line.file}:{int(line)}"
            if isinstance(line, HouseLine)
            else f"plan.toml:{line}"
        )
        place = ".".join(str(part + 1) if isinstance(part, int) else part for part in path)
        reason = why.get(f"identity.{path[-1]}", {}) if path[0] == "package" else {}
        hidden = secrets.is_secret(str(path[-1])) and isinstance(value, str)
        found.append(
            ValueOrigin(
                place,
                "****" if hidden and value else _said(value),
                source,
                str(reason.get("where", "")) if isinstance(reason, dict) else "",
            )
        )
    return found + list(_standing(plan))


def _standing(plan: Plan) -> Iterator[ValueOrigin]:
    """The steps that stand in no plan, and are in the package all the same."""
    furnished = plan.furnished
    for where, verb, at, step in furnished.house.standing() if furnished else ():
        place = f"{where}.{verb}.{at + 1}"
        yield ValueOrigin(
            place, str(step.__struct_config__.tag), f"{furnished.file.name}:{furnished.given[place]}", step.note
        )


def _leaves(data: Any, path: places.Path) -> Iterator[tuple[places.Path, Any]]:
    if isinstance(data, dict) and data:
        for key, value in data.items():
            yield from _leaves(value, (*path, key))
    elif isinstance(data, list | tuple) and data and all(isinstance(item, dict) for item in data):
        for at, item in enumerate(data):
            yield from _leaves(item, (*path, at))
    elif data not in ({}, [], ()):
        yield path, list(data) if isinstance(data, tuple) else data


def _said(value: Any) -> str:
    return (
        ", ".join(map(str, value))
        if isinstance(value, list)
        else {True: "true", False: "false"}.get(value, str(value))
        if isinstance(value, bool)
        else str(value)
    )
