"""A step as the runner carries it out, and how it ended: what kinds and the interpreter both speak of."""

from __future__ import annotations

from typing import Literal, Self

import msgspec

from yendo.terms.rules import Rule
from yendo.terms.when import Node

Meaning = Literal["done", "restart", "restarting", "not needed", "again later", "failed"]
DEFAULT_TIMEOUT = 3600.0


class ActionData(msgspec.Struct, frozen=True):
    """What a kind hands to whoever carries it out, beside the keys that all steps have: plain values in a manifest.

    What came later has a default: packages that an earlier version has built are carried out.
    """

    @classmethod
    def of(cls, action: Action) -> Self:
        """Raises msgspec.ValidationError, which is a ValueError, where a manifest holds something else."""
        return msgspec.convert(action.data, cls)

    def plain(self) -> dict[str, object]:
        """The same as a manifest holds it."""
        return {str(name): value for name, value in msgspec.to_builtins(self).items()}


class Action(msgspec.Struct, frozen=True, omit_defaults=True):
    """A step as the runner carries it out.

    ``command`` may hold ``{package}`` and ``{logs}``; ``data`` is the kind's own; times in seconds. ``reverse`` is a
    command line that takes it back, written down before the step begins; ``temporary_reverse`` one that only
    undoes an unfinished run. ``standing``: the office's, in every package of its.
    """

    kind: str
    title: str
    command: str = ""
    timeout: float = DEFAULT_TIMEOUT
    codes: dict[str, Meaning] = {}
    log: str = ""
    data: dict[str, object] = {}
    when: tuple[Node, ...] = ()
    unless: tuple[Rule, ...] = ()
    probe: tuple[Rule, ...] = ()
    once: bool = False
    run_as: str = "runner"
    folder: str = ""
    retries: int = 0
    retry_wait: float = 30.0
    on_failure: str = "stop"
    wait_for: tuple[str, ...] = ()
    observed: str = ""
    reverse: str = ""
    temporary_reverse: str = ""
    standing: bool = False


class HiddenLine(msgspec.Struct, frozen=True):
    """What is handed over beside the command line, since some of its properties are secret."""

    package: str
    log: str
    properties: str
    secret: str


class MsiData(ActionData, frozen=True):
    """``product`` and its packed form, where the step installs one."""

    product: str | msgspec.UnsetType = msgspec.UNSET
    packed: str | msgspec.UnsetType = msgspec.UNSET
    hidden: HiddenLine | msgspec.UnsetType = msgspec.UNSET


class Result(msgspec.Struct, frozen=True):
    """How a step ended: what that means, and the code to leave with where it failed."""

    meaning: str
    code: int = 0


DONE, NOT_NEEDED = Result("done"), Result("not needed")
