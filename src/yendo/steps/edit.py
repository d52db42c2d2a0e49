"""Steps that change values in a configuration file and leave the rest of it as it is."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal
from xml.sax.saxutils import escape, quoteattr

import defusedxml.ElementTree as ElementTree

from yendo.steps import json_text, texts
from yendo.steps.base import Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text
from yendo.terms.settings import in_json

if TYPE_CHECKING:
    from yendo.steps.host import Host

FAILED = 23


class EditStep(Step, tag="edit", frozen=True, kw_only=True):
    """Changes values in a file that is there, and looks afterwards whether they took. Done twice, it changes nothing.

    ``set`` maps places to values: ``section/key`` in ini files, ``/member/0/member`` in json,
    ``/top/element/@attribute`` or ``/top/element`` in xml (by ``[@name='x']`` among several); in text files, a line to
    the pattern of lines that it replaces ("": add it where it is missing). ``remove`` takes keys out of an ini file.
    ``make`` begins an empty file.
    """

    file: Text
    format: Literal["ini", "json", "xml", "text"]
    set: dict[str, str | int | bool] = {}
    remove: tuple[str, ...] = ()
    make: bool = False

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.set and not self.remove:
            raise ValueError("an edit step sets something or removes something")
        if self.remove and self.format != "ini":
            raise ValueError("remove takes keys out of ini files only")
        for place in (*self.set, *self.remove):
            if self.format == "ini" and not all(place.rpartition("/")[::2]):
                raise ValueError(f"{place!r}: a place in an ini file is section/key")
            if self.format == "json" and not place.startswith("/"):
                raise ValueError(f"{place!r}: a place in a json file begins with a slash")
            if self.format == "xml" and not _XML.fullmatch(place):
                raise ValueError(
                    f"{place!r}: a place in an xml file is /top/element, /top/element/@attribute or "
                    "/top/element[@name='x']"
                )
        if self.format == "text":
            for pattern in self.set.values():
                re.compile(str(pattern))


_NAME = r"[A-Za-z_][\w.-]*"
_XML = re.compile(rf"(?:/{_NAME}(?:\[@{_NAME}='[^'\"<>&]*'\])?)+(?:/@{_NAME})?")


def pointer(place: str) -> list[str]:
    """The names of a JSON pointer. Source: RFC 6901."""
    return [part.replace("~1", "/").replace("~0", "~") for part in place.split("/")[1:]]


def plain(value: str | int | bool) -> str:
    """A value as text files hold it."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def xml(text: str, place: str, value: str) -> str:
    """An xml text with one attribute or element's text set.

    Raises ValueError where the element is not there, or there twice.
    """
    try:
        ElementTree.fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))
    except (ElementTree.ParseError, ValueError) as error:
        raise ValueError(f"not XML: {error}") from error
    path, _, attribute = place.partition("/@")
    spans = _elements(text, path.split("/")[1:])
    if len(spans) != 1:
        raise ValueError(f"{path} is there {len(spans)} times" if spans else f"{path} is not there")
    opening, ending = spans[0]
    head = text[opening[0] : opening[1]]
    if attribute:
        new, count = re.subn(
            rf"(\s{re.escape(attribute)}\s*=\s*)(\"[^\"]*\"|'[^']*')", lambda match: match[1] + _quoted(value), head
        )
        if not count:
            new = re.sub(r"\s*(/?>)$", lambda match: f" {attribute}={_quoted(value)}{match[1]}", head)
        return text[: opening[0]] + new + text[opening[1] :]
    if head.endswith("/>"):
        name = re.match(r"<([^\s/>]+)", head)
        assert name is not None
        return text[: opening[0]] + re.sub(r"\s*/>$", ">", head) + escape(value) + f"</{name[1]}>" + text[opening[1] :]
    if "<" in text[opening[1] : ending]:
        raise ValueError(f"{path} holds elements, not a text")
    return text[: opening[1]] + escape(value) + text[ending:]


