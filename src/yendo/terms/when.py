"""Run conditions: what must be so before a package or a step begins, and whether waiting could help.

A condition is resolved once into nodes of plain data, which the runner and this module judge in the same way.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date, datetime, time
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.facts.machine import Facts
from yendo.facts.versions import VersionRange
from yendo.terms.amounts import Text, Written, size
from yendo.terms.rules import Rule
from yendo.terms.rules.base import bounds

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_HOURS = re.compile(r"([01]\d|2[0-3]):([0-5]\d)-([01]\d|2[0-3]):([0-5]\d)")
Hours = Annotated[str, Meta(pattern=f"^{_HOURS.pattern}$")]
_DISK = re.compile(r"(?:([A-Za-z]):\s*)?(.+)")


class Condition(Written, frozen=True, kw_only=True, rename={"not_": "not"}):
    """Everything given must hold. What can change by itself (power, network, people, a time) leads to "try later".

    ``language`` is a tag or its beginning: ``en`` fits ``en-GB``. ``disk`` is free space, ``D: 2 GB`` for another
    drive than the system's. ``quiet`` wants no presentation or full-screen program. ``group`` is a name that the file
    ``inventory`` (lines ``COMPUTER,GROUP``) gives to this computer. ``hours`` may go over midnight: ``20:00-06:00``.
    ``script`` is a PowerShell file below ``extras/`` that ends with 0 (holds), 2 (not now) or anything else.
    ``holds`` are rules like those of detection. ``setting`` maps a setting to the value, or the values, that it must
    have.
    """

    os: str | None = None
    edition: tuple[Text, ...] = ()
    architecture: tuple[Literal["x64", "x86", "arm64"], ...] = ()
    language: tuple[Text, ...] = ()
    memory: str | None = None
    disk: str | None = None
    power: Literal["mains", "battery"] | None = None
    network: Literal["any", "unmetered"] | None = None
    domain: bool | str | None = None
    people: Literal["some", "none"] | None = None
    quiet: bool | None = None
    shell: str | None = None
    dotnet: str | None = None
    multi_session: bool | None = None
    group: str | None = None
    inventory: str | None = None
    setting: dict[str, str | int | bool | tuple[str, ...]] = {}
    hours: Hours | None = None
    days: tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...] = ()
    after: date | None = None
    before: date | None = None
    script: str | None = None
    holds: tuple[Rule, ...] = ()
    all: tuple[Condition, ...] = ()
    any: tuple[Condition, ...] = ()
    not_: Condition | None = None

    def __post_init__(self) -> None:
        for text in (self.os, self.shell, self.dotnet):
            if text:
                VersionRange.parse(text)
        for amount in (self.memory, disk_of(self.disk)[1] if self.disk else None):
            if amount:
                size(amount)
        if bool(self.group) != bool(self.inventory):
            raise ValueError("group and inventory belong together: the file says which computer is in which group")

    def rules(self) -> Iterator[Rule]:
        """Every rule in it, however deep."""
        yield from self.holds
        for inner in (*self.all, *self.any, *((self.not_,) if self.not_ else ())):
            yield from inner.rules()

    def scripts(self) -> Iterator[str]:
        """Every script in it."""
        if self.script:
            yield self.script
        for inner in (*self.all, *self.any, *((self.not_,) if self.not_ else ())):
            yield from inner.scripts()

    def inventories(self) -> Iterator[str]:
        """Every file in it that puts computers into groups."""
        if self.inventory:
            yield self.inventory
        for inner in (*self.all, *self.any, *((self.not_,) if self.not_ else ())):
            yield from inner.inventories()


def disk_of(text: str) -> tuple[str, str]:
    """``D: 2 GB`` as drive and amount; the system's drive is ``C``."""
    match = _DISK.fullmatch(text.strip())
    return (match[1] or "C").upper() if match else "C", match[2] if match else text


Want = bool | int | str | list[str | dict[str, str]] | None


class Node(msgspec.Struct, frozen=True, omit_defaults=True):
    """One question: a fact, how it is compared with ``want``, and whether it can change by itself. Or a group of nodes.

    ``test`` is one of range, one-of, begins, least, is, rule, group, setting, hours, days, after, before, script, all,
    any, not. The first thing that a setting's node wants is the place of its value.
    """

    test: str
    fact: str = ""
    want: Want = None
    passing: bool = False
    nodes: tuple[Node, ...] = ()
    rule: Rule | None = None

    @property
    def bounds(self) -> list[dict[str, str]]:
        """What a range wants."""
        return [bound for bound in self.want if isinstance(bound, dict)] if isinstance(self.want, list) else []

    @property
    def words(self) -> list[str]:
        """What a question wants that one of several texts answers."""
        return [word for word in self.want if isinstance(word, str)] if isinstance(self.want, list) else []

    @property
    def amount(self) -> int:
        """What a question for a least amount wants, in bytes."""
        return self.want if isinstance(self.want, int) else 0

    @property
    def in_words(self) -> str:
        """The question for a person who reads about the package."""
        if self.nodes:
            return f"{self.test} of: " + "; ".join(node.in_words for node in self.nodes)
        if self.rule is not None:
            return str(self.rule.title)
        if self.test == "range":
            return f"{self.fact}: " + ", ".join(f"{bound['sign']}{bound['version']}" for bound in self.bounds)
        if self.test == "least":
            return f"{self.fact}: at least {self.amount / 10**9:g} GB"
        words = self.words[1:] if self.test == "setting" else self.words
        return f"{self.fact or self.test}: {', '.join(words) if isinstance(self.want, list) else self.want}"


