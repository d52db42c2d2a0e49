"""The condition language of the installer database, complete.

Grammar, loosest first: IMP, EQV, XOR, OR, AND, NOT, comparison. A value is a property, a quoted
literal, a number, ``%NAME`` (environment) or one of ``$`` ``?`` (component: action, installed
state) and ``&`` ``!`` (feature: the same). ``~`` before an operator ignores case. Between numbers
``><`` ``<<`` ``>>`` are "any common bit", "high 16 bits equal", "low 16 bits equal"; between texts
"contains", "starts with", "ends with". What two properties hold, or a property and a literal, is compared as
numbers where both are; two literals never are. A number against a text that is none is unequal and satisfies
nothing else. Source: the Windows Installer's "Conditional Statement Syntax", and the real
evaluator, against which the tests hold this one.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any, NamedTuple, Protocol

MAX_LENGTH, MAX_DEPTH = 16_384, 40


class ConditionError(ValueError):
    """The text is no condition; ``at`` is the offset in characters."""

    def __init__(self, message: str, at: int) -> None:
        super().__init__(f"{message} (at character {at + 1})")
        self.at = at


class Values(Protocol):
    """What a condition asks of its surroundings. States are -1 unknown, 1 advertised, 2 absent, 3 local, 4 source."""

    def prop(self, name: str) -> str: ...
    def environment(self, name: str) -> str: ...
    def component(self, name: str, *, action: bool) -> int | None: ...
    def feature(self, name: str, *, action: bool) -> int | None: ...


class Token(NamedTuple):
    kind: str
    text: str
    at: int


_TOKEN = re.compile(
    r"""\s*(?:(?P<literal>"[^"]*")|(?P<number>-?[0-9]+)(?![A-Za-z_])|(?P<op>~?(?:><|<<|>>|<=|>=|<>|=|<|>))"""
    r"""|(?P<open>\()|(?P<close>\))|(?P<state>[$?&!][A-Za-z_][\w.]*)|(?P<env>%[A-Za-z_][\w.]*(?:\(\w+\))?)"""
    r"""|(?P<name>[A-Za-z_][\w.]*))"""
)
_WORDS = ("NOT", "AND", "OR", "XOR", "EQV", "IMP")


def tokens(text: str) -> list[Token]:
    """Splits a condition. Raises ConditionError where no token starts."""
    if len(text) > MAX_LENGTH:
        raise ConditionError(f"a condition of {len(text)} characters", 0)
    out, at = [], 0
    end = len(text.rstrip())
    while at < end:
        match = _TOKEN.match(text, at)
        if not match or match.lastgroup is None:
            raise ConditionError(f"cannot read {text[at : at + 12].strip()!r}", at)
        kind, word = match.lastgroup, match[match.lastgroup]
        if kind == "name" and word.upper() in _WORDS:
            kind, word = "word", word.upper()
        out.append(Token(kind, word, match.start(match.lastgroup)))
        at = match.end()
    return out


class ConditionValue(NamedTuple):
    """A leaf: ``kind`` is property, literal, number, env, or one of the four state prefixes."""

    kind: str
    text: str


class Compare(NamedTuple):
    left: ConditionValue
    operator: str
    ignore_case: bool
    right: ConditionValue


class Not(NamedTuple):
    inner: ConditionNode


class Join(NamedTuple):
    word: str
    parts: tuple[ConditionNode, ...]


ConditionNode = ConditionValue | Compare | Not | Join

_LOOSEST_FIRST = ("IMP", "EQV", "XOR", "OR", "AND")


