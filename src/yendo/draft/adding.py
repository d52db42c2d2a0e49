"""Putting a step, a rule, a need, a setting or a medium into a plan whose comments stay, with what it brings along."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import AoT, Table

from yendo import atomic, digest
from yendo.draft import draft, materials, proposing, writing
from yendo.errors import Usage
from yendo.plan import PlanError, places
from yendo.plan.reading import read_text
from yendo.platforms.windows import paths

# Keys whose value is a file or folder below extras/, and those that name a medium.
_EXTRAS = ("from", "run", "import", "cabinet", "source", "icon")
_MEDIA = ("media", "patch")


_LIMIT = "10 min"


class Added(msgspec.Struct, frozen=True):
    """What was written: the line it stands on (from 1), its text, and the files that came along."""

    line: int
    text: str
    brought: tuple[str, ...] = ()


def step(workspace: Path, verb: str, kind: str, values: Mapping[str, Any], at: int | None = None) -> Added:
    """A step of a verb, as the ``at``-th (from 1), else as the last; with a limit of time, where none is given. Raises
    Usage.
    """
    return _put(workspace, verb, {"kind": kind, **values, "timeout": values.get("timeout", _LIMIT)}, at)


def change(workspace: Path, kind: str, values: Mapping[str, Any], number: int | None = None) -> Added:
    """What a database should do otherwise, in the ``number``-th install step (from 1), else in the only one that runs a
    database. Raises Usage.
    """
    document = writing.plan_of(workspace / "plan.toml")[0]
    steps = list(document.get("install", []))
    databases = [at for at, one in enumerate(steps, 1) if one.get("kind") == "msi" and one.get("media")]
    if number is None and len(databases) != 1:
        raise Usage("the plan runs no database" if not databases else f"say with --step which: {databases}")
    at = number or databases[0]
    if at not in databases:
        raise Usage(f"step {at} runs no database; those that do: {databases}")
    table = _table({"kind": kind, **values})
    holder = steps[at - 1]
    known = holder.get("change")
    if known is None:
        holder.add("change", writing.array(table))
    else:
        known.append(table)
    shown = tomlkit.document()
    shown["install"] = {"change": writing.array(_table({"kind": kind, **values}))}
    place = len(holder["change"]) - 1
    return _written(workspace, document, ("install", at - 1, "change", place), tomlkit.dumps(shown))


def captured(workspace: Path, key: str, values: Mapping[str, Any]) -> Added:
    """What is to become of things that were captured: ``leave``, ``keep`` or ``change``. Raises Usage."""
    document = writing.plan_of(workspace / "plan.toml")[0]
    steps = list(document.get("install", []))
    at = next((at for at, one in enumerate(steps) if one.get("kind") == "captured"), None)
    if at is None:
        raise Usage(f"the plan brings nothing that was captured; yendo capture {workspace} SETUP makes it")
    table = _table(values)
    known = steps[at].get(key)
    if known is None:
        steps[at].add(key, writing.array(table))
    else:
        known.append(table)
    shown = tomlkit.document()
    shown["install"] = {key: writing.array(_table(values))}
    place = len(steps[at][key]) - 1
    return _written(workspace, document, ("install", at, key, place), tomlkit.dumps(shown))


def rule(workspace: Path, kind: str, values: Mapping[str, Any]) -> Added:
    """A rule of detection. Raises Usage."""
    return _put(workspace, "detect", {"kind": kind, **values}, None)


def need(workspace: Path, values: Mapping[str, Any]) -> Added:
    """What must be there before the first step. Raises Usage."""
    return _put(workspace, "need", values, None)


def setting(workspace: Path, name: str, values: Mapping[str, Any]) -> Added:
    """A value that is chosen when the package is delivered. Raises Usage."""
    document = writing.plan_of(workspace / "plan.toml")[0]
    known = document.setdefault("settings", tomlkit.table(is_super_table=True))
    if name in known:
        raise Usage(f"{workspace / 'plan.toml'} has a setting {name} already")
    table = _table(values)
    known.add(name, table)
    shown = tomlkit.document()
    shown["settings"] = {name: table}
    return _written(workspace, document, ("settings", name), tomlkit.dumps(shown))


def media(workspace: Path, files: Sequence[Path]) -> Added:
    """Vendor's files with their hashes, copied as they came. Raises Usage."""
    document = writing.plan_of(workspace / "plan.toml")[0]
    brought = [_medium(workspace, document, path) for path in files]
    shown = tomlkit.document()
    entries = document["media"]
    assert isinstance(entries, AoT)
    new = [entry for entry in entries if entry["file"] in brought]
    shown["media"] = writing.array(*new)
    at = len(entries) - len(new)
    return _written(
        workspace, document, ("media", at), tomlkit.dumps(shown), tuple(f"media/{name}" for name in brought)
    )


