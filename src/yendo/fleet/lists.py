"""Lists of computers from elsewhere: a table with the column computer, or an export of a directory (LDIF, RFC 2849)."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from pathlib import Path

from yendo.errors import Unreadable
from yendo.fleet.incoming import named_rows
from yendo.walk import text_in

_NAMES = ("cn", "name", "dnshostname", "samaccountname")  # what a directory calls a computer, the first that is there


def computers_in(path: Path) -> tuple[str, ...]:
    """The computers of a list, each once, in its order. Raises Unreadable."""
    directory = path.suffix.lower() in (".ldif", ".ldf")
    return tuple(dict.fromkeys(_of_directory(text_in(path), path.name) if directory else _of_table(path)))


def _of_table(path: Path) -> Iterator[str]:
    for row in named_rows(path):
        if "computer" not in row:
            raise Unreadable(f"{path.name} has no column computer; it has {', '.join(row) or 'none'}")
        if row["computer"]:
            yield row["computer"]


def _of_directory(text: str, name: str) -> Iterator[str]:
    """The names of the entries that are computers; one without classes counts, since an export may leave them out."""
    for entry in _entries(text, name):
        classes = [value.lower() for value in entry.get("objectclass", [])]
        if classes and not {"computer", "device", "iphost"} & set(classes):
            continue
        for attribute in _NAMES:
            if values := entry.get(attribute):
                yield values[0].split(".")[0] if attribute == "dnshostname" else values[0].rstrip("$")
                break


def _entries(text: str, name: str) -> Iterator[dict[str, list[str]]]:
    entry: dict[str, list[str]] = {}
    # a line that begins with a space goes on with the one before
    for number, line in enumerate([*text.replace("\r\n", "\n").replace("\n ", "").split("\n"), ""], 1):
        if line.startswith("#"):
            continue
        if not line.strip():
            if "dn" in entry:
                yield entry
            entry = {}
            continue
        attribute, colon, value = line.partition(":")
        if not colon:
            raise Unreadable(f"{name}, entry at line {number}: this is no LDIF: {line[:60]}")
        if value.startswith(":"):
            try:
                value = base64.b64decode(value[1:].strip(), validate=True).decode("utf-8", "replace")
            except ValueError as error:  # what is no base 64 is one, too
                raise Unreadable(f"{name}, entry at line {number}: {attribute} is no base 64: {error}") from error
        elif value.startswith("<"):
            continue  # the value is elsewhere; nothing is fetched
        entry.setdefault(attribute.partition(";")[0].strip().lower(), []).append(value.strip())
