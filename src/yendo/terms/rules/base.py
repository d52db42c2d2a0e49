"""What every rule has: a title, a judgement, its data for the scripts, what makes it hold, and its form in OVAL."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Literal

import msgspec

from yendo.effects import State
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.platforms.windows.surroundings import expand
from yendo.terms.amounts import Written

RuleView = Literal["64", "32"]


class Sight(msgspec.Struct):
    """A machine as rules see it: its things, its variables, and what only a machine at hand can tell.

    ``running`` tells whether a program runs, by its name without ``.exe``; ``script`` runs a PowerShell text there and
    tells whether it ends with "yes"; ``read`` gives a file's content. Where they are None nobody can tell.
    """

    state: State
    environment: Mapping[str, str]
    running: Callable[[str], bool] | None = None
    script: Callable[[str], bool] | None = None
    read: Callable[[str], bytes | None] | None = None

    def expand(self, text: str) -> str:
        return expand(text, self.environment)


class Field(msgspec.Struct, frozen=True):
    """One element of an OVAL object or state. ``variable`` is a part of a name that is only known on the machine."""

    name: str
    value: str | None
    operation: str = "equals"
    datatype: str = "string"
    variable: OvalTest | None = None  # the value is that of a field of the items of another test's object
    of_variable: str = ""


class OvalTest(msgspec.Struct, frozen=True):
    """An OVAL test as data: its kind, its object's and its states' elements. ``none`` asks that nothing is found."""

    kind: str
    object: tuple[Field, ...]
    states: tuple[tuple[Field, ...], ...] = ()
    view: str = ""
    none: bool = False
    keep: tuple[Field, ...] = ()  # only items like this belong to the object


class Criteria(msgspec.Struct, frozen=True):
    """Tests and groups of them, joined by AND or OR, negated or not."""

    operator: Literal["AND", "OR"]
    parts: tuple[OvalTest | Criteria, ...]
    negate: bool = False


class BaseRule(Written, tag_field="kind", frozen=True, kw_only=True):
    """A question to the state of a machine."""

    note: str = ""

    def __post_init__(self) -> None:
        version = getattr(self, "version", None)
        if version:
            VersionRange.parse(version)

    @property
    def kind(self) -> str:
        return str(self.__struct_config__.tag)

    @property
    def inner(self) -> tuple[BaseRule, ...]:
        """The rules of a group."""
        return ()

    def flat(self) -> Iterator[BaseRule]:
        """This rule and all within it."""
        yield self
        for rule in self.inner:
            yield from rule.flat()

    @property
    def title(self) -> str:
        """The rule in one line."""
        raise NotImplementedError

    def judge(self, sight: Sight) -> tuple[bool, str]:
        """Whether it holds, and the fact that made it so. Raises NotCovered where this sight cannot tell."""
        raise NotImplementedError

    def data(self) -> dict[str, object]:
        """What its part of the scripts needs, beside kind and title."""
        raise NotImplementedError

    def fulfil(self, sight: Sight) -> None:
        """Adds to the state what makes it hold. Raises NotCovered."""
        raise NotCovered(f"what makes “{self.title}” hold cannot be made up")

    def oval(self) -> Criteria | OvalTest:
        """Its form in OVAL 5.11. Raises NotCovered where there is none."""
        raise NotCovered(f"OVAL has no test for “{self.title}”")


def fits(text: str | None, wanted: str | None) -> bool:
    """Whether a version is in a range. A version that is none satisfies no range."""
    return not wanted or VersionRange.parse(wanted).fits(text)


def bounds(text: str | None) -> list[dict[str, str]]:
    """A range as data."""
    return [{"sign": sign, "version": str(bound)} for sign, bound in VersionRange.parse(text).bounds] if text else []


_SIGNS = {
    ">=": "greater than or equal",
    "<=": "less than or equal",
    ">": "greater than",
    "<": "less than",
    "==": "equals",
}


def version_states(name: str, text: str | None) -> tuple[tuple[Field, ...], ...]:
    """A range as states, one a bound."""
    if not text:
        return ()
    return tuple((Field(name, str(bound), _SIGNS[sign], "version"),) for sign, bound in VersionRange.parse(text).bounds)


def number_states(name: str, text: str) -> tuple[tuple[Field, ...], ...]:
    """A range of whole numbers as states."""
    return tuple((Field(name, str(bound), _SIGNS[sign], "int"),) for sign, bound in numbers(text))


_NUMBER = re.compile(r"\s*(>=|<=|==|=|>|<)?\s*(-?\d+)\s*$")


def numbers(text: str) -> list[tuple[str, int]]:
    """``">=3, <10"`` as signs and numbers. Raises ValueError."""
    found = []
    for part in text.split(","):
        match = _NUMBER.match(part)
        if not match:
            raise ValueError(f"{part.strip()!r} is no bound of a number; write >=5 or >=5, <10 or ==5")
        found.append(("==" if match[1] in (None, "=") else match[1], int(match[2])))
    return found


def number_fits(number: int, text: str) -> bool:
    return all(
        {">=": number >= at, "<=": number <= at, ">": number > at, "<": number < at, "==": number == at}[sign]
        for sign, at in numbers(text)
    )


def within(wanted: str | None) -> str | None:
    """A version within the range: its first bound that includes one. Raises NotCovered."""
    if not wanted:
        return None
    for sign, bound in VersionRange.parse(wanted).bounds:
        if sign in (">=", "<=", "=="):
            return str(bound)
    raise NotCovered(f"no version that satisfies {wanted!r} can be made up; name one with >= or ==")


def pattern(text: str) -> re.Pattern[str]:
    """A name with ``*`` and ``?`` as an expression, without regard to case."""
    return re.compile(
        "".join(".*" if part == "*" else "." if part == "?" else re.escape(part) for part in re.split(r"([*?])", text)),
        re.I | re.S,
    )


def exact_pattern(text: str) -> str:
    """The same as an expression in the dialect that PCRE and .NET share."""
    plain = "".join(
        ".*" if part == "*" else "." if part == "?" else re.sub(r"([\\^$.|?*+()\[\]{}])", r"\\\1", part)
        for part in re.split(r"([*?])", text)
    )
    return f"^{plain}$"


def selective(text: str) -> None:
    """Raises ValueError for a pattern that would match nearly everything."""
    if len(re.sub(r"[*?\s.0-9]", "", text)) < 3:
        raise ValueError(f"{text!r} matches nearly every name; give at least three letters")
