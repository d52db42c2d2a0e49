"""Steps that run a setup program."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yendo.errors import NotCovered, Usage
from yendo.platforms.windows.recording import Recording
from yendo.steps.base import MSI_CODES, Action, At, Kind, Meaning, Result, Step, below, packaged
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

# Source: what setup programs use beside 0; those of the Windows Installer are taken by most.
EXE_CODES: dict[str, Meaning] = MSI_CODES


class ExeStep(Step, tag="exe", frozen=True, kw_only=True):
    """Runs a setup program.

    ``media`` is that file; ``program`` is instead one on the machine, by its whole path (an uninstaller).
    ``arguments`` may hold ``{package}`` and ``{logs}``. ``wait_for`` names programs that go on after the
    setup has returned: the step ends when they have. ``observed`` is the recording of a trial below the
    workspace, which the simulated machine replays.
    """

    media: str | None = None
    program: str | None = None
    arguments: str = ""
    wait_for: tuple[Text, ...] = ()
    observed: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.media) == bool(self.program):
            raise ValueError("an exe step has exactly one of media and program")


def exe_command(step: ExeStep) -> str:
    """The command line of an exe step, with the placeholders of the package's and the log folder."""
    program = packaged(f"media/{step.media}") if step.media else step.program
    return f'"{program}" {step.arguments}'.strip()


def recording_name(verb: str, number: int) -> str:
    """Where the recording of a step lies in the package; steps count from 1."""
    return f"observed/{verb}-{number}.json"


def named_extras(base: Path, arguments: str) -> list[Path]:
    """The files below ``extras/`` that arguments name: an answer file. Raises Usage."""
    names = re.findall(r'\{package\}\\(extras\\[^"|<>*?]+)', arguments, re.I)
    return [below(base, name.strip(), "extras") for name in names]


def recording(at: At, command: str, *, observed: str, media: str = "", product: str | None = None) -> bytes:
    """The recording of a step as it goes into the package; of one that runs a database it must name the product alone.

    Raises Usage where it is missing or of another command line.
    """
    path = below(at.base, observed, "trial")
    try:
        found = msgspec.json.decode(path.read_bytes(), type=Recording)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Usage(f"{observed} is no recording of a trial ({error}); make one with `yendo try --into`") from error
    if media and found.media != at.media.get(media, found.media):
        raise Usage(f"{observed} was recorded with another file than {media}; try again with `yendo try --into`")
    same = found.command == command if product is None else (product or "?") in found.command
    if not same:
        raise Usage(
            f"{observed} was recorded with {found.command}, the step runs {command}; try again with `yendo try --into`"
        )
    found = msgspec.structs.replace(found, command=command)
    return msgspec.json.format(msgspec.json.encode(found, order="deterministic"), indent=1) + b"\n"


def run_or_assume(action: Action, host: Host) -> Result:
    """Runs a program; where the machine cannot, takes what the step's probe says for done.

    Raises NotCovered without one.
    """
    try:
        return host.run(action)
    except NotCovered:
        if not action.probe:
            raise
        return host.assume(action)


def recording_of(step: ExeStep, at: At) -> bytes:
    """Raises Usage."""
    return recording(at, exe_command(step), observed=step.observed or "", media=step.media or "")


class ExeKind(Kind[ExeStep]):
    step = ExeStep
    reversal = "cannot"
    executed = ("API layer", "simulation")

    def resolve(self, step: ExeStep, at: At) -> Action:
        return Action(
            "exe",
            f"{at.verb} {step.media}" if step.media else f"run {step.program}",
            exe_command(step),
            codes=EXE_CODES,
            wait_for=tuple(re.sub(r"(?i)\.exe$", "", name) for name in step.wait_for),
            observed=recording_name(at.verb, at.number) if step.observed else "",
        )

    def sources(self, step: ExeStep, base: Path) -> list[Path]:
        return named_extras(base, step.arguments)

    def made(self, step: ExeStep, at: At) -> dict[str, bytes]:
        return {recording_name(at.verb, at.number): recording_of(step, at)} if step.observed else {}

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