def resolve(condition: Condition | None) -> tuple[Node, ...]:
    """The questions of a condition, in the order of its keys."""
    if condition is None:
        return ()
    found: list[Node] = []

    def ask(
        test: str, fact: str, want: bool | int | str | Sequence[str | dict[str, str]] | None, *, passing: bool = False
    ) -> None:
        if want not in (None, (), ""):
            found.append(Node(test, fact, want if isinstance(want, int | str | None) else list(want), passing))

    ask("range", "windows", bounds(condition.os) if condition.os else None)
    ask("one-of", "edition", list(condition.edition) or None)
    ask("one-of", "architecture", list(condition.architecture) or None)
    ask("begins", "language", list(condition.language) or None)
    ask("least", "memory", size(condition.memory) if condition.memory else None)
    if condition.disk:
        drive, amount = disk_of(condition.disk)
        ask("least", f"disk {drive}", size(amount))
    ask("one-of", "power", [condition.power] if condition.power else None, passing=True)
    wanted = {"any": ["metered", "unmetered"], "unmetered": ["unmetered"], None: None}[condition.network]
    ask("one-of", "network", wanted, passing=True)
    if isinstance(condition.domain, bool):
        ask("is", "in a domain", condition.domain)
    else:
        ask("one-of", "domain", [condition.domain] if condition.domain else None)
    ask("is", "people", condition.people and condition.people == "some", passing=True)
    ask("is", "quiet", condition.quiet, passing=True)
    ask("range", "shell", bounds(condition.shell) if condition.shell else None)
    ask("range", "dotnet", bounds(condition.dotnet) if condition.dotnet else None)
    ask("is", "multi-session", condition.multi_session)
    ask("group", condition.inventory or "", condition.group)
    for name, value in condition.setting.items():
        ask("setting", name, [f"{{setting-said.{name}}}", *_in_texts(value)])
    ask("hours", "time", condition.hours, passing=True)
    ask("days", "day", list(condition.days) or None, passing=True)
    ask("after", "date", condition.after.isoformat() if condition.after else None, passing=True)
    ask("before", "date", condition.before.isoformat() if condition.before else None)
    ask("script", condition.script or "", condition.script)
    found += [Node("rule", rule=rule, passing=rule.__struct_config__.tag == "process") for rule in condition.holds]
    found += [Node("all", nodes=resolve(inner)) for inner in condition.all]
    if condition.any:
        found.append(Node("any", nodes=tuple(Node("all", nodes=resolve(inner)) for inner in condition.any)))
    if condition.not_:
        found.append(Node("not", nodes=resolve(condition.not_)))
    return tuple(found)


def _in_texts(value: str | int | bool | tuple[str, ...]) -> list[str]:
    if isinstance(value, tuple):
        return list(value)
    return [in_words(value)]


class Judged(msgspec.Struct, frozen=True):
    """Whether a question is answered with yes; whether waiting could change that; and the facts behind it."""

    holds: bool
    passing: bool = False
    reasons: tuple[str, ...] = ()

    @property
    def later(self) -> bool:
        return not self.holds and self.passing


Rules = Callable[[Rule], tuple[bool, str]]
"""Judges a rule: whether it holds, and the fact that made it so."""


def judge(
    nodes: tuple[Node, ...],
    facts: Facts,
    rules: Rules,
    *,
    inventories: Mapping[str, str] = {},
    scripts: Mapping[str, int] = {},
) -> Judged:
    """All questions together.

    ``inventories`` are the texts of inventory files, ``scripts`` the exit codes of scripts.
    """
    answers = [_answer(node, facts, rules, inventories, scripts) for node in nodes]
    wrong = [answer for answer in answers if not answer.holds]
    if wrong:
        return Judged(
            False,
            all(answer.passing for answer in wrong),
            tuple(reason for answer in wrong for reason in answer.reasons),
        )
    return Judged(
        True,
        any(answer.passing for answer in answers),
        tuple(reason for answer in answers for reason in answer.reasons),
    )