class _Parser:
    def __init__(self, text: str) -> None:
        self.tokens, self.at, self.length = tokens(text), 0, len(text)

    def peek(self) -> Token:
        return self.tokens[self.at] if self.at < len(self.tokens) else Token("end", "", self.length)

    def next(self) -> Token:
        token = self.peek()
        self.at += 1
        return token

    def join(self, level: int, depth: int) -> ConditionNode:
        if depth > MAX_DEPTH:
            raise ConditionError("nested too deeply", self.peek().at)
        if level == len(_LOOSEST_FIRST):
            return self.negation(depth)
        parts = [self.join(level + 1, depth)]
        while self.peek()[:2] == ("word", _LOOSEST_FIRST[level]):
            self.next()
            parts.append(self.join(level + 1, depth))
        return parts[0] if len(parts) == 1 else Join(_LOOSEST_FIRST[level], tuple(parts))

    def negation(self, depth: int) -> ConditionNode:
        negated = False
        while self.peek()[:2] == ("word", "NOT"):
            self.next()
            negated = not negated
        node = self.primary(depth)
        return Not(node) if negated else node

    def primary(self, depth: int) -> ConditionNode:
        if self.peek().kind == "open":
            opened = self.next()
            node = self.join(0, depth + 1)
            if self.next().kind != "close":
                raise ConditionError("a bracket is not closed", opened.at)
            return node
        left = self.value()
        if self.peek().kind != "op":
            return left
        operator = self.next().text
        return Compare(left, operator.lstrip("~"), operator.startswith("~"), self.value())

    def value(self) -> ConditionValue:
        token = self.next()
        match token.kind:
            case "literal":
                return ConditionValue("literal", token.text[1:-1])
            case "number":
                return ConditionValue("number", token.text)
            case "name":
                return ConditionValue("property", token.text)
            case "env":
                return ConditionValue("env", token.text[1:])
            case "state":
                return ConditionValue(token.text[0], token.text[1:])
        raise ConditionError(f"a value is missing{' before ' + repr(token.text) if token.text else ''}", token.at)


@lru_cache(maxsize=4096)
def parse(text: str) -> ConditionNode | None:
    """The condition as a tree; None for an empty one, which always holds. Raises ConditionError."""
    if not text.strip():
        return None
    parser = _Parser(text)
    node = parser.join(0, 0)
    if parser.peek().kind != "end":
        token = parser.peek()
        raise ConditionError(f"{token.text!r} is one too many", token.at)
    return node


def _number(text: str) -> int | None:
    if re.fullmatch(r"-?[0-9]{1,10}", text):
        number = int(text)
        if -(1 << 31) <= number < 1 << 31:
            return number
    return None


def _resolve(value: ConditionValue, values: Values) -> str | int | None:
    match value.kind:
        case "literal":
            return value.text
        case "number":
            return _number(value.text)
        case "property":
            return values.prop(value.text)
        case "env":
            return values.environment(value.text)
        case "$" | "?":
            return values.component(value.text, action=value.kind == "$")
    return values.feature(value.text, action=value.kind == "&")


_ORDER: dict[str, Callable[[Any, Any], bool]] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    ">": operator.gt,
    "<=": operator.le,
    ">=": operator.ge,
}
_NUMERIC = _ORDER | {
    "><": lambda a, b: bool(a & b),
    "<<": lambda a, b: a >> 16 & 0xFFFF == b & 0xFFFF,
    ">>": lambda a, b: a & 0xFFFF == b & 0xFFFF,
}
_TEXTUAL = _ORDER | {"><": operator.contains, "<<": str.startswith, ">>": str.endswith}


def _compare(node: Compare, values: Values) -> bool:
    left, right = _resolve(node.left, values), _resolve(node.right, values)
    if left is None or right is None:  # a component or feature that does not exist
        return node.operator == "<>"
    first = left if isinstance(left, int) else _number(left)
    second = right if isinstance(right, int) else _number(right)
    looked_up = not (node.left.kind == node.right.kind == "literal")
    if isinstance(left, int) or isinstance(right, int) or (looked_up and None not in (first, second)):
        if first is None or second is None:
            return node.operator == "<>"
        return bool(_NUMERIC[node.operator](first, second))
    if node.ignore_case:
        left, right = left.upper(), right.upper()
    return bool(_TEXTUAL[node.operator](left, right))


