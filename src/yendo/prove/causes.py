"""Why something failed: a base of causes, each with what betrays it, and the search for the likeliest.

A cause is betrayed by an exit code, by a line of a log or of what the runner said, by the action of the installer that
failed, or by an examination of the package's own files (``examine``). What is specific counts more than what is
general: an examination that found something before a line, a line before an action, an action before a code.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from importlib.resources import files

import msgspec

from yendo.terms.events import Event

EXAMINED, LINE, ACTION, CODE, VAGUE = 8, 5, 3, 2, 1


class Cause(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``words`` say what is the matter, ``advice`` what to try. ``lines`` and ``actions`` are expressions, without
    regard to case.

    ``vague`` codes are those that many causes share, as 1603. ``events`` are the runner's own, by name, each with an
    expression that its sentence matches (empty: any); ``lines`` are for what vendors and the system say.
    """

    id: str
    words: str
    advice: str
    codes: tuple[int, ...] = ()
    vague: tuple[int, ...] = ()
    events: dict[str, str] = {}
    lines: tuple[str, ...] = ()
    actions: tuple[str, ...] = ()


class FoundCause(msgspec.Struct, frozen=True):
    """A cause, the line that betrays it, and how strongly."""

    cause: Cause
    evidence: str
    weight: int


class Failure(msgspec.Struct, frozen=True):
    """What is known of a run that failed.

    ``code`` None is a run that was stopped; ``said`` are the lines that were printed, ``log`` the installer's,
    ``action`` the one that failed in it; ``examined`` pairs a cause's id with what an examination found; ``events`` are
    what the runner told.
    """

    code: int | None
    said: tuple[str, ...] = ()
    log: tuple[str, ...] = ()
    action: str | None = None
    examined: tuple[tuple[str, str], ...] = ()
    events: tuple[Event, ...] = ()


@cache
def causes() -> tuple[Cause, ...]:
    """The base, from ``causes.toml`` beside this module."""
    raw = tomllib.loads(files("yendo.prove").joinpath("causes.toml").read_text("utf-8"))
    return tuple(msgspec.convert(raw["cause"], list[Cause]))


_GENERAL = ("installer-error", "product-exit", "step-input")  # they say that it failed rather than why


def signed(code: int) -> int:
    """An exit code as the tables have it: NTSTATUS values without a sign, results of 32 bits with theirs."""
    return code + (1 << 32) if code < 0 and (code & 0xF0000000) == 0xC0000000 else code


def of_code(code: int) -> tuple[str, str]:
    """The usual cause of an exit code and what to try; empty where it has no meaning of its own."""
    found = diagnose(Failure(code))
    return (found[0].cause.words, found[0].cause.advice) if found else ("", "")


def diagnose(failure: Failure) -> list[FoundCause]:
    """Every cause that something betrays, the likeliest first."""
    found: dict[str, FoundCause] = {}
    by_id = {cause.id: cause for cause in causes()}

    def add(cause: Cause, evidence: str, weight: int) -> None:
        known = found.get(cause.id)
        if known is None or weight > known.weight:
            found[cause.id] = FoundCause(cause, evidence, weight + (1 if known else 0))
        elif known.weight < EXAMINED:
            found[cause.id] = msgspec.structs.replace(known, weight=known.weight + 1)

    for identifier, evidence in failure.examined:
        add(by_id[identifier], evidence, EXAMINED)
    for cause in causes():
        if failure.code is not None and signed(failure.code) in cause.codes:
            add(cause, f"exit code {failure.code}", CODE)
        elif failure.code is not None and (failure.code in cause.vague or signed(failure.code) in cause.vague):
            add(cause, f"exit code {failure.code}", VAGUE)
        if failure.action and any(re.fullmatch(f"(?:{expression})", failure.action) for expression in cause.actions):
            add(cause, f"the action {failure.action} failed", ACTION)
        line = _told(failure.events, cause.events) or _first([*failure.said, *failure.log], cause.lines)
        if line:
            add(cause, line, VAGUE if cause.id in _GENERAL else LINE)
    return sorted(found.values(), key=lambda one: (-one.weight, one.cause.id in _GENERAL))


def _told(told: Sequence[Event], wanted: Mapping[str, str]) -> str:
    """The sentence of the last event that a cause names."""
    return next(
        (
            event.text
            for event in reversed(told)
            if event.name() in wanted and re.search(wanted[event.name()], event.text, re.I)
        ),
        "",
    )


def _first(lines: Iterable[str], expressions: Sequence[str]) -> str:
    """The last line that an expression matches: what came last is nearest to the failure."""
    if not expressions:
        return ""
    wanted = re.compile("|".join(f"(?:{expression})" for expression in expressions), re.I)
    return next((line.strip() for line in reversed(list(lines)) if wanted.search(line)), "")
