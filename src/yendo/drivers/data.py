"""The tables of this room."""

from __future__ import annotations

from functools import cache

import msgspec


class SetupClass(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``start`` is what of a start-up image needs it: ``storage``, ``network``, ``bus``, or nothing."""

    name: str
    words: str
    start: str = ""


@cache
def classes() -> dict[str, SetupClass]:
    """Setup classes by their identifiers, in small letters and without brackets."""
    import tomllib
    from importlib.resources import files

    raw = tomllib.loads(files("yendo.drivers").joinpath("classes.toml").read_text("utf-8"))
    return msgspec.convert(raw, dict[str, SetupClass])
