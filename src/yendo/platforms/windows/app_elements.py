"""The elements of an app package's manifest that Yendo writes or knows the age of: their namespaces, and the build of
Windows that understands them first; and its folders that stand for the system's (``app_elements.toml``).
"""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

import msgspec


class AppElements(msgspec.Struct, frozen=True):
    """``namespace`` by prefix, ``build`` by element or attribute with its prefix, ``folder`` of a package by the place
    that it stands for.
    """

    namespace: dict[str, str]
    build: dict[str, int]
    folder: dict[str, str]


@cache
def elements() -> AppElements:
    """The table."""
    text = files("yendo.platforms.windows").joinpath("app_elements.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text), AppElements)