def _one_of(answers: Sequence[Judged]) -> Judged:
    """One that holds is enough; where it passes, so does the whole only if no lasting one holds."""
    held = [answer for answer in answers if answer.holds]
    if held:
        return Judged(True, all(answer.passing for answer in held), held[0].reasons)
    reasons = tuple(reason for answer in answers for reason in answer.reasons)
    return Judged(False, any(answer.passing for answer in answers), reasons)


def _answer(
    node: Node, facts: Facts, rules: Rules, inventories: Mapping[str, str], scripts: Mapping[str, int]
) -> Judged:
    match node.test:
        case "all":
            return judge(node.nodes, facts, rules, inventories=inventories, scripts=scripts)
        case "not":
            inner = judge(node.nodes, facts, rules, inventories=inventories, scripts=scripts)
            return Judged(not inner.holds, inner.passing, inner.reasons)
        case "any":
            return _one_of([_answer(inner, facts, rules, inventories, scripts) for inner in node.nodes])
        case "rule":
            assert node.rule is not None
            holds, fact = rules(node.rule)
            return Judged(holds, node.passing, (fact,))
        case "group":
            text = inventories.get(node.fact)
            if text is None:
                return Judged(False, True, (f"the inventory {node.fact} cannot be read",))
            return Judged(
                (facts.computer.lower(), str(node.want).lower()) in memberships(text),
                False,
                (f"{facts.computer} and group {node.want}",),
            )
        case "setting":
            value, *wanted = node.words  # of several choices, one is enough
            holds = bool({part.lower() for part in value.split("\n")} & {item.lower() for item in wanted})
            return Judged(holds, False, (f"{node.fact} is {value}".replace("\n", ","),))
        case "script":
            code = scripts.get(str(node.want))
            if code is None:
                return Judged(True, False, (f"{node.want} is not judged here",))
            return Judged(code == 0, code == 2, (f"{node.want} ended with {code}",))
    return _compare(node, facts)


def _compare(node: Node, facts: Facts) -> Judged:
    value = value_of(node.fact, facts)
    if value is None:
        return Judged(True, False, (f"{node.fact} is not judged here",))
    now, want = facts.time, str(node.want)
    match node.test:
        case "range":
            holds = VersionRange.of(node.bounds).fits(str(value))
        case "one-of":
            holds = str(value).lower() in [word.lower() for word in node.words]
        case "begins":
            holds = any(f"{value}-".lower().startswith(f"{word}-".lower()) for word in node.words)
        case "least":
            holds = isinstance(value, int) and value >= node.amount
        case "is":
            holds = value == node.want
        case "hours":
            holds = in_hours(now.time(), want)
        case "days":
            holds = DAYS[now.weekday()] in node.words
        case "after":
            holds = now >= datetime.fromisoformat(want)
        case _:
            holds = now < datetime.fromisoformat(want)
    return Judged(bool(holds), node.passing, (f"{node.fact} is {in_words(value)}",))


FACTS = {
    "windows": 'os = ">=10.0.19045"',
    "edition": 'edition = ["Enterprise"]',
    "architecture": 'architecture = ["x64"]',
    "language": 'language = ["en"]',
    "memory": 'memory = "4 GB"',
    "disk C": 'disk = "2 GB"',
    "power": 'power = "mains"',
    "network": 'network = "unmetered"',
    "domain": "domain = true",
    "people": 'people = "none"',
    "quiet": "quiet = true",
    "shell": 'shell = ">=5.1"',
    "dotnet": 'dotnet = ">=4.8"',
    "multi-session": "multi_session = false",
    "computer": 'group = "...", inventory = "..."',
    "time": 'hours = "20:00-06:00", days, after, before',
}
"""The facts by their names, and the key of a condition that asks each."""


def value_of(fact: str, facts: Facts) -> object:
    """A fact by its name in a node; None where it is not known."""
    if fact.startswith("disk "):
        return facts.disks.get(fact[5:])
    match fact:
        case "in a domain":
            return None if facts.domain is None else bool(facts.domain)
        case "people":
            return None if facts.people is None else facts.people > 0
        case "quiet":
            return None if facts.busy is None else not facts.busy
        case "multi-session":
            return facts.multi_session
        case "time" | "date" | "day":
            return facts.now
    return getattr(facts, fact)


def in_words(value: object) -> str:
    """A fact as the log shows it, the same in the runner."""
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def in_hours(now: time, text: str) -> bool:
    """Whether a time of day lies in ``20:00-06:00``; the end is outside."""
    match = _HOURS.fullmatch(text)
    assert match is not None
    first, last = time(int(match[1]), int(match[2])), time(int(match[3]), int(match[4]))
    return first <= now < last if first <= last else now >= first or now < last


def memberships(text: str) -> set[tuple[str, ...]]:
    """The lines of an inventory file, ``computer,group`` in small letters."""
    return {
        tuple(part.strip().strip('"').lower() for part in re.split(r"[,;\t]", line)[:2]) for line in text.splitlines()
    }
