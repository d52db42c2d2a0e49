"""What a plan leaves open, as questions, and the answers written into it with its comments kept.

A question is a line that a draft has marked. What stands where nobody decides (a vendor's default as a comment) is no
question, and can be answered all the same.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import AoT, Array, Bool, Comment, Integer, Item, Table

from yendo import atomic
from yendo.draft import writing
from yendo.draft.proposing import DECIDE
from yendo.errors import Usage
from yendo.plan import places
from yendo.plan.reading import PlanError, read_text
from yendo.platforms.windows import paths

AnswerValue = str | int | bool | list[str] | list[dict[str, str | int]]

# What an answer decides, by the end of its key.
_HANGS = {
    "package.contact": "printed in the hand-over: whom people call",
    "package.version": "what detection and later versions are compared with",
    "media.origin": "named in the dossier and the bill of materials: where to get the file again",
    "when.os": "an older Windows is refused before anything is done",
    "arguments": "with the wrong ones the installer waits for a person, or installs something else",
    "to": "where the files lie on every machine",
    "kind": "how the package is removed again",
    "probe": "a machine is asked for it afterwards, so a script that did nothing is found out",
}
_NUMBER = re.compile(r"\.\d+(?=\.)")  # of a step or a medium within a key
_STANDS = re.compile(r"^([A-Za-z_][\w.]*) = (\"(?:[^\"\\]|\\.)*\"|'[^']*')\s+# stands: (.*)$")


class Question(msgspec.Struct, frozen=True):
    """Something open.

    ``key`` is its place in the plan, with steps counted from 1 (``install.1.arguments``); empty where no value answers
    it. ``default`` is what stands there now, None where nothing does; ``line`` counts from 1.
    """

    key: str
    text: str
    default: AnswerValue | None
    line: int
    hangs: str = ""
    optional: bool = False

    @property
    def empty(self) -> bool:
        """Whether nothing stands there that could be let stand."""
        return self.default in ("", None, [])


def questions(path: Path) -> list[Question]:
    """What is open in a plan, in its order; then what stands unless somebody decides. Raises Usage, PlanError."""
    return _open(*writing.plan_of(path))


def _open(document: tomlkit.TOMLDocument, text: str) -> list[Question]:
    lines, placed = text.splitlines(), places.lines(text)
    found = []
    for key, path, holder in _places(document):
        item = _item(holder, str(path[-1]))
        comment = item.trivia.comment
        if f"# {DECIDE}" in comment:
            line = places.nearest(placed, path)
            found.append(Question(key, _said(comment), _plain(item), line, _hangs(re.sub(_NUMBER, "", key))))
    for comment in _standing(document):
        found.append(Question("", _said(comment), None, _line(lines, comment)))
    found.sort(key=lambda question: question.line)
    return found + _optional(document, lines)


def answer(path: Path, answers: Mapping[str, AnswerValue | None]) -> list[str]:
    """Writes answers into a plan, None for what stands there now; returns the keys that were answered.

    A key without its number answers each of its kind: ``media.origin``. Raises Usage for a key that is no question, and
    for an answer that the plan cannot hold; nothing is written then.
    """
    document, before = writing.plan_of(path)
    known = {question.key: question for question in _open(document, before) if question.key}
    holders = {key: (holder, str(where[-1])) for key, where, holder in _places(document)}
    meant: dict[str, AnswerValue | None] = {}
    for asked, value in answers.items():
        keys = [key for key in known if asked in (key, re.sub(_NUMBER, "", key))]
        if not keys:
            raise Usage(f"{asked} is no open question of {path}; there are: {', '.join(known) or 'none'}")
        meant |= dict.fromkeys(keys, value)
    for key, value in meant.items():
        question = known[key]
        if question.optional:
            continue
        if value is None and question.empty:
            raise Usage(f"{key} has no default; give an answer: --answer {key}=...")
        holder, name = holders[key]
        was = _plain(_item(holder, name))
        now = question.default if value is None else _typed(value, _item(holder, name), key)
        _put(holder, name, now)
        if name == "to" and isinstance(was, str) and isinstance(now, str):
            _follow(document, was, now)
        if name == "probe" and not holder.get("reverse"):
            _undo(document, now)
    text = tomlkit.dumps(document)
    for key, value in meant.items():  # a line stays a line, so the numbers hold
        if known[key].optional and value is not None:
            text = _with_property(text, known[key], str(value))
    try:
        read_text(text, str(path), path.parent)
    except PlanError as error:
        raise Usage("; ".join(problem.message for problem in error.problems)) from error
    atomic.write(path, text.encode())
    return list(meant)


def _places(document: tomlkit.TOMLDocument) -> list[tuple[str, places.Path, Table]]:
    """Every value of a plan: its key in words, its place, and the table that holds it."""
    found: list[tuple[str, places.Path, Table]] = []

    def walk(head: str, path: places.Path, table: Table) -> None:
        for name in table:
            item = table.item(name)
            if isinstance(item, Table):
                walk(f"{head}{name}.", (*path, name), item)
            elif not isinstance(item, AoT):
                found.append((head + name, (*path, name), table))

    for name in document:
        item = document.item(name)
        if isinstance(item, AoT):
            single = len(item.body) == 1 and name == "media"
            for at, table in enumerate(item.body):
                walk(f"{name}." if single else f"{name}.{at + 1}.", (name, at), table)
        elif isinstance(item, Table):
            walk(f"{name}.", (name,), item)
    return found


def _standing(document: tomlkit.TOMLDocument) -> list[str]:
    """Marks on lines of their own: no value answers them."""
    found: list[str] = []

    def walk(table: tomlkit.TOMLDocument | Table) -> None:
        body = table.body if isinstance(table, tomlkit.TOMLDocument) else table.value.body
        for _, item in body:
            if isinstance(item, Comment) and item.trivia.comment.startswith((f"# {DECIDE}", "# CONFLICT")):
                found.append(item.trivia.comment)
            elif isinstance(item, Table):
                walk(item)
            elif isinstance(item, AoT):
                for inner in item.body:
                    walk(inner)

    walk(document)
    return found


def _optional(document: tomlkit.TOMLDocument, lines: list[str]) -> list[Question]:
    """The vendor's defaults that stand as comments, each with its own words."""
    found = []
    for number, table in enumerate(_steps(document), 1):
        for comment in _comments(table):
            if match := _STANDS.match(comment):
                value = tomlkit.parse(f"x = {match[2]}")["x"]
                key = f"install.{number}.properties.{match[1]}"
                line = _line(lines, "# " + comment)
                found.append(Question(key, match[3], str(value), line, optional=True))
    return found