def holds(node: ConditionNode | None, values: Values) -> bool:
    """Whether the condition holds. An empty one does."""
    if node is None:
        return True
    if isinstance(node, Compare):
        return _compare(node, values)
    if isinstance(node, Not):
        return not holds(node.inner, values)
    if isinstance(node, ConditionValue):
        found = _resolve(node, values)
        return found > 0 if isinstance(found, int) and node.kind in "$?&!" else bool(found)
    result = holds(node.parts[0], values)
    for part in node.parts[1:]:
        other = holds(part, values)
        match node.word:
            case "AND":
                result = result and other
            case "OR":
                result = result or other
            case "XOR":
                result = result != other
            case "EQV":
                result = result == other
            case "IMP":
                result = not result or other
    return result


def evaluate(text: str, values: Values) -> bool:
    """Parses and judges in one step. Raises ConditionError."""
    return holds(parse(text), values)


def leaves(node: ConditionNode | None) -> Iterator[ConditionValue]:
    """Every value that a condition mentions."""
    if isinstance(node, ConditionValue):
        yield node
    elif isinstance(node, Compare):
        yield node.left
        yield node.right
    elif isinstance(node, Not):
        yield from leaves(node.inner)
    elif isinstance(node, Join):
        for part in node.parts:
            yield from leaves(part)


_OPERATOR_WORDS = {
    "=": "is",
    "<>": "is not",
    "<": "is below",
    ">": "is above",
    "<=": "is at most",
    ">=": "is at least",
    "><": "contains",
    "<<": "starts with",
    ">>": "ends with",
}
_KNOWN = {
    "VersionNT": "the Windows version",
    "VersionNT64": "the 64-bit Windows version",
    "Privileged": "installing with elevated rights",
    "Installed": "already installed",
    "REMOVE": "removing",
    "ServicePackLevel": "the service pack",
    "PhysicalMemory": "memory in MB",
    "MsiNTProductType": "kind of Windows",
    "WindowsBuild": "the Windows build",
    "UILevel": "the level of user interface",
}
_WINDOWS = {
    "500": "Windows 2000",
    "501": "Windows XP",
    "502": "Windows Server 2003",
    "600": "Windows Vista",
    "601": "Windows 7",
    "602": "Windows 8",
    "603": "Windows 8.1 or later (10 and 11 say 603 too)",
}


def in_words(node: ConditionNode | None, found: Mapping[str, str] = {}) -> str:
    """The condition as a sentence for a person. ``found`` says what a property stands for that a search sets."""
    if node is None:
        return "always"
    if isinstance(node, ConditionValue):
        if node.kind == "property" and node.text in found:
            return f"{found[node.text]} is found"
        name = _KNOWN.get(node.text, node.text)
        if node.kind == "property":
            return "64-bit Windows" if node.text == "VersionNT64" else name if node.text in _KNOWN else f"{name} is set"
        return {
            "env": f"environment variable {node.text} is set",
            "$": f"component {node.text} changes",
            "?": f"component {node.text} is installed",
            "&": f"feature {node.text} changes",
            "!": f"feature {node.text} is installed",
        }.get(node.kind, repr(node.text))
    if isinstance(node, Not):
        if isinstance(node.inner, ConditionValue) and node.inner.kind == "property" and node.inner.text not in _KNOWN:
            if node.inner.text in found:
                return f"{found[node.inner.text]} is not found"
            return f"{node.inner.text} is not set"
        inner = in_words(node.inner, found)
        return f"not ({inner})" if isinstance(node.inner, Join) else f"not {inner}"
    if isinstance(node, Compare):
        left = (
            found.get(node.left.text, _KNOWN.get(node.left.text, node.left.text))
            if node.left.kind == "property"
            else node.left.text
        )
        right = node.right.text
        if node.left.text in ("VersionNT", "VersionNT64"):
            right = _WINDOWS.get(right, right)
        elif node.right.kind == "literal":
            right = f"“{right}”"
        return f"{left} {_OPERATOR_WORDS[node.operator]} {right}"
    word = {"AND": " and ", "OR": " or ", "XOR": " or else ", "EQV": " exactly when ", "IMP": " implies "}[node.word]
    return word.join(
        f"({in_words(part, found)})" if isinstance(part, Join) else in_words(part, found) for part in node.parts
    )
