"""Pieces of a plan as text: paths that read well, tables of steps and rules, empty lines between tables."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeGuard

import msgspec
import tomlkit
import tomlkit.exceptions
from tomlkit.items import Item, Table

from yendo import texts
from yendo.errors import Usage
from yendo.plan import Rule
from yendo.platforms.windows import paths


def plan_of(path: Path) -> tuple[tomlkit.TOMLDocument, str]:
    """A plan that is to be written again with its comments, and its text. Raises Usage."""
    try:
        text = path.read_text("utf-8")
        return tomlkit.parse(text), text
    except FileNotFoundError as error:
        raise Usage(f"{path} is not there; yendo draft starts a plan") from error
    except (OSError, UnicodeDecodeError, tomlkit.exceptions.TOMLKitError) as error:
        raise Usage(f"{path} cannot be read: {error}") from error


def literal(text: str) -> tomlkit.items.String:
    """A Windows path reads best without doubled backslashes."""
    return tomlkit.string(text, literal=paths.SEPARATOR in text and not re.search(r"['\x00-\x1f\x7f]", text))


def remark(text: str) -> str:
    """A text as it may stand behind a ``#``: an installer's own words may hold line ends and control characters."""
    return texts.one_line(text).strip()


def remarked(table: Table | tomlkit.TOMLDocument, key: str, text: str) -> None:
    """Puts a comment behind a value."""
    item = table.item(key)
    assert isinstance(item, Item)  # a table that is out of order is no value
    item.comment(remark(text))


def value(given: Any) -> Any:
    """A value of a table, texts as :func:`literal` writes them."""
    if isinstance(given, Mapping) and len(given) > MANY and all(isinstance(one, str | int) for one in given.values()):
        return _long(given)
    return literal(given) if isinstance(given, str) else given


MANY = 100


def _long(given: Mapping[str, str | int]) -> Table:
    """A table of very many values: the library looks through all keys for each that is added, but not when it reads."""
    lines = [f"{literal(key).as_string()} = {tomlkit.item(one).as_string()}\n" for key, one in given.items()]
    made = tomlkit.parse("[long]\n" + "".join(lines))["long"]
    assert isinstance(made, Table)
    return made


def table(values: Mapping[str, Any]) -> Table:
    """Values as a table of a plan."""
    made = tomlkit.table()
    for key, given in values.items():
        made.add(key, value(given))
    return made


def spaced(text: str) -> str:
    """A plan's text with an empty line before every table."""
    return re.sub(r"([^\n])\n(\[)", r"\1\n\n\2", text)


def part(document: Mapping[str, Any], name: str) -> Any:
    """A part of a document. The library says of it only that it is one; here are tables, lists of tables and values."""
    return document[name]


def array(*tables: Table) -> tomlkit.items.AoT:
    array = tomlkit.aot()
    for table in tables:
        array.append(table)
    return array


def rules_of(rules: list[Rule]) -> tomlkit.items.AoT:
    return array(*(table(msgspec.to_builtins(rule)) for rule in rules))


def are_rules(given: object) -> TypeGuard[list[Mapping[str, Any]]]:
    """Whether a value is a list of tables, which are written as :func:`inline` does."""
    return isinstance(given, list) and bool(given) and all(isinstance(one, Mapping) for one in given)


def entry(values: Mapping[str, Any]) -> tomlkit.items.InlineTable:
    """Values as a table within a line."""
    made = tomlkit.inline_table()
    made.update({key: value(given) for key, given in values.items()})
    return made


def inline(*rules: Mapping[str, Any]) -> tomlkit.items.Array:
    """Rules within a table, a line each."""
    array = tomlkit.array()
    for rule in rules:
        array.append(entry(rule))
    return array.multiline(True)
