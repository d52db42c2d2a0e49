"""The transforms of a package: those that lie below ``extras/`` or ``media/``, and the one made
from a step's changes.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Protocol

from yendo.errors import Usage
from yendo.formats.msi import Database, transform
from yendo.formats.msi.overlay import Overlay
from yendo.installers.msi import intent, layers
from yendo.steps.base import below
from yendo.terms.changes import PlannedChange


class Transformed(Protocol):
    """A step that runs a database, as far as transforms go: its medium, those it names, and its changes."""

    @property
    def media(self) -> str | None: ...

    @property
    def transforms(self) -> tuple[str, ...]: ...

    @property
    def change(self) -> tuple[PlannedChange, ...]: ...


def given(workspace: Path, step: Transformed) -> list[Path | str]:
    """The transforms that a step names: files, and embedded ones without their colon. Raises Usage."""
    return [name[1:] if name.startswith(":") else below(workspace, name, "extras", "media") for name in step.transforms]


@contextmanager
def base_of(workspace: Path, step: Transformed) -> Iterator[Database]:
    """What the changes of a step are made to: its installer with the transforms that the step names.

    Raises Usage, Unreadable, Refused.
    """
    with Database(below(workspace, f"media/{step.media}", "media")) as database:
        named = given(workspace, step)
        yield layers.apply_transforms(database, named) if named else database


@contextmanager
def changed(workspace: Path, step: Transformed) -> Iterator[Database]:
    """The installer of a step with its transforms and its changes. Raises what ``base_of`` does, and IntentError."""
    with base_of(workspace, step) as base:
        if not step.change:
            yield base
            return
        found = intent.transform_for(base, step.change, lambda name: below(workspace, name, "extras"))
        yield Overlay(base, [found])


def made(workspace: Path, step: Transformed) -> bytes:
    """The transform file of a step's changes. Raises IntentError, Usage, Unreadable."""
    try:
        with base_of(workspace, step) as base:
            found = intent.transform_for(base, step.change, lambda name: below(workspace, name, "extras"))
    except layers.Refused as refused:
        raise Usage(refused.message) from refused
    out = io.BytesIO()
    transform.write(found, out)
    return out.getvalue()
