"""What the platform itself writes: left out of every observation.

The list is data, made from control runs without a package (``tools/control_runs.py``); each entry
names its runs.
"""

from __future__ import annotations

import json
import re
from functools import cache
from importlib.resources import files

import msgspec

from yendo.effects.things import Thing
from yendo.machines.noise import Patterns


class LayerNoise(msgspec.Struct, frozen=True):
    """``identity`` is a thing's identity with ``*`` for what changes from run to run."""

    kind: str
    identity: str
    runs: tuple[str, ...]


@cache
def entries() -> tuple[LayerNoise, ...]:
    source = files("yendo.machines.wine").joinpath("noise.json")
    if not source.is_file():
        return ()
    return tuple(msgspec.convert(json.loads(source.read_text("utf-8"))["entries"], list[LayerNoise]))


@cache
def _patterns() -> Patterns[LayerNoise]:
    return Patterns(entries())


def reason(thing: Thing) -> LayerNoise | None:
    """The entry that explains a thing as the platform's own, or None."""
    return _patterns().naming(thing)


_VOLATILE = (
    (re.compile(r"\{[0-9a-f]{8}-[0-9a-f-]{27}\}"), "*"),
    (re.compile(r"(?<![0-9a-f])[0-9a-f]{32}(?![0-9a-f])"), "*"),
    (re.compile(r"s-1-5-21-[0-9-]+"), "s-1-5-21-*"),
    (re.compile(r"(?<=\\installer\\)[0-9a-f]{1,8}\.ms[itp]"), "*"),
    (re.compile(r"(?<=\\installproperties!).*"), "*"),  # which of its values there are depends on the product
    (re.compile(r"(?<=\\sourcelist\\)(media|net)!.*"), r"\1!*"),
    (re.compile(r"(\\installer\\products\\\*)!.*"), r"\1!*"),
)


def generalise(identity: str) -> str:
    """An identity with product codes, account numbers and random names replaced by ``*``."""
    for pattern, mark in _VOLATILE:
        identity = pattern.sub(mark, identity)
    return identity
