"""What became of a delivery as one page: it needs nothing else, and shows a hundred thousand computers."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from typing import Any

import msgspec
from jinja2 import Environment, StrictUndefined
from markupsafe import Markup

from yendo.fleet.columns import Columns
from yendo.fleet.happened import STATES, Happened, StateRow


def page(said: Happened, *, picture: str = "", nonce: str = "") -> str:
    """The page as HTML. ``picture`` is an SVG, ``nonce`` what a server's policy names."""
    one = said.delivery
    return _environment().get_template("page").render(
        title=f"{one.name} {one.version}", said=said, now=f"{said.now:%Y-%m-%d %H:%M} UTC", table=_table,
        **_shared(columns(said), picture, nonce),
    )  # fmt: skip


def _shared(data: dict[str, Any], picture: str, nonce: str = "") -> dict[str, object]:
    """What every page with a list of computers has."""
    return {
        "style": Markup(_part("page.css")), "script": Markup(_part("page.js")), "picture": Markup(_inline(picture)),
        "data": Markup(_escaped(msgspec.json.encode(data))), "nonce": nonce,
    }  # fmt: skip


def columns(said: Happened) -> dict[str, Any]:
    """The computers as columns; what repeats is a number, and its text stands in ``words`` once."""
    names = ("site", "wave", "state", "why")
    words: dict[str, dict[str, int]] = {name: {} for name in names}
    rows: dict[str, list[int]] = {name: [] for name in names}
    for one in said.places:
        why = " - ".join(part for part in (one.cause, one.line) if part) if one.state != "done" else ""
        if one.there == "gone":
            why = "it had it, and does not have it any more"
        for name, text in zip(names, (one.site, one.wave, said.state(one), why), strict=True):
            rows[name].append(words[name].setdefault(text, len(words[name])))
    return {
        "names": ["computer", "site", "wave", "state", "ended", "why"],
        "computer": [one.shown for one in said.places],
        "ended": [one.ended[:16].replace("T", " ") for one in said.places],
        **rows,
        "words": {name: list(known) for name, known in words.items()},
    }


def answers_page(machines: Columns, answer: Sequence[int], question: str, picture: str) -> str:
    """Every machine's answer (1 yes, 0 no, -1 unknown) to a question as one page. ``picture`` is an SVG."""
    known = [name for name in ("site", "model", "windows", "language") if name in machines.texts]
    words: dict[str, list[str]] = {"answer": ["no", "yes", "unknown"]}
    rows: dict[str, list[int]] = {"answer": [one if one >= 0 else 2 for one in answer]}
    for name in known:
        column = machines.texts[name]
        words[name] = [*column.values, ""]
        rows[name] = [int(code) if code >= 0 else len(column.values) for code in column.codes]
    data = {"names": ["computer", "answer", *known], "computer": machines.computers, **rows, "words": words}
    return _environment().get_template("answers").render(
        question=question, yes=answer.count(1), no=answer.count(0), unknown=answer.count(-1), **_shared(data, picture),
    )  # fmt: skip


def _escaped(data: bytes) -> str:
    """JSON within a page: nothing in it ends the element that it stands in."""
    return data.decode().replace("<", "\\u003c").replace("\u2028", "\\u2028").replace("\u2029", "\\u2029")


def _inline(svg: str) -> str:
    return re.sub(r"^.*?(?=<svg)", "", svg, count=1, flags=re.S)


def _table(rows: Sequence[StateRow]) -> Markup:
    """Computers by state; states that nobody is in are left out."""
    used = [at for at in range(len(STATES)) if any(row.counts[at] for row in rows)]
    head = Markup("").join(Markup('<th scope="col" class="n">{}</th>').format(STATES[at]) for at in used)
    body = Markup("").join(
        Markup("<tr><td>{}</td>{}</tr>").format(
            row.name,
            Markup("").join(
                Markup('<td class="n {}">{}</td>').format(STATES[at] if row.counts[at] else "", f"{row.counts[at]:,}")
                for at in used
            ),
        )
        for row in rows
    )
    return Markup('<table><thead><tr><th scope="col"></th>{}</tr></thead><tbody>{}</tbody></table>').format(head, body)


@cache
def _environment() -> Environment:
    from jinja2 import DictLoader

    names = ("page", "readers", "list", "answers")
    loader = DictLoader({name: _part(f"{name}.html.jinja") for name in names})
    return Environment(loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True)


def reader_page(**values: object) -> str:
    """The page on which somebody logs on, or chooses a delivery."""
    return _environment().get_template("readers").render(style=Markup(_part("page.css")), **values)


@cache
def _part(name: str) -> str:
    return files("yendo.fleet").joinpath(name).read_text("utf-8")
