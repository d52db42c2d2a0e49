"""Where each value of a TOML file stands, which TOML libraries do not tell."""

from __future__ import annotations

import contextlib
import re
import tomllib

from yendo.platforms.windows import paths

Path = tuple[str | int, ...]

_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(
    r"""^\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*=\s*(.*)$"""
)
_MULTI = ('"""', "'''")


def _parts(text: str) -> list[str]:
    return [_plain(part.strip()) for part in re.findall(r'"[^"]*"|\'[^\']*\'|[^.]+', text)]


def _plain(part: str) -> str:
    """A key without its quotes, as the table has it."""
    if part.startswith('"') and paths.SEPARATOR in part:
        with contextlib.suppress(tomllib.TOMLDecodeError):
            return str(tomllib.loads(f"key = {part}")["key"])
    return part.strip("\"'")


def lines(text: str) -> dict[Path, int]:
    """Line numbers, from 1, of tables and keys: ``("install", 0, "timeout")`` -> 17."""
    found: dict[Path, int] = {}
    counts: dict[Path, int] = {}
    table: Path = ()
    until: str | None = None
    for number, line in enumerate(text.splitlines(), 1):
        if until:
            if until in line:
                until = None
            continue
        if match := _HEADER.match(line):
            path = _indexed(_parts(match[2]), counts, last_too=match[1] == "[")
            if match[1] == "[[":
                at = counts.get(path, -1) + 1
                counts[path] = at
                found.setdefault(path, number)
                table = (*path, at)
            else:
                table = path
            found.setdefault(table, number)
        elif match := _KEY.match(line):
            at_key = (*table, *_parts(match[1]))
            found.setdefault(at_key, number)
            for inner in re.finditer(r"[{,]\s*([A-Za-z0-9_-]+|\"[^\"]*\")\s*=", match[2]):
                found.setdefault((*at_key, inner[1].strip('"')), number)
            for mark in _MULTI:
                if match[2].count(mark) % 2:
                    until = mark
    return found


def _indexed(parts: list[str], counts: dict[Path, int], *, last_too: bool) -> Path:
    """A header's path with the position of the latest element after each array it passes through."""
    path: Path = ()
    for at, part in enumerate(parts):
        path = (*path, part)
        if path in counts and (last_too or at < len(parts) - 1):
            path = (*path, counts[path])
    return path


def nearest(found: dict[Path, int], path: Path) -> int:
    """The line of a path, or of what it lies in; 1 where nothing fits."""
    for length in range(len(path), 0, -1):
        if path[:length] in found:
            return found[path[:length]]
    return 1
