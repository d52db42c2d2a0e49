"""Texts made from templates: a new plan, notes, what is handed over, the hand-over sheet.

An office can replace each by a jinja2 template of its own.

Templates are rendered in a sandbox: they see the values that they are given and nothing else.
"""

from __future__ import annotations

import traceback
from importlib.resources import files
from pathlib import Path
from typing import Any

import jinja2
from jinja2.sandbox import ImmutableSandboxedEnvironment

from yendo import texts
from yendo.errors import YendoError
from yendo.terms.amounts import size_in_words

MAX_TEMPLATE = 1 << 20


class TemplateProblem(YendoError):
    """A template that cannot be rendered, with its file and line."""


def path_of(name: str, own: Path | None) -> Path:
    return own or Path(str(files("yendo.templates"))) / f"{name}.jinja"


def _one_line(value: Any) -> Any:
    """A value in a page of markdown: one line, no tags, no links, since it may be an installer's own words."""
    if not isinstance(value, str):
        return value
    return texts.one_line(value).replace("<", "&lt;").replace("](", "]\\(")


def render(name: str, own: Path | None = None, **values: Any) -> str:
    """A text from the template ``name``, or from the office's ``own`` in its place. Raises TemplateProblem."""
    folder = own.parent if own else Path(str(files("yendo.templates")))
    made = path_of(name, own).name.removesuffix(".jinja")
    environment = ImmutableSandboxedEnvironment(
        finalize=_one_line if made.endswith(".md") else None,
        autoescape=made.endswith((".html", ".htm", ".xml")),
        loader=jinja2.FileSystemLoader(folder),
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
    )
    environment.filters["size"] = size_in_words
    path = path_of(name, own)
    try:
        if path.stat().st_size > MAX_TEMPLATE:
            raise TemplateProblem(f"{path}:1: larger than {MAX_TEMPLATE} bytes, so no template")
        return environment.get_template(path.name).render(**values)
    except jinja2.TemplateSyntaxError as error:
        raise TemplateProblem(f"{path.with_name(error.name or path.name)}:{error.lineno}: {error.message}") from error
    except TemplateProblem:
        raise
    except Exception as error:  # whatever an expression of a template raises is the template's mistake
        frames = [frame for frame in traceback.extract_tb(error.__traceback__) if Path(frame.filename).parent == folder]
        where = f"{frames[-1].filename}:{frames[-1].lineno}" if frames else f"{path}:1"
        raise TemplateProblem(f"{where}: {error}") from error
