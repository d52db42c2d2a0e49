"""Texts as fields of a line between tabs: ``%`` and control characters stand as ``%25``, ``%09``, ..."""

from __future__ import annotations

import re


def escape(text: str) -> str:
    """A text as a field."""
    return re.sub(r"[%\x00-\x1f]", lambda match: f"%{ord(match[0]):02X}", text)


def unescape(text: str) -> str:
    """A field's text."""
    return re.sub(r"%([0-9A-F]{2})", lambda match: chr(int(match[1], 16)), text) if "%" in text else text
