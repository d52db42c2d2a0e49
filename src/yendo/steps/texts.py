"""Texts of configuration files, changed in place: everything that is not meant stays as it is, to
the last character.
"""

from __future__ import annotations

import re

ENCODINGS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"))


def decode(data: bytes) -> tuple[str, str]:
    """A file's text and its encoding: by its mark, else UTF-8 where it fits, else the western code page."""
    for mark, encoding in ENCODINGS:
        if data.startswith(mark):
            return data.decode(encoding), encoding
    try:
        return data.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace"), "cp1252"


def encode(text: str, encoding: str) -> bytes:
    """The text as it was encoded. Raises ValueError where a character has no place in it."""
    return b"\xff\xfe" + text.encode("utf-16-le") if encoding == "utf-16" else text.encode(encoding)


def newline(text: str) -> str:
    """How the lines of a text end; as Windows has it where there is none."""
    return "\r\n" if "\r\n" in text or "\n" not in text else "\n"


def _section(lines: list[str], section: str) -> tuple[int, int] | None:
    """First line below a section's head, and the line behind its last."""
    first = None
    for at, line in enumerate(lines):
        match = re.match(r"\s*\[([^\]]*)\]", line)
        if match:
            if first is not None:
                return first, at
            if match[1].strip().lower() == section.lower():
                first = at + 1
    return None if first is None else (first, len(lines))


def ini(text: str, section: str, key: str, value: str | None) -> str:
    """An ini text with one key set, or taken out where ``value`` is None."""
    end = newline(text)
    lines = text.split(end)
    found = _section(lines, section)
    if found is None:
        if value is None:
            return text
        body = lines[:-1] if lines and lines[-1] == "" else lines
        return end.join([*body, f"[{section}]", f"{key}={value}", ""])
    first, last = found
    for at in range(first, last):
        name, mark, _ = lines[at].partition("=")
        if mark and name.strip().lower() == key.lower():
            if value is None:
                del lines[at]
            else:
                space = " " if lines[at].startswith(name.rstrip() + " =") else ""
                lines[at] = f"{name.rstrip()}{space}={space}{value}"
            return end.join(lines)
    if value is None:
        return text
    while last > first and lines[last - 1].strip() == "":
        last -= 1
    lines.insert(last, f"{key}={value}")
    if last == len(lines) - 1:
        lines.append("")
    return end.join(lines)


def ini_get(text: str, section: str, key: str) -> str | None:
    """A key's value, or None."""
    lines = text.split(newline(text))
    found = _section(lines, section)
    for at in range(*found) if found else ():
        name, mark, value = lines[at].partition("=")
        if mark and name.strip().lower() == key.lower():
            return value.strip()
    return None


def line(text: str, wanted: str, like: str | None) -> str:
    """A text that holds a line: in the place of each that the pattern ``like`` finds, else at its end."""
    end = newline(text)
    lines = text.split(end)
    hits = [at for at, old in enumerate(lines) if (re.search(like, old) if like else old == wanted)]
    if hits:
        for at in hits:
            lines[at] = wanted
        return end.join(lines)
    return text + ("" if not text or text.endswith(end) else end) + wanted + end