def _steps(document: tomlkit.TOMLDocument) -> list[Table]:
    item = document.item("install") if "install" in document else None
    return list(item.body) if isinstance(item, AoT) else []


def _comments(table: Table) -> list[str]:
    inner = table.item("properties") if "properties" in table else None
    if not isinstance(inner, Table):
        return []
    return [item.trivia.comment[1:].strip() for _, item in inner.value.body if isinstance(item, Comment)]


def _with_property(text: str, question: Question, value: str) -> str:
    """The plan with a default that stands as a comment made a line of it, in its place."""
    lines = text.splitlines(keepends=True)
    name = question.key.rpartition(".")[2]
    shown = writing.literal(value).as_string()
    said = f"instead of {question.default}, {question.text}"
    lines[question.line - 1] = f"{name} = {shown} # {writing.remark(said)}\n"
    return "".join(lines)


def _said(comment: str) -> str:
    return re.sub(rf"^#\s*(?:{DECIDE}|CONFLICT):?\s*", "", comment).strip()


def _line(lines: list[str], comment: str) -> int:
    """Where a comment on a line of its own stands."""
    return next((number for number, line in enumerate(lines, 1) if line.strip() == comment.strip()), 1)


def _hangs(key: str) -> str:
    return next((words for end, words in _HANGS.items() if key == end or key.endswith("." + end)), "")