def _quoted(value: str) -> str:
    text = quoteattr(value, {'"': "&quot;"})
    return text if text.startswith('"') else '"' + text[1:-1] + '"'


_TAG = re.compile(
    r"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<\?.*?\?>|<!DOCTYPE[^>\[]*>|<(/?)([^\s/>]+)((?:[^>\"']|\"[^\"]*\"|'[^']*')*?)(/?)>",
    re.S,
)


def _elements(text: str, path: list[str]) -> list[tuple[tuple[int, int], int]]:
    """Where the opening tags of the elements at a path stand, and where their contents end."""
    found: list[tuple[tuple[int, int], int]] = []
    stack: list[tuple[bool, tuple[int, int]]] = []
    for match in _TAG.finditer(text):
        if match[2] is None:
            continue
        if match[1]:
            fits, span = stack.pop()
            if fits and len(stack) == len(path) - 1:
                found.append((span, match.start()))
            continue
        depth = len(stack)
        fits = (not stack or stack[-1][0]) and depth < len(path) and _fits(path[depth], match[2], match[3])
        if match[4]:
            if fits and depth == len(path) - 1:
                found.append((match.span(), match.end()))
        else:
            stack.append((fits, match.span()))
    return found


def _fits(step: str, name: str, attributes: str) -> bool:
    match = re.fullmatch(rf"({_NAME})(?:\[@({_NAME})='([^']*)'\])?", step)
    if match is None or match[1] != name:
        return False
    return (
        match[2] is None
        or re.search(rf"\s{re.escape(match[2])}\s*=\s*(\"{re.escape(match[3])}\"|'{re.escape(match[3])}')", attributes)
        is not None
    )


class EditData(ActionData, frozen=True):
    """``set`` are places and what stands there."""

    file: str
    format: str
    set: tuple[tuple[str, str], ...]
    remove: tuple[str, ...] = ()
    make: bool = False


def edited(text: str, data: EditData) -> str:
    """A text with all of a step's changes. Raises ValueError."""
    for place, value in data.set:
        match data.format:
            case "ini":
                section, _, key = place.rpartition("/")
                text = texts.ini(text, section, key, value)
            case "json":
                text = json_text.set_value(text or "{}", pointer(place), value)
            case "xml":
                text = xml(text, place, value)
            case _:
                text = texts.line(text, place, value or None)
    for place in data.remove:
        section, _, key = place.rpartition("/")
        text = texts.ini(text, section, key, None)
    return text


class EditKind(Kind[EditStep]):
    step = EditStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: EditStep, at: At) -> Action:
        as_written = (lambda value: in_json(json.dumps(value, ensure_ascii=False))) if step.format == "json" else plain
        pairs = tuple((place, as_written(value)) for place, value in step.set.items())
        data = EditData(step.file.replace("/", "\\"), step.format, pairs, step.remove, step.make)
        return Action("edit", f"edit {step.file}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = EditData.of(action)
        path = host.expand(own.file)
        before = host.session.read(path)
        if before is None and not own.make:
            host.tell(events.Changed("not there", path))
            return Result("failed", FAILED)
        text, encoding = texts.decode(before or b"")
        wanted = edited(text, own)
        if before is not None and wanted == text:
            host.found_so("F", *[hashlib.sha256(before).hexdigest()] * 2, path)
            host.tell(events.Changed("already so", path))
            return Result("done")
        host.put(path, texts.encode(wanted, encoding))
        again, _ = texts.decode(host.session.read(path) or b"")
        if edited(again, own) != again:
            host.tell(events.ProbeFailed(path))
            return Result("failed", FAILED)
        host.tell(events.Changed("edited", path))
        return Result("done")

    def mistakes(self, step: EditStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.file.lower().endswith(".json") and step.format != "json":
            yield "format", f"{step.file} looks like json", 'write format = "json"'