def _put(workspace: Path, name: str, values: Mapping[str, Any], at: int | None) -> Added:
    document = writing.plan_of(workspace / "plan.toml")[0]
    brought: list[str] = []
    given = {key: _along(workspace, document, key, value, brought) for key, value in values.items()}
    table = _table(given)
    array = document.get(name)
    if array is None:
        document.add(name, array := tomlkit.aot())
    if not isinstance(array, AoT):
        raise Usage(f"{workspace / 'plan.toml'}: {name} is no list of tables; write [[{name}]]")
    place = len(array) if at is None else at - 1
    if not 0 <= place <= len(array):
        raise Usage(f"--at {at}: there are {len(array)}, so it is from 1 to {len(array) + 1}")
    tables = list(array)
    document[name] = writing.array(*tables[:place], table, *tables[place:])
    shown = tomlkit.document()
    shown[name] = writing.array(_table(given))
    return _written(workspace, document, (name, place), tomlkit.dumps(shown), tuple(brought))


def _table(values: Mapping[str, Any]) -> Table:
    """Values as a table: rules a line each, mappings within the line."""
    table = tomlkit.table()
    for key, value in values.items():
        if writing.are_rules(value):
            table.add(key, writing.inline(*value))
        elif isinstance(value, Mapping):
            table.add(key, writing.entry(value))
        else:
            table.add(key, writing.value(value))
    return table


def _along(workspace: Path, document: tomlkit.TOMLDocument, key: str, value: Any, brought: list[str]) -> Any:
    """A value whose file lies elsewhere comes along, and is named by its place in the workspace."""
    if not isinstance(value, str):
        return value
    path = Path(value)
    if key in _MEDIA and not (workspace / "media" / value).exists() and path.is_file():
        name = _medium(workspace, document, path)
        brought.append(f"media/{name}")
        return name
    if key not in _EXTRAS or paths.portable(value).startswith("extras/") or not path.exists():
        return value
    if path.is_symlink():
        raise Usage(f"{path} is a link, and is not taken along; name the file itself")
    materials.guard(workspace, [path])
    target = workspace / "extras" / path.name
    if target.exists() and not _same(path, target):
        raise Usage(f"{target} is there already and is another; rename one of them")
    found = {path.name: path} if path.is_file() else materials.named(path, materials.below(path)[0])
    for name, one in found.items():
        draft.copy_media(one, workspace / "extras" / name)
    brought.append(f"extras/{path.name}")
    return f"extras/{path.name}"


def _same(one: Path, other: Path) -> bool:
    if one.is_dir() or other.is_dir():
        return one.is_dir() and other.is_dir()
    return digest.of_file(one) == digest.of_file(other)


def _medium(workspace: Path, document: tomlkit.TOMLDocument, path: Path) -> str:
    """Copies a vendor's file and lists it; its name. Raises Usage."""
    if not path.is_file() or path.is_symlink():
        raise Usage(f"{path} is {'a link' if path.is_symlink() else 'no file'}; name the vendor's file itself")
    entries = document.get("media")
    if entries is None:
        document.add("media", entries := tomlkit.aot())
    known = {str(entry["file"]).lower(): str(entry["sha256"]) for entry in entries}
    sha256 = digest.of_file(path)
    if known.get(path.name.lower(), sha256) != sha256:
        raise Usage(f"the plan has another file {path.name} already; a new release is taken over by yendo renew")
    draft.copy_media(path, workspace / "media" / path.name)
    if path.name.lower() not in known:
        entries.append(proposing.medium(path.name, sha256, path.stat().st_size))
    return path.name


def _written(
    workspace: Path, document: tomlkit.TOMLDocument, where: places.Path, shown: str, brought: tuple[str, ...] = ()
) -> Added:
    """Writes the plan where it can be read then. Raises Usage in the words of the mistake."""
    path = workspace / "plan.toml"
    text = re.sub(r"\n{3,}(?=\[)", "\n\n", writing.spaced(tomlkit.dumps(document)))
    try:
        _, lines = read_text(text, str(path), workspace)
    except PlanError as error:
        raise Usage("; ".join(problem.message for problem in error.problems)) from error
    atomic.write(path, text.encode())
    return Added(places.nearest(lines, where), writing.spaced(shown).strip() + "\n", brought)
