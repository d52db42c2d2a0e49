"""What every kind of step shares: its keys in a plan, its resolved form, and what a kind has to say about itself."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, ClassVar, Generic, Literal, TypeVar

import msgspec
from msgspec import Meta

from yendo.errors import Usage
from yendo.steps.action import DEFAULT_TIMEOUT, DONE, NOT_NEEDED, Action, ActionData, Meaning, Result
from yendo.terms.amounts import Written, seconds
from yendo.terms.rules import Rule
from yendo.terms.settings import Setting
from yendo.terms.when import Condition, resolve
from yendo.walk import files_below

if TYPE_CHECKING:
    from yendo.steps.host import Host

__all__ = [
    "DEFAULT_TIMEOUT", "DONE", "MSI_CODES", "MSI_GONE", "NOT_NEEDED", "Action", "ActionData", "At", "Executed", "Kind",
    "Meaning", "Result", "Reversal", "Step", "below", "brought", "in_extras", "in_package", "packaged", "quoted",
]  # fmt: skip
Executed = Literal["real Windows", "API layer", "simulation", "stand-in"]
Reversal = Literal["by record", "by steps", "nothing to undo", "cannot"]
# Source: the Windows Installer's error codes. 1641 means that it has started the restart itself.
MSI_CODES: dict[str, Meaning] = {"0": "done", "3010": "restart", "1641": "restarting", "1618": "again later"}
MSI_GONE: dict[str, Meaning] = {"1605": "not needed", "1614": "not needed"}


class Step(Written, tag_field="kind", frozen=True, kw_only=True):
    """Keys that every step has.

    ``when``: where it does not hold, the step is passed over; ``unless``: passed over where one of these rules holds.
    ``timeout``: how long it may take; one that is still busy then gets as long again. ``retries`` with ``retry_wait``
    between them, doubled each time. ``on_failure``: stop, undo what this run has done and stop, or go on.
    ``probe``: rules that hold once the step has taken; one that does not take has failed. ``once``: it is not
    done again where its probe holds, after a power cut or in a later run. ``run_as``: the account that runs the
    package, or the person who is logged on. ``folder``: where its program starts. ``window``: it is meant to show one.
    """

    when: Condition | None = None
    unless: tuple[Rule, ...] = ()
    timeout: str | None = None
    retries: Annotated[int, Meta(ge=0, le=20)] = 0
    retry_wait: str = "30 s"
    on_failure: Literal["stop", "undo", "go-on"] = "stop"
    probe: tuple[Rule, ...] = ()
    once: bool = False
    run_as: Literal["runner", "person"] = "runner"
    folder: str | None = None
    window: bool = False
    codes: dict[str, Meaning] = {}
    note: str = ""

    def __post_init__(self) -> None:
        if self.timeout:
            seconds(self.timeout)
        seconds(self.retry_wait)
        if any(not re.fullmatch(r"-?\d{1,10}", code) for code in self.codes):
            raise ValueError('codes are numbers, each with its meaning: codes = { "3010" = "restart" }')


StepT = TypeVar("StepT", bound=Step)


class At(msgspec.Struct, frozen=True):
    """Where a step stands: its workspace, verb and number (from 1), the steps of that verb, the hashes of extras and of
    media, the settings, and the steps of the install."""

    base: Path
    verb: str
    number: int
    steps: tuple[Step, ...]
    digest_of: dict[Path, str] = {}
    media: dict[str, str] = {}
    settings: dict[str, Setting] = {}
    install: tuple[Step, ...] = ()

    @property
    def step(self) -> Step:
        return self.steps[self.number - 1]

    def step_of(self, kind: type[StepT]) -> StepT:
        """The step, which must be of this kind. Raises TypeError."""
        if not isinstance(self.step, kind):
            raise TypeError(f"{type(self.step).__name__} is no {kind.__name__}")
        return self.step

    def digest(self, path: Path) -> str:
        """The hash of an extra file, as far as it was taken already."""
        return self.digest_of.get(path, "")


UNSEEN = "what Windows itself changes for it is not predicted"


class Kind(Generic[StepT]):
    """One kind of step. A module below ``yendo.steps`` defines one, with a script fragment of the same name beside it.

    ``reversal`` says how it is taken back, ``executed`` where it was carried out, ``needs`` what it cannot do without.
    """

    step: type[StepT]
    reversal: ClassVar[Reversal] = "cannot"
    executed: ClassVar[tuple[Executed, ...]] = ()
    needs: ClassVar[tuple[Literal["person", "network", "restart"], ...]] = ()
    unseen: ClassVar[str] = ""
    """What it does besides that nobody predicts; empty where all of it is."""
    predicted: ClassVar[bool] = True
    """Whether anything of it is predicted for a real machine; what is not is a blind spot as a whole."""
    composed: ClassVar[bool] = False
    """It becomes the work of other kinds, and has no script fragment of its own."""

    @property
    def name(self) -> str:
        return str(self.step.__struct_config__.tag)

    def expand(self, step: StepT, base: Path, kept: str) -> tuple[Step, ...]:
        """The steps that are carried out for it; ``kept`` is where the package is kept on the machine. Raises Usage."""
        return (step,)

    def resolve(self, step: StepT, at: At) -> Action:
        """The step with everything looked up. Raises Usage."""
        raise NotImplementedError

    def action(self, at: At) -> Action:
        """The same with the keys that every step has."""
        step = at.step_of(self.step)
        own = self.resolve(step, at)
        return msgspec.structs.replace(
            own,
            timeout=seconds(step.timeout) if step.timeout else own.timeout,
            codes={**(own.codes or {"0": "done", "3010": "restart"}), **step.codes} if own.command else {},
            when=resolve(step.when),
            unless=(*own.unless, *step.unless),
            probe=step.probe,
            once=step.once,
            run_as=step.run_as,
            folder=step.folder or "",
            retries=step.retries,
            retry_wait=seconds(step.retry_wait),
            on_failure=step.on_failure,
        )

    def sources(self, step: StepT, base: Path) -> list[Path]:
        """The files below ``extras/`` that the step brings: whatever a key of it names there, whole folders too.

        Raises Usage.
        """
        named = [getattr(step, name) for name in step.__struct_fields__]
        return sorted(
            {path for name in named if isinstance(name, str) and in_extras(name) for path in brought(base, name)}
        )

    def made(self, step: StepT, at: At) -> dict[str, bytes]:
        """The files that are made for the step at build time, by their names in the package. Raises Usage."""
        return {}

    def reversal_of(self, step: StepT) -> Reversal:
        """How one step of the kind is taken back."""
        return "by record" if getattr(step, "reverse", "") else self.reversal

    def undo(self, step: StepT) -> tuple[Step, ...]:
        """The steps of a derived uninstall that take it back, where its reversal is ``by steps``."""
        return ()

    def perform(self, action: Action, host: Host) -> Result:
        """Carries it out on a machine, as the script fragment does. Raises OSError, ValueError, NotCovered."""
        raise NotImplementedError

    def mistakes(self, step: StepT, at: At) -> Iterator[tuple[str, str, str]]:
        """Mistakes of this kind in a plan: the key, what is wrong, what to do."""
        return iter(())


def below(workspace: Path, name: str, *rooms: str) -> Path:
    """A file or folder of the workspace. Raises Usage where it is not there or lies outside ``rooms``."""
    path = (workspace / name.replace("\\", "/")).resolve()
    if not any(path.is_relative_to((workspace / room).resolve()) for room in rooms):
        raise Usage(f"{name!r} is not below {' or '.join(room + '/' for room in rooms)}")
    if not path.exists():
        raise Usage(f"{name} is not there; put the file there, or correct the path")
    return path


def in_extras(name: str) -> bool:
    """Whether a key names something of the workspace that comes along."""
    return name.replace("\\", "/").lower().startswith("extras/")


def brought(base: Path, name: str) -> list[Path]:
    """The files that a key below ``extras/`` names, those of a folder with everything below it.

    Raises Usage where nothing is there, and for a link: it could lead anywhere.
    """
    top = below(base, name, "extras")
    files = [path for _, path in files_below(top, links=True)] if top.is_dir() else [top] if top.is_file() else []
    for path in files:
        if path.is_symlink():
            raise Usage(f"{path.relative_to(base.resolve()).as_posix()} is a link; put the file itself there")
    if not files:
        raise Usage(f"{name} holds no files; put them there")
    return files


def in_package(base: Path, path: Path) -> str:
    """A file of the workspace as it lies in the package."""
    return path.relative_to(base.resolve()).as_posix()


def packaged(name: str) -> str:
    """A file of the package as a command line names it."""
    return ("{package}\\" + name).replace("/", "\\")


def quoted(text: str) -> str:
    """One argument as Windows programs read it: backslashes before a quote doubled, quotes escaped. A variable is put
    in when the line is carried out, and most folders' paths have a space.
    """
    if text and not re.search(r'[\s"%]', text):
        return text
    return '"' + re.sub(r'(\\*)"', r'\1\1\\"', re.sub(r"(\\+)$", r"\1\1", text)) + '"'