def _plain(item: Item) -> AnswerValue | None:
    found = item.unwrap() if hasattr(item, "unwrap") else None
    return found if isinstance(found, str | int | bool | list) else None


def _follow(document: tomlkit.TOMLDocument, was: str, now: str) -> None:
    """Detection asks for files where they are placed now."""
    head = paths.into(paths.bare(was).lower())
    for rule in document.get("detect", []):
        for key in ("path", "folder"):
            text = str(rule.get(key, ""))
            if paths.into(text).lower().startswith(head):
                rule[key] = writing.value(paths.bare(now) + text[len(head) - 1 :])


def _undo(document: tomlkit.TOMLDocument, achieved: object) -> None:
    """What a script makes, and nothing else takes back, is deleted when the package is removed."""
    steps = document.get("uninstall")
    if not isinstance(steps, AoT) or not writing.are_rules(achieved):
        return
    for rule in achieved:
        step = writing.table(_undoing(rule))
        writing.remarked(step, "kind", "what the script has made")
        steps.append(step)


def _undoing(rule: Mapping[str, Any]) -> dict[str, Any]:
    if rule["kind"] == "registry":
        return {"kind": "registry", "key": rule["key"], "delete": [rule["name"]], "empty_key": True}
    if rule["kind"] == "service":
        return {"kind": "service", "name": rule["name"], "change": "delete"}
    return {"kind": "delete", "path": rule["path"], "keep": False, "empty_parents": True}


def _typed(value: AnswerValue, item: Item, key: str) -> AnswerValue:
    """An answer as the kind of value that stands there. Raises Usage."""
    if not isinstance(value, str):
        return value
    text = value.strip()
    if key.endswith(".probe"):
        return [material_rule(part.strip(), key) for part in text.split(";") if part.strip()]
    if isinstance(item, Array):
        return [part.strip() for part in text.split(",") if part.strip()]
    if isinstance(item, Bool):
        if text.lower() not in ("true", "false", "yes", "no"):
            raise Usage(f"{key} is yes or no, not {text}")
        return text.lower() in ("true", "yes")
    if isinstance(item, Integer):
        if not re.fullmatch(r"-?\d{1,15}", text):
            raise Usage(f"{key} is a number, not {text}")
        return int(text)
    return text


def material_rule(text: str, key: str) -> dict[str, str | int]:
    """A rule from the short form that people type: a path, a registry value, the name of a service. Raises Usage."""
    name, _, wanted = (part.strip() for part in text.partition("="))
    if match := re.fullmatch(r"(?i)((?:HKLM|HKCU|HKEY_LOCAL_MACHINE|HKEY_CURRENT_USER)\\.+)\\([^\\]*)", name):
        found: dict[str, str | int] = {"kind": "registry", "key": match[1], "name": match[2]}
        if wanted:
            found["equals"] = int(wanted) if re.fullmatch(r"\d{1,9}", wanted) else wanted
        return found
    if re.match(r"[A-Za-z]:\\|%[A-Za-z()0-9]+%\\", text):
        return (
            {"kind": "folder", "path": paths.bare(text)}
            if text.endswith(paths.SEPARATOR)
            else {"kind": "file", "path": text}
        )
    if re.fullmatch(r"[\w.-]+", text):
        return {"kind": "service", "name": text}
    raise Usage(
        f"{key}: {text} is no path, registry value or service; write C:\\Tidewell\\tide.ini, "
        "HKLM\\Software\\Tidewell\\Tide = 7, or TideGauge"
    )


def _put(holder: Table, name: str, value: AnswerValue | None) -> None:
    """Sets a value; its comment stays, without the mark."""
    said = _said(_item(holder, name).trivia.comment)
    holder[name] = writing.inline(*value) if writing.are_rules(value) else writing.value(value)
    if said:
        _item(holder, name).comment(said)


def _item(holder: Table, name: str) -> Item:
    found = holder.item(name)
    assert isinstance(found, Item)  # a table that is out of order is no value
    return found
